/** The tiles of a station as a tree that is cut early; see core/scan/hierarchy.py for its bytes. */
import type { TileInfo } from "./types";

/** A tile with those below it; its box holds theirs. */
export interface Branch extends TileInfo {
  below: Branch[];
  looked?: number; // when it was last among what is seen: see Cloud.refine
}

const HEAD = 36;
const STEPS = 65535;

/** What can be drawn of a station before its tree is known: its first tile. */
export function rootOf(
  station: string,
  low: number[],
  high: number[],
  root: { count: number; spacing: number },
): Branch {
  return { station, level: 0, first: 0, count: root.count, low, high, spacing: root.spacing, below: [] };
}

/** The coarsest tiles of a station with all that is below them. Throws when the bytes are no list of tiles. */
export function readTree(station: string, body: ArrayBuffer): Branch[] {
  const view = new DataView(body);
  const n = view.getUint32(4, true);
  if (view.getUint32(0, false) !== 0x544c5431 || body.byteLength !== HEAD + 21 * n)
    throw new Error("not a list of tiles");
  const [low, high] = [0, 12].map((at) => [0, 1, 2].map((a) => view.getFloat32(8 + at + 4 * a, true))) as [
    number[],
    number[],
  ];
  const step = low.map((v, a) => Math.max((high[a]! - v) / STEPS, 1e-9));
  const spacing = view.getFloat32(32, true);
  const tiles: Branch[] = [];
  const roots: Branch[] = [];
  let first = 0;
  for (let k = 0; k < n; k++) {
    const count = view.getUint32(HEAD + 4 * k, true);
    const parent = view.getInt32(HEAD + 4 * n + 4 * k, true);
    const level = view.getUint8(HEAD + 20 * n + k);
    const corner = (c: number) =>
      low.map((v, a) => v + step[a]! * view.getUint16(HEAD + 8 * n + 12 * k + 6 * c + 2 * a, true));
    const tile = {
      station,
      level,
      first,
      count,
      low: corner(0),
      high: corner(1),
      spacing: spacing / 2 ** level,
      below: [],
    };
    tiles.push(tile);
    (parent < 0 ? roots : tiles[parent]!.below).push(tile);
    first += count;
  }
  return roots;
}
