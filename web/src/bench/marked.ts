/** What is marked of points, tile by tile, as the server tells it: deleted, hidden, selected; their class or zone. */
import { nameOf, type Ghosts } from "./types";

export type MarkOf = "deleted" | "hidden" | "selected";
/** How a point is drawn: as it is, not at all, lit up, as a ghost of what is deleted. */
export const [PLAIN, GONE, LIT, GHOST] = [0, 1, 2, 3];

/** Bodies as they are sent: first point (int64), number of points (uint32), then its bits or bytes. */
function* tilesOf(station: string, body: ArrayBuffer, perByte: number): Generator<[string, Uint8Array]> {
  const view = new DataView(body);
  for (let at = 0; at < body.byteLength;) {
    const bytes = Math.ceil(view.getUint32(at + 8, true) / perByte);
    yield [nameOf({ station, first: Number(view.getBigInt64(at, true)) }), new Uint8Array(body, at + 12, bytes)];
    at += 12 + bytes;
  }
}

export class Marked {
  private bits: Record<MarkOf, Map<string, Uint8Array>> = {
    deleted: new Map(),
    hidden: new Map(),
    selected: new Map(),
  };
  private kinds = new Map<string, Uint8Array>();
  ghosts: Ghosts = "none";

  /** Take in what was told of a station; whole: all there is of it. Returns the tiles that it says something of. */
  tell(of: MarkOf | "kinds", station: string, body: ArrayBuffer, whole: boolean): Set<string> {
    const map = of === "kinds" ? this.kinds : this.bits[of];
    const told = new Set<string>();
    if (whole)
      for (const name of map.keys())
        if (name.startsWith(`${station}/`)) {
          map.delete(name);
          told.add(name);
        }
    for (const [name, bits] of tilesOf(station, body, of === "kinds" ? 1 : 8)) {
      map.set(name, bits);
      told.add(name);
    }
    return told;
  }

  /** Whether a tile's points are anything but plain. */
  has(name: string): boolean {
    return this.ghosts === "alone" || this.kinds.has(name) || Object.values(this.bits).some((m) => m.has(name));
  }

  /** How each point of a tile is drawn. */
  marks(name: string, into: Uint8Array) {
    const [dead, hidden, chosen] = [this.bits.deleted, this.bits.hidden, this.bits.selected].map((m) => m.get(name));
    const on = (bits: Uint8Array | undefined, k: number) => bits !== undefined && (bits[k >> 3]! >> (k & 7)) & 1;
    for (let k = 0; k < into.length; k++) {
      const gone = on(dead, k);
      const lit = on(chosen, k) ? LIT : null;
      if (this.ghosts === "alone") into[k] = gone ? (lit ?? PLAIN) : GONE;
      else if (gone) into[k] = this.ghosts === "ghosts" ? (lit ?? GHOST) : GONE;
      else into[k] = on(hidden, k) ? GONE : (lit ?? PLAIN);
    }
  }

  /** The class or zone of each point of a tile, by its place in the palette. */
  slots(name: string, palette: Uint8Array, into: Uint8Array) {
    const own = this.kinds.get(name);
    for (let k = 0; k < into.length; k++) into[k] = own ? palette[own[k]!]! : 0;
  }
}
