/** The points on the graphics card: tiles fetched coarse first, drawn within a budget. */
import * as THREE from "three";
import { HUES } from "./palette";
import { nameOf, type ColourBy, type TileInfo } from "./types";

const VERTEX = `
attribute vec4 tint; attribute float mark;
uniform int mode; uniform vec3 hue; uniform vec2 heights; uniform vec4 plane; uniform vec2 depth;
uniform float size; uniform float perspective; uniform mat4 boxFrame; uniform vec3 boxHalf;
varying vec3 shade;
vec3 viridis(float t) {
  vec3 c0 = vec3(.277,.005,.334), c1 = vec3(.105,1.404,1.384), c2 = vec3(-.330,.214,.095), c3 = vec3(-4.634,-5.799,-19.332);
  vec3 c4 = vec3(6.228,14.179,56.690), c5 = vec3(4.776,-13.745,-65.353), c6 = vec3(-5.435,4.645,26.312);
  return c0 + t*(c1 + t*(c2 + t*(c3 + t*(c4 + t*(c5 + t*c6)))));
}
void main() {
  vec4 world = modelMatrix * vec4(position, 1.0);
  vec4 seen = viewMatrix * world;
  gl_Position = projectionMatrix * seen;
  float d = dot(plane.xyz, world.xyz) + plane.w;
  bool out_ = (mark > .5 && mark < 1.5) || d < depth.x || d > depth.y;
  if (boxHalf.x > 0.0) { vec3 q = abs((boxFrame * world).xyz); out_ = out_ || any(greaterThan(q, boxHalf)); }
  if (out_) gl_Position = vec4(2.0, 2.0, 2.0, 1.0);
  gl_PointSize = perspective > .5 ? clamp(size * 14.0 / max(.5, -seen.z), 1.5, 6.0) : size;
  if (mode == 0) shade = hue * (.45 + .75 * tint.a);
  else if (mode == 1) shade = viridis(clamp(tint.a, 0.0, 1.0));
  else if (mode == 2) shade = viridis(clamp((world.z - heights.x) / (heights.y - heights.x), 0.0, 1.0));
  else shade = tint.rgb;
  if (mark > 1.5) shade = vec3(1.0, .72, .05);
}`;
const FRAGMENT = `varying vec3 shade; void main() { gl_FragColor = vec4(shade, 1.0); }`;
const MODES: ColourBy[] = ["station", "intensity", "height", "colour"];

/** Uniforms all stations share; panes set them before they draw. */
export interface Shared {
  mode: { value: number };
  heights: { value: THREE.Vector2 };
  plane: { value: THREE.Vector4 };
  depth: { value: THREE.Vector2 };
  size: { value: number };
  perspective: { value: number };
  boxFrame: { value: THREE.Matrix4 };
  boxHalf: { value: THREE.Vector3 };
}

/** What an outline of a view takes in. */
export interface Chosen {
  view: number[];
  outline: number[][];
  stations: string[];
}

/** Even-odd rule (Shimrat 1962) in the view of the outline, for points of a station with this pose. */
function insideOf(c: Chosen, pose: THREE.Matrix4) {
  const m = new THREE.Matrix4().set(...(c.view as Parameters<THREE.Matrix4["set"]>)).multiply(pose).elements;
  const xs = c.outline.map((p) => p[0]!);
  const ys = c.outline.map((p) => p[1]!);
  const [x0, x1, y0, y1] = [Math.min(...xs), Math.max(...xs), Math.min(...ys), Math.max(...ys)];
  return (px: number, py: number, pz: number) => {
    const w = m[3] * px + m[7] * py + m[11] * pz + m[15];
    if (w <= 0) return false;
    const x = (m[0] * px + m[4] * py + m[8] * pz + m[12]) / w;
    const y = (m[1] * px + m[5] * py + m[9] * pz + m[13]) / w;
    if (x < x0 || x > x1 || y < y0 || y > y1) return false;
    if (Math.abs(m[2] * px + m[6] * py + m[10] * pz + m[14]) > w) return false;
    let inside = false;
    for (let i = 0, j = xs.length - 1; i < xs.length; j = i++)
      if (ys[i]! > y !== ys[j]! > y && x < ((xs[j]! - xs[i]!) * (y - ys[i]!)) / (ys[j]! - ys[i]!) + xs[i]!)
        inside = !inside;
    return inside;
  };
}

interface Loaded {
  info: TileInfo;
  points: THREE.Points;
  xyz: Float32Array;
  used: number;
}

