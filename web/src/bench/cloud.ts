/**
 * The points on the graphics card: tiles fetched coarse first, drawn within a budget, kept within another.
 *
 * Terms: worth: pixels between the points of a tile where it is seen largest; gap: metres between the points that are drawn where
 * a tile lies, which is how wide they are drawn.
 */
import * as THREE from "three";
import { hueOf } from "./palette";
import { type DrawnTile, floorBelow, spanOf } from "./drawn";
import { formOf } from "./expected";
import { materialOf, MODES, shared } from "./points";
import { readTree, rootOf, type Branch } from "./tree";
import { Marked, type MarkOf } from "./marked";
import { nameOf, type ColourBy, type Ghosts, type StationInfo, type TileInfo } from "./types";

interface Loaded {
  info: Branch;
  layers: number; // revision it was read with
  points: THREE.Points;
  xyz: Float32Array;
  used: number;
  seen: number; // bit k: in pane k
  gap: number;
  apart: string; // what its distances were read for
  size: number; // bytes that came
  shown: boolean; // it has been drawn
}

/** A station as the cloud knows it. */
interface Entry {
  group: THREE.Group;
  material: THREE.ShaderMaterial;
  layers: number;
  roots: Branch[];
  whole: boolean; // whether its tree is here, or only its first tile
}

/** Where points come from. */
export interface Source {
  tile(tile: TileInfo, layers: number, signal: AbortSignal): Promise<ArrayBuffer>;
  tree(station: string, signal: AbortSignal): Promise<ArrayBuffer>;
  /** int16 a point: steps of 0.1 mm from the surfaces of another station, or from "models". */
  apart(tile: TileInfo, other: string, signal: AbortSignal): Promise<ArrayBuffer>;
}
/** Pixels that the spacing of a tile takes, pane by pane. */
export type Need = (centre: THREE.Vector3, radius: number, spacing: number, station: string) => number[];
const treeOf = (station: string) => `${station}/tree`;
const HELD = 20; // bytes a point on the graphics card: place, tint, mark, kind, distance
const AT_ONCE = 6; // requests that fly at a time: what a browser opens to one server
const ENOUGH = 1.1; // pixels between points, below which a tile adds nothing that is seen

export class Cloud {
  readonly scene = new THREE.Scene();
  readonly shared = shared();
  private groups = new Map<string, Entry>();
  private loaded = new Map<string, Loaded>();
  private flying = new Map<string, AbortController>();
  private failed = new Map<string, { tries: number; until: number }>();
  private told = new Marked();
  private slots: Uint8Array = new Uint8Array(256); // of the palette, by class or zone
  private clock = 0;
  private pair: { of: [string, string] | null; version: string } | null = null;
  private marked = 0;
  private stopped = false;
  drawn = 0;
  /** Bytes of tiles since the page was opened: that came, and of those that were drawn at least once; and that are held now. */
  readonly bytes = { fetched: 0, used: 0, held: 0 };

  constructor(
    private source: Source,
    private changed: () => void,
    public budget: number, // points drawn at a time
    public kept: number = 2 * budget, // points kept for when they are looked at again
  ) {}

  /** span: values at the two ends of the scale. */
  setColour(by: ColourBy, span: [number, number] = [0, 1]) {
    this.shared.mode.value = MODES.indexOf(by);
    this.shared.span.value.set(...span);
  }

  /** Points of the two stations are coloured by the distance from the other one, or those of all by that from design models; version: of
   * where they stand. */
  setPair(pair: [string, string] | "models" | null, version: string) {
    const of = pair === "models" ? null : pair;
    this.pair = pair && { of, version: `${of?.join() ?? "models"}/${version}/${of ? this.marked : ""}` };
    for (const l of this.loaded.values()) if (l.apart && l.apart !== this.pair?.version) this.tellApart(l, null, "");
  }

  private askApart(l: Loaded) {
    const { pair } = this;
    if (!pair || l.apart === pair.version) return;
    const k = pair.of?.indexOf(l.info.station) ?? -1;
    const other = pair.of ? pair.of[1 - k] : "models";
    if (other && (k >= 0 || !pair.of))
      this.ask(`${nameOf(l.info)}/apart`, (signal) => this.loadApart(l, other, pair.version, signal));
  }

