/** What stands on a pane besides strings: scale bar, slice line, cross-hair, the outline being drawn. */
import type { Pane } from "./pane";
import { cross, FONT } from "./strings";
import type { ShapeInfo, Slab, UnderInfo } from "./types";
import { Vector3 } from "three";

/** A bar of a round length from (x, y) to the right; scale: metres a pixel. */
export function drawScale(
  g: CanvasRenderingContext2D,
  x: number,
  y: number,
  scale: number,
  unit: { name: string; metre: number },
  ink: string,
  note = "",
) {
  const target = 110 * scale * unit.metre;
  const power = 10 ** Math.floor(Math.log10(target));
  const round = [5, 2, 1].map((k) => k * power).find((v) => v <= target) ?? power;
  const px = round / unit.metre / scale;
  g.strokeStyle = g.fillStyle = ink;
  g.lineWidth = 1;
  g.beginPath();
  g.moveTo(x, y - 5);
  g.lineTo(x, y);
  g.lineTo(x + px, y);
  g.lineTo(x + px, y - 5);
  g.stroke();
  g.font = FONT;
  g.fillText(`${Number(round.toPrecision(2))} ${unit.name}${note}`, x + px + 8, y);
}

/** Where the slice runs, in plan. */
export function drawSliceLine(g: CanvasRenderingContext2D, p: Pane, { origin, azimuth }: Slab) {
  const [dx, dy] = [Math.cos(azimuth) * 500, Math.sin(azimuth) * 500];
  const [a, b] = [p.pixel(origin[0] - dx, origin[1] - dy, 0), p.pixel(origin[0] + dx, origin[1] + dy, 0)];
  if (!a || !b) return;
  g.strokeStyle = "#e8a700";
  g.globalAlpha = 0.7;
  g.setLineDash([6, 5]);
  g.beginPath();
  g.moveTo(...a);
  g.lineTo(...b);
  g.stroke();
  g.setLineDash([]);
  g.globalAlpha = 1;
}

const SHARP = 2048; // pixels of the longer side that a sketch is drawn with: paper is no finer
let sketch: { key: string; image: HTMLCanvasElement | null } | null = null; // the last one; no image: on its way, or not to be had

/** What is drawn on a picture, without its paper: the paler a place, the less is left of it; light strokes for a dark ground. */
function traced(image: HTMLImageElement, dark: boolean): HTMLCanvasElement {
  const out = document.createElement("canvas");
  const by = Math.min(1, SHARP / Math.max(image.naturalWidth, image.naturalHeight));
  [out.width, out.height] = [Math.round(image.naturalWidth * by), Math.round(image.naturalHeight * by)];
  const pen = out.getContext("2d", { willReadFrequently: true })!;
  pen.drawImage(image, 0, 0, out.width, out.height);
  const all = pen.getImageData(0, 0, out.width, out.height);
  const { data } = all;
  for (let k = 0; k < data.length; k += 4) {
    data[k + 3] = (data[k + 3]! * (255 - (0.3 * data[k]! + 0.59 * data[k + 1]! + 0.11 * data[k + 2]!))) / 255;
    if (dark) for (let i = 0; i < 3; i++) data[k + i] = 255 - data[k + i]!;
  }
  pen.putImageData(all, 0, 0);
  return out;
}

/** The field sketch, as it lies on the plan; what comes later is drawn when it is there. */
export function drawUnder(
  g: CanvasRenderingContext2D,
  p: Pane,
  { url, wide, T: [a, b, x, c, d, y] }: UnderInfo,
  dark: boolean,
  again: () => void,
) {
  const key = `${url} ${wide} ${dark}`;
  if (sketch?.key !== key) {
    const own: NonNullable<typeof sketch> = { key, image: null };
    sketch = own;
    const arriving = new Image();
    arriving.onload = () => ((own.image = traced(arriving, dark)), again());
    arriving.onerror = () => setTimeout(() => sketch === own && ((sketch = null), again()), 5000);
    arriving.src = url;
  }
  const { image } = sketch;
  if (!image) return;
  const [o, u, v] = [p.pixel(x!, y!, 0), p.pixel(x! + a!, y! + c!, 0), p.pixel(x! + b!, y! + d!, 0)];
  if (!o || !u || !v) return;
  g.save();
  g.globalAlpha = 0.6;
  g.transform(u[0] - o[0], u[1] - o[1], v[0] - o[0], v[1] - o[1], o[0], o[1]);
  g.scale(wide / image.width, wide / image.width);
  g.drawImage(image, 0, 0);
  g.restore();
}

export function drawCrossHair(g: CanvasRenderingContext2D, p: Pane, cursor: number[], ink: string) {
  const at = p.pixel(cursor[0]!, cursor[1]!, cursor[2]!);
  if (!at) return;
  g.strokeStyle = ink;
  g.globalAlpha = 0.6;
  cross(g, at, 12);
  g.globalAlpha = 1;
}

