import { describe, expect, it } from "vitest";
import { bulged, Pen, placed, through, type Act, type P } from "./pen";
import { Snap } from "./snap";

const draw = (a: Act | null) => (a && "draw" in a ? a.draw : null)!;
const edit = (a: Act | null) => (a && "edit" in a ? a.edit : null)!;

describe("typed figures", () => {
  it("lead where they say, in the unit that is in use", () => {
    expect(placed("250", [1, 1], [3, 1], 0.001)).toEqual([1.25, 1]);
    const [x, y] = placed("2<90", [1, 1], [9, 9], 1)!;
    expect([x.toFixed(9), y.toFixed(9)]).toEqual(["1.000000000", "3.000000000"]);
    expect(placed("@1,-2", [1, 1], [0, 0], 1)).toEqual([2, -1]);
    expect(placed("1.5,2", null, [0, 0], 1)).toEqual([1.5, 2]);
    expect(placed("1.", [0, 0], [1, 0], 1)).toBeNull();
  });
  it("make a line of a typed length without a second click", () => {
    const pen = new Pen("line");
    pen.pick([1, 1], null);
    for (const k of "2.5") pen.key(k);
    expect(draw(pen.enter([4, 1])).points).toEqual([
      [1, 1],
      [3.5, 1],
    ]);
    expect(pen.picks).toEqual([]);
  });
});

describe("words", () => {
  it("with an arrow are typed once tip and place are picked, and a picture stands on two picks", () => {
    const pen = new Pen("leader");
    expect([pen.pick([0, 0], null), pen.pick([1, 1], null), pen.pick([2, 2], null)]).toEqual([null, null, null]);
    for (const k of "crack 2 mm") expect(pen.key(k)).toBe(true);
    expect(draw(pen.enter([5, 5]))).toEqual({
      kind: "dimension",
      points: [
        [0, 0],
        [1, 1],
      ],
      radius: 0,
      shape: { text: "crack 2 mm", measure: "leader" },
    });
    const pin = new Pen("picture");
    pin.pinned = { id: "a", tall: 0.5 };
    pin.pick([0, 0], null);
    expect(pin.preview([2, 0])[0]![2]).toEqual([2, 1]);
    expect(draw(pin.pick([2, 0], null)).shape).toEqual({ picture: "a" });
  });
});

describe("shapes", () => {
  it("an arc goes through its three points whichever way", () => {
    for (const three of [
      [
        [1, 0],
        [0, 1],
        [-1, 0],
      ],
      [
        [-1, 0],
        [0, -1],
        [1, 0],
      ],
    ] as P[][]) {
      const k = through(three[0]!, three[1]!, three[2]!)!;
      const middle = (k.start + k.end) / 2;
      expect(k.centre[0] + Math.cos(middle) * k.radius).toBeCloseTo(three[1]![0]);
      expect(k.centre[1] + Math.sin(middle) * k.radius).toBeCloseTo(three[1]![1]);
    }
    expect(through([0, 0], [1, 1], [2, 2])).toBeNull();
  });
  it("a bent piece of a polyline goes on smoothly", () => {
    const pen = new Pen("polyline");
    pen.pick([0, 0], null);
    pen.pick([2, 0], null);
    expect(pen.key("b")).toBe(true);
    pen.pick([3, 1], null);
    const made = draw(pen.enter([9, 9]));
    expect(made.shape.bulges![1]).toBeCloseTo(Math.tan(Math.PI / 8)); // a quarter circle of 1 m
    const way = bulged([2, 0], [3, 1], made.shape.bulges![1]!);
    expect(way[1]![1]).toBeLessThan(0.005);
    for (const [x, y] of way) expect(Math.hypot(x - 2, y - 1)).toBeCloseTo(1);
  });
  it("a rectangle follows the direction it is given", () => {
    const pen = new Pen("rectangle", 1, Math.PI / 4);
    pen.pick([0, 0], null);
    const p = draw(pen.pick([0, 2], null)).points;
    expect(p[1]![0]).toBeCloseTo(1);
    expect(p[1]![1]).toBeCloseTo(1);
    expect(Math.hypot(p[2]![0] - p[1]![0], p[2]![1] - p[1]![1])).toBeCloseTo(Math.SQRT2);
  });
  it("a text is what is typed after its place", () => {
    const pen = new Pen("text");
    pen.pick([1, 2], null);
    for (const k of "Pump b2") pen.key(k);
    expect(draw(pen.enter([0, 0]))).toEqual({ kind: "text", points: [[1, 2]], radius: 0, shape: { text: "Pump b2" } });
  });
});

describe("edits", () => {
  it("turn by a typed angle or by two picks", () => {
    const pen = new Pen("turn");
    pen.pick([0, 0], null);
    for (const k of "90") pen.key(k);
    expect(edit(pen.enter([1, 0])).value).toBeCloseTo(Math.PI / 2);
    pen.pick([0, 0], null);
    pen.pick([1, 0], null);
    expect(edit(pen.pick([0, 1], null)).value).toBeCloseTo(Math.PI / 2);
  });
  it("trim what lies under the pick and nothing else", () => {
    const pen = new Pen("trim");
    expect(pen.pick([1, 1], null)).toBeNull();
    expect(edit(pen.pick([1, 1], "t1"))).toMatchObject({ do: "trim", ids: ["t1"], at: [[1, 1]] });
    const off = new Pen("offset", 0.001);
    for (const k of "150") off.key(k);
    expect(edit(off.pick([1, 1], "t1"))).toMatchObject({ value: 0.15 });
    expect(edit(off.pick([1, 1], "t2"))).toMatchObject({ value: 0.15, ids: ["t2"] }); // the distance stays
  });
  it("go one step back at a time", () => {
    const pen = new Pen("polyline");
    pen.pick([0, 0], null);
    pen.pick([1, 0], null);
    pen.key("3");
    expect([pen.back(), pen.typed, pen.picks.length]).toEqual([true, "", 2]);
    expect([pen.back(), pen.picks.length, pen.back(), pen.back()]).toEqual([true, 1, true, false]);
  });
});

describe("what catches a cursor", () => {
  const snap = new Snap();
  snap.setShapes([
    { id: "a", kind: "line", points: [], lines: [[[0, 0], [4, 0]]] }, // prettier-ignore
    { id: "b", kind: "line", points: [], lines: [[[1, -1], [1, 3]]] }, // prettier-ignore
    { id: "c", kind: "circle", points: [[6, 6]], lines: [[[7, 6], [6, 7], [5, 6], [6, 5], [7, 6]]] }, // prettier-ignore
  ]);
  snap.setPoints(new Float32Array([2.5, 0.02, 3.2, 1.1]));
  const at = (x: number, y: number, from: P | null = null) => snap.catch(x, y, 0.1, from);
  it("is the strongest within reach", () => {
    expect(at(0.03, 0.03)).toEqual({ at: [0, 0], by: "end" });
    expect(at(1.04, 0.05)).toEqual({ at: [1, 0], by: "crossing" });
    expect(at(2.02, 0.04)).toEqual({ at: [2, 0], by: "middle" });
    expect(at(6.02, 5.98)).toEqual({ at: [6, 6], by: "centre" });
    expect(at(3.04, 0.04, [3, 2])).toEqual({ at: [3, 0], by: "foot" });
    expect(at(2.5, 0.04).by).toBe("on a line");
    expect(at(3.23, 1.1).by).toBe("scanned point");
    expect(at(9, 9)).toEqual({ at: [9, 9], by: "" });
    expect(snap.under(2.6, 0.03, 0.1)).toBe("a");
  });
});
