/**
 * Tools: what the hand on the bench does. Each has a life of its own: start, move, done, click, cancel.
 *
 * To add one: write a class here, name it in TOOLS and in `Tool` of types.ts, and let a step set it (`useView.set({ tool })`).
 */
import * as THREE from "three";
import { type Handle, handleAt, handlesOf, pulled } from "./boxes";
import { drawLasso } from "./marks";
import { FlatPane, type Pane, PlanPane, SlicePane } from "./pane";
import type { Caught } from "./picker";
import type { BoxInfo, Hands, Op, Scene, Tool as Name } from "./types";

/** Where the hand is. */
export interface Press {
  pane: Pane;
  x: number;
  y: number;
  button: number;
  shift: boolean;
  alt: boolean;
  ctrl: boolean;
}
/** What is drawn is added with Shift, taken away with Alt, and with Ctrl what both have in common stays: everywhere the same. */
export const opOf = (p: Pick<Press, "shift" | "alt" | "ctrl">): Op =>
  p.shift ? "add" : p.alt ? "subtract" : p.ctrl ? "intersect" : "replace";
/** What a tool may use of the bench. */
export interface Desk {
  readonly scene: Scene;
  readonly hands: Hands;
  /** What the cursor points at, in the part. */
  readonly pointed: number[] | null;
  pick(pane: Pane, x: number, y: number): Caught | null;
  /** Draw what stands over the points again. */
  sketch(): void;
}

const STILL = 220; // ms after which a click is no first half of a double-click
const SAME = 8; // pixels within which two clicks are at one place

export class Tool {
  readonly cursor: string = "default";
  constructor(protected desk: Desk) {}
  /** Whether the tool takes the drag that begins here; else the view moves. */
  start?(press: Press): boolean;
  move?(press: Press, dx: number, dy: number): void;
  done?(press: Press): void;
  click?(press: Press): void;
  cancel?(): void;
  /** The hand moves over the bench with nothing pressed. */
  hover?(press: Press): void;
  paint?(g: CanvasRenderingContext2D, pane: Pane): void;
}

/** Chooses lamps and strings; takes hold of the box that is worked on. */
class Choose extends Tool {
  private held: { handle: Handle; box: BoxInfo } | null = null;

  override start({ pane, x, y, button }: Press) {
    const { boxes, boxed } = this.desk.scene;
    const box = boxes.find((b) => b.id === boxed);
    const handle = button === 0 && box ? handleAt(box, pane, x, y) : null;
    this.held = box && handle ? { handle, box } : null;
    return this.held !== null;
  }
  override move({ pane, x, y }: Press, dx: number, dy: number) {
    if (!this.held) return;
    const { handle, box } = this.held;
    const next = pulled(box, handle, pane, dx, dy, [x, y]);
    const same = handlesOf(next).find((h) => h.turn === handle.turn && h.along.every((v, k) => v === handle.along[k]));
    this.held = { handle: same ?? handle, box: next };
    this.desk.hands.reshaped(next, false);
  }
  override done() {
    if (this.held) this.desk.hands.reshaped(this.held.box, true);
    this.held = null;
  }
  override cancel() {
    this.held = null;
  }
  override click({ pane, x, y }: Press) {
    const { scene, hands } = this.desk;
    const lamp = lampAt(scene, pane, x, y);
    if (lamp) return hands.select({ station: lamp });
    for (const n of scene.notes)
      for (const q of n.points) {
        const p = pane.pixel(q[0]!, q[1]!, q[2]!);
        if (p && Math.hypot(p[0] - x, p[1] - y) < 7) return hands.select({ note: n.id });
      }
    const link = stringAt(scene, pane, x, y);
    hands.select(link ? { link } : null);
  }
}

/** The station whose lamp is at a pixel. */
export function lampAt(scene: Scene, pane: Pane, x: number, y: number): string | null {
  const found = scene.stations.find((s) => {
    const p = (s.pose || s.visible) && pane.pixel(s.pose?.[3] ?? 0, s.pose?.[7] ?? 0, s.pose?.[11] ?? 0);
    return p && Math.hypot(p[0] - x, p[1] - y) < 10;
  });
  return found?.id ?? null;
}

/** The string within a few pixels, as it hangs. */
function stringAt(scene: Scene, pane: Pane, x: number, y: number): string | null {
  let best = 7;
  let found: string | null = null;
  const at = new Map(
    scene.stations.filter((s) => s.pose).map((s) => [s.id, pane.pixel(s.pose![3]!, s.pose![7]!, s.pose![11]!)]),
  );
  for (const k of scene.strings) {
    const [a, b] = [at.get(k.a), at.get(k.b)];
    if (!a || !b) continue;
    const length = Math.hypot(b[0] - a[0], b[1] - a[1]) || 1;
    for (let t = 0.06; t < 0.95; t += Math.min(0.05, 6 / length)) {
      const sag = k.status === "slack" ? 4 * k.sag * t * (1 - t) * length : 0;
      const gap = Math.hypot(a[0] + (b[0] - a[0]) * t - x, a[1] + (b[1] - a[1]) * t + sag - y);
      if (gap < best) {
        best = gap;
        found = k.id;
      }
    }
  }
  return found;
}

