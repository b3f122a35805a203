/** What is fetched and drawn, and what lies under the cursor. */
import * as THREE from "three";
import { describe, expect, test, vi } from "vitest";
import { Cloud, type Need } from "./cloud";
import { Picker } from "./picker";
import { body, EYE, marked, pane, settle, SLAB, tree, type Given } from "./testing";
import type { BoxInfo, Scene, TileInfo } from "./types";

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
