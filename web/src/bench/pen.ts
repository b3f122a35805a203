/** The drawing hand: picks and typed numbers become shapes, or things done with shapes. Section coordinates, metres, radians. */
export type P = [number, number];
type Kind =
  "line" | "polyline" | "arc" | "circle" | "ellipse" | "spline" | "point" | "text" | "hatch" | "dimension" | "picture";
type Measure = "linear" | "aligned" | "radius" | "angle" | "level" | "leader";
/** What a shape is beside its points, as the server has it. */
interface Shape {
  closed?: boolean;
  bulges?: number[];
  start?: number;
  end?: number;
  ratio?: number;
  text?: string;
  measure?: Measure;
  pattern?: "lines" | "solid";
  picture?: string;
}
export type Draw = { kind: Kind; points: P[]; radius: number; shape: Shape };
type Do = keyof typeof EDITS;
export type Edit = { do: Do; ids: string[] | null; at: P[]; value: number; count: number };
export type Act = { draw: Draw } | { edit: Edit };

export const DRAWS = {
  line: "Line",
  polyline: "Polyline",
  rectangle: "Rectangle",
  circle: "Circle",
  arc: "Arc through three points",
  ellipse: "Ellipse",
  spline: "Curve through points",
  point: "Point",
  text: "Text",
  hatch: "Hatched area",
  aligned: "Length along",
  linear: "Length, level or upright",
  radius: "Radius",
  angle: "Angle",
  level: "Height mark",
  leader: "Words with an arrow",
  picture: "Picture or PDF",
} as const;
export const EDITS = {
  move: "Move",
  copy: "Copy",
  turn: "Turn",
  mirror: "Mirror",
  stretch: "Stretch",
  array: "Repeat",
  offset: "Set off",
  trim: "Trim",
  extend: "Extend",
  corner: "Corner",
  break: "Break",
} as const;
export type Tool = keyof typeof DRAWS | keyof typeof EDITS;
/** What is done with whatever lies under the pick, not with what is chosen. */
export const ON_PICK: Tool[] = ["trim", "extend", "break", "corner", "offset"];
const ENDLESS: Tool[] = ["polyline", "spline", "hatch"];
const ASK: Partial<Record<Tool, string[]>> = {
  line: ["one end", "the other end"],
  polyline: ["the first corner", "the next corner; Enter ends it, C closes it, B bends the next piece"],
  rectangle: ["one corner", "the opposite corner"],
  circle: ["the centre", "its rim, or type the radius"],
  arc: ["one end", "a place on it", "the other end"],
  ellipse: ["the centre", "the end of its longer half", "the end of its shorter half"],
  spline: ["the first point", "the next point; Enter ends it"],
  point: ["the place"],
  text: ["where it begins", "type the text, then Enter"],
  hatch: ["the first corner", "the next corner; Enter closes it"],
  aligned: ["one end", "the other end", "where the figure stands"],
  linear: ["one end", "the other end", "where the figure stands"],
  radius: ["the centre", "a place on the rim"],
  angle: ["the corner", "one arm", "the other arm", "where the figure stands"],
  level: ["the height", "where the figure stands"],
  leader: ["what it points at", "where the words stand", "type the words, then Enter"],
  picture: ["its lower left corner", "its lower right corner"],
  move: ["from", "to"],
  copy: ["from", "to"],
  turn: ["about", "from, or type the angle in degrees", "to"],
  mirror: ["one end of the mirror line", "the other end"],
  stretch: ["one corner round what is moved", "the opposite corner", "from", "to"],
  array: ["from", "to the next one; type how many first"],
  offset: ["the line, on the side where the new one goes; type the distance first"],
  trim: ["the piece that goes"],
  extend: ["the end that goes on"],
  corner: ["one line", "the other line; type a radius to round it"],
  break: ["where it is parted"],
};

const far = (a: P, b: P) => Math.hypot(a[0] - b[0], a[1] - b[1]);
const angle = (a: P, b: P) => Math.atan2(b[1] - a[1], b[0] - a[0]);
const round = (v: number) => ((v % (2 * Math.PI)) + 2 * Math.PI) % (2 * Math.PI);

