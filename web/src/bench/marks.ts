/** What stands on a pane besides strings: scale bar, slice line, cross-hair, the outline being drawn. */
import type { Pane } from "./pane";
import { cross, FONT } from "./strings";
import type { Slab } from "./types";

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

export function drawCrossHair(g: CanvasRenderingContext2D, p: Pane, cursor: number[], ink: string) {
  const at = p.pixel(cursor[0]!, cursor[1]!, cursor[2]!);
  if (!at) return;
  g.strokeStyle = ink;
  g.globalAlpha = 0.6;
  cross(g, at, 12);
  g.globalAlpha = 1;
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