  private async loadApart(l: Loaded, other: string, version: string, signal: AbortSignal) {
    const counts = new Int16Array(await this.source.apart(l.info, other, signal));
    if (!this.stopped && this.pair?.version === version) this.tellApart(l, counts, version);
  }

  /** Distances of a tile's points; null: none are known, rather than those of before. */
  private tellApart(l: Loaded, counts: Int16Array | null, version: string) {
    const attribute = l.points.geometry.getAttribute("apart") as THREE.BufferAttribute;
    if (counts) (attribute.array as Int16Array).set(counts);
    else (attribute.array as Int16Array).fill(-32768);
    attribute.needsUpdate = true;
    l.apart = version;
  }

  setStations(
    stations: Pick<
      StationInfo,
      "id" | "expected" | "hue" | "pose" | "visible" | "layers" | "low" | "high" | "root" | "points"
    >[],
  ) {
    const here = new Set(stations.map((s) => s.id));
    for (const [id, entry] of this.groups)
      if (!here.has(id)) {
        for (const [tile, l] of this.loaded) if (l.info.station === id) this.drop(tile);
        this.scene.remove(entry.group);
        entry.material.dispose();
        this.groups.delete(id);
      }
    for (const s of stations) {
      let entry = this.groups.get(s.id);
      if (!entry) {
        const material = materialOf(this.shared, s.hue, s.points);
        const group = new THREE.Group();
        group.matrixAutoUpdate = false;
        entry = { group, material, layers: s.layers, roots: [rootOf(s.id, s.low, s.high, s.root)], whole: false };
        this.groups.set(s.id, entry);
        this.scene.add(group);
      }
      entry.layers = s.layers;
      (entry.material.uniforms["hue"]!.value as THREE.Color).set(hueOf(s.hue));
      entry.material.uniforms["expected"]!.value = formOf(s.expected);
      entry.group.matrix.copy(matrix(s.pose));
      entry.group.updateMatrixWorld(true);
      entry.group.visible = s.visible;
      if (!s.visible) for (const name of this.failed.keys()) if (name.startsWith(`${s.id}/`)) this.failed.delete(name);
    }
  }

  /** What is marked of a station, as the server tells it; shown at once on what is loaded. whole: all there is of that kind. */
  setMarks(of: MarkOf | "kinds", station: string, body: ArrayBuffer, whole: boolean) {
    if (of === "deleted") this.marked++; // distances from what was deleted are old
    const told = this.told.tell(of, station, body, whole);
    for (const [name, l] of this.loaded) if (told.has(name)) this.mark(l);
  }

  /** How deleted points are seen, and the palette's places of classes or zones (256). */
  setLooks(ghosts: Ghosts, slots: Uint8Array) {
    const other = slots.some((v, k) => v !== this.slots[k]);
    if (ghosts === this.told.ghosts && !other) return;
    this.told.ghosts = ghosts;
    this.slots = slots;
    for (const l of this.loaded.values()) this.mark(l);
  }

  private mark(l: Loaded) {
    const name = nameOf(l.info);
    const attribute = (kind: string) => l.points.geometry.getAttribute(kind) as THREE.BufferAttribute;
    this.told.marks(name, attribute("mark").array as Uint8Array);
    this.told.slots(name, this.slots, attribute("kind").array as Uint8Array);
    attribute("mark").needsUpdate = attribute("kind").needsUpdate = true;
  }

