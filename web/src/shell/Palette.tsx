/** Every command by its name, and the sheet of keys. */
import { Command } from "cmdk";
import { Dialog } from "radix-ui";
import { commands } from "../kit/commands";
import { useView } from "../kit/view";

/** Both, as the page asks for one of them. */
export function Palettes() {
  return (
    <>
      <Palette />
      <KeySheet />
    </>
  );
}

function Palette() {
  const { palette, set } = useView();
  return (
    <Dialog.Root open={palette} onOpenChange={(o) => set({ palette: o })}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/30" />
        <Dialog.Content
          className="fixed top-[16%] left-1/2 z-50 w-[480px] -translate-x-1/2 rounded border border-rule bg-card shadow-lg"
          aria-describedby={undefined}
        >
          <Dialog.Title className="sr-only">All commands</Dialog.Title>
          <Command>
            <Command.Input
              autoFocus
              placeholder="What do you want to do?"
              className="w-full border-b border-rule bg-transparent px-4 py-3 text-[15px] outline-none"
            />
            <Command.List className="max-h-80 overflow-auto p-1.5">
              <Command.Empty className="p-3 text-quiet">No command of that name.</Command.Empty>
              {commands().map((c) => (
                <Command.Item
                  key={c.id}
                  value={c.title}
                  onSelect={() => {
                    set({ palette: false });
                    c.run();
                  }}
                  className="flex cursor-pointer items-center rounded px-2.5 py-1.5 data-[selected=true]:bg-halo"
                >
                  <span className="flex-1">{c.title}</span>
                  <Keys keys={c.keys} />
                </Command.Item>
              ))}
            </Command.List>
          </Command>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

const Keys = ({ keys }: { keys?: string }) =>
  keys ? (
    <kbd className="rounded border border-rule px-1.5 font-mono text-[12px] text-quiet">
      {keys.split(" ")[0]!.replaceAll("+", " + ")}
    </kbd>
  ) : null;

function KeySheet() {
  const { keys, set } = useView();
  const mouse: [string, string][] = [
    ["left drag", "turn in space, move in plan and slice"],
    ["right or middle drag", "move"],
    ["wheel", "nearer and farther, to the point under the cursor"],
    ["double-click", "set the turning point"],
  ];
  return (
    <Dialog.Root open={keys} onOpenChange={(o) => set({ keys: o })}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/30" />
        <Dialog.Content
          className="fixed top-[8%] left-1/2 z-50 max-h-[84%] w-[1060px] max-w-[96vw] -translate-x-1/2 overflow-auto rounded border border-rule bg-card p-5 shadow-lg"
          aria-describedby={undefined}
        >
          <Dialog.Title className="mb-3 text-[17px] font-medium">Keys and mouse</Dialog.Title>
          <div className="grid grid-cols-3 gap-x-8 text-[13px]">
            {commands()
              .filter((c) => c.keys)
              .map((c) => (
                <div key={c.id} className="flex items-baseline gap-3 border-b border-rule/50 py-1">
                  <span className="flex-1">{c.title}</span>
                  <Keys keys={c.keys} />
                </div>
              ))}
            {mouse.map(([m, what]) => (
              <div key={m} className="flex items-baseline gap-3 border-b border-rule/50 py-1">
                <span className="flex-1">{what}</span>
                <kbd className="font-mono text-[12px] text-quiet">{m}</kbd>
              </div>
            ))}
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
