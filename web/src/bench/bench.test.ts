/** What the bench computes without a graphics card: cameras, selections, what to fetch and draw. */
import * as THREE from "three";
import { describe, expect, test } from "vitest";
import { handleAt, handlesOf, pulled } from "./boxes";
import { beyond, FlatPane } from "./pane";
import { PanoramaPane } from "./panorama";
import { bundles } from "./strings";
import { EYE, KINDS, pane, SLAB } from "./testing";
import { Touches } from "./touch";
import type { BoxInfo, Slab } from "./types";

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