/** Circle through three points: centre, radius, start and end against the clock; null when they lie on a line. */
export function through(a: P, b: P, c: P) {
  const d = 2 * (a[0] * (b[1] - c[1]) + b[0] * (c[1] - a[1]) + c[0] * (a[1] - b[1]));
  if (Math.abs(d) < 1e-9) return null;
  const [sa, sb, sc] = [a, b, c].map((p) => p[0] ** 2 + p[1] ** 2) as [number, number, number];
  const centre: P = [
    (sa * (b[1] - c[1]) + sb * (c[1] - a[1]) + sc * (a[1] - b[1])) / d,
    (sa * (c[0] - b[0]) + sb * (a[0] - c[0]) + sc * (b[0] - a[0])) / d,
  ];
  let [start, end] = [angle(centre, a), angle(centre, c)];
  if (round(angle(centre, b) - start) > round(end - start)) [start, end] = [end, start];
  return { centre, radius: far(centre, a), start, end: start + round(end - start) };
}

/** The bulge of a piece from a to b that goes on smoothly from a direction. */
export function tangentBulge(direction: number, a: P, b: P): number {
  let turn = angle(a, b) - direction;
  turn = Math.atan2(Math.sin(turn), Math.cos(turn));
  return Math.tan(Math.max(-3.0, Math.min(3.0, turn)) / 2);
}

/** Where a typed text leads: a length towards the cursor, length<angle, @dx,dy from the last pick, or x,y. null when it says nothing. */
export function placed(typed: string, last: P | null, cursor: P, metre: number): P | null {
  const number = "(-?\\d+(?:\\.\\d+)?)";
  const pair = new RegExp(`^(@?)${number}[,;] ?${number}$`).exec(typed);
  if (pair) {
    const [x, y] = [Number(pair[2]) * metre, Number(pair[3]) * metre];
    return pair[1] && last ? [last[0] + x, last[1] + y] : [x, y];
  }
  const polar = new RegExp(`^${number}<${number}$`).exec(typed);
  if (polar && last) {
    const [r, a] = [Number(polar[1]) * metre, (Number(polar[2]) * Math.PI) / 180];
    return [last[0] + r * Math.cos(a), last[1] + r * Math.sin(a)];
  }
  if (!new RegExp(`^${number}$`).test(typed) || !last || far(last, cursor) < 1e-9) return null;
  const k = (Number(typed) * metre) / far(last, cursor);
  return [last[0] + (cursor[0] - last[0]) * k, last[1] + (cursor[1] - last[1]) * k];
}

export class Pen {
  picks: P[] = [];
  typed = "";
  bulges: number[] = [];
  bend = false;
  held: (string | null)[] = []; // what lay under each pick
  pinned: { id: string; tall: number } | null = null; // what is pinned: a picture, and how high it is of its width
  /** turn: the direction that rectangles follow. */
  constructor(
    public tool: Tool,
    public metre = 1,
    public turn = 0,
  ) {}

  get asks(): string {
    const words = ASK[this.tool]!;
    return words[Math.min(this.picks.length, words.length - 1)]!;
  }
  get last(): P | null {
    return this.picks.at(-1) ?? null;
  }
  /** Whether letters that are typed are words, not figures. */
  private get writes(): boolean {
    return this.picks.length === (this.tool === "text" ? 1 : this.tool === "leader" ? 2 : -1);
  }
  private get value(): number | null {
    return /^-?\d+(\.\d+)?$/.test(this.typed) ? Number(this.typed) : null;
  }

  /** A key that is typed into the figure, or the text, at the cursor. Returns whether it was taken. */
  key(key: string): boolean {
    if (key === "Backspace" && this.typed) {
      this.typed = this.typed.slice(0, -1);
      return true;
    }
    if (this.writes) {
      if (key.length !== 1) return false;
      this.typed += key;
      return true;
    }
    if (/^[\d.,;@<-]$/.test(key)) {
      this.typed += key;
      return true;
    }
    if (this.tool === "polyline" && key.toLowerCase() === "b" && this.picks.length) {
      this.bend = !this.bend;
      return true;
    }
    return false;
  }

  /** One step back: the typed figure, else the last pick. False when there was nothing. */
  back(): boolean {
    if (this.typed) this.typed = "";
    else if (this.picks.length) {
      this.picks.pop();
      this.held.pop();
      this.bulges = this.bulges.slice(0, Math.max(0, this.picks.length - 1));
    } else return false;
    return true;
  }

