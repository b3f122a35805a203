/** Crop boxes as they are drawn and taken hold of: on their faces, their upright edges, and a handle that turns them. */
import * as THREE from "three";
import type { Pane } from "./pane";
import { BOXES, CORNERS, type Shared } from "./points";
import type { BoxInfo } from "./types";

const LEAST = 0.02; // metres: half of a box

type P = [number, number];
/** along: how far each half grows in its two directions, -1, 0 or 1; turn: it turns the box. */
export interface Handle {
  at: THREE.Vector3;
  along: [number, number, number];
  turn: boolean;
}

const frameOf = ({ centre, yaw }: BoxInfo) =>
  new THREE.Matrix4().makeRotationZ(yaw).setPosition(centre[0]!, centre[1]!, centre[2]!);

/** Tell the shader which boxes crop. */
export function crop(boxes: BoxInfo[], to: Shared) {
  const some = boxes.slice(0, BOXES);
  to.boxes.value = some.length;
  some.forEach((b, k) => {
    to.boxFrame.value[k]!.copy(frameOf(b)).invert();
    to.boxHalf.value[k]!.set(b.half[0]!, b.half[1]!, b.half[2]);
    const corners = b.outline?.slice(0, CORNERS) ?? [];
    to.boxKind.value[k] = 2 * corners.length + Number(b.outside);
    corners.forEach((c, i) => to.boxEdge.value[k * CORNERS + i]!.set(c[0]!, c[1]!));
  });
}

/** Whether a place is seen with these boxes. */
export function seenIn(boxes: BoxInfo[]): (x: number, y: number, z: number) => boolean {
  const each = boxes.map((b) => ({ b, cos: Math.cos(b.yaw), sin: Math.sin(b.yaw) }));
  const keep = boxes.some((b) => !b.outside);
  return (x, y, z) => {
    let kept = !keep;
    for (const { b, cos, sin } of each) {
      const [dx, dy, dz] = [x - b.centre[0]!, y - b.centre[1]!, z - b.centre[2]!];
      const within =
        Math.abs(cos * dx + sin * dy) <= b.half[0]! &&
        Math.abs(cos * dy - sin * dx) <= b.half[1]! &&
        Math.abs(dz) <= b.half[2]! &&
        (b.outline === null || odd(b.outline, x, y));
      if (within && b.outside) return false;
      kept ||= within;
    }
    return kept;
  };
}

function odd(line: number[][], x: number, y: number) {
  let inside = false;
  for (let i = 0, j = line.length - 1; i < line.length; j = i++) {
    const [a, b] = [line[i]!, line[j]!];
    if (a[1]! > y !== b[1]! > y && x < ((b[0]! - a[0]!) * (y - a[1]!)) / (b[1]! - a[1]!) + a[0]!) inside = !inside;
  }
  return inside;
}

/** Where a box can be taken hold of; a prism has its height only. */
export function handlesOf(b: BoxInfo): Handle[] {
  const place = (x: number, y: number, z: number) =>
    new THREE.Vector3(x * b.half[0]!, y * b.half[1]!, z * b.half[2]!).applyMatrix4(frameOf(b));
  const sides: [number, number, number][] = [
    [0, 0, 1],
    [0, 0, -1],
  ];
  if (!b.outline) {
    sides.push([1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0]);
    for (const x of [-1, 1]) for (const y of [-1, 1]) sides.push([x, y, 0]);
  }
  const found: Handle[] = sides.map((along) => ({ at: place(...along), along, turn: false }));
  if (!b.outline) {
    const out = 1 + 0.6 / Math.max(b.half[0]!, 0.6);
    found.push({ at: place(out, 0, 0), along: [0, 0, 0], turn: true });
  }
  return found;
}

