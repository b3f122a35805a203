/** A section on the drawing table: the slab's points at true scale, the traces over them, and the cursor of the drawing hand above all. */
import { drawScale } from "./marks";
import { coloured, dense } from "./paper";
import type { P } from "./pen";
import { Pinned } from "./pinned";
import { type CutMark, DASH, drawPull, gripped, INK, laid, type Pull } from "./pulled";
import { Snap, type Caught } from "./snap";

interface Letters {
  at: number[];
  text: string;
  height: number;
  turn: number;
  middle: boolean;
}
export interface SheetTrace {
  id: string;
  kind: string;
  layer: string;
  points: number[][];
  lines: number[][][];
  solid: number[][][];
  dashes: number[][][];
  letters: Letters[];
  state: string;
  dashed: boolean;
  selected: boolean;
  picture: string | null;
}
type Look = { colour: string; line_type: string; weight: number; shown: boolean };
export type Cloud = "density" | "colour" | "intensity" | "off";

interface SheetHands {
  pick(at: P, under: string | null, more: boolean): void;
  end(): void;
  hover(at: Caught | null): void;
  pull(cut: string, a: P, b: P): void;
  picture(id: string): string; // where it is found
}
export interface Marks {
  lines: number[][][];
  letters: Letters[];
  cuts: CutMark[];
}
const REACH = 8; // pixels

export class Sheet {
  private g: CanvasRenderingContext2D;
  private top: CanvasRenderingContext2D;
  private points = new Float32Array(0);
  private colours = new Uint8Array(0);
  private traces: SheetTrace[] = [];
  private design: number[][][] = []; // where the cut meets design models
  private marks: Marks = { lines: [], letters: [], cuts: [] };
  private pulled: Pull | null = null;
  private looks = new Map<string, Look>();
  private middle: P = [0, 0];
  private scale = 0.02;
  private drag: { x: number; y: number; far: boolean; button: number } | null = null;
  private cursor: { px: number; py: number; caught: Caught } | null = null;
  private queued = 0;
  private stale = true;
  private stop = new AbortController();
  private observer: ResizeObserver;
  private pinned: Pinned;
  readonly snap = new Snap();
  cloud: Cloud = "density";
  unit = { name: "m", metre: 1 };
  /** What the pen would draw next, and what stands beside the cursor; null while no pen is held. */
  pen: { from: P | null; preview: (at: P) => P[][]; words: (by: string) => string } | null = null;