export class Cloud {
  readonly scene = new THREE.Scene();
  readonly shared: Shared = {
    mode: { value: 0 },
    heights: { value: new THREE.Vector2(-4, 8) },
    plane: { value: new THREE.Vector4(0, 0, 1, 0) },
    depth: { value: new THREE.Vector2(-1e9, 1e9) },
    size: { value: 2 },
    perspective: { value: 1 },
    boxFrame: { value: new THREE.Matrix4() },
    boxHalf: { value: new THREE.Vector3(-1, -1, -1) },
  };
  private groups = new Map<string, { group: THREE.Group; material: THREE.ShaderMaterial }>();
  private tiles: TileInfo[] = [];
  private loaded = new Map<string, Loaded>();
  private flying = new Map<string, AbortController>();
  private failed = new Map<string, { tries: number; until: number }>();
  private marks = new Map<string, Uint8Array>(); // of a tile: one bit per point
  private chosen: Chosen | null = null;
  private clock = 0;
  private stopped = false;
  drawn = 0;

  constructor(
    private fetchTile: (tile: TileInfo, signal: AbortSignal) => Promise<ArrayBuffer>,
    private changed: () => void,
    public budget: number,
  ) {}

  setColour(by: ColourBy) {
    this.shared.mode.value = MODES.indexOf(by);
  }