  /** Enter: take the typed figure as a pick, or end what has no set number of picks. */
  enter(cursor: P): Act | null {
    if (this.writes) {
      const text = this.typed.trim();
      if (!text) return null;
      const leader = this.tool === "leader";
      const shape: Shape = leader ? { text, measure: "leader" } : { text };
      return this.done({ draw: { kind: leader ? "dimension" : "text", points: this.picks, radius: 0, shape } });
    }
    if (this.typed) {
      const at = placed(this.typed, this.last, cursor, this.metre);
      if (this.tool === "turn" && this.picks.length === 1 && this.value !== null)
        return this.done(this.edit("turn", [this.picks[0]!], (this.value * Math.PI) / 180));
      if (!at) return null;
      this.typed = "";
      return this.pick(at, null);
    }
    if (!ENDLESS.includes(this.tool)) return null;
    return this.end(false);
  }

  /** Close the polyline that is being drawn. */
  close(): Act | null {
    return this.tool === "polyline" && this.picks.length > 2 ? this.end(true) : null;
  }

  private end(closed: boolean): Act | null {
    const least = this.tool === "hatch" ? 3 : 2;
    if (this.picks.length < least) return null;
    const { tool, picks } = this;
    if (tool === "spline") return this.done({ draw: { kind: "spline", points: picks, radius: 0, shape: {} } });
    if (tool === "hatch")
      return this.done({ draw: { kind: "hatch", points: picks, radius: 0, shape: { pattern: "lines" } } });
    const bent = this.bulges.some((k) => k !== 0) ? { bulges: [...this.bulges, ...(closed ? [0] : [])] } : {};
    return this.done({
      draw: { kind: "polyline", points: picks, radius: 0, shape: { ...(closed ? { closed } : {}), ...bent } },
    });
  }

  /** A pick; under: the trace that lies there. Returns what it makes, once that is whole. */
  pick(at: P, under: string | null): Act | null {
    if (this.writes) return null;
    if (this.last && far(this.last, at) < 1e-7 && !ON_PICK.includes(this.tool)) return null;
    if (this.tool === "polyline" && this.picks.length) {
      const bent = this.bend && this.picks.length > 1;
      this.bulges.push(bent ? tangentBulge(this.direction(), this.last!, at) : 0);
    }
    this.picks.push(at);
    this.held.push(under);
    if (ENDLESS.includes(this.tool)) return null;
    return this.whole(this.picks);
  }

  /** The direction in which the last piece of a polyline ends. */
  private direction(): number {
    const n = this.picks.length;
    const [a, b] = [this.picks[n - 2]!, this.picks[n - 1]!];
    return angle(a, b) + 2 * Math.atan(this.bulges[n - 2] ?? 0);
  }

  private whole(p: P[]): Act | null {
    const draw = (kind: Kind, points: P[], radius = 0, shape: Shape = {}) =>
      this.done({ draw: { kind, points, radius, shape } });
    const { tool } = this;
    const [a, b, c] = p as [P, P, P];
    if (tool === "point") return draw("point", [a]);
    if (tool === "line" && p.length === 2) return draw("line", [a, b]);
    if (tool === "rectangle" && p.length === 2) return draw("polyline", this.rectangle(a, b), 0, { closed: true });
    if (tool === "picture" && p.length === 2 && this.pinned)
      return draw("picture", [a, b], 0, { picture: this.pinned.id });
    if (tool === "circle" && p.length === 2) return draw("circle", [a], far(a, b));
    if (tool === "arc" && p.length === 3) {
      const k = through(a, b, c);
      if (k) return draw("arc", [k.centre], k.radius, { start: k.start, end: k.end });
      this.picks.pop();
      return null;
    }
    if (tool === "ellipse" && p.length === 3) {
      const u = angle(a, b);
      const across = Math.abs(-(c[0] - a[0]) * Math.sin(u) + (c[1] - a[1]) * Math.cos(u));
      return draw("ellipse", [a, b], 0, { ratio: Math.max(0.001, Math.min(1, across / far(a, b))) });
    }
    const figures: Partial<Record<Tool, number>> = { aligned: 3, linear: 3, radius: 2, angle: 4, level: 2 };
    if (figures[tool] === p.length) return draw("dimension", p, 0, { measure: tool as "linear" });
    if (ON_PICK.includes(tool)) return this.onPick(p);
    const moves: Partial<Record<Tool, number>> = { move: 2, copy: 2, mirror: 2, stretch: 4, turn: 3 };
    if (tool === "array" && p.length === 2) return this.done(this.edit("array", p, 0, Math.max(2, this.value ?? 2)));
    if (moves[tool] !== p.length) return null;
    if (tool === "turn") return this.done(this.edit("turn", [a], angle(a, c) - angle(a, b)));
    return this.done(this.edit(tool as Do, p));
  }

