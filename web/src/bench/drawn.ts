/** What is read from the points that are drawn: where the floor lies, and the ends of a scale. */
import * as THREE from "three";
import { errorAt } from "./expected";
import type { Branch } from "./tree";
import type { ColourBy } from "./types";

/** A tile that is drawn in some pane, with its points and marks. */
export interface DrawnTile {
  info: Branch;
  matrix: THREE.Matrix4; // T_part_station
  xyz: Float32Array;
  mark: Uint8Array;
  tint: Uint8Array;
  seen: number; // bit k: in pane k
  gap: number; // metres between the points that are drawn where it lies
}

/** Height of the floor below a place: where most of what is drawn in a column of 0.6 m lies, 0.5 to 3.5 m lower. */
export function floorBelow(tiles: Iterable<DrawnTile>, at: THREE.Vector3): number | null {
  const [reach, top, bottom, bin] = [0.3, 0.5, 3.5, 0.05];
  const votes = new Map<number, number>();
  for (const { xyz, matrix, info, mark } of tiles) {
    const low = new THREE.Vector3().fromArray(info.low);
    const radius = low.distanceTo(new THREE.Vector3().fromArray(info.high)) / 2;
    const c = low.add(new THREE.Vector3().fromArray(info.high)).multiplyScalar(0.5).applyMatrix4(matrix);
    if (Math.hypot(c.x - at.x, c.y - at.y) > radius + reach) continue;
    const e = matrix.elements;
    for (let k = 0, i = 0; k < info.count; k++, i += 3) {
      const [x, y, z] = [xyz[i]!, xyz[i + 1]!, xyz[i + 2]!];
      const dx = e[0] * x + e[4] * y + e[8] * z + e[12] - at.x;
      const dy = e[1] * x + e[5] * y + e[9] * z + e[13] - at.y;
      if (dx > reach || dx < -reach || dy > reach || dy < -reach || mark[k] === 1) continue;
      const h = e[2] * x + e[6] * y + e[10] * z + e[14];
      if (h > at.z - top || h < at.z - bottom) continue;
      const slot = Math.floor(h / bin);
      votes.set(slot, (votes.get(slot) ?? 0) + 1);
    }
  }
  let best: number | null = null;
  for (const [slot, n] of votes) if (n > (best === null ? 4 : votes.get(best)!)) best = slot;
  return best === null ? null : (best + 0.5) * bin;
}

/** The ends of the scale for a colour, from the points in view: 2 % are beyond each of the outer ones. Heights are of the part. */
export function spanOf(
  tiles: Iterable<DrawnTile>,
  by: ColourBy,
  formOf: (station: string) => THREE.Matrix4 | undefined, // of its expected errors
  shown: (x: number, y: number, z: number) => boolean = () => true,
): [number, number] {
  if (by === "inclination") return [0, 90];
  if (by === "apart") return [-0.01, 0.01];
  if (by === "model") return [-0.03, 0.03];
  if (by !== "height" && by !== "range" && by !== "intensity" && by !== "expected") return [0, 1];
  const values: number[] = [];
  for (const { xyz, matrix, info, tint } of tiles) {
    const e = matrix.elements;
    const form = by === "expected" ? formOf(info.station) : null;
    if (form && form.elements[15] < 0) continue;
    for (let i = 0; i < 3 * info.count; i += 3 * 101) {
      const [x, y, z] = [xyz[i]!, xyz[i + 1]!, xyz[i + 2]!];
      const height = e[2] * x + e[6] * y + e[10] * z + e[14];
      if (!shown(e[0] * x + e[4] * y + e[8] * z + e[12], e[1] * x + e[5] * y + e[9] * z + e[13], height)) continue;
      if (form) values.push(errorAt(form, x, y, z));
      else values.push(by === "range" ? Math.hypot(x, y, z) : by === "height" ? height : tint[(4 * i) / 3 + 3]! / 255);
    }
  }
  if (values.length < 2) return [0, 1];
  values.sort((a, b) => a - b);
  const at = (share: number) => values[Math.round(share * (values.length - 1))]!;
  return [at(0.02), at(0.98)];
}