const [PATCH, ROD] = [0.08, 0.12]; // metres: half of what is drawn of a plane, and of an edge or an axis

/** The surface that was fitted under the cursor: a patch of a plane, a stretch of an edge, the round of a pipe or a sphere. */
export function drawShape(g: CanvasRenderingContext2D, p: Pane, { kind, at, normal, axis, radius }: ShapeInfo) {
  const middle = new Vector3().fromArray(at);
  const way = new Vector3().fromArray(axis ?? normal ?? [0, 0, 1]);
  const u = new Vector3(Math.abs(way.x) < 0.8 ? 1 : 0, Math.abs(way.x) < 0.8 ? 0 : 1, 0).cross(way).normalize();
  const v = way.clone().cross(u);
  const lines: Vector3[][] = [];
  const round = (a: Vector3, b: Vector3, r: number, corners: number) =>
    lines.push(
      Array.from({ length: corners + 1 }, (_, k) => {
        const t = (2 * Math.PI * (k + 0.5)) / corners;
        return middle
          .clone()
          .addScaledVector(a, r * Math.cos(t))
          .addScaledVector(b, r * Math.sin(t));
      }),
    );
  if (kind === "plane") round(u, v, PATCH * Math.SQRT2, 4);
  if (axis) lines.push([-ROD, ROD].map((t) => middle.clone().addScaledVector(way, t)));
  if (radius) round(u, v, radius, 32);
  if (kind === "sphere" && radius) for (const w of [u, v]) round(way, w, radius, 32);
  g.strokeStyle = "#e8a700";
  g.lineWidth = kind === "edge" ? 3 : 1.5;
  g.beginPath();
  for (const line of lines)
    line.forEach((q, k) => {
      const at = p.pixel(q.x, q.y, q.z);
      if (at) k ? g.lineTo(...at) : g.moveTo(...at);
    });
  g.stroke();
}

const ARM = 72; // pixels of an axis that is drawn

/** A grid as it would lie: E as a full line, N as a dashed one, each with its letter, from the place whose values are given. */
export function drawAxes(g: CanvasRenderingContext2D, p: Pane, t: number[], from: number[]) {
  const o = p.pixel(from[0]!, from[1]!, from[2]!);
  if (!o) return;
  g.save();
  g.strokeStyle = g.fillStyle = "#e8a700";
  g.lineWidth = 2.5;
  g.font = FONT;
  for (const [row, letter] of [
    [0, "E"],
    [4, "N"],
  ] as const) {
    const end = p.pixel(from[0]! + t[row]!, from[1]! + t[row + 1]!, from[2]! + t[row + 2]!);
    const far = end && Math.hypot(end[0] - o[0], end[1] - o[1]);
    if (!far) continue; // seen along it
    const [x, y] = [(end[0] - o[0]) / far, (end[1] - o[1]) / far];
    g.setLineDash(letter === "N" ? [7, 4] : []);
    g.beginPath();
    g.moveTo(...o);
    g.lineTo(o[0] + ARM * x, o[1] + ARM * y);
    g.stroke();
    g.fillText(letter, o[0] + (ARM + 10) * x - 4, o[1] + (ARM + 10) * y + 4);
  }
  g.restore();
}

/** The line between two compared stations, with what stands on each side. */
export function drawDivider(g: CanvasRenderingContext2D, { rect }: Pane, at: number, [left, right]: [string, string]) {
  const x = Math.round(rect.x + at * rect.w) + 0.5;
  g.strokeStyle = g.fillStyle = "#e8a700";
  g.lineWidth = 1.5;
  g.beginPath();
  g.moveTo(x, rect.y);
  g.lineTo(x, rect.y + rect.h);
  g.moveTo(x - 3, rect.y + rect.h / 2 - 9);
  g.lineTo(x - 3, rect.y + rect.h / 2 + 9);
  g.moveTo(x + 3, rect.y + rect.h / 2 - 9);
  g.lineTo(x + 3, rect.y + rect.h / 2 + 9);
  g.stroke();
  g.font = FONT;
  for (const [words, side] of [
    [left, "right"],
    [right, "left"],
  ] as const) {
    const w = g.measureText(words).width;
    const from = side === "right" ? x - 8 - w : x + 8;
    g.fillStyle = "rgba(18,22,29,.85)";
    g.fillRect(from - 3, rect.y + 40, w + 6, 16);
    g.fillStyle = "#f2efe6";
    g.fillText(words, from, rect.y + 52);
  }
}

export function drawLasso(g: CanvasRenderingContext2D, line: [number, number][]) {
  g.strokeStyle = "#e8a700";
  g.fillStyle = "rgba(232,167,0,.15)";
  g.lineWidth = 1.5;
  g.beginPath();
  line.forEach((p, k) => (k ? g.lineTo(...p) : g.moveTo(...p)));
  g.closePath();
  g.fill();
  g.stroke();
}
