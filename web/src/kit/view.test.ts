/** View state and commands, without a page: what a change of step or project lets go, and which keys reach a command. */
import { beforeEach, describe, expect, test, vi } from "vitest";
import { commands, onKey, provide } from "./commands";

const kept = new Map<string, string>();
vi.stubGlobal("localStorage", {
  getItem: (k: string) => kept.get(k) ?? null,
  setItem: (k: string, v: string) => kept.set(k, v),
});
const replaceState = vi.fn();
vi.stubGlobal("window", { history: { replaceState } });
const { useView } = await import("./view");
const view = () => useView.getState();

beforeEach(() => {
  view().open("p1");
  replaceState.mockClear();
});

describe("what is in hand", () => {
  const pick = {
    tool: "pick" as const,
    picks: [[1, 2, 3]],
    onPick: () => {},
    placing: { a: "a", station: "b", pose: [], reach: 1.2 },
    pen: "line" as const,
  };
  test("is put down by the next step, whose panes and address come with it", () => {
    view().set({ ...pick, ledger: "jobs" });
    view().go("prove");
    expect(view()).toMatchObject({
      step: "prove",
      tool: "none",
      picks: [],
      onPick: null,
      placing: null,
      pen: null,
      ledger: "",
    });
    expect(view().panes).toEqual(["plan", "slice"]);
    expect(replaceState).toHaveBeenCalledWith(null, "", "/p/p1/prove");
  });
  test("is put down by Escape, while the selection stays", () => {
    view().selectStation("a", false);
    view().set(pick);
    view().letGo();
    expect(view()).toMatchObject({ tool: "none", picks: [], placing: null, stations: ["a"] });
  });
  test("a section stays chosen in Draw and nowhere else", () => {
    view().go("draw");
    view().set({ section: "s" });
    view().go("draw");
    expect(view().section).toBe("s");
    view().go("clean");
    expect(view().section).toBeNull();
  });
});

test("another project begins afresh, but colours and ground are remembered", () => {
  view().set({ eyes: { a: false }, colourBy: "height", ground: "paper", target: "T1" });
  view().moveSlab({ height: 3 });
  view().open("p2");
  expect(view()).toMatchObject({
    project: "p2",
    step: "bring_in",
    eyes: {},
    target: null,
    colourBy: "height",
    ground: "paper",
  });
  expect(view().slab.height).toBe(-0.5);
  expect([...kept.values()]).toEqual(["height", "paper"]);
});

test("stations are chosen one at a time, or gathered with Ctrl; either way a link is let go", () => {
  view().set({ link: "k" });
  view().selectStation("a", false);
  view().selectStation("b", true);
  expect(view()).toMatchObject({ stations: ["a", "b"], link: null });
  view().selectStation("a", true);
  expect(view().stations).toEqual(["b"]);
  view().selectStation("c", false);
  expect(view().stations).toEqual(["c"]);
});

describe("keys", () => {
  let dialog = false;
  vi.stubGlobal("document", { querySelector: () => (dialog ? {} : null) });
  const press = (key: string, tagName = "DIV", part: Partial<KeyboardEvent> = {}) => {
    const preventDefault = vi.fn();
    onKey({
      key,
      ctrlKey: false,
      metaKey: false,
      shiftKey: false,
      target: { tagName, isContentEditable: false },
      preventDefault,
      ...part,
    } as unknown as KeyboardEvent);
    return preventDefault.mock.calls.length > 0;
  };
  const undo = vi.fn();
  const palette = vi.fn();
  const given = [
    { id: "undo", title: "Undo", keys: "ctrl+z u", run: undo },
    { id: "palette", title: "All commands", keys: "ctrl+k", run: palette },
    { id: "bare", title: "Without keys", run: vi.fn() },
  ];
  test("reach their command by any of its chords, and no other key is taken from the browser", () => {
    const forget = provide(given);
    expect([press("z", "DIV", { ctrlKey: true }), press("u"), press("z"), press("F5")]).toEqual([
      true,
      true,
      false,
      false,
    ]);
    expect(undo).toHaveBeenCalledTimes(2);
    forget();
    expect(press("u")).toBe(false);
  });
  test("belong to the field one types in, except the palette's", () => {
    const forget = provide(given);
    undo.mockClear();
    for (const field of ["INPUT", "TEXTAREA", "SELECT"])
      expect([press("u", field), press("z", field, { ctrlKey: true })]).toEqual([false, false]);
    expect(undo).not.toHaveBeenCalled();
    expect(press("k", "INPUT", { ctrlKey: true })).toBe(true);
    expect(palette).toHaveBeenCalledOnce();
    forget();
  });
  test("go nowhere behind an open dialog, and are not lost on a tick", () => {
    const forget = provide(given);
    undo.mockClear();
    dialog = true;
    expect([press("u"), press("z", "DIV", { ctrlKey: true })]).toEqual([false, false]);
    dialog = false;
    expect(
      press("u", "INPUT", { target: { tagName: "INPUT", type: "checkbox", isContentEditable: false } } as never),
    ).toBe(true);
    expect(undo).toHaveBeenCalledOnce();
    forget();
  });
  test("what was provided anew is not forgotten by whoever provided it before", () => {
    const first = provide([given[0]!]);
    const second = provide([{ ...given[0]!, title: "Undo, newer" }]);
    first();
    expect(commands().map((c) => c.title)).toEqual(["Undo, newer"]);
    second();
    expect(commands()).toEqual([]);
  });
});
