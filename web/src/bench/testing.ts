/** Scenes, panes and tiles that tests of the bench are made of. */
import * as THREE from "three";
import { PlanPane, SlicePane, SpacePane } from "./pane";
import type { Slab } from "./types";

export const SLAB: Slab = {
  height: -0.5,
  planDepth: 0.4,
  origin: [2, 1],
  azimuth: 0.6,
  sliceDepth: 0.2,
  cutPlan: true,
  lid: 0.6,
  cutLid: true,
};

export const KINDS = { space: SpacePane, plan: PlanPane, slice: SlicePane };
export function pane<K extends keyof typeof KINDS>(kind: K) {
  const p = new KINDS[kind]() as InstanceType<(typeof KINDS)[K]>;
  p.rect = { x: 40, y: 20, w: 700, h: 500 };
  p.frame(new THREE.Vector3(-8, -5, -2), new THREE.Vector3(12, 9, 4));
  p.place(SLAB);
  return p;
}

/** What the server says of the tile at point 0 of a station. */
export function marked(count: number, bits: number): ArrayBuffer {
  const body = new ArrayBuffer(13);
  const view = new DataView(body);
  view.setBigInt64(0, 0n, true);
  view.setUint32(8, count, true);
  view.setUint8(12, bits);
  return body;
}

/** Of each tile its level, points and parent; all in a cube of 1 m, each tile after the first in a slice along x. */
export type Given = [level: number, count: number, parent: number];
export function tree(tiles: Given[], least = 0, most = 1): ArrayBuffer {
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
export function body(count: number): ArrayBuffer {
  const out = new ArrayBuffer(16 * count);
  new Float32Array(out, 0, 3 * count).forEach((_, i, a) => (a[i] = i % 3 === 0 ? 0.1 * (i / 3 + 1) : 0));
  return out;
}
export const EYE = [1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1];
export const settle = () => new Promise((r) => setTimeout(r, 0));
