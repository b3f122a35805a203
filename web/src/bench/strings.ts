/** The string drawing: lamps hung on strings, drawn over the points of a pane. */
import { drawBoxes } from "./boxes";
import { hueOf, STATUS_ON_INK, STATUS_ON_PAPER } from "./palette";
import { type Pane, PlanPane } from "./pane";
import type { NoteInfo, Scene, StringInfo } from "./types";

type P = [number, number];

/** A string between two pixels; slack ones sag, parted ones are broken, loose ones dotted. */
export function drawString(g: CanvasRenderingContext2D, a: P, b: P, status: keyof typeof STATUS_ON_INK, sag: number) {
  const length = Math.hypot(b[0] - a[0], b[1] - a[1]);
  g.setLineDash(status === "loose" ? [1.5, 4] : []);
  g.beginPath();
  if (status === "parted") {
    for (const [p, q] of [
      [a, b],
      [b, a],
    ] as [P, P][]) {
      const end: P = [p[0] + 0.43 * (q[0] - p[0]), p[1] + 0.43 * (q[1] - p[1])];
      g.moveTo(...p);
      g.lineTo(...end);
      const angle = Math.atan2(q[1] - p[1], q[0] - p[0]);
      for (const turn of [-0.55, 0, 0.55]) {
        g.moveTo(...end);
        g.lineTo(end[0] + 6 * Math.cos(angle + turn), end[1] + 6 * Math.sin(angle + turn));
      }
    }
  } else {
    g.moveTo(...a);
    if (status === "slack") g.quadraticCurveTo((a[0] + b[0]) / 2, (a[1] + b[1]) / 2 + 2 * sag * length, b[0], b[1]);
    else g.lineTo(...b);
  }
  g.stroke();
  g.setLineDash([]);
}

export const FONT = '12px "Atkinson Hyperlegible Mono Variable", monospace';

const HEAD = 36; // pixels at the top of a pane that its head takes
const MANY = 12; // strings from which on those that hold and are not alone keep quiet
const ROUND = [10, 20, 50, 100, 200, 500, 1000, 2000, 5000];
const WIDE = 26; // pixels that a middling deviation is drawn with

/** How many times larger than true deviations are drawn in a plan: a round number that suits its scale (metres a pixel). */
export function exaggerationOf(scene: Scene, scale: number): number {
  const sizes = scene.stations
    .flatMap((s) => (s.sigma && s.pose ? [Math.hypot(s.sigma[0]!, s.sigma[1]!)] : []))
    .filter((v) => v > 0)
    .sort((a, b) => a - b);
  const middle = sizes[Math.floor(sizes.length / 2)];
  if (!middle) return ROUND[0]!;
  const fit = (WIDE * scale * 1000) / middle;
  return [...ROUND].reverse().find((r) => r <= fit) ?? ROUND[0]!;
}

/** Strings that speak: selected, not taut, or the only one of a lamp. */
function speaking(strings: StringInfo[]): (k: StringInfo) => boolean {
  const count = new Map<string, number>();
  for (const k of strings) for (const end of [k.a, k.b]) count.set(end, (count.get(end) ?? 0) + 1);
  const alone = (k: StringInfo) => count.get(k.a) === 1 || count.get(k.b) === 1;
  return (k) => strings.length < MANY || k.selected || k.status !== "taut" || alone(k);
}

const CROWD = 150; // strings from which on quiet ones that run alongside are drawn as one
const CELL = 90; // pixels: strings whose ends lie in the same two cells run alongside

export interface Bundle {
  a: P;
  b: P;
  count: number;
}
/** Quiet strings that run alongside, as one each; ends: pixels. */
export function bundles(quiet: StringInfo[], at: Map<string, P>): Bundle[] {
  const found = new Map<string, { sum: [number, number, number, number]; count: number }>();
  for (const k of quiet) {
    const [a, b] = [at.get(k.a), at.get(k.b)];
    if (!a || !b) continue;
    const cell = (p: P) => `${Math.floor(p[0] / CELL)}:${Math.floor(p[1] / CELL)}`;
    const turned = cell(a) > cell(b);
    const [p, q] = turned ? [b, a] : [a, b];
    const key = `${cell(p)} ${cell(q)}`;
    const own = found.get(key) ?? { sum: [0, 0, 0, 0], count: 0 };
    [...p, ...q].forEach((v, n) => (own.sum[n]! += v));
    own.count++;
    found.set(key, own);
  }
  return [...found.values()].map(({ sum, count }) => ({
    a: [sum[0] / count, sum[1] / count],
    b: [sum[2] / count, sum[3] / count],
    count,
  }));
}

