/** Commands have ids; keys, palette, menus and tests call the same command. */
export interface Command {
  id: string;
  title: string;
  keys?: string;
  run: () => void;
}

const all = new Map<string, Command>();

export function provide(commands: Command[]): () => void {
  for (const c of commands) all.set(c.id, c);
  return () => {
    for (const c of commands) if (all.get(c.id) === c) all.delete(c.id);
  };
}
export const commands = () => [...all.values()];

/** "ctrl+shift+z" of a key event. */
export function chord(e: KeyboardEvent): string {
  const key = e.key.length === 1 ? e.key.toLowerCase() : e.key;
  return `${e.ctrlKey || e.metaKey ? "ctrl+" : ""}${e.shiftKey && (e.ctrlKey || e.metaKey) ? "shift+" : ""}${key}`;
}

/** Whether keys belong to the element: one types in it, or chooses with the arrows. */
function takesKeys(target: HTMLElement): boolean {
  if (target.tagName === "INPUT") return !["checkbox", "radio", "button"].includes((target as HTMLInputElement).type);
  return /^(TEXTAREA|SELECT)$/.test(target.tagName) || target.isContentEditable;
}
const dialogOpen = () =>
  document.querySelector('[role="dialog"][data-state="open"], [role="alertdialog"][data-state="open"]') !== null;

export function onKey(e: KeyboardEvent) {
  const pressed = chord(e);
  if (takesKeys(e.target as HTMLElement) && !pressed.startsWith("ctrl+k") && pressed !== "Escape") return;
  if (dialogOpen()) return; // what lies behind a dialog hears no keys
  const found = [...all.values()].find((c) => c.keys?.split(" ").includes(pressed));
  if (found) {
    e.preventDefault();
    found.run();
  }
}
