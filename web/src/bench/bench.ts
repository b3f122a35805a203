/**
 * The bench: one drawing surface under all panes, drawn when something changed and never else. Connect, update, dispose.
 *
 * Points (surface.ts) and what stands over them (overlay) are two layers: a hover draws no point. Panes (pane.ts) say what is seen,
 * tools (tools.ts) what the hand does, the picker (picker.ts) what lies under the cursor, the cloud (cloud.ts) what is loaded.
 */
import * as THREE from "three";
import { crop } from "./boxes";
import { camerasOf, roundStations, turnTo } from "./cameras";
import { drawModels } from "./models";
import { Cloud, type Source } from "./cloud";
import { drawContours } from "./contours";
import { drawAxes, drawCrossHair, drawDivider, drawScale, drawShape, drawSliceLine, drawUnder } from "./marks";
import { beyond, FlatPane, type Pane, PlanPane, SlicePane, SpacePane } from "./pane";
import { PanoramaPane } from "./panorama";
import { type Caught, Picker } from "./picker";
import { drawOverlay, exaggerationOf, Labels } from "./strings";
import { Surface } from "./surface";
import { Hand, type HandDesk } from "./hand";
import { type Tool, TOOLS } from "./tools";
import { type Cameras, type Hands, onlyMarksDiffer, type PaneKind, type Rect, type Scene } from "./types";

const SETTLED = 180; // ms after the last move from which on all is drawn
const APART = 100; // ms between two drawings while tiles arrive, at least
const LONGEST = 1000; // and at most
const FRAME = 65; // ms that a drawing may take while something moves: the points drawn are steered by it
const COARSE = 250_000; // points while something moves, below which it is drawn with half the pixels each way
const LEAST = 40_000; // points that are drawn while something moves, however slow the machine

export class Bench implements HandDesk {
  readonly cloud: Cloud;
  scene: Scene;
  readonly surface: Surface;
  private over: CanvasRenderingContext2D;
  private hand: Hand;
  private panes = {
    space: new SpacePane(),
    plan: new PlanPane(),
    slice: new SlicePane(),
    panorama: new PanoramaPane(),
    panorama2: new PanoramaPane("panorama2"),
  };
  shown: Pane[] = [];
  private unit = { name: "m", metre: 1 };
  tool: Tool;
  private queued = 0;
  private stale = true; // points are to be drawn, not only what stands over them
  private arriving: ReturnType<typeof setTimeout> | null = null;
  private moved = -Infinity; // when a hand moved a pane last
  private last = -Infinity; // when points were drawn
  private took = 0; // ms until the page went on after that
  private resting: ReturnType<typeof setTimeout> | null = null;
  private labels: (readonly [number, number, number, number])[] = []; // where they stand, pixels
  private coloured = ""; // what the ends of the scale were found for
  private framed = 0; // stations that were in sight when all was looked at last
  private observer: ResizeObserver;
  /** Points drawn at most, until a page that has come takes the bench over. */
  first = Infinity;

  constructor(
    private host: HTMLElement,
    source: Source,
    public hands: Hands,
    scene: Scene,
    private still: number,
    private quick: number,
  ) {
    this.scene = scene;
    this.tool = new TOOLS.none(this);
    this.cloud = new Cloud(source, () => this.arrived(), still);
    this.surface = new Surface(() => this.draw());
    const canvas = document.createElement("canvas");
    for (const c of [this.surface.canvas, canvas]) {
      c.style.cssText = "position:absolute;inset:0;width:100%;height:100%";
      host.append(c);
    }
    canvas.style.touchAction = "none";
    canvas.tabIndex = 0;
    canvas.setAttribute("role", "application");
    canvas.setAttribute(
      "aria-label",
      "Points of the stations. Arrows turn or move the view, plus and minus come closer and go away, F frames.",
    );
    this.over = canvas.getContext("2d")!;
    this.hand = new Hand(canvas, this);
    this.observer = new ResizeObserver(() => this.draw());
    this.observer.observe(host);
  }

  /** Go on in another place of the page, with other hands; what is loaded and drawn stays. */
  adopt(host: HTMLElement, hands: Hands) {
    for (const c of [this.surface.canvas, this.over.canvas]) host.append(c);
    this.observer.disconnect();
    this.observer.observe(host);
    this.host = host;
    this.hands = hands;
    this.first = Infinity;
    this.draw();
  }