/** An outline drawn round points. */
class Lasso extends Tool {
  override readonly cursor = "crosshair";
  protected line: [number, number][] = [];
  protected pane: Pane | null = null;

  override start({ pane, x, y, button }: Press) {
    if (button !== 0) return false;
    this.pane = pane;
    this.line = [[x, y]];
    return true;
  }
  override move({ x, y }: Press) {
    this.line.push([x, y]);
    this.desk.sketch();
  }
  override done(press: Press) {
    const { line } = this;
    this.cancel();
    if (line.length > 2) drew(this.desk, press, thin(line));
  }
  override cancel() {
    this.line = [];
    this.pane = null;
    this.desk.sketch();
  }
  override paint(g: CanvasRenderingContext2D, pane: Pane) {
    if (this.line.length > 1 && pane === this.pane) drawLasso(g, this.line);
  }
}

/** Tell what was drawn in a pane, pixel by pixel. */
function drew(desk: Desk, press: Press, line: [number, number][], wide: number | null = null) {
  const { pane } = press;
  desk.hands.drew({
    view: pane.view(desk.scene.slab),
    outline: line.map((p) => pane.flat(...p)),
    radius: wide === null ? null : [(2 * wide) / pane.rect.w, (2 * wide) / pane.rect.h],
    op: opOf(press),
    only: pane.only,
  });
}

/** From corner to corner. */
class Rectangle extends Lasso {
  override move({ x, y }: Press) {
    const [x0, y0] = this.line[0]!;
    this.line = [
      [x0, y0],
      [x, y0],
      [x, y],
      [x0, y],
    ];
    this.desk.sketch();
  }
}

/** An outline set corner by corner; a click on the first one closes it. */
class Corners extends Lasso {
  override start() {
    return false; // a drag moves the view: corners are clicked
  }
  override click(press: Press) {
    const { pane, x, y } = press;
    if (pane !== this.pane) this.line = [];
    this.pane = pane;
    const first = this.line[0];
    if (first && this.line.length > 2 && Math.hypot(first[0] - x, first[1] - y) <= SAME) {
      const { line } = this;
      this.cancel();
      return drew(this.desk, press, line);
    }
    this.line.push([x, y]);
    this.desk.sketch();
  }
  override paint(g: CanvasRenderingContext2D, pane: Pane) {
    super.paint(g, pane);
    if (pane !== this.pane || !this.line[0]) return;
    g.strokeRect(this.line[0][0] - 4, this.line[0][1] - 4, 8, 8);
  }
}

/** Drawn over points: what is under it goes, of things in front. */
class Brush extends Lasso {
  private at: Press | null = null;
  override start(press: Press) {
    this.at = press;
    return super.start(press);
  }
  override move(press: Press) {
    this.at = press;
    super.move(press);
  }
  override done(press: Press) {
    const { line } = this;
    this.cancel();
    drew(this.desk, press, stepped(line, this.desk.scene.brush / 3), this.desk.scene.brush);
  }
  override click(press: Press) {
    drew(this.desk, press, [[press.x, press.y]], this.desk.scene.brush);
  }
  override hover(press: Press) {
    this.at = press;
    this.desk.sketch();
  }
  override paint(g: CanvasRenderingContext2D, pane: Pane) {
    if (!this.at) return;
    if (this.at.pane !== pane) return this.goesIn(g, pane, this.at.pane);
    const wide = this.desk.scene.brush;
    g.lineCap = g.lineJoin = "round";
    g.strokeStyle = "rgba(232,167,0,.25)";
    g.lineWidth = 2 * wide;
    if (this.line.length > 1) {
      g.beginPath();
      this.line.forEach((p, k) => (k ? g.lineTo(...p) : g.moveTo(...p)));
      g.stroke();
    }
    g.strokeStyle = "#e8a700";
    g.lineWidth = 1.5;
    g.beginPath();
    g.arc(this.at.x, this.at.y, wide, 0, 7);
    g.stroke();
  }
  /** How far it goes into what is under the cursor, as another pane sees it. */
  private goesIn(g: CanvasRenderingContext2D, pane: Pane, from: Pane) {
    const { pointed, scene } = this.desk;
    if (!pointed) return;
    const at = new THREE.Vector3().fromArray(pointed);
    const end = into(from, at, scene.deep);
    const [p, q] = [at, end].map((v) => pane.pixel(v.x, v.y, v.z));
    if (!p || !q) return;
    g.strokeStyle = "#e8a700";
    g.lineCap = "butt";
    g.lineWidth = 5;
    g.beginPath();
    g.moveTo(...p);
    g.lineTo(...q);
    g.stroke();
    g.font = "12.5px 'Atkinson Hyperlegible Mono', monospace";
    g.fillStyle = "#e8a700";
    g.fillText(`${scene.deep.toFixed(2)} m`, q[0] + 8, q[1] + 4);
  }
}