  private onPick(p: P[]): Act | null {
    const ids = this.held.filter((x): x is string => x !== null);
    const forget = () => {
      this.picks.pop();
      this.held.pop();
      return null;
    };
    if (this.held.at(-1) === null) return forget();
    const typed = (this.value ?? 0) * this.metre;
    if (this.tool === "corner") {
      if (p.length < 2) return null;
      return ids[0] === ids[1] ? forget() : this.done({ edit: { do: "corner", ids, at: [], value: typed, count: 2 } });
    }
    if (this.tool === "offset" && typed <= 0) return forget();
    return this.done(
      { edit: { do: this.tool as Do, ids, at: [p[0]!], value: typed, count: 2 } },
      this.tool === "offset",
    );
  }

  private edit(what: Do, at: P[], value = 0, count = 2): Act {
    return { edit: { do: what, ids: null, at, value, count } };
  }

  private rectangle(a: P, c: P): P[] {
    const [u, v] = [Math.cos(this.turn), Math.sin(this.turn)];
    const along = (c[0] - a[0]) * u + (c[1] - a[1]) * v;
    return [a, [a[0] + along * u, a[1] + along * v], c, [c[0] - along * u, c[1] - along * v]];
  }

  /** Begin anew with the same tool; keep: the typed figure stays for the next one. */
  private done(act: Act, keep = false): Act {
    this.picks = [];
    this.held = [];
    this.bulges = [];
    this.bend = false;
    if (!keep) this.typed = "";
    return act;
  }

  /** What would be there if the cursor were the next pick: lines to draw. */
  preview(cursor: P): P[][] {
    const p = this.picks;
    const next = (this.typed && placed(this.typed, this.last, cursor, this.metre)) || cursor;
    if (this.tool === "leader" && this.writes) return [p];
    if (!p.length || this.writes) return [];
    if (this.tool === "rectangle") {
      const r = this.rectangle(p[0]!, next);
      return [[...r, r[0]!]];
    }
    if (this.tool === "picture" && this.pinned) {
      const [a, b, k] = [p[0]!, next, this.pinned.tall];
      const up: P = [-(b[1] - a[1]) * k, (b[0] - a[0]) * k];
      return [[a, b, [b[0] + up[0], b[1] + up[1]], [a[0] + up[0], a[1] + up[1]], a]];
    }
    if (this.tool === "circle") return [ring(p[0]!, far(p[0]!, next), 0, 2 * Math.PI)];
    if (this.tool === "arc" && p.length === 2) {
      const k = through(p[0]!, p[1]!, next);
      return k ? [ring(k.centre, k.radius, k.start, k.end)] : [[p[0]!, next]];
    }
    if (this.tool === "polyline") {
      const all = [...p, next];
      const bent = this.bend && p.length > 1 ? tangentBulge(this.direction(), this.last!, next) : 0;
      const bulges = [...this.bulges, bent];
      return all.slice(1).map((q, k) => bulged(all[k]!, q, bulges[k] ?? 0));
    }
    if (this.tool === "stretch" && p.length === 1) {
      const [a, b] = [p[0]!, next];
      return [[a, [b[0], a[1]], b, [a[0], b[1]], a]];
    }
    return [[...p, next]];
  }
}

/** An arc as a line of points. */
export function ring([x, y]: P, r: number, start: number, end: number, n = 64): P[] {
  return Array.from({ length: n + 1 }, (_, k) => {
    const t = start + ((end - start) * k) / n;
    return [x + r * Math.cos(t), y + r * Math.sin(t)] as P;
  });
}

/** A piece of a polyline as a line of points. */
export function bulged(a: P, b: P, bulge: number): P[] {
  if (Math.abs(bulge) < 1e-9) return [a, b];
  const sweep = 4 * Math.atan(bulge);
  const high = far(a, b) / (2 * Math.tan(sweep / 2));
  const u = angle(a, b);
  const centre: P = [(a[0] + b[0]) / 2 - Math.sin(u) * high, (a[1] + b[1]) / 2 + Math.cos(u) * high];
  const start = angle(centre, a);
  return ring(centre, far(centre, a), start, start + sweep, 24);
}