  /** Show these panes at these places (pixels of the host). */
  layout(panes: { kind: PaneKind; rect: Rect }[]) {
    this.shown = panes.map(({ kind, rect }) => {
      const p: Pane = this.panes[kind];
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
    const same = onlyMarksDiffer(this.scene, scene) && this.unit === unit;
    if (this.scene.tool !== scene.tool) {
      this.tool.cancel?.();
      this.tool = new TOOLS[scene.tool](this);
    }
    this.scene = scene;
    this.unit = unit;
    if (same) return this.sketch();
    this.compare();
    this.cloud.setStations(
      scene.stations.map((s) => (scene.placing?.station === s.id ? { ...s, pose: scene.placing.pose } : s)),
    );
    crop(scene.boxes, this.cloud.shared);
    this.cloud.setLooks(scene.ghosts, scene.slots);
    this.takeStand();
    this.frameOnce();
    this.draw();
  }

  /** Say which two stations are compared, as they stand now. */
  private compare() {
    const { pair, stations, compared } = this.scene;
    const of = compared === null ? pair : "models";
    const poses = pair?.map((id) => stations.find((s) => s.id === id)?.pose?.join() ?? "");
    this.cloud.setPair(of, compared ?? poses?.join("/") ?? "");
  }

  /** Points were deleted, or brought back. */
  marked() {
    this.compare();
    this.draw();
  }

  /** The panorama stands at the station that is asked for, else at one that is selected, else at the first that is seen. */
  private takeStand() {
    const seen = this.scene.stations.filter((s) => s.visible);
    const stand = this.scene.stations.find((s) => s.id === this.scene.stand) ?? seen.find((s) => s.selected) ?? seen[0];
    if (stand) this.panes.panorama.stand(stand.id, stand.pose);
    const rest = seen.filter((s) => s !== stand);
    const other =
      this.scene.stations.find((s) => s.id === this.scene.stand2) ?? rest.find((s) => s.selected) ?? rest[0] ?? stand;
    if (other) this.panes.panorama2.stand(other.id, other.pose);
    this.panes.space.parallel = this.scene.parallel;
    this.panes.space.walk(this.scene.walking, (at) => this.cloud.floorBelow(at));
  }

  /** Look at everything once there is something, and again when more is there, in panes that nobody moved. */
  private frameOnce() {
    const seen = this.scene.stations.filter((s) => s.visible).length;
    if (seen <= this.framed || !this.shown.length) return;
    const all = Object.values(this.panes);
    this.fitPanes(this.framed === 0 ? all : all.filter((p) => !p.touched), true);
    this.framed = seen;
    this.draw();
  }

  /** Look at the selected stations, or at all that are visible. */
  frame(all = false) {
    for (const p of Object.values(this.panes)) p.touched = false;
    this.fitPanes(Object.values(this.panes), all);
    this.draw();
  }

  private fitPanes(panes: Pane[], all: boolean) {
    const box = roundStations(this.scene.stations, all);
    if (box) for (const p of panes) p.frame(box.min, box.max);
  }

  /** Look at the space from a side of the coordinates in use; azimuth: radians from east. */
  look(from: "top" | "front" | "side", azimuth = 0) {
    const yaw = azimuth - Math.PI / 2;
    this.panes.space.from(from === "side" ? yaw + Math.PI / 2 : yaw, from === "top" ? 1.55 : 0);
    this.draw();
  }

  /** Bring a place of the part into the middle of all panes. */
  lookAt(place: number[]) {
    const at = new THREE.Vector3().fromArray(place);
    for (const p of this.shown) {
      p.centre(at);
      p.touched = true;
    }
    this.draw();
  }

  /** Where the panes look, as it is kept. */
  cameras(): Cameras {
    return camerasOf(this.panes);
  }

  /** Look as it was kept; moved: T_part_base, from the coordinates it was kept in to those of now. */
  showCameras(c: Cameras, moved: number[] | null) {
    turnTo(this.panes, c, moved);
    this.framed = Infinity; // it is no longer for the stations to say where to look
    this.draw();
  }

  /** Draw the points and what stands over them, in the next frame. */
  draw() {
    this.stale = true;
    this.sketch();
  }

  /** Draw what stands over the points. */
  sketch() {
    if (!this.queued) this.queued = requestAnimationFrame((now) => this.render(now));
  }

  /** Something came: drawn with what else comes in a moment, the first at once. A slow machine draws for half of the time at most. */
  private arrived() {
    const wait = this.last + Math.max(APART, Math.min(2 * this.took, LONGEST)) - performance.now();
    if (wait <= 0 || this.cloud.drawn === 0) return this.draw();
    this.arriving ??= setTimeout(() => {
      this.arriving = null;
      this.draw();
    }, wait);
  }

  /** What the bench shows now, points and drawing, as a PNG. */
  picture(): Promise<Blob> {
    this.stale = true;
    this.render(performance.now()); // what the graphics card holds is there only until the next frame
    const all = document.createElement("canvas");
    const { canvas } = this.over;
    [all.width, all.height] = [canvas.width, canvas.height];
    const pen = all.getContext("2d")!;
    for (const c of [this.surface.canvas, canvas]) pen.drawImage(c, 0, 0, all.width, all.height);
    return new Promise((done, failed) =>
      all.toBlob((b) => (b ? done(b) : failed(new Error("the picture could not be made"))), "image/png"),
    );
  }

  private render(now: number) {
    this.queued = 0;
    const { clientWidth: w, clientHeight: h } = this.host;
    if (!w || !h) return;
    const resized = this.resize(w, h);
    if (this.stale || resized) this.drawPoints(now);
    const { ratio } = this.surface;
    this.over.setTransform(ratio, 0, 0, ratio, 0, 0);
    this.over.clearRect(0, 0, w, h);
    this.labels = [];
    for (const p of this.shown) this.drawOver(p);
    this.over.canvas.dataset["labels"] = JSON.stringify(this.labels.map((a) => a.map(Math.round)));
    this.count("sketches");
  }

  private resize(w: number, h: number): boolean {
    const { ratio } = this.surface;
    const { canvas } = this.over;
    const [wide, high] = [Math.round(w * ratio), Math.round(h * ratio)];
    if (canvas.width === wide && canvas.height === high) return false;
    this.surface.resize(w, h);
    canvas.width = wide;
    canvas.height = high;
    return true;
  }

  private drawPoints(now: number) {
    this.stale = false;
    const { moving } = this;
    if (moving && now - this.last < 400) this.steer(now - this.last);
    this.last = now;
    const begun = performance.now();
    requestAnimationFrame(() => requestAnimationFrame(() => (this.took = performance.now() - begun)));
    this.cloud.budget = Math.min(this.first, moving ? this.quick : this.still);
    const frusta = this.shown.map((p) => {
      p.place(this.scene.slab);
      const m = new THREE.Matrix4().multiplyMatrices(p.camera.projectionMatrix, p.camera.matrixWorldInverse);
      return new THREE.Frustum().setFromProjectionMatrix(m);
    });
    this.cloud.refine((c, r, s, station) =>
      this.shown.map((p, k) =>
        p.only !== null && p.only !== station ? 0 : p.pixelsOf(c, r, s, frusta[k]!, this.scene.slab),
      ),
    );
    this.colour(moving);
    this.surface.draw(this.shown, this.cloud, this.scene, moving && this.quick < COARSE ? 0.5 : 1);
    this.count("frames");
    this.over.canvas.dataset["bytes"] = JSON.stringify(this.cloud.bytes);
    this.hands.drawn({ points: this.cloud.drawn, busy: this.cloud.busy, failing: this.cloud.failing });
    if (moving) {
      clearTimeout(this.resting ?? undefined);
      this.resting = setTimeout(() => (this.draw(), this.hands.settled()), SETTLED + 20);
    }
  }

  /** More points when drawing was fast, fewer when it was slow. */
  private steer(took: number) {
    const factor = Math.max(0.6, Math.min(1.3, Math.sqrt(FRAME / Math.max(took, 1))));
    this.quick = Math.max(LEAST, Math.min(this.still, this.quick * factor));
  }

  /** The scale of the points in view; while something moves it stays as it is. */
  private colour(moving: boolean) {
    const { colourBy, span } = this.scene;
    if (moving && !span && this.coloured === colourBy) return;
    this.coloured = colourBy;
    const cuts = this.shown.map((p) => p.cut(this.scene.slab));
    const seen = (x: number, y: number, z: number) => cuts.some((c) => !beyond(c, x, y, z));
    const found = span ?? this.cloud.spanOf(colourBy, seen);
    this.cloud.setColour(colourBy, found);
    this.hands.scale(colourBy, found);
  }

  private count(what: "frames" | "sketches") {
    const { dataset } = this.over.canvas;
    dataset[what] = String(Number(dataset[what] ?? 0) + 1);
  }

  private drawOver(p: Pane) {
    const { x, y, w, h } = p.rect;
    const { slab, ground } = this.scene;
    const g = this.over;
    g.save();
    g.beginPath();
    g.rect(x, y, w, h);
    g.clip();
    if (p.kind === "plan" && this.scene.under) drawUnder(g, p, this.scene.under, ground === "ink", () => this.sketch());
    drawModels(g, p, this.scene);
    const labels = drawOverlay(g, p, this.scene);
    this.labels.push(...labels);
    const ink = ground === "paper" ? "#1e2530" : "#f2efe6";
    if (p.kind === "plan" && this.scene.colourBy === "expected") {
      const names = new Labels(g, ink, ground === "paper" ? "#f5f1e8" : "#12161d", [x, y + 34, x + w, y + h], labels);
      drawContours(g, p, this.scene.stations, slab.height, names);
    }
    if (p instanceof FlatPane) {
      const deviations = p.kind === "plan" && this.scene.stations.some((s) => s.sigma);
      const note = deviations ? ` · deviations drawn ${exaggerationOf(this.scene, p.scale)} x` : "";
      drawScale(g, x + 14, y + h - 16, p.scale, this.unit, ink, note);
    }
    if (p.kind === "plan" && this.shown.some((q) => q.kind === "slice")) drawSliceLine(g, p, slab);
    if (this.hand.cursor) drawCrossHair(g, p, this.hand.cursor, ink);
    if (this.scene.shape) drawShape(g, p, this.scene.shape);
    if (this.scene.axes) drawAxes(g, p, this.scene.axes.slice(0, 16), this.scene.axes.slice(16));
    const { split } = this.scene;
    if (split) {
      const names = split.of.map((id) => this.scene.stations.find((s) => s.id === id)?.name ?? "") as [string, string];
      drawDivider(g, p, split.at, names);
    }
    const pivot = this.hand.pivot(p);
    if (pivot) drawCrossHair(g, p, pivot, "#e8a700");
    this.tool.paint?.(g, p);
    g.restore();
    g.strokeStyle = ground === "paper" ? "#d9d2c3" : "#3a414d";
    g.lineWidth = 1;
    g.strokeRect(x + 0.5, y + 0.5, w - 1, h - 1);
  }

  get pointed() {
    return this.hand.cursor;
  }

  /** Whether a pane has just been moved. */
  get moving() {
    return performance.now() - this.moved < SETTLED;
  }

  /** What lies under a pixel in a pane that is shown. */
  pick(pane: Pane, x: number, y: number): Caught | null {
    const k = this.shown.indexOf(pane);
    const start = performance.now();
    const caught = k < 0 ? null : new Picker(pane, k, this.cloud, this.scene).at(x, y);
    performance.measure("pick", { start });
    return caught;
  }

  /** Two panoramas of stations that share coordinates turn together. */
  private turnTogether(pane: Pane) {
    if (!(pane instanceof PanoramaPane)) return;
    const other = this.shown.find((p): p is PanoramaPane => p instanceof PanoramaPane && p !== pane);
    const tied = (p: PanoramaPane) => this.scene.stations.find((s) => s.id === p.only)?.pose;
    if (!other || !tied(pane) || !tied(other)) return;
    pane.place(this.scene.slab);
    other.follow(pane);
    other.touched = true;
  }

  /** A hand moved a pane. */
  change(pane: Pane) {
    pane.touched = true;
    this.turnTogether(pane);
    this.moved = performance.now();
    this.draw();
  }

  dispose() {
    this.tool.cancel?.();
    clearTimeout(this.arriving ?? undefined);
    clearTimeout(this.resting ?? undefined);
    this.hand.dispose();
    this.observer.disconnect();
    cancelAnimationFrame(this.queued);
    this.cloud.dispose();
    this.surface.dispose();
    this.host.replaceChildren();
  }
}