/** From a place on, so many metres away from whoever looks at it in a pane. */
export function into(from: Pane, at: THREE.Vector3, deep: number): THREE.Vector3 {
  const { camera } = from;
  const way = new THREE.Vector3();
  if (camera instanceof THREE.PerspectiveCamera) way.copy(at).sub(camera.position);
  else camera.getWorldDirection(way);
  return way.normalize().multiplyScalar(deep).add(at);
}

/** Places along a line that are at least so many pixels apart. */
function stepped(line: [number, number][], gap: number): [number, number][] {
  const out: [number, number][] = [line[0]!];
  for (const p of line) {
    const last = out[out.length - 1]!;
    if (Math.hypot(p[0] - last[0], p[1] - last[1]) >= gap) out.push(p);
  }
  return out;
}

/** Every corner that is at least two pixels from the last one kept. */
function thin(line: [number, number][]): [number, number][] {
  const out: [number, number][] = [line[0]!];
  for (const p of line) {
    const last = out[out.length - 1]!;
    if (Math.hypot(p[0] - last[0], p[1] - last[1]) >= 2) out.push(p);
  }
  return out.length < 3 ? line : out;
}

/** A pick waits for a moment: the first half of a double-click is none, two quick ones at two places are two. */
class PickPoint extends Tool {
  override readonly cursor = "crosshair";
  private waiting: { x: number; y: number; run: () => void; timer: ReturnType<typeof setTimeout> } | null = null;

  override click(p: Press) {
    const before = this.waiting;
    this.cancel();
    const same = before && Math.hypot(before.x - p.x, before.y - p.y) <= SAME;
    if (same) return;
    before?.run();
    const run = () => {
      this.cancel();
      this.take(p);
    };
    this.waiting = { x: p.x, y: p.y, run, timer: setTimeout(run, STILL) };
  }
  override cancel() {
    clearTimeout(this.waiting?.timer);
    this.waiting = null;
  }
  protected take({ pane, x, y }: Press) {
    const caught = this.desk.pick(pane, x, y);
    this.desk.hands.pick(caught?.at.toArray() ?? null, caught?.station ?? null);
  }
}

/** A place of the plan, whether a point lies there or not. */
class PickPlan extends PickPoint {
  protected override take(p: Press) {
    if (!(p.pane instanceof PlanPane)) return super.take(p);
    const at = p.pane.at(p.x, p.y, this.desk.scene.slab);
    this.desk.hands.planPick([at.x, at.y]);
  }
}

/** Carries the scan that is being placed by hand in plan or in the slice, or turns it about its station. */
class Carry extends Choose {
  private turn = false;
  override readonly cursor = "crosshair";

  override start(press: Press) {
    const { pane, button, shift } = press;
    this.turn = button === 2 || shift;
    const here = pane instanceof PlanPane || (pane instanceof SlicePane && !this.turn);
    return here && button !== 1 && this.desk.scene.placing !== null;
  }
  override move({ pane }: Press, dx: number, dy: number) {
    const pose = [...this.desk.scene.placing!.pose];
    if (pane instanceof SlicePane) {
      const { azimuth } = this.desk.scene.slab;
      pose[3]! += dx * pane.scale * Math.cos(azimuth);
      pose[7]! += dx * pane.scale * Math.sin(azimuth);
      pose[11]! -= dy * pane.scale;
    } else if (this.turn) {
      const [c, s] = [Math.cos(-dx * 0.008), Math.sin(-dx * 0.008)];
      for (let k = 0; k < 3; k++) {
        const [a, b] = [pose[k]!, pose[4 + k]!];
        pose[k] = c * a - s * b;
        pose[4 + k] = s * a + c * b;
      }
    } else if (pane instanceof FlatPane) {
      pose[3]! += dx * pane.scale;
      pose[7]! -= dy * pane.scale;
    }
    this.desk.hands.placed(pose);
  }
  /** How far round its lamp the scan is looked for. */
  override paint(g: CanvasRenderingContext2D, pane: Pane) {
    const { placing } = this.desk.scene;
    const at = placing && pane.pixel(placing.pose[3]!, placing.pose[7]!, placing.pose[11]!);
    if (!at || !(pane instanceof FlatPane)) return;
    g.strokeStyle = "#e8a700";
    g.lineWidth = 1.5;
    g.setLineDash([4, 4]);
    g.beginPath();
    g.arc(...at, placing.reach / pane.scale, 0, 7);
    g.stroke();
    g.setLineDash([]);
  }
}

export const TOOLS: Record<Name, new (desk: Desk) => Tool> = {
  none: Choose,
  lasso: Lasso,
  rectangle: Rectangle,
  corners: Corners,
  brush: Brush,
  pick: PickPoint,
  planPick: PickPlan,
  place: Carry,
};