  /**
   * Choose what to show. `need(centre, radius, spacing, station)` gives for each pane the pixels that the spacing takes there, 0
   * when the place is outside of it.
   */
  refine(need: Need) {
    this.clock++;
    const wanted = this.wanted(need);
    wanted.sort((a, b) => b.worth - a.worth);
    let room = this.budget;
    for (const l of this.loaded.values()) l.seen = 0;
    for (const { info, entry, seen } of wanted) {
      if (room <= 0) break;
      const name = nameOf(info);
      room -= info.count;
      const have = this.loaded.get(name);
      if (have) {
        have.used = this.clock;
        have.seen = seen;
        have.info = info;
        this.askApart(have);
      }
      if (have?.layers !== entry.layers) this.ask(name, (signal) => this.load(info, entry.layers, signal));
      if (!entry.whole && info.first === 0) this.ask(treeOf(info.station), (signal) => this.grow(info.station, signal));
    }
    this.drawn = this.bytes.held = 0;
    for (const l of this.loaded.values()) {
      this.bytes.held += HELD * l.info.count;
      if (!l.seen) continue;
      this.drawn += l.info.count;
      if (!l.shown) this.bytes.used += l.size;
      l.shown = true;
    }
    for (const entry of this.groups.values()) for (const root of entry.roots) this.measure(root);
    this.forget();
  }

  /** How wide apart the points are that are drawn where a tile lies: its own spacing, or that of what is drawn below it. */
  private measure(b: Branch): number {
    if (b.looked !== this.clock) return 0; // and nothing below it is seen
    let below = 0;
    for (const c of b.below) below = Math.max(below, this.measure(c));
    const own = this.loaded.get(nameOf(b));
    if (!own?.seen) return below;
    own.gap = below || b.spacing;
    return own.gap;
  }

  /** Make visible what pane k sees; only: of one station. */
  show(k: number, only: string | null = null) {
    for (const l of this.loaded.values())
      l.points.visible = (l.seen & (1 << k)) !== 0 && (only === null || only === l.info.station);
  }

  /** Every tile that is drawn in some pane, with its points and marks. */
  *drawnTiles(): Generator<DrawnTile> {
    for (const l of this.loaded.values()) {
      const entry = this.groups.get(l.info.station);
      if (!l.seen || !entry?.group.visible) continue;
      const mark = (l.points.geometry.getAttribute("mark") as THREE.BufferAttribute).array as Uint8Array;
      const tint = (l.points.geometry.getAttribute("tint") as THREE.BufferAttribute).array as Uint8Array;
      yield { info: l.info, matrix: entry.group.matrix, xyz: l.xyz, mark, tint, seen: l.seen, gap: l.gap };
    }
  }

  /** Height of the floor below a place, as it is drawn. */
  floorBelow(at: THREE.Vector3): number | null {
    return floorBelow(this.drawnTiles(), at);
  }

  /** The tiles that are seen, with the pixels between their points; below one that is not seen nobody looks. */
  private wanted(need: Need) {
    const found: { info: Branch; entry: Entry; worth: number; seen: number }[] = [];
    const [low, high] = [new THREE.Vector3(), new THREE.Vector3()];
    for (const entry of this.groups.values()) {
      if (!entry.group.visible) continue;
      const left = [...entry.roots];
      for (let info = left.pop(); info; info = left.pop()) {
        if (info.count === 0) continue;
        low.fromArray(info.low);
        high.fromArray(info.high);
        const radius = low.distanceTo(high) / 2;
        const centre = low.add(high).multiplyScalar(0.5).applyMatrix4(entry.group.matrix);
        let [worth, seen] = [0, 0];
        need(centre, radius, info.spacing, info.station).forEach((pixels, k) => {
          if (pixels > (info.level === 0 ? 0 : ENOUGH)) seen |= 1 << k;
          worth = Math.max(worth, info.level === 0 && pixels > 0 ? 1e6 : pixels);
        });
        if (!seen) continue;
        info.looked = this.clock;
        found.push({ info, entry, worth, seen });
        for (const b of info.below) left.push(b);
      }
    }
    return found;
  }

  /** The ends of the scale for a colour, from the points in view. */
  spanOf(by: ColourBy, shown?: (x: number, y: number, z: number) => boolean): [number, number] {
    const form = (station: string) =>
      this.groups.get(station)?.material.uniforms["expected"]!.value as THREE.Matrix4 | undefined;
    return spanOf(this.drawnTiles(), by, form, shown);
  }

  get busy() {
    return this.flying.size > 0;
  }

  /** How many tiles could not be read and wait to be asked for again. */
  get failing() {
    return this.failed.size;
  }

  /** Ask at once for the tiles that failed. */
  retry() {
    for (const f of this.failed.values()) f.until = 0;
    this.changed();
  }