type Area = readonly [number, number, number, number];

/** Labels that never overlap: what finds no place is left out until one comes closer. */
export class Labels {
  readonly taken: Area[] = [];
  constructor(
    private g: CanvasRenderingContext2D,
    readonly ink: string,
    private back: string,
    private room: Area, // where labels may stand
    others: readonly Area[] = [], // that stand there already
  ) {
    this.taken.push(...others);
  }

  put(p: P, words: string): boolean {
    const { g } = this;
    const w = g.measureText(words).width + 6;
    const places = [
      [9, -20],
      [9, 6],
      [-w - 9, -20],
      [-w - 9, 6],
    ] as const;
    const at = places
      .map(([dx, dy]): Area => [p[0] + dx, p[1] + dy, p[0] + dx + w, p[1] + dy + 15])
      .filter((a) => a[0] >= this.room[0] && a[1] >= this.room[1] && a[2] <= this.room[2] && a[3] <= this.room[3])
      .find((a) => this.taken.every((b) => a[0] > b[2] || a[2] < b[0] || a[1] > b[3] || a[3] < b[1]));
    if (!at) return false;
    this.taken.push(at);
    g.fillStyle = this.back;
    g.fillRect(at[0], at[1], w, 15);
    g.fillStyle = this.ink;
    g.fillText(words, at[0] + 3, at[1] + 12);
    return true;
  }
}

