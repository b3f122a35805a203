/** What a cursor on a sheet is caught by: ends, crossings, middles, centres, feet and places on lines, and scanned points. */
import type { P } from "./pen";

export type Caught = {
  at: P;
  by: "end" | "crossing" | "middle" | "centre" | "foot" | "on a line" | "scanned point" | "";
};
export interface Snappable {
  id: string;
  kind: string;
  points: number[][];
  lines: number[][][];
}
const ORDER = ["end", "crossing", "middle", "centre", "foot", "on a line", "scanned point"] as const;

/** Points in cells, found by place. */
class Grid {
  private cell: number;
  private cells = new Map<number, number[]>();
  constructor(
    private low: P,
    extent: number,
    count: number,
  ) {
    this.cell = Math.max(extent / Math.max(8, Math.sqrt(count)), 1e-4);
  }
  private key = (x: number, y: number) => x * 4_194_304 + y;
  private at = (v: number, k: 0 | 1) => Math.floor((v - this.low[k]) / this.cell) + 2_000_000;
  add(x: number, y: number, item: number) {
    const k = this.key(this.at(x, 0), this.at(y, 1));
    const held = this.cells.get(k);
    if (!held) this.cells.set(k, [item]);
    else if (held.at(-1) !== item) held.push(item);
  }
  /** A line in all cells that it goes through. */
  line(a: number[], b: number[], item: number) {
    const n = Math.max(1, Math.ceil(Math.hypot(b[0]! - a[0]!, b[1]! - a[1]!) / (this.cell / 2)));
    for (let k = 0; k <= n; k++) this.add(a[0]! + ((b[0]! - a[0]!) * k) / n, a[1]! + ((b[1]! - a[1]!) * k) / n, item);
  }
  near(x: number, y: number, reach: number, each: (item: number) => void) {
    const [x0, x1] = [this.at(x - reach, 0) - 1, this.at(x + reach, 0) + 1];
    const [y0, y1] = [this.at(y - reach, 1) - 1, this.at(y + reach, 1) + 1];
    if ((x1 - x0) * (y1 - y0) > 4000) return; // seen from so far that a point is none
    for (let i = x0; i <= x1; i++)
      for (let j = y0; j <= y1; j++) for (const item of this.cells.get(this.key(i, j)) ?? []) each(item);
  }
}

export class Snap {
  private points: Float32Array = new Float32Array(0);
  private pointGrid: Grid | null = null;
  private segments: { a: number[]; b: number[]; id: string; straight: boolean }[] = [];
  private lineGrid: Grid | null = null;
  private centres: P[] = [];
  scanned = true; // whether scanned points catch

  setPoints(points: Float32Array) {
    this.points = points;
    const n = points.length / 2;
    if (!n) return (this.pointGrid = null);
    let [x0, x1, y0, y1] = [Infinity, -Infinity, Infinity, -Infinity];
    for (let k = 0; k < points.length; k += 2) {
      x0 = Math.min(x0, points[k]!);
      x1 = Math.max(x1, points[k]!);
      y0 = Math.min(y0, points[k + 1]!);
      y1 = Math.max(y1, points[k + 1]!);
    }
    const grid = new Grid([x0, y0], Math.max(x1 - x0, y1 - y0), n / 4);
    for (let k = 0; k < n; k++) grid.add(points[2 * k]!, points[2 * k + 1]!, k);
    this.pointGrid = grid;
  }

  setShapes(shapes: Snappable[]) {
    this.segments = [];
    this.centres = [];
    const ends = shapes.flatMap((s) => s.lines.flatMap((l) => [l[0]!, l[l.length - 1]!]));
    if (!ends.length) return (this.lineGrid = null);
    const [xs, ys] = [ends.map((p) => p[0]!), ends.map((p) => p[1]!)];
    const low: P = [xs.reduce((a, b) => Math.min(a, b)), ys.reduce((a, b) => Math.min(a, b))];
    const extent = Math.max(
      xs.reduce((a, b) => Math.max(a, b)) - low[0],
      ys.reduce((a, b) => Math.max(a, b)) - low[1],
      0.1,
    );
    const grid = new Grid(low, extent, 40_000);
    for (const s of shapes) {
      const straight = s.kind === "line" || s.kind === "polyline";
      if (s.kind === "circle" || s.kind === "arc" || s.kind === "ellipse") this.centres.push(s.points[0] as P);
      for (const l of s.lines)
        for (let k = 0; k + 1 < l.length; k++) {
          grid.line(l[k]!, l[k + 1]!, this.segments.length);
          this.segments.push({ a: l[k]!, b: l[k + 1]!, id: s.id, straight });
        }
    }
    this.lineGrid = grid;
  }

