/** A section on the drawing table: the slab's points at true scale, the traces over them, and the drawing hand. */
import { drawScale } from "./marks";

export interface SheetTrace {
  id: string;
  kind: string;
  layer: string;
  points: number[][];
  radius: number;
  state: string;
  selected: boolean;
}
export const LAYER_INK: Record<string, string> = {
  wall: "#1e2530",
  floor: "#1e2530",
  steel: "#5a6170",
  pipe: "#0b6b68",
  "to check": "#8a1846",
  ground: "#23407a",
};

interface SheetHands {
  drew(points: number[][]): void;
  select(id: string | null): void;
  hover(at: [number, number] | null, caught: boolean): void;
}

export class Sheet {
  private g: CanvasRenderingContext2D;
  private points = new Float32Array(0);
  private colours = new Uint8Array(0);
  private traces: SheetTrace[] = [];
  private middle: [number, number] = [0, 0];
  private scale = 0.02;
  private drag: { x: number; y: number; far: boolean; button: number } | null = null;
  private line: number[][] = [];
  private cursor: { at: [number, number]; caught: boolean } | null = null;
  private queued = 0;
  private stop = new AbortController();
  private observer: ResizeObserver;
  drawing = false;
  cloud: "density" | "colour" | "off" = "density";
  unit = { name: "m", metre: 1 };

  constructor(
    private host: HTMLElement,
    private hands: SheetHands,
  ) {
    const canvas = document.createElement("canvas");
    canvas.style.cssText = "position:absolute;inset:0;width:100%;height:100%;touch-action:none";
    host.append(canvas);
    this.g = canvas.getContext("2d")!;
    const { signal } = this.stop;
    canvas.addEventListener(
      "pointerdown",
      (e) => {
        canvas.setPointerCapture(e.pointerId);
        this.drag = { x: e.offsetX, y: e.offsetY, far: false, button: e.button };
      },
      { signal },
    );
    canvas.addEventListener("pointermove", (e) => this.move(e), { signal });
    canvas.addEventListener("pointerup", (e) => this.up(e), { signal });
    canvas.addEventListener("contextmenu", (e) => e.preventDefault(), { signal });
    canvas.addEventListener(
      "pointerleave",
      () => {
        this.cursor = null;
        hands.hover(null, false);
        this.draw();
      },
      { signal },
    );
    canvas.addEventListener(
      "wheel",
      (e) => {
        e.preventDefault();
        const before = this.at(e.offsetX, e.offsetY);
        this.scale = Math.max(
          0.0003,
          Math.min(1, this.scale * Math.exp(Math.max(-120, Math.min(120, e.deltaY)) * 0.0016)),
        );
        const after = this.at(e.offsetX, e.offsetY);
        this.middle = [this.middle[0] + before[0] - after[0], this.middle[1] + before[1] - after[1]];
        this.draw();
      },
      { signal, passive: false },
    );
    this.observer = new ResizeObserver(() => this.draw());
    this.observer.observe(host);
  }

  /** The slab as the server sent it: along, across of all points, then rgb and intensity. */
  setSlab(body: ArrayBuffer, frame: boolean) {
    const n = body.byteLength / 12;
    this.points = new Float32Array(body, 0, n * 2);
    this.colours = new Uint8Array(body, n * 8, n * 4);
    if (frame) this.frame();
    this.draw();
  }

  setTraces(traces: SheetTrace[]) {
    this.traces = traces;
    this.draw();
  }

  frame() {
    const n = this.points.length / 2;
    if (!n) return;
    const pick = (axis: number) => {
      const some = Float32Array.from(
        { length: Math.min(n, 4000) },
        (_, k) => this.points[Math.floor((k * n) / Math.min(n, 4000)) * 2 + axis]!,
      ).sort();
      return [some[Math.floor(some.length * 0.01)]!, some[Math.floor(some.length * 0.99)]!] as const;
    };
    const [x, y] = [pick(0), pick(1)];
    this.middle = [(x[0] + x[1]) / 2, (y[0] + y[1]) / 2];
    this.scale = Math.max((x[1] - x[0]) / this.host.clientWidth, (y[1] - y[0]) / this.host.clientHeight, 0.001) * 1.2;
    this.draw();
  }

  cancelLine() {
    this.line = [];
    this.draw();
  }

  private at(px: number, py: number): [number, number] {
    return [
      this.middle[0] + (px - this.host.clientWidth / 2) * this.scale,
      this.middle[1] + (this.host.clientHeight / 2 - py) * this.scale,
    ];
  }

  private pixel(p: number[]): [number, number] {
    return [
      this.host.clientWidth / 2 + (p[0]! - this.middle[0]) / this.scale,
      this.host.clientHeight / 2 - (p[1]! - this.middle[1]) / this.scale,
    ];
  }

  /** The nearest slab point within 8 pixels, else the place itself: on the drawing plane. */
  private caught(px: number, py: number): { at: [number, number]; caught: boolean } {
    const [x, y] = this.at(px, py);
    let best = (8 * this.scale) ** 2;
    let found = -1;
    for (let k = 0; k < this.points.length; k += 2) {
      const d = (this.points[k]! - x) ** 2 + (this.points[k + 1]! - y) ** 2;
      if (d < best) {
        best = d;
        found = k;
      }
    }
    return found < 0
      ? { at: [x, y], caught: false }
      : { at: [this.points[found]!, this.points[found + 1]!], caught: true };
  }