/** Strings, lamps, targets, box, picks of one pane. Returns where its labels stand. */
export function drawOverlay(g: CanvasRenderingContext2D, pane: Pane, scene: Scene): readonly Area[] {
  const colours = scene.ground === "paper" ? STATUS_ON_PAPER : STATUS_ON_INK;
  const text = scene.ground === "paper" ? "#1e2530" : "#f2efe6";
  const back = scene.ground === "paper" ? "rgba(245,241,232,.85)" : "rgba(18,22,29,.8)";
  const at = new Map<string, P>();
  for (const s of scene.stations) {
    const pose = scene.placing?.station === s.id ? scene.placing.pose : s.pose;
    if (!pose && !s.visible) continue;
    const p = pane.pixel(pose?.[3] ?? 0, pose?.[7] ?? 0, pose?.[11] ?? 0);
    if (p) at.set(s.id, p);
  }
  const speaks = speaking(scene.strings);
  const crowd = scene.strings.length > CROWD;
  const together = crowd
    ? bundles(
        scene.strings.filter((k) => !speaks(k)),
        at,
      )
    : [];
  for (const { a, b, count } of together) {
    g.strokeStyle = colours.taut;
    g.lineWidth = Math.min(6, 0.8 * Math.sqrt(count));
    g.globalAlpha = 0.45;
    drawString(g, a, b, "taut", 0);
    g.globalAlpha = 1;
  }
  for (const k of scene.strings
    .filter((s) => !crowd || speaks(s))
    .sort((x, y) => Number(x.selected) - Number(y.selected))) {
    const [a, b] = [at.get(k.a), at.get(k.b)];
    if (!a || !b) continue;
    if (k.selected) {
      g.strokeStyle = "#e8a700";
      g.lineWidth = 7;
      g.globalAlpha = 0.6;
      drawString(g, a, b, k.status, k.sag);
      g.globalAlpha = 1;
    }
    g.strokeStyle = colours[k.status];
    g.lineWidth = k.selected ? 2 : speaks(k) ? 1.4 : 0.8;
    g.globalAlpha = speaks(k) ? 1 : 0.4;
    drawString(g, a, b, k.status, k.sag);
    g.globalAlpha = 1;
  }
  g.font = FONT;
  const { x, y, w, h } = pane.rect;
  const labels = new Labels(g, text, back, [x, y + HEAD, x + w, y + h]);

  const names: [P, string, boolean][] = [];
  for (const d of scene.dots) {
    if (d.only && d.only !== pane.only) continue;
    const p = pane.pixel(d.at[0]!, d.at[1]!, d.at[2]!);
    if (!p || !pane.contains(...p)) continue;
    g.strokeStyle = d.selected ? "#e8a700" : text;
    g.lineWidth = d.selected ? 3 : 1.3;
    g.beginPath();
    g.arc(p[0], p[1], 5, 0, 7);
    g.moveTo(p[0] - 8, p[1]);
    g.lineTo(p[0] + 8, p[1]);
    g.stroke();
    if (d.label) names.push([p, d.label, d.selected]);
  }
  const exaggeration = pane instanceof PlanPane ? exaggerationOf(scene, pane.scale) : 1;
  for (const s of scene.stations) {
    const p = at.get(s.id);
    if (!p || !pane.contains(...p)) continue;
    if (s.sigma && pane instanceof PlanPane) {
      g.strokeStyle = text;
      g.globalAlpha = 0.5;
      g.lineWidth = 1;
      g.beginPath();
      const r = (v: number) => ((v / 1000) * exaggeration) / pane.scale;
      g.ellipse(p[0], p[1], r(s.sigma[0]!), r(s.sigma[1]!), 0, 0, 7);
      g.stroke();
      g.globalAlpha = 1;
    }
    if (s.selected) {
      g.fillStyle = "#e8a700";
      g.beginPath();
      g.arc(p[0], p[1], 10, 0, 7);
      g.fill();
    }
    g.fillStyle = "#12161d";
    g.beginPath();
    g.arc(p[0], p[1], 6.5, 0, 7);
    g.fill();
    g.fillStyle = hueOf(s.hue);
    g.beginPath();
    g.arc(p[0], p[1], 4, 0, 7);
    g.fill();
    names.push([p, s.name, s.selected]);
  }
  for (const n of scene.notes) {
    const p = drawNote(g, pane, n, text);
    if (p) names.push([p, n.label, n.selected]);
  }
  drawBoxes(g, pane, scene.boxes, scene.boxed);
  g.strokeStyle = "#e8a700";
  g.lineWidth = 2;
  if (scene.picks.length > 1) {
    g.beginPath();
    scene.picks.forEach((q, k) => {
      const p = pane.pixel(q[0]!, q[1]!, q[2]!);
      if (p) k ? g.lineTo(...p) : g.moveTo(...p);
    });
    g.stroke();
  }
  for (const pick of scene.picks) {
    const p = pane.pixel(pick[0]!, pick[1]!, pick[2]!);
    if (p) cross(g, p, 9);
  }
  for (const [p, words] of names.sort((x, y) => Number(y[2]) - Number(x[2]))) labels.put(p, words);
  for (const { a, b, count } of together)
    if (count > 2) labels.put([(a[0] + b[0]) / 2, (a[1] + b[1]) / 2], `${count} links`);
  return labels.taken;
}

/** A kept measure; returns where its name goes, when that is in sight. */
function drawNote(g: CanvasRenderingContext2D, pane: Pane, n: NoteInfo, ink: string): P | null {
  const at = n.points.map((p) => pane.pixel(p[0]!, p[1]!, p[2]!));
  g.strokeStyle = n.selected ? "#e8a700" : ink;
  g.lineWidth = n.selected ? 2.5 : 1.2;
  g.beginPath();
  at.forEach((p, k) => {
    const before = k ? at[k - 1] : n.closed ? at[at.length - 1] : null;
    if (!p) return;
    if (before) {
      g.moveTo(...before);
      g.lineTo(...p);
    }
    g.moveTo(p[0] + 3, p[1]);
    g.arc(p[0], p[1], 3, 0, 7);
  });
  g.stroke();
  const [a, b] = [at[0], at[at.length - 1]];
  const middle: P | null = a && b ? [(a[0] + b[0]) / 2, (a[1] + b[1]) / 2] : null;
  return middle && pane.contains(...middle) ? middle : null;
}

export function cross(g: CanvasRenderingContext2D, at: ArrayLike<number>, reach: number) {
  g.beginPath();
  g.moveTo(at[0]! - reach, at[1]!);
  g.lineTo(at[0]! + reach, at[1]!);
  g.moveTo(at[0]!, at[1]! - reach);
  g.lineTo(at[0]!, at[1]! + reach);
  g.stroke();
}