  /** Fetch something once at a time, and again after ever longer pauses when it fails. */
  private ask(name: string, fetch: (signal: AbortSignal) => Promise<void>) {
    const pausing = (this.failed.get(name)?.until ?? 0) > performance.now();
    if (this.flying.has(name) || this.flying.size >= AT_ONCE || pausing) return;
    const control = new AbortController();
    this.flying.set(name, control);
    fetch(control.signal)
      .then(() => this.failed.delete(name))
      .catch(() => {
        const tries = (this.failed.get(name)?.tries ?? 0) + 1;
        const pause = Math.min(30_000, 500 * 2 ** tries);
        this.failed.set(name, { tries, until: performance.now() + pause });
        if (!this.stopped) setTimeout(() => !this.stopped && this.changed(), pause + 10);
      })
      .finally(() => {
        this.flying.delete(name);
        if (!this.stopped) this.changed();
      });
  }

  private async grow(station: string, signal: AbortSignal) {
    const roots = readTree(station, await this.source.tree(station, signal));
    const entry = this.groups.get(station);
    if (entry) Object.assign(entry, { roots, whole: true });
  }

  private async load(info: Branch, layers: number, signal: AbortSignal) {
    const body = await this.source.tile(info, layers, signal);
    const entry = this.groups.get(info.station);
    if (this.stopped || !entry) return;
    const xyz = new Float32Array(body, 0, info.count * 3);
    const geometry = new THREE.BufferGeometry();
    geometry.setAttribute("position", new THREE.BufferAttribute(xyz, 3));
    geometry.setAttribute(
      "tint",
      new THREE.BufferAttribute(new Uint8Array(body, info.count * 12, info.count * 4), 4, true),
    );
    geometry.setAttribute("apart", new THREE.BufferAttribute(new Int16Array(info.count).fill(-32768), 1));
    geometry.setAttribute("mark", new THREE.BufferAttribute(new Uint8Array(info.count), 1));
    geometry.setAttribute("kind", new THREE.BufferAttribute(new Uint8Array(info.count), 1));
    const [low, high] = [new THREE.Vector3().fromArray(info.low), new THREE.Vector3().fromArray(info.high)];
    geometry.boundingSphere = new THREE.Box3(low, high).getBoundingSphere(new THREE.Sphere());
    const points = new THREE.Points(geometry, entry.material);
    points.matrixAutoUpdate = false;
    const name = nameOf(info);
    this.drop(name); // the same points with layers of before
    entry.group.add(points);
    points.updateMatrixWorld(true);
    const l: Loaded = {
      info,
      layers,
      points,
      xyz,
      used: this.clock,
      seen: 0,
      gap: info.spacing,
      apart: "",
      size: body.byteLength,
      shown: false,
    };
    this.bytes.fetched += body.byteLength;
    points.onBeforeRender = () => {
      entry.material.uniforms["spacing"]!.value = l.gap;
      entry.material.uniformsNeedUpdate = true;
    };
    this.loaded.set(name, l);
    if (this.told.has(name)) this.mark(l);
  }

  /** Let go of what was not needed for longest, beyond the points that are kept. */
  private forget() {
    let total = 0;
    for (const l of this.loaded.values()) total += l.info.count;
    if (total <= this.kept) return;
    const old = [...this.loaded.values()].filter((l) => l.used < this.clock).sort((a, b) => a.used - b.used);
    for (const l of old) {
      if (total <= this.kept) break;
      total -= l.info.count;
      this.drop(nameOf(l.info));
    }
  }

  private drop(id: string) {
    const l = this.loaded.get(id);
    if (!l) return;
    l.points.removeFromParent();
    l.points.geometry.dispose();
    this.loaded.delete(id);
  }

  dispose() {
    this.stopped = true;
    for (const c of this.flying.values()) c.abort();
    for (const id of [...this.loaded.keys()]) this.drop(id);
    for (const { material } of this.groups.values()) material.dispose();
  }
}

export function matrix(pose: number[] | null): THREE.Matrix4 {
  const m = new THREE.Matrix4();
  if (pose) m.set(...(pose as Parameters<THREE.Matrix4["set"]>));
  return m;
}
