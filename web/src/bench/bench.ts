/** The bench: one drawing surface under all panes, drawn on demand. Plain class: connect, update, dispose. */
import * as THREE from "three";
import { Cloud } from "./cloud";
import { beyond, FlatPane, type Pane, PlanPane, SlicePane, SpacePane } from "./pane";
import { GROUND } from "./palette";
import { drawCrossHair, drawLasso, drawScale, drawSliceLine } from "./marks";
import { drawOverlay } from "./strings";
import type { PaneKind, Rect, Scene, TileInfo } from "./types";

export interface Hands {
  select(what: { station?: string; link?: string } | null): void;
  hover(at: number[] | null): void;
  lasso(view: number[], outline: number[][]): void;
  /** The nearest point in front under a click, or null when none is there. */
  pick(at: number[] | null): void;
  planPick(at: [number, number]): void;
  placed(pose: number[]): void;
  drawn(state: { points: number; busy: boolean; failing: number }): void;
  sliceAt(at: [number, number]): void;
}

THREE.ColorManagement.enabled = false; // colours are given and drawn as sRGB
const EXAGGERATION = 500;

export class Bench {
  readonly cloud: Cloud;
  private renderer: THREE.WebGLRenderer;
  private over: CanvasRenderingContext2D;
  private space = new SpacePane();
  private panes = new Map<PaneKind, Pane>();
  private shown: Pane[] = [];
  private scene: Scene;
  private unit = { name: "m", metre: 1 };
  private queued = 0;
  private moving = 0;
  private drag: { pane: Pane; x: number; y: number; button: number; far: boolean; line: [number, number][] } | null =
    null;
  private cursor: number[] | null = null;
  private framed = 0; // 1: something, 2: something placed
  private picking: { x: number; y: number; run: () => void; timer: ReturnType<typeof setTimeout> } | null = null;
  private stop = new AbortController();
  private observer: ResizeObserver;

  constructor(
    private host: HTMLElement,
    fetchTile: (tile: TileInfo, signal: AbortSignal) => Promise<ArrayBuffer>,
    private hands: Hands,
    scene: Scene,
    private still: number,
    private quick: number,
  ) {
    this.scene = scene;
    this.cloud = new Cloud(fetchTile, () => this.draw(), still);
    this.renderer = new THREE.WebGLRenderer({
      antialias: false,
      powerPreference: "high-performance",
      preserveDrawingBuffer: true,
    });
    this.renderer.outputColorSpace = THREE.LinearSRGBColorSpace;
    this.renderer.setPixelRatio(Math.min(window.devicePixelRatio, 2));
    this.renderer.setScissorTest(true);
    this.renderer.autoClear = false;
    const canvas = document.createElement("canvas");
    for (const c of [this.renderer.domElement, canvas]) {
      c.style.cssText = "position:absolute;inset:0;width:100%;height:100%";
      host.append(c);
    }
    canvas.style.touchAction = "none";
    this.over = canvas.getContext("2d")!;
    for (const pane of [this.space, new PlanPane(), new SlicePane()]) this.panes.set(pane.kind, pane);
    const { signal } = this.stop;
    canvas.addEventListener("pointerdown", (e) => this.down(e), { signal });
    canvas.addEventListener("pointermove", (e) => this.move(e), { signal });
    canvas.addEventListener("pointerup", (e) => this.up(e), { signal });
    canvas.addEventListener("pointerleave", () => this.hover(null), { signal });
    canvas.addEventListener("wheel", (e) => this.wheel(e), { signal, passive: false });
    canvas.addEventListener("dblclick", (e) => this.turnAbout(e), { signal });
    canvas.addEventListener("contextmenu", (e) => e.preventDefault(), { signal });
    this.observer = new ResizeObserver(() => this.draw());
    this.observer.observe(host);
  }

  /** Go on in another place of the page, with other hands; what is loaded and drawn stays. */
  adopt(host: HTMLElement, hands: Hands) {
    for (const c of [this.renderer.domElement, this.over.canvas]) host.append(c);
    this.observer.disconnect();
    this.observer.observe(host);
    this.host = host;
    this.hands = hands;
    this.draw();
  }

  /** Show these panes at these places (pixels of the host). */
  layout(panes: { kind: PaneKind; rect: Rect }[]) {
    this.shown = panes.map(({ kind, rect }) => {
      const p = this.panes.get(kind)!;
      p.rect = rect;
      return p;
    });
    this.frameOnce();
    this.fitPanes(
      this.shown.filter((p) => !p.touched),
      true,
    );
    this.draw();
  }

