/** The hand on the bench: mouse, fingers and keys become moves of panes, tools at work, and a cursor that catches points. */
import type * as THREE from "three";
import { FlatPane, type Pane, SpacePane } from "./pane";
import { PanoramaPane } from "./panorama";
import type { Cloud } from "./cloud";
import type { Caught } from "./picker";
import { type Desk, lampAt, type Press, type Tool } from "./tools";
import { Touches } from "./touch";

/** What the hand may use of the bench. */
export interface HandDesk extends Desk {
  readonly shown: Pane[];
  readonly tool: Tool;
  readonly moving: boolean;
  readonly cloud: Cloud;
  /** A hand moved a pane. */
  change(pane: Pane): void;
  draw(): void;
  lookAt(place: number[]): void;
}

const GRIP = 6; // pixels within which a line is taken hold of
const FAR = 4; // pixels from which on a press is a drag
const PACE = 0.4; // metres of a step on a walk
const LOOK = 40; // ms between two looks at what lies under the cursor

interface Drag {
  press: Press;
  far: boolean;
  tool: boolean; // the tool has it
  about: THREE.Vector3 | null; // what the view turns about
}

export class Hand {
  cursor: number[] | null = null; // what it points at, in the coordinates of the part in view
  private drag: Drag | null = null;
  private dividing = false;
  private touches = new Touches();
  private looking: ReturnType<typeof setTimeout> | null = null;
  private stop = new AbortController();

  constructor(
    private canvas: HTMLCanvasElement,
    private desk: HandDesk,
  ) {
    const { signal } = this.stop;
    canvas.addEventListener("pointerdown", (e) => this.down(e), { signal });
    canvas.addEventListener("pointermove", (e) => this.move(e), { signal });
    canvas.addEventListener("pointerup", (e) => this.up(e), { signal });
    canvas.addEventListener("pointercancel", (e) => (this.touches.up(e.pointerId), this.letGo()), { signal });
    canvas.addEventListener("pointerleave", () => this.hover(null), { signal });
    canvas.addEventListener("wheel", (e) => this.wheel(e), { signal, passive: false });
    canvas.addEventListener("dblclick", (e) => this.fly(e), { signal });
    canvas.addEventListener("contextmenu", (e) => e.preventDefault(), { signal });
    canvas.addEventListener("keydown", (e) => this.key(e), { signal });
  }

  /** What a pane turns about just now. */
  pivot(pane: Pane): number[] | null {
    const d = this.drag;
    return d?.about && d.far && d.press.pane === pane ? d.about.toArray() : null;
  }

  private press(e: MouseEvent): Press | null {
    const r = this.canvas.getBoundingClientRect();
    const [x, y] = [e.clientX - r.left, e.clientY - r.top];
    const pane = this.drag?.press.pane ?? this.desk.shown.find((p) => p.contains(x, y));
    return pane
      ? {
          pane,
          x,
          y,
          button: this.drag?.press.button ?? e.button,
          shift: e.shiftKey,
          alt: e.altKey,
          ctrl: e.ctrlKey || e.metaKey,
        }
      : null;
  }

  private down(e: PointerEvent) {
    const press = this.press(e);
    if (!press) return;
    this.canvas.setPointerCapture(e.pointerId);
    this.dividing = this.onDivider(press);
    if (this.dividing) return;
    if (e.pointerType === "touch") {
      this.touches.down(e.pointerId, press.x, press.y);
      if (this.touches.count > 1) return this.letGo();
    }
    this.drag = { press, far: false, tool: this.desk.tool.start?.(press) ?? false, about: null };
  }

  /** A second finger: what the first had begun is no drag of a tool, and no click. */
  private letGo() {
    this.desk.tool.cancel?.();
    this.drag = null;
  }

  private move(e: PointerEvent) {
    const press = this.press(e);
    const pinch = press && e.pointerType === "touch" ? this.touches.move(e.pointerId, press.x, press.y) : null;
    const under = pinch && this.desk.shown.find((p) => p.contains(pinch.x, pinch.y));
    if (pinch && under) {
      under.zoom(pinch.factor, pinch.x, pinch.y, this.desk.scene.slab, null);
      under.shift(pinch.dx, pinch.dy, this.desk.scene.slab);
      return this.desk.change(under);
    }
    if (this.dividing && press) return this.divide(press);
    const d = this.drag;
    if (!d || !press) {
      this.canvas.style.cursor = press && this.onDivider(press) ? "ew-resize" : "";
      return this.hover(press);
    }
    const [dx, dy] = [press.x - d.press.x, press.y - d.press.y];
    if (!d.far) {
      if (Math.hypot(dx, dy) < FAR) return;
      d.far = true;
      if (this.turns(d)) d.about = this.desk.pick(d.press.pane, d.press.x, d.press.y)?.at ?? null;
    }
    if (d.tool) this.desk.tool.move?.(press, dx, dy);
    else {
      const { pane } = press;
      if (pane instanceof SpacePane && this.turns(d)) pane.turn(dx, dy, d.about ?? undefined);
      else pane.shift(dx, dy, this.desk.scene.slab);
      this.desk.change(pane);
    }
    d.press = press;
  }

