/** Two fingers: pinch comes closer or goes away, moving both shifts the view. */

export interface Pinch {
  factor: number; // below 1: closer
  dx: number;
  dy: number;
  x: number; // between the fingers
  y: number;
}

export class Touches {
  private at = new Map<number, [number, number]>();

  get count() {
    return this.at.size;
  }

  down(id: number, x: number, y: number) {
    this.at.set(id, [x, y]);
  }

  up(id: number) {
    this.at.delete(id);
  }

  /** A finger moved: what two fingers did together, null while there are not two. */
  move(id: number, x: number, y: number): Pinch | null {
    if (!this.at.has(id)) return null;
    const before = this.both();
    this.at.set(id, [x, y]);
    const now = this.both();
    if (!before || !now) return null;
    return {
      factor: before.apart / Math.max(now.apart, 1),
      dx: now.x - before.x,
      dy: now.y - before.y,
      x: now.x,
      y: now.y,
    };
  }

  private both() {
    const [a, b] = [...this.at.values()];
    if (!a || !b || this.at.size !== 2) return null;
    return { apart: Math.max(Math.hypot(a[0] - b[0], a[1] - b[1]), 1), x: (a[0] + b[0]) / 2, y: (a[1] + b[1]) / 2 };
  }
}