  update(scene: Scene, unit: { name: string; metre: number }) {
    this.scene = scene;
    this.unit = unit;
    this.cloud.setStations(
      scene.stations.map((s) => (scene.placing?.station === s.id ? { ...s, pose: scene.placing.pose } : s)),
    );
    this.cloud.setTiles(scene.tiles);
    this.cloud.setColour(scene.colourBy);
    const b = scene.box;
    this.cloud.shared.boxHalf.value.set(...((b?.half ?? [-1, -1, -1]) as [number, number, number]));
    if (b)
      this.cloud.shared.boxFrame.value
        .makeRotationZ(b.yaw)
        .setPosition(b.centre[0]!, b.centre[1]!, b.centre[2]!)
        .invert();
    this.frameOnce();
    this.draw();
  }

  /** Look at everything once there is something, and again when the first stations are placed. */
  private frameOnce() {
    const now = this.scene.stations.some((s) => s.visible && s.pose)
      ? 2
      : this.scene.stations.some((s) => s.visible)
        ? 1
        : 0;
    if (now > this.framed && this.shown.length > 0) {
      this.framed = now;
      this.frame(true);
    }
  }

  /** Look at the selected stations, or at all that are visible. */
  frame(all = false) {
    for (const p of this.panes.values()) p.touched = false;
    this.fitPanes([...this.panes.values()], all);
    this.draw();
  }

  private fitPanes(panes: Pane[], all: boolean) {
    const some = all ? [] : this.scene.stations.filter((s) => s.selected && s.visible);
    const which = some.length ? some : this.scene.stations.filter((s) => s.visible);
    if (!which.length) return;
    const box = new THREE.Box3();
    for (const s of which) box.expandByPoint(new THREE.Vector3(s.pose?.[3] ?? 0, s.pose?.[7] ?? 0, s.pose?.[11] ?? 0));
    box.expandByVector(new THREE.Vector3(7, 7, 3.2));
    for (const p of panes) p.frame(box.min, box.max);
  }

  topView() {
    const p = this.space;
    p.touched = true;
    p.pitch = 1.55;
    p.yaw = -Math.PI / 2;
    this.draw();
  }

  draw() {
    if (!this.queued) this.queued = requestAnimationFrame(() => this.render());
  }

  private render() {
    this.queued = 0;
    const { clientWidth: w, clientHeight: h } = this.host;
    if (!w || !h) return;
    const ratio = this.renderer.getPixelRatio();
    if (this.over.canvas.width !== Math.round(w * ratio) || this.over.canvas.height !== Math.round(h * ratio)) {
      this.renderer.setSize(w, h, false);
      this.over.canvas.width = Math.round(w * ratio);
      this.over.canvas.height = Math.round(h * ratio);
    }
    this.over.setTransform(ratio, 0, 0, ratio, 0, 0);
    this.over.clearRect(0, 0, w, h);
    this.cloud.budget = performance.now() - this.moving < 180 ? this.quick : this.still;
    const frusta = this.shown.map((p) => {
      p.place(this.scene.slab);
      return new THREE.Frustum().setFromProjectionMatrix(
        new THREE.Matrix4().multiplyMatrices(p.camera.projectionMatrix, p.camera.matrixWorldInverse),
      );
    });
    this.cloud.refine((c, r, s) =>
      Math.max(0, ...this.shown.map((p, k) => p.pixelsOf(c, r, s, frusta[k]!, this.scene.slab))),
    );
    for (const p of this.shown) this.renderPane(p, h);
    this.hands.drawn({ points: this.cloud.drawn, busy: this.cloud.busy, failing: this.cloud.failing });
    if (performance.now() - this.moving < 180) setTimeout(() => this.draw(), 200);
  }