  /** Whether the line between two compared stations is under the hand. */
  private onDivider({ pane, x }: Press) {
    const { split } = this.desk.scene;
    return split !== null && Math.abs(x - pane.rect.x - split.at * pane.rect.w) < GRIP;
  }

  private divide({ pane, x }: Press) {
    this.desk.hands.split(Math.max(0.02, Math.min(0.98, (x - pane.rect.x) / pane.rect.w)));
  }

  private turns({ press, tool }: Drag) {
    return !tool && press.pane instanceof SpacePane && press.button === 0 && !press.shift;
  }

  private up(e: PointerEvent) {
    const press = this.press(e);
    const d = this.drag;
    this.dividing = false;
    this.touches.up(e.pointerId);
    this.drag = null;
    if (!d || !press) return;
    if (d.far && d.tool) this.desk.tool.done?.(press);
    else if (!d.far) {
      if (d.tool) this.desk.tool.cancel?.();
      if (d.press.button === 0) this.desk.tool.click?.(press);
    }
    this.desk.sketch();
  }

  private wheel(e: WheelEvent) {
    e.preventDefault();
    const press = this.press(e);
    if (!press) return;
    const { pane, x, y } = press;
    const factor = Math.exp(Math.max(-120, Math.min(120, e.deltaY)) * 0.0016);
    const under = pane instanceof SpacePane && factor < 1 ? (this.desk.pick(pane, x, y)?.at ?? null) : null;
    pane.zoom(factor, x, y, this.desk.scene.slab, under);
    if (pane instanceof SpacePane && pane.walking) pane.settle((p) => this.desk.cloud.floorBelow(p));
    this.desk.change(pane);
  }

  /** Fly to the point under a double-click; in a panorama, to a lamp. */
  private fly(e: MouseEvent) {
    this.desk.tool.cancel?.();
    const press = this.press(e);
    const lamp = press?.pane instanceof PanoramaPane && lampAt(this.desk.scene, press.pane, press.x, press.y);
    if (press && lamp) return this.desk.hands.jump(press.pane.kind, lamp);
    const at = press && this.desk.pick(press.pane, press.x, press.y)?.at;
    if (!at) return;
    this.desk.lookAt(at.toArray());
    this.desk.hands.sliceAt([at.x, at.y]);
  }

  private key(e: KeyboardEvent) {
    const pane =
      this.desk.shown.find((p) => this.cursor && p.pixel(...(this.cursor as [number, number, number]))) ??
      this.desk.shown[0];
    const way = { ArrowLeft: [-24, 0], ArrowRight: [24, 0], ArrowUp: [0, -24], ArrowDown: [0, 24] }[e.key];
    const factor = { "+": 0.85, "=": 0.85, "-": 1 / 0.85 }[e.key];
    if (!pane || e.ctrlKey || e.metaKey || e.altKey || (!way && !factor)) return;
    e.preventDefault();
    e.stopPropagation();
    const { x, y, w, h } = pane.rect;
    if (pane instanceof SpacePane && pane.walking && (factor || way![1] !== 0 || e.shiftKey)) {
      const ahead = factor ? (factor < 1 ? PACE : -PACE) : way![1] === 0 ? 0 : -Math.sign(way![1]!) * PACE;
      pane.step(ahead, factor || way![1] !== 0 ? 0 : Math.sign(way![0]!) * PACE, (p) => this.desk.cloud.floorBelow(p));
    } else if (factor) pane.zoom(factor, x + w / 2, y + h / 2, this.desk.scene.slab, null);
    else if (pane instanceof SpacePane && !e.shiftKey) pane.turn((pane.walking ? -1 : 1) * way![0]!, way![1]!);
    else pane.shift(-way![0]!, -way![1]!, this.desk.scene.slab);
    this.desk.change(pane);
  }

  /** The cursor went somewhere: what lies there is looked up in a moment. */
  private hover(press: Press | null) {
    clearTimeout(this.looking ?? undefined);
    if (!press) return this.say(null, null);
    this.desk.tool.hover?.(press);
    const flat =
      press.pane instanceof FlatPane ? press.pane.at(press.x, press.y, this.desk.scene.slab).toArray() : null;
    this.say(flat, null);
    this.looking = setTimeout(() => {
      if (this.desk.moving || this.drag) return;
      const caught = this.desk.pick(press.pane, press.x, press.y);
      this.say(caught?.at.toArray() ?? flat, caught);
    }, LOOK);
  }

  private say(at: number[] | null, caught: Caught | null) {
    this.cursor = at;
    this.desk.hands.hover(at, caught && { station: caught.station, range: caught.range });
    this.desk.sketch();
  }

  dispose() {
    clearTimeout(this.looking ?? undefined);
    this.stop.abort();
  }
}