/** The handle within a few pixels. */
export function handleAt(b: BoxInfo, pane: Pane, x: number, y: number): Handle | null {
  let best: Handle | null = null;
  let near = 9;
  for (const h of handlesOf(b)) {
    const p = pane.pixel(h.at.x, h.at.y, h.at.z);
    const far = p ? Math.hypot(p[0] - x, p[1] - y) : Infinity;
    if (far < near) [best, near] = [h, far];
  }
  return best;
}

/** The box after its handle was drawn by some pixels; what it was taken by stays under the hand, the opposite side where it is. */
export function pulled(b: BoxInfo, h: Handle, pane: Pane, dx: number, dy: number, at: P): BoxInfo {
  if (h.turn) {
    const middle = pane.pixel(b.centre[0]!, b.centre[1]!, b.centre[2]!);
    if (!middle) return b;
    const angle = (p: P) => Math.atan2(middle[1] - p[1], p[0] - middle[0]);
    return { ...b, yaw: b.yaw + angle(at) - angle([at[0] - dx, at[1] - dy]) };
  }
  const m = frameOf(b);
  const [half, centre] = [[...b.half], new THREE.Vector3().fromArray(b.centre)];
  h.along.forEach((way, k) => {
    if (!way) return;
    const axis = new THREE.Vector3().setFromMatrixColumn(m, k).multiplyScalar(way);
    const from = pane.pixel(h.at.x, h.at.y, h.at.z);
    const to = pane.pixel(h.at.x + axis.x, h.at.y + axis.y, h.at.z + axis.z);
    if (!from || !to) return;
    const [ux, uy] = [to[0] - from[0], to[1] - from[1]]; // pixels of a metre that way
    const square = ux * ux + uy * uy;
    if (square < 4) return; // looked at along it
    const step = Math.max((dx * ux + dy * uy) / square, 2 * (LEAST - half[k]!));
    half[k] = half[k]! + step / 2;
    centre.addScaledVector(axis, step / 2);
  });
  return { ...b, half, centre: centre.toArray() };
}

/** The boxes' edges, and the handles of the one that is worked on. */
export function drawBoxes(g: CanvasRenderingContext2D, pane: Pane, boxes: BoxInfo[], worked: string | null) {
  for (const b of boxes) {
    const own = b.id === worked;
    g.strokeStyle = own ? "#e8a700" : "#b9a15a";
    g.lineWidth = own ? 1.4 : 1;
    g.setLineDash(b.outside ? [5, 4] : []);
    const [cos, sin] = [Math.cos(b.yaw), Math.sin(b.yaw)];
    const flat = (
      b.outline ??
      [
        [-1, -1],
        [-1, 1],
        [1, 1],
        [1, -1],
      ].map(([x, y]) => [
        b.centre[0]! + x! * b.half[0]! * cos - y! * b.half[1]! * sin,
        b.centre[1]! + x! * b.half[0]! * sin + y! * b.half[1]! * cos,
      ])
    ).map((c) => [-1, 1].map((z) => pane.pixel(c[0]!, c[1]!, b.centre[2]! + z * b.half[2]!)) as [P | null, P | null]);
    g.beginPath();
    flat.forEach(([low, high], k) => {
      const [low2, high2] = flat[(k + 1) % flat.length]!;
      for (const [p, q] of [
        [low, low2],
        [high, high2],
        [low, high],
      ])
        if (p && q) {
          g.moveTo(...p);
          g.lineTo(...q);
        }
    });
    g.stroke();
    g.setLineDash([]);
    if (!own) continue;
    for (const h of handlesOf(b)) {
      const p = pane.pixel(h.at.x, h.at.y, h.at.z);
      if (!p) continue;
      g.fillStyle = h.turn ? "#12161d" : "#e8a700";
      g.strokeStyle = h.turn ? "#e8a700" : "#12161d";
      g.lineWidth = h.turn ? 2 : 1;
      g.beginPath();
      if (h.turn) g.arc(...p, 5, 0, 7);
      else g.rect(p[0] - 4, p[1] - 4, 8, 8);
      g.fill();
      g.stroke();
    }
  }
}
