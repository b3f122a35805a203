/** What a station's points are expected to be off by: a quadratic form of their place (see the server's predicted.py). */
import * as THREE from "three";

/** Of a station that is not tied: the last number is negative, and its points are grey. */
const NOTHING = [...Array<number>(15).fill(0), -1];

/** The form as a matrix; it is symmetric, so rows are columns. */
export const formOf = (q: number[] | null) => new THREE.Matrix4().fromArray(q ?? NOTHING);

/** Millimetres at a place in the station's frame; NaN where nothing is expected. */
export function errorAt(form: THREE.Matrix4, x: number, y: number, z: number): number {
  const e = form.elements;
  if (e[15] < 0) return NaN;
  const at = [x, y, z, 1];
  let square = 0;
  for (let i = 0; i < 4; i++) for (let k = 0; k < 4; k++) square += at[i]! * e[4 * i + k]! * at[k]!;
  return Math.sqrt(Math.max(square, 0));
}
