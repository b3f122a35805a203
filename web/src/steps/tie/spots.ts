/** Places on a field sketch: metres with y upwards, shown on a board of pixels. */
import type { Search, Station } from "../../api/client";

export type XY = [number, number];
export type Spots = Record<string, XY>;
/** x, y: metres at the board's lower left corner; size: metres a pixel; high: pixels of the board. */
export interface View {
  x: number;
  y: number;
  size: number;
  high: number;
}
const LEAST = 40; // metres that a board shows at least

export const begin = (spots: Search["spots"]): Spots =>
  Object.fromEntries(spots.map((s) => [s.station, [s.x, s.y] as XY]));

/** The spots, with the corners of a picture that lies below them. */
export function corners(
  spots: Spots,
  picture: { wide: number; high: number } | null,
  at: { x: number; y: number; size: number } | null,
): Spots {
  if (!picture || !at) return spots;
  const far: XY = [at.x + picture.wide * at.size, at.y + picture.high * at.size];
  return { ...spots, " low": [at.x, at.y], " high": far };
}

/** The board that shows all spots with some room round them. */
export function bounds(spots: Spots, wide: number, high: number): View {
  const all = Object.values(spots);
  if (!all.length) return { x: 0, y: 0, size: LEAST / wide, high };
  const [x0, x1] = [Math.min(...all.map((p) => p[0])), Math.max(...all.map((p) => p[0]))];
  const [y0, y1] = [Math.min(...all.map((p) => p[1])), Math.max(...all.map((p) => p[1]))];
  const size = Math.max((1.3 * (x1 - x0)) / wide, (1.3 * (y1 - y0)) / high, LEAST / wide);
  return { x: (x0 + x1 - wide * size) / 2, y: (y0 + y1 - high * size) / 2, size, high };
}

export const metres = (px: XY, view: View): XY => [
  view.x + px[0] * view.size,
  view.y + (view.high - px[1]) * view.size,
];

/** What is sent: a line for each station. */
export const lines = (spots: Spots, stations: Pick<Station, "id" | "name">[]): string =>
  stations
    .filter((s) => spots[s.id])
    .map((s) => `${s.name}; ${spots[s.id]!.map((v) => v.toFixed(2)).join("; ")}`)
    .join("\n");
