/** The string drawing: lamps hung on strings, drawn over the points of a pane. */
import { HUES, STATUS_ON_INK, STATUS_ON_PAPER } from "./palette";
import { type Pane, PlanPane } from "./pane";
import type { Scene } from "./types";

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

/** Strings, lamps, targets, box, picks of one pane. */
export function drawOverlay(g: CanvasRenderingContext2D, pane: Pane, scene: Scene, exaggeration: number) {
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
  for (const k of [...scene.strings].sort((x, y) => Number(x.selected) - Number(y.selected))) {
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
    g.lineWidth = k.selected ? 2 : 1.2;
    drawString(g, a, b, k.status, k.sag);
  }
  g.font = FONT;
  const taken: [number, number, number, number][] = [];
  const label = (p: P, words: string) => {
    const w = g.measureText(words).width + 6;
    const places = [
      [9, -20],
      [9, 6],
      [-w - 9, -20],
      [-w - 9, 6],
    ] as const;
    const free = ([dx, dy]: readonly [number, number]) =>
      taken.every(([x, y, x2, y2]) => p[0] + dx > x2 || p[0] + dx + w < x || p[1] + dy > y2 || p[1] + dy + 15 < y);
    const [dx, dy] = places.find(free) ?? places[0];
    const [x, y] = [p[0] + dx, p[1] + dy];
    taken.push([x, y, x + w, y + 15]);
    g.fillStyle = back;
    g.fillRect(x, y, w, 15);
    g.fillStyle = text;
    g.fillText(words, x + 3, y + 12);
  };
  for (const d of scene.dots) {
    const p = pane.pixel(d.at[0]!, d.at[1]!, d.at[2]!);
    if (!p || !pane.contains(...p)) continue;
    g.strokeStyle = d.selected ? "#e8a700" : text;
    g.lineWidth = d.selected ? 3 : 1.3;
    g.beginPath();
    g.arc(p[0], p[1], 5, 0, 7);
    g.moveTo(p[0] - 8, p[1]);
    g.lineTo(p[0] + 8, p[1]);
    g.stroke();
    label(p, d.label);
  }
  for (const s of scene.stations) {
    const p = at.get(s.id);
    if (!p || !pane.contains(...p)) continue;
    if (s.sigma && pane instanceof PlanPane) {
      g.strokeStyle = text;
      g.globalAlpha = 0.5;
      g.lineWidth = 1;
      g.beginPath();
      const r = (v: number) => Math.min(60, Math.max(8, ((v / 1000) * exaggeration) / pane.scale));
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
    g.fillStyle = HUES[s.hue % 12]!;
    g.beginPath();
    g.arc(p[0], p[1], 4, 0, 7);
    g.fill();
    label(p, s.name);
  }
  if (scene.box) drawBox(g, pane, scene);
  g.strokeStyle = "#e8a700";
  g.lineWidth = 2;
  for (const pick of scene.picks) {
    const p = pane.pixel(pick[0]!, pick[1]!, pick[2]!);
    if (p) cross(g, p, 9);
  }
}

function drawBox(g: CanvasRenderingContext2D, pane: Pane, scene: Scene) {
  const { centre, half, yaw } = scene.box!;
  const corner = (sx: number, sy: number, sz: number) => {
    const [x, y] = [sx * half[0]!, sy * half[1]!];
    return pane.pixel(
      centre[0]! + x * Math.cos(yaw) - y * Math.sin(yaw),
      centre[1]! + x * Math.sin(yaw) + y * Math.cos(yaw),
      centre[2]! + sz * half[2]!,
    );
  };
  g.strokeStyle = "#e8a700";
  g.lineWidth = 1.2;
  g.beginPath();
  for (const [a, b] of [
    [-1, -1],
    [-1, 1],
    [1, 1],
    [1, -1],
  ].map((p, k, all) => [p, all[(k + 1) % 4]!] as const))
    for (const line of [
      [corner(a[0]!, a[1]!, -1), corner(b[0]!, b[1]!, -1)],
      [corner(a[0]!, a[1]!, 1), corner(b[0]!, b[1]!, 1)],
      [corner(a[0]!, a[1]!, -1), corner(a[0]!, a[1]!, 1)],
    ]) {
      const [p, q] = line;
      if (!p || !q) continue;
      g.moveTo(...p);
      g.lineTo(...q);
    }
  g.stroke();
}

export function cross(g: CanvasRenderingContext2D, at: ArrayLike<number>, reach: number) {
  g.beginPath();
  g.moveTo(at[0]! - reach, at[1]!);
  g.lineTo(at[0]! + reach, at[1]!);
  g.moveTo(at[0]!, at[1]! - reach);
  g.lineTo(at[0]!, at[1]! + reach);
  g.stroke();
}