  constructor(
    private host: HTMLElement,
    private hands: SheetHands,
  ) {
    const [canvas, over] = [document.createElement("canvas"), document.createElement("canvas")];
    for (const c of [canvas, over])
      c.style.cssText = "position:absolute;inset:0;width:100%;height:100%;touch-action:none";
    over.style.pointerEvents = "none";
    host.append(canvas, over);
    this.g = canvas.getContext("2d")!;
    this.pinned = new Pinned(
      (id) => hands.picture(id),
      () => this.draw(),
    );
    this.top = over.getContext("2d")!;
    const { signal } = this.stop;
    canvas.addEventListener(
      "pointerdown",
      (e) => {
        canvas.setPointerCapture(e.pointerId);
        this.drag = { x: e.offsetX, y: e.offsetY, far: false, button: e.button };
        this.pulled = e.button === 0 && !this.pen ? this.grip(e) : null;
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
        hands.hover(null);
        this.draw(false);
      },
      { signal },
    );
    canvas.addEventListener(
      "wheel",
      (e) => {
        e.preventDefault();
        const before = this.at(e.offsetX, e.offsetY);
        this.scale = Math.max(
          0.0001,
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
    this.snap.setPoints(this.points);
    if (frame) this.frame();
    this.draw();
  }

  setDesign(lines: number[][][]) {
    this.design = lines;
    this.draw();
  }

  setTraces(traces: SheetTrace[], marks: Marks) {
    this.traces = traces;
    this.marks = marks;
    this.snap.setShapes(traces.filter((t) => this.looks.get(t.layer)?.shown ?? true));
    this.draw();
  }

  setLayers(layers: (Look & { name: string })[]) {
    this.looks = new Map(layers.map((l) => [l.name, l]));
    this.setTraces(this.traces, this.marks);
  }

  /** Where the cursor is, as it is caught. */
  get here(): Caught | null {
    return this.cursor?.caught ?? null;
  }

  /** What is seen: lower left and upper right corner. */
  window(): [number, number, number, number] {
    const { clientWidth: w, clientHeight: h } = this.host;
    return [...this.at(0, h), ...this.at(w, 0)];
  }

  frame() {
    const n = this.points.length / 2;
    const sample = (axis: 0 | 1) => {
      if (n)
        return Array.from(
          { length: Math.min(n, 4000) },
          (_, k) => this.points[Math.floor((k * n) / Math.min(n, 4000)) * 2 + axis]!,
        );
      return this.traces.flatMap((t) => t.lines.flat().map((p) => p[axis]!));
    };
    const [x, y] = ([0, 1] as const).map((axis) => {
      const some = sample(axis).sort((a, b) => a - b);
      return [some[Math.floor(some.length * 0.01)]!, some[Math.floor((some.length - 1) * 0.99)]!] as const;
    }) as [readonly [number, number], readonly [number, number]];
    if (x[0] === undefined) return;
    this.middle = [(x[0] + x[1]) / 2, (y[0] + y[1]) / 2];
    this.scale = Math.max((x[1] - x[0]) / this.host.clientWidth, (y[1] - y[0]) / this.host.clientHeight, 0.001) * 1.2;
    this.draw();
  }

  private at(px: number, py: number): P {
    return [
      this.middle[0] + (px - this.host.clientWidth / 2) * this.scale,
      this.middle[1] + (this.host.clientHeight / 2 - py) * this.scale,
    ];
  }

  private pixel(p: number[]): P {
    return [
      this.host.clientWidth / 2 + (p[0]! - this.middle[0]) / this.scale,
      this.host.clientHeight / 2 - (p[1]! - this.middle[1]) / this.scale,
    ];
  }

  private catch(px: number, py: number, free: boolean): Caught {
    const [x, y] = this.at(px, py);
    return this.pen && !free ? this.snap.catch(x, y, REACH * this.scale, this.pen.from) : { at: [x, y], by: "" };
  }

  private move(e: PointerEvent) {
    const d = this.drag;
    if (!d) this.g.canvas.style.cursor = !this.pen && this.grip(e) ? "move" : "";
    if (d && this.pulled) {
      d.far ||= Math.hypot(e.offsetX - d.x, e.offsetY - d.y) > 4;
      this.pulled.to = this.at(e.offsetX, e.offsetY);
    } else if (d && (d.far || Math.hypot(e.offsetX - d.x, e.offsetY - d.y) > 4)) {
      d.far = true;
      this.middle = [this.middle[0] - (e.offsetX - d.x) * this.scale, this.middle[1] + (e.offsetY - d.y) * this.scale];
      d.x = e.offsetX;
      d.y = e.offsetY;
      this.stale = true;
    }
    this.cursor = { px: e.offsetX, py: e.offsetY, caught: this.catch(e.offsetX, e.offsetY, e.altKey) };
    this.hands.hover(this.cursor.caught);
    this.draw(false);
  }

  private up(e: PointerEvent) {
    const d = this.drag;
    this.drag = null;
    const pulled = this.pulled;
    this.pulled = null;
    if (d?.far && pulled) return this.hands.pull(pulled.cut.id, ...laid(pulled));
    if (!d || d.far) return;
    if (d.button === 2) return this.hands.end();
    if (d.button !== 0) return;
    const [x, y] = this.at(e.offsetX, e.offsetY);
    const under = this.snap.under(x, y, REACH * this.scale) ?? this.lettersAt(x, y);
    this.hands.pick(this.catch(e.offsetX, e.offsetY, e.altKey).at, under, e.shiftKey);
  }

  private grip(e: PointerEvent): Pull | null {
    return gripped(this.marks.cuts, this.at(e.offsetX, e.offsetY), 1.4 * REACH * this.scale);
  }

  /** Put back the cut that is being moved; false when none is. */
  release(): boolean {
    const held = !!this.pulled;
    this.pulled = null;
    if (this.drag) this.drag.far = true;
    this.draw(false);
    return held;
  }

  private lettersAt(x: number, y: number): string | null {
    for (const t of this.traces)
      for (const l of t.letters) {
        const wide = l.height * 0.6 * l.text.length;
        const [dx, dy] = [x - l.at[0]! + (l.middle ? wide / 2 : 0), y - l.at[1]! + (l.middle ? l.height / 2 : 0)];
        if (dx > 0 && dx < wide && dy > 0 && dy < l.height) return t.id;
      }
    return null;
  }

  /** all: the points and traces too; else what follows the cursor alone. */
  draw(all = true) {
    this.stale ||= all;
    if (!this.queued) this.queued = requestAnimationFrame(() => this.render());
  }

  private render() {
    this.queued = 0;
    const { clientWidth: w, clientHeight: h } = this.host;
    if (!w || !h) return;
    for (const c of [this.g.canvas, this.top.canvas])
      if (c.width !== w || c.height !== h) {
        c.width = w;
        c.height = h;
        this.stale = true;
      }
    if (this.stale) this.paper(w, h);
    this.stale = false;
    this.top.clearRect(0, 0, w, h);
    if (this.pen && this.cursor) this.hand(this.pen, this.cursor);
    if (this.pulled && this.drag?.far) drawPull(this.top, this.pulled, (p) => this.pixel(p), this.unit);
  }

  private paper(w: number, h: number) {
    const image = this.g.createImageData(w, h);
    new Uint32Array(image.data.buffer).fill(0xffe8f1f5); // paper
    if (this.cloud !== "off") this.paint(image);
    this.g.putImageData(image, 0, 0);
    this.g.strokeStyle = this.g.fillStyle = "#5a6170";
    this.g.lineWidth = 1.2;
    this.stroke(this.marks.lines);
    this.g.strokeStyle = "#7a3e9d";
    this.stroke(this.design);
    this.g.strokeStyle = "#5a6170";
    for (const l of this.marks.letters) this.letters(l);
    for (const t of this.traces) if (t.picture) this.picture(t, t.picture); // below all lines
    for (const t of this.traces) this.trace(t);
    drawScale(this.g, 14, h - 16, this.scale, this.unit, INK);
  }

  private hand(pen: NonNullable<Sheet["pen"]>, { px, py, caught }: NonNullable<Sheet["cursor"]>) {
    const g = this.top;
    g.strokeStyle = "#23407a";
    g.lineWidth = 1.8;
    g.beginPath();
    for (const line of pen.preview(caught.at))
      line.forEach((q, k) => (k ? g.lineTo(...this.pixel(q)) : g.moveTo(...this.pixel(q))));
    g.stroke();
    const [x, y] = this.pixel(caught.at);
    g.beginPath();
    if (caught.by) g.arc(x, y, 6, 0, 7);
    else {
      g.moveTo(x - 9, y);
      g.lineTo(x + 9, y);
      g.moveTo(x, y - 9);
      g.lineTo(x, y + 9);
    }
    g.stroke();
    const words = pen.words(caught.by);
    if (!words) return;
    g.font = "12.5px 'Atkinson Hyperlegible Mono', monospace";
    const wide = g.measureText(words).width;
    const left = Math.min(px + 16, this.host.clientWidth - wide - 14);
    g.fillStyle = "rgba(252,250,245,0.94)";
    g.fillRect(left - 4, py + 12, wide + 8, 18);
    g.fillStyle = INK;
    g.fillText(words, left, py + 25);
  }

  private paint(image: ImageData) {
    const place = { middle: this.middle, scale: this.scale };
    if (this.cloud === "density") dense(image, this.points, place);
    else coloured(image, this.points, this.colours, place, this.cloud === "intensity");
  }

  private picture(t: SheetTrace, id: string) {
    const [a, b, , d] = (t.lines[0] ?? []).map((p) => this.pixel(p));
    if (a && b && d && (this.looks.get(t.layer)?.shown ?? true)) this.pinned.draw(this.g, id, a, b, d);
  }

  private trace(t: SheetTrace) {
    const look = this.looks.get(t.layer);
    if (look && !look.shown) return;
    const g = this.g;
    if (t.selected) {
      g.strokeStyle = "#e8a700";
      g.lineWidth = 7;
      g.globalAlpha = 0.6;
      this.stroke(t.lines);
      g.globalAlpha = 1;
    }
    g.strokeStyle = g.fillStyle = look?.colour ?? "#23407a";
    g.lineWidth = (t.state === "found" ? 1.3 : 1.2) + 1.6 * (look?.weight ?? 0.25);
    g.setLineDash(t.dashed ? DASH["dashed"]! : (DASH[look?.line_type ?? ""] ?? []));
    this.stroke(t.dashes.length ? t.solid : t.lines);
    g.setLineDash(DASH["dashed"]!);
    this.stroke(t.dashes);
    g.setLineDash([]);
    for (const l of t.letters) this.letters(l, t.selected);
  }

  private stroke(lines: number[][][]) {
    this.g.beginPath();
    for (const line of lines)
      line.forEach((q, k) => (k ? this.g.lineTo(...this.pixel(q)) : this.g.moveTo(...this.pixel(q))));
    this.g.stroke();
  }

  private letters(l: Letters, selected = false) {
    const size = l.height / this.scale / 0.72;
    if (size < 4) return;
    const g = this.g;
    g.save();
    g.translate(...this.pixel(l.at));
    g.rotate(-l.turn);
    g.font = `${size}px 'Atkinson Hyperlegible Next', sans-serif`;
    g.textAlign = l.middle ? "center" : "left";
    g.textBaseline = l.middle ? "middle" : "alphabetic";
    if (selected) {
      g.strokeStyle = "#e8a700";
      g.lineWidth = 4;
      g.strokeText(l.text, 0, 0);
    }
    g.fillText(l.text, 0, 0);
    g.restore();
  }

  dispose() {
    this.stop.abort();
    this.observer.disconnect();
    cancelAnimationFrame(this.queued);
    this.host.replaceChildren();
  }
}