  /** The trace within reach that lies nearest. */
  under(x: number, y: number, reach: number): string | null {
    let [best, found] = [reach, null as string | null];
    for (const k of this.segmentsNear(x, y, reach)) {
      const s = this.segments[k]!;
      const q = foot(s.a, s.b, x, y, true);
      const d = q ? Math.hypot(q[0] - x, q[1] - y) : Infinity;
      if (d < best) [best, found] = [d, s.id];
    }
    return found;
  }

  private segmentsNear(x: number, y: number, reach: number): Set<number> {
    const out = new Set<number>();
    this.lineGrid?.near(x, y, reach, (k) => out.add(k));
    return out;
  }

  /** What catches a cursor within reach (m), the strongest first; from: the last pick, for feet. */
  catch(x: number, y: number, reach: number, from: P | null): Caught {
    const best = new Map<string, { at: P; d: number }>();
    const offer = (by: string, at: P) => {
      const d = Math.hypot(at[0] - x, at[1] - y);
      if (d < reach && d < (best.get(by)?.d ?? Infinity)) best.set(by, { at, d });
    };
    const near = [...this.segmentsNear(x, y, reach)].map((k) => this.segments[k]!);
    for (const s of near) {
      const on = foot(s.a, s.b, x, y, true);
      if (on) offer("on a line", on);
      if (!s.straight) continue;
      offer("end", s.a as P);
      offer("end", s.b as P);
      offer("middle", [(s.a[0]! + s.b[0]!) / 2, (s.a[1]! + s.b[1]!) / 2]);
      const square = from && foot(s.a, s.b, from[0], from[1], true);
      if (square) offer("foot", square);
    }
    for (let i = 0; i < near.length && near.length < 60; i++)
      for (let j = i + 1; j < near.length; j++) {
        const at = near[i]!.id !== near[j]!.id && crossing(near[i]!.a, near[i]!.b, near[j]!.a, near[j]!.b);
        if (at) offer("crossing", at);
      }
    for (const c of this.centres) offer("centre", c);
    if (this.scanned) {
      let [k, d2] = [-1, reach * reach];
      this.pointGrid?.near(x, y, reach, (i) => {
        const d = (this.points[2 * i]! - x) ** 2 + (this.points[2 * i + 1]! - y) ** 2;
        if (d < d2) [k, d2] = [i, d];
      });
      if (k >= 0) offer("scanned point", [this.points[2 * k]!, this.points[2 * k + 1]!]);
    }
    for (const by of ORDER) {
      const found = best.get(by);
      if (found) return { at: found.at, by };
    }
    return { at: [x, y], by: "" };
  }
}

/** The foot of a place on a line from a to b; null when it lies beyond its ends and must not. */
function foot(a: number[], b: number[], x: number, y: number, within: boolean): P | null {
  const [dx, dy] = [b[0]! - a[0]!, b[1]! - a[1]!];
  const l2 = dx * dx + dy * dy;
  if (l2 < 1e-14) return null;
  const t = ((x - a[0]!) * dx + (y - a[1]!) * dy) / l2;
  if (within && (t < 0 || t > 1)) return null;
  return [a[0]! + t * dx, a[1]! + t * dy];
}

function crossing(a: number[], b: number[], c: number[], d: number[]): P | null {
  const [ux, uy, vx, vy] = [b[0]! - a[0]!, b[1]! - a[1]!, d[0]! - c[0]!, d[1]! - c[1]!];
  const cross = ux * vy - uy * vx;
  if (Math.abs(cross) < 1e-12) return null;
  const t = ((c[0]! - a[0]!) * vy - (c[1]! - a[1]!) * vx) / cross;
  const s = ((c[0]! - a[0]!) * uy - (c[1]! - a[1]!) * ux) / cross;
  return t >= 0 && t <= 1 && s >= 0 && s <= 1 ? [a[0]! + t * ux, a[1]! + t * uy] : null;
}