  setStations(stations: { id: string; hue: number; pose: number[] | null; visible: boolean }[]) {
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
        const material = new THREE.ShaderMaterial({
          vertexShader: VERTEX,
          fragmentShader: FRAGMENT,
          uniforms: { ...this.shared, hue: { value: new THREE.Color(HUES[s.hue % 12]) } } as unknown as Record<
            string,
            THREE.IUniform
          >,
        });
        const group = new THREE.Group();
        group.matrixAutoUpdate = false;
        entry = { group, material };
        this.groups.set(s.id, entry);
        this.scene.add(group);
      }
      entry.group.matrix.copy(matrix(s.pose));
      entry.group.updateMatrixWorld(true);
      entry.group.visible = s.visible;
      if (!s.visible) for (const name of this.failed.keys()) if (name.startsWith(`${s.id}/`)) this.failed.delete(name);
    }
  }

  setTiles(tiles: TileInfo[]) {
    if (this.tiles !== tiles) this.failed.clear();
    this.tiles = tiles;
  }

  /** Marks of a station as the server tells them, tile by tile; shown at once on what is loaded. whole: all there are. */
  setMarks(station: string, body: ArrayBuffer, whole: boolean) {
    if (whole) for (const name of this.marks.keys()) if (name.startsWith(`${station}/`)) this.marks.delete(name);
    const told = new Set<string>();
    const view = new DataView(body);
    for (let at = 0; at < body.byteLength;) {
      const name = nameOf({ station, first: Number(view.getBigInt64(at, true)) });
      const bytes = Math.ceil(view.getUint32(at + 8, true) / 8);
      this.marks.set(name, new Uint8Array(body, at + 12, bytes));
      told.add(name);
      at += 12 + bytes;
    }
    for (const [name, l] of this.loaded) if (l.info.station === station && (whole || told.has(name))) this.mark(l);
  }

  /** Light up the points inside an outline (-1..1 of a view, see Pane.view); null puts the light out. */
  light(chosen: Chosen | null) {
    this.chosen = chosen;
    for (const l of this.loaded.values()) this.mark(l);
  }

  private mark(l: Loaded) {
    const bits = this.marks.get(nameOf(l.info));
    const entry = this.groups.get(l.info.station);
    const inside =
      this.chosen && entry && this.chosen.stations.includes(l.info.station)
        ? insideOf(this.chosen, entry.group.matrix)
        : null;
    const attribute = l.points.geometry.getAttribute("mark") as THREE.BufferAttribute;
    const array = attribute.array as Uint8Array;
    for (let k = 0; k < l.info.count; k++) {
      array[k] = bits ? ((bits[k >> 3] ?? 0) >> (k & 7)) & 1 : 0;
      if (inside && !array[k] && inside(l.xyz[3 * k]!, l.xyz[3 * k + 1]!, l.xyz[3 * k + 2]!)) array[k] = 2;
    }
    attribute.needsUpdate = true;
  }

  /**
   * Choose what to show: for each tile the size of its spacing on the screen says how much it is needed.
   * `need(centre, radius, spacing)` gives pixels, 0 when outside every pane.
   */
  refine(need: (centre: THREE.Vector3, radius: number, spacing: number) => number) {
    this.clock++;
    const wanted: { info: TileInfo; worth: number }[] = [];
    const c = new THREE.Vector3();
    for (const info of this.tiles) {
      const entry = this.groups.get(info.station);
      if (!entry?.group.visible) continue;
      c.set(
        (info.low[0]! + info.high[0]!) / 2,
        (info.low[1]! + info.high[1]!) / 2,
        (info.low[2]! + info.high[2]!) / 2,
      ).applyMatrix4(entry.group.matrix);
      const radius =
        Math.hypot(info.high[0]! - info.low[0]!, info.high[1]! - info.low[1]!, info.high[2]! - info.low[2]!) / 2;
      const pixels = need(c, radius, info.spacing);
      const worth = info.level === 0 && pixels > 0 ? 1e6 : pixels;
      if (worth > 1.1) wanted.push({ info, worth });
    }
    wanted.sort((a, b) => b.worth - a.worth);
    let room = this.budget;
    const keep = new Set<string>();
    const now = performance.now();
    for (const { info } of wanted) {
      if (room <= 0) break;
      const name = nameOf(info);
      room -= info.count;
      keep.add(name);
      const have = this.loaded.get(name);
      if (have) have.used = this.clock;
      else if (!this.flying.has(name) && this.flying.size < 6 && (this.failed.get(name)?.until ?? 0) <= now)
        void this.load(info);
    }
    this.drawn = 0;
    for (const [id, l] of this.loaded) {
      l.points.visible = keep.has(id);
      if (l.points.visible) this.drawn += l.info.count;
    }
    this.forget();
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

  private async load(info: TileInfo) {
    const control = new AbortController();
    const name = nameOf(info);
    this.flying.set(name, control);
    try {
      const body = await this.fetchTile(info, control.signal);
      const entry = this.groups.get(info.station);
      if (this.stopped || !entry) return;
      const xyz = new Float32Array(body, 0, info.count * 3);
      const geometry = new THREE.BufferGeometry();
      geometry.setAttribute("position", new THREE.BufferAttribute(xyz, 3));
      geometry.setAttribute(
        "tint",
        new THREE.BufferAttribute(new Uint8Array(body, info.count * 12, info.count * 4), 4, true),
      );
      geometry.setAttribute("mark", new THREE.BufferAttribute(new Uint8Array(info.count), 1));
      geometry.boundingSphere = new THREE.Sphere(
        new THREE.Vector3(
          (info.low[0]! + info.high[0]!) / 2,
          (info.low[1]! + info.high[1]!) / 2,
          (info.low[2]! + info.high[2]!) / 2,
        ),
        Math.hypot(info.high[0]! - info.low[0]!, info.high[1]! - info.low[1]!, info.high[2]! - info.low[2]!) / 2,
      );
      const points = new THREE.Points(geometry, entry.material);
      points.matrixAutoUpdate = false;
      entry.group.add(points);
      points.updateMatrixWorld(true);
      const l = { info, points, xyz, used: this.clock };
      this.loaded.set(name, l);
      this.failed.delete(name);
      if (this.marks.has(name) || this.chosen) this.mark(l);
    } catch {
      const tries = (this.failed.get(name)?.tries ?? 0) + 1;
      const pause = Math.min(30_000, 500 * 2 ** tries);
      this.failed.set(name, { tries, until: performance.now() + pause });
      if (!this.stopped) setTimeout(() => !this.stopped && this.changed(), pause + 10);
    } finally {
      this.flying.delete(name);
      if (!this.stopped) this.changed();
    }
  }

  /** Let go of what was not needed for longest, beyond one and a half budgets. */
  private forget() {
    let total = 0;
    for (const l of this.loaded.values()) total += l.info.count;
    if (total < this.budget * 1.5) return;
    const old = [...this.loaded.values()].filter((l) => l.info.level > 0).sort((a, b) => a.used - b.used);
    for (const l of old) {
      if (total < this.budget * 1.5 || l.used === this.clock) break;
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

  /** All drawn points in project coordinates, tile by tile, that pass `inside`. */
  nearest(test: (x: number, y: number, z: number) => number): THREE.Vector3 | null {
    let best = Infinity;
    const found = new THREE.Vector3();
    for (const l of this.loaded.values()) {
      const entry = this.groups.get(l.info.station);
      if (!l.points.visible || !entry?.group.visible) continue;
      const e = entry.group.matrix.elements;
      const mark = (l.points.geometry.getAttribute("mark") as THREE.BufferAttribute).array as Uint8Array;
      for (let k = 0, i = 0; k < l.info.count; k++, i += 3) {
        if (mark[k] === 1) continue;
        const [x, y, z] = [l.xyz[i]!, l.xyz[i + 1]!, l.xyz[i + 2]!];
        const px = e[0] * x + e[4] * y + e[8] * z + e[12];
        const py = e[1] * x + e[5] * y + e[9] * z + e[13];
        const pz = e[2] * x + e[6] * y + e[10] * z + e[14];
        const v = test(px, py, pz);
        if (v < best) {
          best = v;
          found.set(px, py, pz);
        }
      }
    }
    return best < Infinity ? found : null;
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