  private renderPane(p: Pane, height: number) {
    const { x, y, w, h } = p.rect;
    const { slab, ground } = this.scene;
    const u = this.cloud.shared;
    const cut = p.cut(slab);
    u.plane.value.set(cut?.normal.x ?? 0, cut?.normal.y ?? 0, cut?.normal.z ?? 1, cut?.offset ?? 0);
    u.depth.value.set(cut?.low ?? -1e9, cut?.high ?? 1e9);
    u.perspective.value = p.kind === "space" ? 1 : 0;
    u.size.value = p.kind === "space" ? 2 * this.renderer.getPixelRatio() : 1.6 * this.renderer.getPixelRatio();
    this.renderer.setViewport(x, height - y - h, w, h);
    this.renderer.setScissor(x, height - y - h, w, h);
    this.renderer.setClearColor(GROUND[ground], 1);
    this.renderer.clear();
    this.renderer.render(this.cloud.scene, p.camera);
    const g = this.over;
    g.save();
    g.beginPath();
    g.rect(x, y, w, h);
    g.clip();
    drawOverlay(g, p, this.scene, EXAGGERATION);
    const ink = ground === "paper" ? "#1e2530" : "#f2efe6";
    if (p instanceof FlatPane)
      drawScale(
        g,
        x + 14,
        y + h - 16,
        p.scale,
        this.unit,
        ink,
        p.kind === "plan" && this.scene.stations.some((s) => s.sigma) ? ` · deviations drawn ${EXAGGERATION} x` : "",
      );
    if (p.kind === "plan" && this.shown.some((q) => q.kind === "slice")) drawSliceLine(g, p, slab);
    if (this.cursor) drawCrossHair(g, p, this.cursor, ink);
    if (this.drag?.line.length && this.drag.pane === p) drawLasso(g, this.drag.line);
    g.restore();
    g.strokeStyle = ground === "paper" ? "#d9d2c3" : "#3a414d";
    g.lineWidth = 1;
    g.strokeRect(x + 0.5, y + 0.5, w - 1, h - 1);
  }

  private where(e: MouseEvent): [number, number] {
    const r = this.over.canvas.getBoundingClientRect();
    return [e.clientX - r.left, e.clientY - r.top];
  }

  private down(e: PointerEvent) {
    const [x, y] = this.where(e);
    const pane = this.shown.find((p) => p.contains(x, y));
    if (!pane) return;
    this.over.canvas.setPointerCapture(e.pointerId);
    const lasso = this.scene.tool === "lasso" && e.button === 0;
    this.drag = { pane, x, y, button: e.button, far: false, line: lasso ? [[x, y]] : [] };
  }

  private move(e: PointerEvent) {
    const [x, y] = this.where(e);
    const d = this.drag;
    if (!d) {
      const pane = this.shown.find((p) => p.contains(x, y));
      this.hover(pane instanceof FlatPane ? pane.at(x, y, this.scene.slab).toArray() : null);
      return;
    }
    const [dx, dy] = [x - d.x, y - d.y];
    if (!d.far && Math.hypot(dx, dy) < 4) return;
    d.far = true;
    if (d.line.length) d.line.push([x, y]);
    else if (this.scene.tool === "place" && d.pane instanceof PlanPane && d.button !== 1 && this.scene.placing)
      this.carry(d.pane, dx, dy, d.button === 2 || e.shiftKey);
    else if (d.button === 0 && d.pane instanceof SpacePane && !e.shiftKey) d.pane.turn(dx, dy);
    else d.pane.shift(dx, dy, this.scene.slab);
    if (!d.line.length && this.scene.tool !== "place") d.pane.touched = true;
    d.x = x;
    d.y = y;
    this.moving = performance.now();
    this.draw();
  }

  /** Drag the scan that is being placed by hand: shift it, or turn it about its station. */
  private carry(pane: FlatPane, dx: number, dy: number, turn: boolean) {
    const pose = [...this.scene.placing!.pose];
    if (turn) {
      const [c, s] = [Math.cos(-dx * 0.008), Math.sin(-dx * 0.008)];
      for (let k = 0; k < 3; k++) {
        const [a, b] = [pose[k]!, pose[4 + k]!];
        pose[k] = c * a - s * b;
        pose[4 + k] = s * a + c * b;
      }
    } else {
      pose[3]! += dx * pane.scale;
      pose[7]! -= dy * pane.scale;
    }
    this.hands.placed(pose);
  }

  private up(e: PointerEvent) {
    const d = this.drag;
    this.drag = null;
    if (!d) return;
    const [x, y] = this.where(e);
    if (d.line.length > 2 && d.far)
      this.hands.lasso(
        d.pane.view(this.scene.slab),
        thin(d.line).map((p) => d.pane.flat(...p)),
      );
    else if (!d.far && d.button === 0) this.click(d.pane, x, y);
    this.draw();
  }

