/** What the bench computes without a graphics card: cameras, selections, what to fetch and draw. */
import * as THREE from "three";
import { describe, expect, test, vi } from "vitest";
import { handleAt, handlesOf, pulled } from "./boxes";
import { Cloud, type Need } from "./cloud";
import { beyond, FlatPane, PlanPane, SlicePane, SpacePane } from "./pane";
import { PanoramaPane } from "./panorama";
import { Picker } from "./picker";
import { bundles } from "./strings";
import { Touches } from "./touch";
import type { BoxInfo, Scene, Slab, TileInfo } from "./types";

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

/** Of each tile its level, points and parent; all in a cube of 1 m, each tile after the first in a slice along x. */
type Given = [level: number, count: number, parent: number];
function tree(tiles: Given[], least = 0, most = 1): ArrayBuffer {
  const n = tiles.length;
  const out = new ArrayBuffer(36 + 21 * n);
  const v = new DataView(out);
  v.setUint32(0, 0x544c5431);
  v.setUint32(4, n, true);
  [least, least, least, most, most, most, 0.8].forEach((x, k) => v.setFloat32(8 + 4 * k, x, true));
  tiles.forEach(([level, count, parent], k) => {
    v.setUint32(36 + 4 * k, count, true);
    v.setInt32(36 + 4 * n + 4 * k, parent, true);
    v.setUint8(36 + 20 * n + k, level);
    const [low, high] = k ? [(k - 1) / n, k / n] : [0, 1];
    [low, 0, 0, high, 1, 1].forEach((x, a) => v.setUint16(36 + 8 * n + 12 * k + 2 * a, x * 65535, true));
  });
  return out;
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
  const station = (id: string, pose: number[] | null, visible = true, layers = 0, count = 5) => ({
    ...{ id, hue: 0, pose, visible, layers, points: count, expected: null },
    ...{ low: [0, 0, 0], high: [1, 1, 1], root: { count, spacing: 0.8 } },
  });
  function cloud(budget: number, tiles: Given[] = [[0, 5, -1]]) {
    const asked: string[] = [];
    const source = {
      tile: async (t: TileInfo, layers: number) => (asked.push(`${t.station}/${t.first}/${layers}`), body(t.count)),
      apart: async () => new ArrayBuffer(0),
      tree: async (id: string) => (asked.push(`${id}/tree`), tree(tiles)),
    };
    const c = new Cloud(source, () => {}, budget);
    c.setStations([station("a", EYE), station("b", null, false)]);
    return { c, asked };
  }
  /** Look until nothing more comes. */
  async function look(c: Cloud, need: Need) {
    for (let k = 0; k < 5; k++) {
      c.refine(need);
      await settle();
    }
    c.refine(need);
  }
  const need = () => [4];

  test("asks for coarse tiles first, of open eyes only, and stops at its budget", async () => {
    const { c, asked } = cloud(12, [[0, 5, -1], [1, 5, 0], [2, 5, 1], [3, 5, 2]]); // prettier-ignore
    await look(c, (_, __, spacing) => [spacing * 10]);
    expect(asked).toEqual(["a/0/0", "a/tree", "a/5/0", "a/10/0"]);
    expect([c.drawn, c.busy]).toEqual([15, false]);
  });
  test("below a tile that is not seen nobody looks, and what is below keeps its place", async () => {
    const { c, asked } = cloud(1000, [[0, 5, -1], [1, 6, 0], [1, 7, 0], [2, 8, 1], [2, 9, 2]]); // prettier-ignore
    let looks = 0;
    await look(c, need);
    expect(asked.sort()).toEqual(["a/0/0", "a/11/0", "a/18/0", "a/26/0", "a/5/0", "a/tree"]);
    c.refine((at) => (looks++, [at.x < 0.15 ? 0 : 4])); // the first of the two branches is out of sight
    expect([looks, c.drawn]).toEqual([4, 5 + 7 + 9]);
  });
  test("a station whose layers were written again is read again, and its old points stay until the new are here", async () => {
    const { c, asked } = cloud(100);
    await look(c, need);
    c.setStations([station("a", EYE, true, 3)]);
    c.refine(need);
    expect([asked.at(-1), c.drawn]).toEqual(["a/0/3", 5]);
    await look(c, need);
    expect(asked).toEqual(["a/0/0", "a/tree", "a/0/3"]);
    expect([c.drawn, c.scene.children[0]!.children.length]).toEqual([5, 1]);
  });
  test("asks again for a tile that failed to come, but not at once and ever more rarely, and says how many wait", async () => {
    vi.useFakeTimers();
    let broken = true;
    const asked: number[] = [];
    const source = {
      tile: async () => (asked.push(performance.now()), broken ? Promise.reject(new Error("gone")) : body(5)),
      apart: async () => new ArrayBuffer(0),
      tree: async () => tree([[0, 5, -1]]),
    };
    const c = new Cloud(source, () => void c.refine(need), 100);
    c.setStations([station("a", EYE)]);
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
  test("a pane is given only what it sees, and gaps are those of the finest points that are drawn", async () => {
    const { c } = cloud(1000, [[0, 5, -1], [1, 6, 0], [1, 7, 0]]); // prettier-ignore
    await look(c, (at) => [4, at.x < 0.1 ? 4 : 0]); // the second pane sees the first of the two finer tiles, and not the coarsest
    const visible = (k: number) => {
      c.show(k);
      const found: number[] = [];
      c.scene.traverse(
        (o) =>
          o instanceof THREE.Points &&
          o.visible &&
          found.push((o.geometry as THREE.BufferGeometry).attributes["mark"]!.count),
      );
      return found.sort();
    };
    expect([visible(0), visible(1)]).toEqual([[5, 6, 7], []]);
    const gaps = [...c.drawnTiles()].map((t) => t.gap.toFixed(1));
    expect(gaps).toEqual(["0.4", "0.4", "0.4"]);
    await look(c, (_, __, spacing) => [spacing > 0.5 ? 4 : 0]);
    expect([...c.drawnTiles()].map((t) => t.gap.toFixed(1))).toEqual(["0.8"]); // what is not drawn closes no gap
  });
  test("draws deleted, hidden and selected points as they are told, and ghosts when they are asked for", async () => {
    const { c } = cloud(100);
    c.refine(need);
    await settle();
    c.refine(need);
    const read = (kind: "mark" | "kind") => {
      const found: number[] = [];
      c.scene.traverse(
        (o) => o instanceof THREE.Points && found.push(...(o.geometry.getAttribute(kind).array as Uint8Array)),
      );
      return found;
    };
    const slots = new Uint8Array(256);
    c.setMarks("deleted", "a", marked(5, 0b00010), false);
    c.setMarks("selected", "a", marked(5, 0b01110), true);
    c.setMarks("hidden", "a", marked(5, 0b01000), true);
    expect(read("mark")).toEqual([0, 1, 2, 1, 0]);
    c.setLooks("ghosts", slots);
    expect(read("mark")).toEqual([0, 2, 2, 1, 0]);
    c.setMarks("selected", "a", new ArrayBuffer(0), true);
    expect(read("mark")).toEqual([0, 3, 0, 1, 0]);
    c.setLooks("alone", slots);
    expect(read("mark")).toEqual([1, 0, 1, 1, 1]);
    const kinds = new Uint8Array([...new Uint8Array(marked(5, 0).slice(0, 12)), 0, 6, 6, 0, 64]);
    c.setMarks("kinds", "a", kinds.buffer, true);
    c.setLooks("none", Object.assign(new Uint8Array(256), { 6: 3, 64: 5 }));
    expect(read("kind")).toEqual([0, 3, 3, 0, 5]);
    c.setMarks("deleted", "a", new ArrayBuffer(0), true);
    expect(read("mark")).toEqual([0, 0, 0, 1, 0]);
  });
  test("lets a station go with everything that was loaded of it", async () => {
    const { c } = cloud(100);
    c.refine(need);
    await settle();
    c.setStations([]);
    c.refine(need);
    expect([c.drawn, c.scene.children.length]).toEqual([0, 0]);
  });
});

describe("the picker", () => {
  const station = (points: [number, number, number][]) => {
    const out = new ArrayBuffer(16 * points.length);
    new Float32Array(out, 0, 3 * points.length).set(points.flat());
    return out;
  };
  async function over(kind: "space" | "plan", points: [number, number, number][], slab = SLAB, boxes: BoxInfo[] = []) {
    const source = {
      tile: async () => station(points),
      apart: async () => new ArrayBuffer(0),
      tree: async () => tree([[0, points.length, -1]], -9, 9),
    };
    const c = new Cloud(source, () => {}, 1e6);
    const [low, high] = [[-9, -9, -9], [9, 9, 9]]; // prettier-ignore
    const root = { count: points.length, spacing: 0.8 };
    c.setStations([
      {
        id: "a",
        hue: 0,
        pose: EYE,
        visible: true,
        layers: 0,
        expected: null,
        points: points.length,
        low: low,
        high: high,
        root,
      },
    ]);
    const p = pane(kind);
    p.place(slab);
    c.refine(() => [9]);
    await settle();
    c.refine(() => [9]);
    return { c, p, picker: new Picker(p, 0, c, { slab, boxes } as Scene) };
  }
  const all = { ...SLAB, cutPlan: false, cutLid: false };

  test("catches the point nearest the cursor, and says whose it is and how far from its scanner", async () => {
    const { p, picker } = await over("plan", [[1, 1, 0], [1.05, 1, 0], [3, 4, 0]], all); // prettier-ignore
    const caught = picker.at(...p.pixel(3, 4, 0)!)!;
    expect([caught.station, caught.index, caught.range]).toEqual(["a", 2, 5]);
    const [x, y] = p.pixel(1.05, 1, 0)!;
    expect(picker.at(x + 1, y)!.index).toBe(1);
    expect(picker.at(...p.pixel(-3, -3, 0)!)).toBeNull();
  });
  test("never catches what lies behind, though it is nearer to the cursor", async () => {
    const { p, picker } = await over("space", [[2, 2, 1], [2.01, 2, -1.9]], all); // prettier-ignore
    const [x, y] = p.pixel(2, 2, 1)!;
    const eye = p.camera.position;
    const behind = new THREE.Vector3(2, 2, 1).sub(eye).multiplyScalar(1.15).add(eye);
    const hidden = await over("space", [[2, 2, 1], behind.toArray()], all);
    expect(hidden.picker.at(x + 4, y)!.index).toBe(0);
    expect(picker.at(x, y)!.index).toBe(0);
  });
  test("never catches what slab, lid, crop box or a deletion hides", async () => {
    const points: [number, number, number][] = [[1, 1, -0.5], [1, 1, 2]]; // prettier-ignore
    const cut = await over("plan", points, SLAB);
    expect(cut.picker.at(...cut.p.pixel(1, 1, 0)!)!.index).toBe(0);
    const open = await over("plan", points, all);
    expect(open.picker.at(...open.p.pixel(1, 1, 0)!)!.index).toBe(1);
    const low = { id: "x", centre: [1, 1, -0.5], half: [0.5, 0.5, 0.5], yaw: 0.3, outside: false, outline: null };
    const boxed = await over("plan", points, all, [low]);
    expect(boxed.picker.at(...boxed.p.pixel(1, 1, 0)!)!.index).toBe(0);
    const wedge = [[0, 0], [4, 0], [0, 4]]; // prettier-ignore
    const high = { ...low, centre: [2, 2, 2], half: [2, 2, 1], yaw: 0, outline: wedge };
    const both = await over("plan", points, all, [low, high]);
    expect(both.picker.at(...both.p.pixel(1, 1, 0)!)!.index).toBe(1);
    const away = await over("plan", points, all, [{ ...high, outside: true }]);
    expect(away.picker.at(...away.p.pixel(1, 1, 0)!)!.index).toBe(0);
    open.c.setMarks("deleted", "a", marked(2, 0b10), true);
    expect(open.picker.at(...open.p.pixel(1, 1, 0)!)!.index).toBe(0);
  });
});

test("turning about a place leaves it where it is on the screen", () => {
  const p = pane("space");
  const about = new THREE.Vector3(3, -2, 0.4);
  const before = p.pixel(3, -2, 0.4)!;
  p.turn(60, -25, about);
  p.place(SLAB);
  const after = p.pixel(3, -2, 0.4)!;
  expect(Math.hypot(after[0] - before[0], after[1] - before[1])).toBeLessThan(0.01);
  expect(p.pixel(0, 0, 0)![0]).not.toBeCloseTo(350, 0);
});

test("a panorama stands at its station, shows it alone, and keeps what is under the hand when the head turns", () => {
  const p = new PanoramaPane();
  p.rect = { x: 0, y: 0, w: 700, h: 500 };
  const pose = [0, -1, 0, 5, 1, 0, 0, 2, 0, 0, 1, 0.5, 0, 0, 0, 1]; // a quarter turn to the left
  p.stand("b", pose);
  p.place(SLAB);
  expect([p.only, ...p.middle.toArray()]).toEqual(["b", 5, 2, 0.5]);
  const [x, y] = p.pixel(5, 9, 0.5)!; // along the station's own x
  expect([x, y].map(Math.round)).toEqual([350, 250]);
  p.shift(40, 15);
  p.place(SLAB);
  const [x2, y2] = p.pixel(5, 9, 0.5)!;
  expect(Math.abs(x2 - 390) + Math.abs(y2 - 265)).toBeLessThan(3);
  p.lookAt(new THREE.Vector3(9, 2, 0.5));
  p.place(SLAB);
  expect(p.pixel(9, 2, 0.5)!.map(Math.round)).toEqual([350, 250]);
});

test("in a parallel view lengths are the same at every depth, and what is cut and picked agrees", () => {
  const p = pane("space");
  p.parallel = true;
  p.place(SLAB);
  const length = (a: [number, number, number], b: [number, number, number]) => {
    const [q, r] = [p.pixel(...a)!, p.pixel(...b)!];
    return Math.hypot(q[0] - r[0], q[1] - r[1]);
  };
  expect(length([0, 0, 0], [1, 0, 0])).toBeCloseTo(length([5, 7, -1], [6, 7, -1]), 6);
  const depth = (z: number) => Math.abs(seenBy(p.view(SLAB), [1, 1, z])[2]);
  expect([depth(0.59) <= 1, depth(0.61) <= 1]).toEqual([true, false]);
  expect(p.pixelsOf(new THREE.Vector3(), 1, 0.5, new THREE.Frustum(), { ...SLAB, cutLid: false })).toBeCloseTo(
    0.5 * p.metre,
  );
});

test("a second panorama looks where the first looks, whichever way its scanner was turned", () => {
  const [a, b] = [new PanoramaPane(), new PanoramaPane("panorama2")];
  for (const q of [a, b]) q.rect = { x: 0, y: 0, w: 700, h: 500 };
  a.stand("a", EYE);
  b.stand("b", [0, -1, 0, 5, 1, 0, 0, 2, 0, 0, 1, 0.5, 0, 0, 0, 1]);
  a.yaw = 0.7;
  a.pitch = -0.3;
  a.wide = 33;
  a.place(SLAB);
  b.follow(a);
  b.place(SLAB);
  const [u, v] = [a, b].map((q) => q.camera.getWorldDirection(new THREE.Vector3()));
  expect(u!.distanceTo(v!)).toBeLessThan(1e-9);
  expect(b.wide).toBe(33);
});

test("two fingers come closer about the place between them and shift it along; one does neither", () => {
  const t = new Touches();
  t.down(1, 100, 100);
  expect(t.move(1, 110, 100)).toBeNull();
  t.down(2, 210, 100);
  expect(t.move(2, 310, 100)).toEqual({ factor: 0.5, dx: 50, dy: 0, x: 210, y: 100 });
  expect(t.move(1, 110, 140)!.dy).toBe(20);
  t.up(2);
  expect(t.move(1, 0, 0)).toBeNull();
});

test("quiet strings that run alongside are one bundle, whichever way round they are stored", () => {
  const at = new Map<string, [number, number]>([
    ["a1", [10, 10]],
    ["a2", [30, 20]],
    ["b1", [500, 400]],
    ["b2", [510, 420]],
    ["c", [10, 400]],
  ]);
  const string = (a: string, b: string) => ({ id: a + b, a, b, status: "taut" as const, sag: 0, selected: false });
  const found = bundles(
    [string("a1", "b1"), string("b2", "a2"), string("a1", "b2"), string("a1", "c"), string("a1", "gone")],
    at,
  );
  expect(found.map((f) => f.count).sort()).toEqual([1, 3]);
  const three = found.find((f) => f.count === 3)!;
  expect([three.a, three.b].sort((p, q) => p[0] - q[0])).toEqual([
    [50 / 3, 40 / 3],
    [1520 / 3, 1240 / 3],
  ]);
});

test("a box is drawn by its faces, edges and turned, and what it is not held by stays", () => {
  const p = pane("plan");
  const b: BoxInfo = { id: "x", centre: [1, 2, 0], half: [2, 1, 1], yaw: 0.4, outside: false, outline: null };
  const pull = (along: number[], dx: number, dy: number, box = b) => {
    const h = handlesOf(box).find((x) => !x.turn && x.along.every((v, k) => v === along[k]))!;
    const [x, y] = p.pixel(h.at.x, h.at.y, h.at.z)!;
    expect(handleAt(box, p, x + 3, y - 3)).toEqual(h);
    return pulled(box, h, p, dx, dy, [x + dx, y + dy]);
  };
  const far = (box: BoxInfo, along: number[]) =>
    handlesOf(box).find((x) => !x.turn && x.along.every((v, k) => v === along[k]))!.at;
  const wide = pull([1, 0, 0], 60 * Math.cos(0.4), -60 * Math.sin(0.4));
  expect(wide.half[0]! - 2).toBeCloseTo((60 * p.scale) / 2, 6);
  expect(far(wide, [-1, 0, 0]).distanceTo(far(b, [-1, 0, 0]))).toBeLessThan(1e-9);
  const corner = pull([1, 1, 0], 50, -80);
  expect(far(corner, [-1, -1, 0]).distanceTo(far(b, [-1, -1, 0]))).toBeLessThan(1e-9);
  const [x, y] = p.pixel(...far(corner, [1, 1, 0]).toArray())!;
  const [x0, y0] = p.pixel(...far(b, [1, 1, 0]).toArray())!;
  expect([x - x0, y - y0].map((v) => Number(v.toFixed(4)))).toEqual([50, -80]);
  expect(pull([-1, 0, 0], 5000, 0).half[0]).toBeCloseTo(0.02, 6);
  const turn = handlesOf(b).find((h) => h.turn)!;
  const from = p.pixel(turn.at.x, turn.at.y, turn.at.z)!;
  const middle = p.pixel(1, 2, 0)!;
  const to: [number, number] = [middle[0] + (from[1] - middle[1]), middle[1] - (from[0] - middle[0])]; // a quarter turn
  expect(pulled(b, turn, p, to[0] - from[0], to[1] - from[1], to).yaw).toBeCloseTo(0.4 + Math.PI / 2, 6);
});
