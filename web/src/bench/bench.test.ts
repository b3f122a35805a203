/** What the bench computes without a graphics card: cameras, selections, what to fetch and draw. */
import * as THREE from "three";
import { describe, expect, test, vi } from "vitest";
import { Cloud } from "./cloud";
import { beyond, FlatPane, PlanPane, SlicePane, SpacePane } from "./pane";
import type { Slab, TileInfo } from "./types";

const SLAB: Slab = {
  height: -0.5,
  planDepth: 0.4,
  origin: [2, 1],
  azimuth: 0.6,
  sliceDepth: 0.2,
  cutPlan: true,
  lid: 0.6,
  cutLid: true,
};

const KINDS = { space: SpacePane, plan: PlanPane, slice: SlicePane };
function pane<K extends keyof typeof KINDS>(kind: K) {
  const p = new KINDS[kind]() as InstanceType<(typeof KINDS)[K]>;
  p.rect = { x: 40, y: 20, w: 700, h: 500 };
  p.frame(new THREE.Vector3(-8, -5, -2), new THREE.Vector3(12, 9, 4));
  p.place(SLAB);
  return p;
}

/** Where a view of the lasso puts a point: -1..1 across, up and in depth. */
function seenBy(view: number[], [x, y, z]: [number, number, number]) {
  const row = (k: number) => view[4 * k]! * x + view[4 * k + 1]! * y + view[4 * k + 2]! * z + view[4 * k + 3]!;
  return [row(0) / row(3), row(1) / row(3), row(2) / row(3)] as const;
}

describe.each(["plan", "slice"] as const)("a %s pane", (kind) => {
  test("finds the place under a pixel and the pixel of that place", () => {
    const p: FlatPane = pane(kind);
    const at = p.at(300, 200, SLAB);
    const [x, y] = p.pixel(at.x, at.y, at.z)!;
    expect(x).toBeCloseTo(300, 6);
    expect(y).toBeCloseTo(200, 6);
  });
  test("keeps the place under the cursor when it zooms", () => {
    const p: FlatPane = pane(kind);
    const before = p.at(500, 130, SLAB);
    p.zoom(0.5, 500, 130, SLAB);
    p.place(SLAB);
    const after = p.at(500, 130, SLAB);
    expect(after.distanceTo(before)).toBeLessThan(1e-9);
  });
  test("moves what is under the cursor with the cursor", () => {
    const p: FlatPane = pane(kind);
    const held = p.at(300, 200, SLAB);
    p.shift(35, -12, SLAB);
    p.place(SLAB);
    const [x, y] = p.pixel(held.x, held.y, held.z)!;
    expect(x).toBeCloseTo(335, 6);
    expect(y).toBeCloseTo(188, 6);
  });
});

/** What the server says of the tile at point 0 of a station. */
function marked(count: number, bits: number): ArrayBuffer {
  const body = new ArrayBuffer(13);
  const view = new DataView(body);
  view.setBigInt64(0, 0n, true);
  view.setUint32(8, count, true);
  view.setUint8(12, bits);
  return body;
}

describe("what a pane hides is beyond -1..1 in depth of its view", () => {
  const depth = (kind: "space" | "plan" | "slice", slab: Slab, at: [number, number, number]) => {
    const p = new KINDS[kind]();
    p.rect = { x: 0, y: 0, w: 700, h: 500 };
    p.frame(new THREE.Vector3(-8, -5, -2), new THREE.Vector3(12, 9, 4));
    p.place(slab);
    const depth = Math.abs(seenBy(p.view(slab), at)[2]);
    expect(beyond(p.cut(slab), ...at)).toBe(depth > 1); // what is picked and drawn is cut alike
    return depth;
  };
  test("plan: only its slab", () => {
    expect(depth("plan", SLAB, [1, 1, -0.69])).toBeLessThan(1);
    expect(depth("plan", SLAB, [1, 1, -0.71])).toBeGreaterThan(1);
    expect(depth("plan", SLAB, [1, 1, -0.29])).toBeGreaterThan(1);
    expect(depth("plan", { ...SLAB, cutPlan: false }, [1, 1, 3])).toBeLessThan(1);
  });
  test("slice: only its slab, whichever way it runs", () => {
    const n = [-Math.sin(0.6), Math.cos(0.6)] as const;
    expect(depth("slice", SLAB, [2 + 0.09 * n[0], 1 + 0.09 * n[1], 0])).toBeLessThan(1);
    expect(depth("slice", SLAB, [2 + 0.11 * n[0], 1 + 0.11 * n[1], 0])).toBeGreaterThan(1);
  });
  test("space: what lies above the roof line", () => {
    expect(depth("space", SLAB, [1, 1, 0.59])).toBeLessThanOrEqual(1);
    expect(depth("space", SLAB, [1, 1, 0.61])).toBeGreaterThan(1);
    expect(depth("space", { ...SLAB, cutLid: false }, [1, 1, 3])).toBeLessThan(1);
  });
});