  /** A pick waits for a moment: the first half of a double-click is none, two quick ones at two places are two. */
  private click(pane: Pane, x: number, y: number) {
    const before = this.picking;
    this.letPickGo();
    if (before && Math.hypot(before.x - x, before.y - y) > 8) before.run();
    const picks = this.scene.tool === "pick" || this.scene.tool === "planPick";
    if (!picks) return this.clicked(pane, x, y);
    if (before && Math.hypot(before.x - x, before.y - y) <= 8) return;
    const run = () => {
      this.letPickGo();
      this.clicked(pane, x, y);
    };
    this.picking = { x, y, run, timer: setTimeout(run, 220) };
  }

  private letPickGo() {
    clearTimeout(this.picking?.timer);
    this.picking = null;
  }

  private clicked(pane: Pane, x: number, y: number) {
    const { tool } = this.scene;
    if (tool === "planPick" && pane instanceof PlanPane) {
      const p = pane.at(x, y, this.scene.slab);
      this.hands.planPick([p.x, p.y]);
      return;
    }
    if (tool === "pick") {
      const p = this.pointAt(pane, x, y);
      this.hands.pick(p ? p.toArray() : null);
      return;
    }
    for (const s of this.scene.stations) {
      const p = (s.pose || s.visible) && pane.pixel(s.pose?.[3] ?? 0, s.pose?.[7] ?? 0, s.pose?.[11] ?? 0);
      if (p && Math.hypot(p[0] - x, p[1] - y) < 10) return this.hands.select({ station: s.id });
    }
    const link = this.stringAt(pane, x, y);
    this.hands.select(link ? { link } : null);
  }

  private stringAt(pane: Pane, x: number, y: number): string | null {
    let best = 7;
    let found: string | null = null;
    const at = new Map(
      this.scene.stations.filter((s) => s.pose).map((s) => [s.id, pane.pixel(s.pose![3]!, s.pose![7]!, s.pose![11]!)]),
    );
    for (const k of this.scene.strings) {
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

  /** The frontmost drawn point within a few pixels: never one behind a nearer surface. */
  private pointAt(pane: Pane, px: number, py: number): THREE.Vector3 | null {
    const m = new THREE.Matrix4().multiplyMatrices(
      pane.camera.projectionMatrix,
      pane.camera.matrixWorldInverse,
    ).elements;
    const [fx, fy] = pane.flat(px, py);
    const [rx, ry] = [(2 / pane.rect.w) * 6, (2 / pane.rect.h) * 6];
    const cut = pane.cut(this.scene.slab);
    return this.cloud.nearest((x, y, z) => {
      const w = m[3] * x + m[7] * y + m[11] * z + m[15];
      if (w <= 0) return Infinity;
      const dx = (m[0] * x + m[4] * y + m[8] * z + m[12]) / w - fx;
      const dy = (m[1] * x + m[5] * y + m[9] * z + m[13]) / w - fy;
      if (Math.abs(dx) > rx || Math.abs(dy) > ry) return Infinity;
      if (beyond(cut, x, y, z)) return Infinity;
      return (m[2] * x + m[6] * y + m[10] * z + m[14]) / w + 1e-4 * ((dx / rx) ** 2 + (dy / ry) ** 2);
    });
  }

  private wheel(e: WheelEvent) {
    e.preventDefault();
    const [x, y] = this.where(e);
    const pane = this.shown.find((p) => p.contains(x, y));
    if (!pane) return;
    const factor = Math.exp(Math.max(-120, Math.min(120, e.deltaY)) * 0.0016);
    const under = pane instanceof SpacePane && factor < 1 ? this.pointAt(pane, x, y) : null;
    pane.zoom(factor, x, y, this.scene.slab, under);
    pane.touched = true;
    this.moving = performance.now();
    this.draw();
  }

  private turnAbout(e: MouseEvent) {
    this.letPickGo();
    const [x, y] = this.where(e);
    const pane = this.shown.find((p) => p.contains(x, y));
    const p = pane && this.pointAt(pane, x, y);
    if (!p) return;
    for (const q of this.shown) {
      q.middle.copy(p);
      q.touched = true;
    }
    this.hands.sliceAt([p.x, p.y]);
    this.draw();
  }

  private hover(at: number[] | null) {
    this.cursor = at;
    this.hands.hover(at);
    this.draw();
  }

  dispose() {
    this.letPickGo();
    this.stop.abort();
    this.observer.disconnect();
    cancelAnimationFrame(this.queued);
    this.cloud.dispose();
    this.renderer.dispose();
    this.host.replaceChildren();
  }
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
