/** Lines of equal expected error in plan: what the stations round a place are off by there, the nearest most. */
import { contours } from "d3-contour";
import { Matrix4 } from "three";
import { errorAt, formOf } from "./expected";
import { FONT, type Labels } from "./strings";
import type { Pane } from "./pane";
import type { StationInfo } from "./types";

const ROUND = 8; // metres round the stations
const CELLS = 64; // along the longer side
const LINES = 5;

export interface Contour {
  mm: number;
  lines: [number, number][][]; // metres of the part
}

/** A round step, so that at most LINES of it lie between two values. */
export function roundStep(span: number): number {
  const power = 10 ** Math.floor(Math.log10(span / LINES));
  return [1, 2, 5, 10].map((k) => k * power).find((v) => span / v <= LINES) ?? 10 * power;
}

/** Contours at a height of the part (m), from the stations that are in sight. */
export function contoursOf(stations: StationInfo[], height: number): Contour[] {
  const known = stations.flatMap((s) => {
    if (!s.visible || !s.pose || !s.expected) return [];
    const back = new Matrix4().set(...(s.pose as Parameters<Matrix4["set"]>)).invert().elements;
    return [{ at: [s.pose[3]!, s.pose[7]!], back, form: formOf(s.expected) }];
  });
  if (!known.length) return [];
  const low = [0, 1].map((k) => Math.min(...known.map((s) => s.at[k]!)) - ROUND);
  const high = [0, 1].map((k) => Math.max(...known.map((s) => s.at[k]!)) + ROUND);
  const step = Math.max(high[0]! - low[0]!, high[1]! - low[1]!) / CELLS;
  const [n, m] = [0, 1].map((k) => Math.ceil((high[k]! - low[k]!) / step) + 1) as [number, number];
  const values = Array.from({ length: n * m }, (_, k) => {
    const [x, y] = [low[0]! + (k % n) * step, low[1]! + Math.floor(k / n) * step];
    let [sum, weights] = [0, 0];
    for (const { at, back: b, form } of known) {
      const away = (x - at[0]!) ** 2 + (y - at[1]!) ** 2;
      const weight = 1 / (1 + away) ** 2;
      const error = errorAt(
        form,
        b[0] * x + b[4] * y + b[8] * height + b[12],
        b[1] * x + b[5] * y + b[9] * height + b[13],
        b[2] * x + b[6] * y + b[10] * height + b[14],
      );
      sum += weight * error ** 2;
      weights += weight;
    }
    return Math.sqrt(sum / weights);
  });
  const [least, most] = [Math.min(...values), Math.max(...values)];
  if (!(most > least)) return [];
  const each = roundStep(most - least);
  const levels = Array.from({ length: LINES + 1 }, (_, k) => (Math.floor(least / each) + 1 + k) * each).filter(
    (v) => v < most,
  );
  return contours()
    .size([n, m])
    .thresholds(levels)(values)
    .map((c) => ({
      mm: c.value,
      lines: c.coordinates
        .flat()
        .flatMap((ring) => inside(ring as [number, number][], n, m))
        .map((line) =>
          line.map(([x, y]): [number, number] => [low[0]! + (x - 0.5) * step, low[1]! + (y - 0.5) * step]),
        ),
    }));
}

/** The stretches of a ring that do not run along the edge of the grid, where it is only closed. */
function inside(ring: [number, number][], n: number, m: number): [number, number][][] {
  const out: [number, number][][] = [[]];
  for (const [x, y] of ring)
    if (x < 0.6 || y < 0.6 || x > n - 0.6 || y > m - 0.6) out.push([]);
    else out[out.length - 1]!.push([x, y]);
  return out.filter((line) => line.length > 1);
}

let last: { stations: StationInfo[]; height: number; found: Contour[] } | null = null;

/** Whether nothing that the lines are drawn from differs: a scene is made anew for each hover. */
const alike = (a: StationInfo[], b: StationInfo[]) =>
  a.length === b.length &&
  a.every((s, k) => s.pose === b[k]!.pose && s.expected === b[k]!.expected && s.visible === b[k]!.visible);

/** The lines, each with its value where no label stands yet. */
export function drawContours(
  g: CanvasRenderingContext2D,
  p: Pane,
  stations: StationInfo[],
  height: number,
  names: Labels,
) {
  if (!last || last.height !== height || !alike(last.stations, stations))
    last = { stations, height, found: contoursOf(stations, height) };
  g.strokeStyle = names.ink;
  g.font = FONT;
  g.lineWidth = 1;
  g.globalAlpha = 0.75;
  for (const { lines } of last.found) {
    g.beginPath();
    for (const line of lines)
      line.forEach(([x, y], k) => {
        const at = p.pixel(x, y, height);
        if (at) k ? g.lineTo(...at) : g.moveTo(...at);
      });
    g.stroke();
  }
  g.globalAlpha = 1;
  for (const { mm, lines } of last.found) {
    const longest = lines.reduce((a, b) => (b.length > a.length ? b : a), lines[0] ?? []);
    for (const share of [1 / 2, 1 / 3, 2 / 3, 1 / 5, 4 / 5]) {
      const place = longest[Math.floor(longest.length * share)];
      const at = place && p.pixel(...place, height);
      if (at && names.put(at, `${Number(mm.toPrecision(3))} mm`)) break;
    }
  }
}
