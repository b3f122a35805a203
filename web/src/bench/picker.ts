/** What lies under the cursor: the point nearest to it among those that are drawn and in front. */
import * as THREE from "three";
import { seenIn } from "./boxes";
import type { Cloud } from "./cloud";
import { beyond, type Pane } from "./pane";
import type { Scene } from "./types";

export interface Caught {
  at: THREE.Vector3; // in the coordinates of the part in view
  station: string;
  index: number; // of the point in its station's order
  range: number; // metres from the scanner
  off: number; // pixels from the cursor
}

const REACH = 7; // pixels round the cursor in which points are looked for
const BEHIND = 0.01; // share of the depth by which a point may lie behind the foremost and still be of the same surface

/** A picker for one pane as it is drawn now. */
export class Picker {
  private m: number[];
  private back: THREE.Vector3;

  constructor(
    private pane: Pane,
    private number: number,
    private cloud: Cloud,
    private scene: Scene,
  ) {
    const { projectionMatrix, matrixWorldInverse, matrixWorld } = pane.camera;
    this.m = new THREE.Matrix4().multiplyMatrices(projectionMatrix, matrixWorldInverse).elements;
    this.back = new THREE.Vector3().setFromMatrixColumn(matrixWorld, 2);
  }

  /** The point caught at a pixel of the bench; null when none is drawn within reach. */
  at(px: number, py: number): Caught | null {
    const near = this.candidates(px, py);
    let front = Infinity;
    for (const c of near) front = Math.min(front, c.depth);
    let best: (typeof near)[number] | null = null;
    for (const c of near)
      if (c.depth <= front + Math.max(BEHIND * Math.abs(front), c.gap) && (!best || c.off < best.off)) best = c;
    return best;
  }

  private candidates(px: number, py: number) {
    const found: (Caught & { depth: number; gap: number })[] = [];
    const { w, h } = this.pane.rect;
    const [fx, fy] = this.pane.flat(px, py);
    const [sx, sy] = [w / 2, h / 2]; // pixels a unit of the view takes
    const cut = this.pane.cut(this.scene.slab);
    const box = this.scene.boxes.length ? seenIn(this.scene.boxes) : null;
    const m = this.m;
    const eye = this.pane.camera.position;
    const p = new THREE.Vector3();
    const { split } = this.scene;
    const only = split && split.of[(px - this.pane.rect.x) / w < split.at ? 0 : 1]; // what is drawn on this side of the line
    for (const t of this.cloud.drawnTiles()) {
      if (only && t.info.station !== only) continue;
      if (!(t.seen & (1 << this.number)) || !this.mayHold(t, fx, fy)) continue;
      const e = t.matrix.elements;
      for (let k = 0, i = 0; k < t.info.count; k++, i += 3) {
        if (t.mark[k] === 1) continue;
        const [a, b, c] = [t.xyz[i]!, t.xyz[i + 1]!, t.xyz[i + 2]!];
        const x = e[0] * a + e[4] * b + e[8] * c + e[12];
        const y = e[1] * a + e[5] * b + e[9] * c + e[13];
        const z = e[2] * a + e[6] * b + e[10] * c + e[14];
        const v = m[3]! * x + m[7]! * y + m[11]! * z + m[15]!;
        if (v <= 0) continue;
        const dx = ((m[0]! * x + m[4]! * y + m[8]! * z + m[12]!) / v - fx) * sx;
        if (dx > REACH || dx < -REACH) continue;
        const dy = ((m[1]! * x + m[5]! * y + m[9]! * z + m[13]!) / v - fy) * sy;
        const off = dx * dx + dy * dy;
        if (off > REACH * REACH || beyond(cut, x, y, z) || (box && !box(x, y, z))) continue;
        p.set(x, y, z);
        found.push({
          ...{ at: p.clone(), station: t.info.station, index: t.info.first + k, off: Math.sqrt(off), gap: t.gap },
          ...{ range: Math.hypot(a, b, c), depth: -p.sub(eye).dot(this.back) },
        });
      }
    }
    return found;
  }

  /** Whether a tile's ball comes near the cursor. */
  private mayHold(t: { info: { low: number[]; high: number[] }; matrix: THREE.Matrix4 }, fx: number, fy: number) {
    const [low, high] = [new THREE.Vector3().fromArray(t.info.low), new THREE.Vector3().fromArray(t.info.high)];
    const radius = low.distanceTo(high) / 2;
    const c = low.add(high).multiplyScalar(0.5).applyMatrix4(t.matrix);
    const depth = -c.clone().sub(this.pane.camera.position).dot(this.back);
    const flat = this.pane.camera instanceof THREE.OrthographicCamera;
    if (!flat && depth < radius) return depth > -radius; // round the eye, or behind it
    const pixels = radius * this.pane.metre * (flat ? 1 : 1 / (depth - radius + 1e-6));
    c.applyMatrix4(this.pane.camera.matrixWorldInverse).applyMatrix4(this.pane.camera.projectionMatrix);
    const { w, h } = this.pane.rect;
    return Math.hypot(((c.x - fx) * w) / 2, ((c.y - fy) * h) / 2) <= pixels + REACH;
  }
}