test("the space view agrees with the pixels that are drawn", () => {
  const p = pane("space");
  const [x, y] = seenBy(p.view(SLAB), [3, -2, 0.1]);
  const [px, py] = p.pixel(3, -2, 0.1)!;
  expect(p.flat(px, py)[0]).toBeCloseTo(x, 9);
  expect(p.flat(px, py)[1]).toBeCloseTo(y, 9);
});

function tile(first: number, station: string, level: number, count: number): TileInfo {
  return { station, level, first, count, low: [0, 0, 0], high: [1, 1, 1], spacing: 0.8 / 2 ** level };
}
/** A tile whose points lie at x = 0.1, 0.2, ... in the station's frame. */
function body(count: number): ArrayBuffer {
  const out = new ArrayBuffer(16 * count);
  new Float32Array(out, 0, 3 * count).forEach((_, i, a) => (a[i] = i % 3 === 0 ? 0.1 * (i / 3 + 1) : 0));
  return out;
}
const EYE = [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1];
const settle = () => new Promise((r) => setTimeout(r, 0));

describe("the cloud", () => {
  function cloud(budget: number) {
    const asked: number[] = [];
    const c = new Cloud(
      async (tile) => (asked.push(tile.first), body(5)),
      () => {},
      budget,
    );
    c.setStations([
      { id: "a", hue: 0, pose: EYE, visible: true },
      { id: "b", hue: 1, pose: null, visible: false },
    ]);
    return { c, asked };
  }
  const need = () => 4;

  test("asks for coarse tiles first, of open eyes only, and stops at its budget", async () => {
    const { c, asked } = cloud(12);
    c.setTiles([tile(3, "a", 2, 5), tile(1, "a", 0, 5), tile(2, "a", 1, 5), tile(9, "b", 0, 5), tile(4, "a", 3, 5)]);
    c.refine((_, __, spacing) => spacing * 10);
    await settle();
    expect(asked[0]).toBe(1);
    expect(asked).not.toContain(9);
    expect(asked).not.toContain(4);
    c.refine((_, __, spacing) => spacing * 10);
    expect(c.drawn).toBe(asked.length * 5);
    expect(c.busy).toBe(false);
  });
  test("asks again for a tile that failed to come, but not at once and ever more rarely, and says how many wait", async () => {
    vi.useFakeTimers();
    let broken = true;
    const asked: number[] = [];
    const c = new Cloud(
      async () => (asked.push(performance.now()), broken ? Promise.reject(new Error("gone")) : body(5)),
      () => void c.refine(need),
      100,
    );
    c.setStations([{ id: "a", hue: 0, pose: EYE, visible: true }]);
    c.setTiles([tile(1, "a", 0, 5)]);
    c.refine(need);
    await vi.advanceTimersByTimeAsync(8000); // in between every frame asks
    for (let k = 0; k < 200; k++) c.refine(need);
    expect([asked.length, c.failing, c.drawn]).toEqual([4, 1, 0]); // at 0, 1, 3 and 7 s
    broken = false;
    c.retry();
    await vi.advanceTimersByTimeAsync(1);
    c.refine(need);
    expect([asked.length, c.failing, c.drawn]).toEqual([5, 0, 5]);
    vi.useRealTimers();
  });
  test("picks the nearest living point, in project coordinates", async () => {
    const { c } = cloud(100);
    c.setStations([{ id: "a", hue: 0, pose: [1, 0, 0, 10, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1], visible: true }]);
    c.setTiles([tile(0, "a", 0, 5)]);
    c.refine(need);
    await settle();
    c.refine(need);
    const near = (x: number) => c.nearest((px) => Math.abs(px - x))?.x;
    expect(near(10.31)).toBeCloseTo(10.3, 5);
    c.setMarks("a", marked(5, 0b00100), true); // the third point is deleted
    expect(near(10.29)).toBeCloseTo(10.2, 5);
  });
  test("lights up what an outline takes in, and not what is deleted or of another station", async () => {
    const { c } = cloud(100);
    c.setTiles([tile(0, "a", 0, 5)]);
    c.refine(need);
    await settle();
    c.refine(need);
    const marks = () => {
      const found: number[] = [];
      c.scene.traverse(
        (o) => o instanceof THREE.Points && found.push(...(o.geometry.getAttribute("mark").array as Uint8Array)),
      );
      return found;
    };
    const outline = [
      [0.15, -1],
      [0.45, -1],
      [0.45, 1],
      [0.15, 1],
    ];
    c.setMarks("a", marked(5, 0b00010), false);
    c.light({ view: EYE, outline, stations: ["a"] });
    expect(marks()).toEqual([0, 1, 2, 2, 0]);
    c.light({ view: EYE, outline, stations: ["b"] });
    expect(marks()).toEqual([0, 1, 0, 0, 0]);
    c.light(null);
    expect(marks()).toEqual([0, 1, 0, 0, 0]);
  });
  test("lets a station go with everything that was loaded of it", async () => {
    const { c } = cloud(100);
    c.setTiles([tile(0, "a", 0, 5)]);
    c.refine(need);
    await settle();
    c.setStations([]);
    c.setTiles([]);
    c.refine(need);
    expect([c.drawn, c.scene.children.length]).toEqual([0, 0]);
  });
});