  private move(e: PointerEvent) {
    const d = this.drag;
    if (d && (d.far || Math.hypot(e.offsetX - d.x, e.offsetY - d.y) > 4)) {
      d.far = true;
      this.middle = [this.middle[0] - (e.offsetX - d.x) * this.scale, this.middle[1] + (e.offsetY - d.y) * this.scale];
      d.x = e.offsetX;
      d.y = e.offsetY;
    }
    this.cursor = this.drawing
      ? this.caught(e.offsetX, e.offsetY)
      : { at: this.at(e.offsetX, e.offsetY), caught: false };
    this.hands.hover(this.cursor.at, this.cursor.caught);
    this.draw();
  }

  private up(e: PointerEvent) {
    const d = this.drag;
    this.drag = null;
    if (!d || d.far || d.button !== 0) return;
    if (!this.drawing) {
      this.hands.select(this.traceAt(e.offsetX, e.offsetY));
      return;
    }
    this.line.push(this.caught(e.offsetX, e.offsetY).at);
    if (this.line.length === 2) {
      this.hands.drew(this.line);
      this.line = [];
    }
    this.draw();
  }

  private traceAt(px: number, py: number): string | null {
    for (const t of this.traces) {
      const p = t.points.map((q) => this.pixel(q));
      if (t.kind === "circle" && Math.abs(Math.hypot(p[0]![0] - px, p[0]![1] - py) - t.radius / this.scale) < 6)
        return t.id;
      for (let k = 0; k + 1 < p.length; k++) {
        const [a, b] = [p[k]!, p[k + 1]!];
        const l2 = (b[0] - a[0]) ** 2 + (b[1] - a[1]) ** 2 || 1;
        const s = Math.max(0, Math.min(1, ((px - a[0]) * (b[0] - a[0]) + (py - a[1]) * (b[1] - a[1])) / l2));
        if (Math.hypot(a[0] + s * (b[0] - a[0]) - px, a[1] + s * (b[1] - a[1]) - py) < 6) return t.id;
      }
    }
    return null;
  }

  draw() {
    if (!this.queued) this.queued = requestAnimationFrame(() => this.render());
  }

  private render() {
    this.queued = 0;
    const { clientWidth: w, clientHeight: h } = this.host;
    if (!w || !h) return;
    const c = this.g.canvas;
    if (c.width !== w || c.height !== h) {
      c.width = w;
      c.height = h;
    }
    const image = this.g.createImageData(w, h);
    new Uint32Array(image.data.buffer).fill(0xffe8f1f5); // paper
    if (this.cloud !== "off") this.paint(image, w, h);
    this.g.putImageData(image, 0, 0);
    for (const t of this.traces) this.drawTrace(t);
    if (this.line.length && this.cursor) {
      this.g.strokeStyle = "#23407a";
      this.g.lineWidth = 2;
      this.g.beginPath();
      this.g.moveTo(...this.pixel(this.line[0]!));
      this.g.lineTo(...this.pixel(this.cursor.at));
      this.g.stroke();
    }
    if (this.cursor && this.drawing) {
      const p = this.pixel(this.cursor.at);
      this.g.strokeStyle = "#23407a";
      this.g.lineWidth = 1.5;
      this.g.beginPath();
      if (this.cursor.caught) this.g.arc(p[0], p[1], 6, 0, 7);
      else this.g.rect(p[0] - 4, p[1] - 4, 8, 8);
      this.g.stroke();
    }
    drawScale(this.g, 14, h - 16, this.scale, this.unit, "#1e2530");
  }

  private paint(image: ImageData, w: number, h: number) {
    const count = this.cloud === "density" ? new Uint16Array(w * h) : null;
    for (let k = 0, i = 0; k < this.points.length; k += 2, i += 4) {
      const x = Math.round(w / 2 + (this.points[k]! - this.middle[0]) / this.scale);
      const y = Math.round(h / 2 - (this.points[k + 1]! - this.middle[1]) / this.scale);
      if (x < 0 || y < 0 || x >= w || y >= h) continue;
      const o = y * w + x;
      if (count) count[o]!++;
      else for (let j = 0; j < 3; j++) image.data[4 * o + j] = this.colours[i + j]!;
    }
    if (!count) return;
    for (let o = 0; o < count.length; o++) {
      if (!count[o]) continue;
      const v = Math.max(105, 205 - 30 * Math.log2(1 + count[o]!));
      image.data[4 * o] = v;
      image.data[4 * o + 1] = v + 4;
      image.data[4 * o + 2] = v + 10;
    }
  }

  private drawTrace(t: SheetTrace) {
    const g = this.g;
    const p = t.points.map((q) => this.pixel(q));
    if (t.selected) {
      g.strokeStyle = "#e8a700";
      g.lineWidth = 7;
      g.globalAlpha = 0.6;
      this.path(t, p);
      g.globalAlpha = 1;
    }
    g.strokeStyle = LAYER_INK[t.layer] ?? "#23407a";
    g.lineWidth = t.state === "found" ? 1.5 : 2.2;
    g.setLineDash(t.state === "found" ? [7, 3] : []);
    this.path(t, p);
    g.setLineDash([]);
  }

  private path(t: SheetTrace, p: [number, number][]) {
    this.g.beginPath();
    if (t.kind === "circle") {
      const [x, y] = p[0]!;
      this.g.arc(x, y, t.radius / this.scale, 0, 7);
      this.g.moveTo(x - 4, y);
      this.g.lineTo(x + 4, y);
      this.g.moveTo(x, y - 4);
      this.g.lineTo(x, y + 4);
    } else p.forEach((q, k) => (k ? this.g.lineTo(...q) : this.g.moveTo(...q)));
    this.g.stroke();
  }

  dispose() {
    this.stop.abort();
    this.observer.disconnect();
    cancelAnimationFrame(this.queued);
    this.host.replaceChildren();
  }
}
