/** Cuts on the sheet that are moved by their line. */
import type { P } from "./pen";

export const INK = "#1e2530";
export const DASH: Record<string, number[]> = { dashed: [7, 3], dotted: [1.5, 3], "dash-dot": [9, 3, 1.5, 3] };

export interface CutMark {
  id: string;
  name: string;
  a: number[];
  b: number[];
}
/** A cut that is moved by its line: as a whole, or by the end a or b. */
export interface Pull {
  cut: CutMark;
  end: "a" | "b" | null;
  from: P;
  to: P;
}

/** Where a cut lies as it is moved: square to itself as a whole, or turned about its other end. */
export function laid({ cut, end, from, to }: Pull): [P, P] {
  const [a, b]: [P, P] = [
    [cut.a[0]!, cut.a[1]!],
    [cut.b[0]!, cut.b[1]!],
  ];
  if (end) return end === "a" ? [to, b] : [a, to];
  const long = Math.hypot(b[0] - a[0], b[1] - a[1]);
  const [nx, ny] = [-(b[1] - a[1]) / long, (b[0] - a[0]) / long];
  const by = (to[0] - from[0]) * nx + (to[1] - from[1]) * ny;
  return [
    [a[0] + by * nx, a[1] + by * ny],
    [b[0] + by * nx, b[1] + by * ny],
  ];
}

/** The cut whose line lies within reach of a place, and which end of it. */
export function gripped(cuts: CutMark[], here: P, reach: number): Pull | null {
  const near = (p: number[]) => Math.hypot(p[0]! - here[0], p[1]! - here[1]) < reach;
  for (const cut of cuts) {
    const [x, y] = [cut.b[0]! - cut.a[0]!, cut.b[1]! - cut.a[1]!];
    const along = ((here[0] - cut.a[0]!) * x + (here[1] - cut.a[1]!) * y) / (x * x + y * y);
    const foot = [cut.a[0]! + along * x, cut.a[1]! + along * y];
    const end = near(cut.a) ? "a" : near(cut.b) ? "b" : null;
    if (end || (along > 0 && along < 1 && near(foot))) return { cut, end, from: here, to: here };
  }
  return null;
}

/** The cut where it would lie, and by how much it is moved or turned. */
export function drawPull(
  g: CanvasRenderingContext2D,
  pull: Pull,
  pixel: (p: number[]) => P,
  unit: { name: string; metre: number },
) {
  const [a, b] = laid(pull);
  g.strokeStyle = "#e8a700";
  g.lineWidth = 2.5;
  g.setLineDash(DASH["dashed"]!);
  g.beginPath();
  g.moveTo(...pixel(a));
  g.lineTo(...pixel(b));
  g.stroke();
  g.setLineDash([]);
  const far = Math.hypot(a[0] - pull.cut.a[0]!, a[1] - pull.cut.a[1]!) / unit.metre;
  const turned = (Math.atan2(b[1] - a[1], b[0] - a[0]) * 180) / Math.PI;
  const words = pull.end ? `${turned.toFixed(2)}°` : `${far.toFixed(3)} ${unit.name}`;
  const [x, y] = pixel(pull.to);
  g.font = "12.5px 'Atkinson Hyperlegible Mono', monospace";
  g.fillStyle = "rgba(252,250,245,0.94)";
  g.fillRect(x + 12, y + 12, g.measureText(words).width + 8, 18);
  g.fillStyle = INK;
  g.fillText(words, x + 16, y + 25);
}
