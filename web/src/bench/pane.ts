/**
 * Panes: one view of the project each, its camera, and how points and pixels belong together.
 *
 * Terms: middle: the place a pane looks at, in the coordinates of the part in view; cut: what of the depth it shows.
 */
import * as THREE from "three";
import type { PaneKind, Rect, Slab } from "./types";

/** Points are shown where low <= normal . p + offset <= high. Metres. */
export interface Cut {
  normal: THREE.Vector3;
  offset: number;
  low: number;
  high: number;
}

/** Whether a cut leaves a point out. */
export function beyond(cut: Cut | null, x: number, y: number, z: number): boolean {
  if (!cut) return false;
  const at = cut.normal.x * x + cut.normal.y * y + cut.normal.z * z + cut.offset;
  return at < cut.low || at > cut.high;
}

const EYE = 1.65; // metres above the floor from which one looks round on a walk
const WIDE = (25 * Math.PI) / 180; // half the angle that a space pane sees from bottom to top
export const NEAREST = 0.3; // metres from the eye within which a tile is as large as it gets

export abstract class Pane {
  rect: Rect = { x: 0, y: 0, w: 1, h: 1 };
  touched = false; // somebody moved it: leave it where it is
  only: string | null = null; // the one station it shows; null: all that are visible
  readonly middle = new THREE.Vector3();
  /** What lies beyond this z of the camera is behind it. */
  protected get eye(): number {
    return Infinity;
  }
  abstract readonly kind: PaneKind;
  abstract readonly camera: THREE.PerspectiveCamera | THREE.OrthographicCamera;

  /** What of the depth the pane shows; null: everything. */
  abstract cut(slab: Slab): Cut | null;
  /** Shift the middle by pixels. */
  abstract shift(dx: number, dy: number, slab: Slab): void;
  /** Look at everything between low and high. */
  abstract frame(low: THREE.Vector3, high: THREE.Vector3): void;
  /** Closer (factor below 1) or farther, about a pixel; under: the point there, where one is known. */
  abstract zoom(factor: number, px: number, py: number, slab: Slab, under: THREE.Vector3 | null): void;
  /** Pixels that `spacing` metres take at a place. */
  protected abstract pixelsAt(centre: THREE.Vector3, radius: number, spacing: number): number;
  protected abstract setCamera(slab: Slab): void;
  /** Pixels that a metre takes (in perspective: at a depth of one metre). */
  abstract readonly metre: number;
  /** Whether surfaces are closed and shaded; else each point is a point, as a cut wants it. */
  abstract shaded(slab: Slab): boolean;

  /** Bring a place into the middle. */
  centre(place: THREE.Vector3) {
    this.middle.copy(place);
  }

  /** Put the camera where the pane's state says. */
  place(slab: Slab) {
    this.setCamera(slab);
    this.camera.updateProjectionMatrix();
    this.camera.updateMatrixWorld(true);
  }

  /** clip = view * [x y z 1]: sixteen numbers row by row; -1..1 in depth is what the pane shows. */
  view(slab: Slab): number[] {
    const m = new THREE.Matrix4()
      .multiplyMatrices(this.camera.projectionMatrix, this.camera.matrixWorldInverse)
      .transpose()
      .toArray();
    const cut = this.cut(slab);
    if (cut) this.cutDepth(m, cut);
    return m;
  }

  /** Make the depth row of a view say where the cut is. */
  protected cutDepth(m: number[], { normal: n, offset, low, high }: Cut) {
    const [half, middle] = [(high - low) / 2, (high + low) / 2];
    m.splice(8, 4, n.x / half, n.y / half, n.z / half, (offset - middle) / half);
  }

  /** A point -> pixels of the bench, null when behind the camera. */
  pixel(x: number, y: number, z: number): [number, number] | null {
    const v = new THREE.Vector3(x, y, z).applyMatrix4(this.camera.matrixWorldInverse);
    if (v.z > this.eye) return null;
    v.applyMatrix4(this.camera.projectionMatrix);
    return [this.rect.x + ((v.x + 1) / 2) * this.rect.w, this.rect.y + ((1 - v.y) / 2) * this.rect.h];
  }

  /** Pixels of the bench -> -1..1 */
  flat(px: number, py: number): [number, number] {
    return [((px - this.rect.x) / this.rect.w) * 2 - 1, 1 - ((py - this.rect.y) / this.rect.h) * 2];
  }

  contains(px: number, py: number) {
    const { x, y, w, h } = this.rect;
    return px >= x && px < x + w && py >= y && py < y + h;
  }

  /** Pixels that `spacing` metres take at a tile; 0 when it is cut away or out of sight. */
  pixelsOf(centre: THREE.Vector3, radius: number, spacing: number, frustum: THREE.Frustum, slab: Slab): number {
    const cut = this.cut(slab);
    if (cut) {
      const at = cut.normal.dot(centre) + cut.offset;
      if (at + radius < cut.low || at - radius > cut.high) return 0;
    }
    return frustum.intersectsSphere(new THREE.Sphere(centre, radius)) ? this.pixelsAt(centre, radius, spacing) : 0;
  }
}

/** A perspective view that turns about its middle; a lid may hide what lies above it. */
export class SpacePane extends Pane {
  readonly kind = "space";
  private wideAngle = new THREE.PerspectiveCamera(50, 1, 0.05, 500);
  private parallelLens = new THREE.OrthographicCamera(-1, 1, 1, -1, -1000, 1000);
  parallel = false; // lengths are true at every depth
  walking = false; // the eye is where the pane looks from, and stays above the floor
  protected override get eye() {
    return this.camera === this.parallelLens ? Infinity : -0.02;
  }
  distance = 30;
  yaw = -0.9;
  pitch = 0.8;

  get camera() {
    return this.parallel && !this.walking ? this.parallelLens : this.wideAngle;
  }

  get metre() {
    const far = this.rect.h / (2 * Math.tan(WIDE));
    return this.camera === this.parallelLens ? far / this.distance : far;
  }

  shaded() {
    return true;
  }

  cut(slab: Slab): Cut | null {
    return slab.cutLid && !this.walking
      ? { normal: new THREE.Vector3(0, 0, 1), offset: -slab.lid, low: -1e9, high: 0 }
      : null;
  }

  protected override cutDepth(m: number[], { offset }: Cut) {
    if (this.camera === this.parallelLens) {
      m.splice(8, 4, 0, 0, 1e-4, 1 + 1e-4 * offset);
      return;
    }
    // depth = w + 1e-4 (z + offset): beyond 1 exactly above the lid
    m.splice(8, 4, m[12]!, m[13]!, m[14]! + 1e-4, m[15]! + 1e-4 * offset);
  }

  protected setCamera() {
    const c = this.camera;
    const [wide, high] = [this.rect.w / 2 / this.metre, this.rect.h / 2 / this.metre];
    const back = new THREE.Vector3(
      Math.cos(this.yaw) * Math.cos(this.pitch),
      Math.sin(this.yaw) * Math.cos(this.pitch),
      Math.sin(this.pitch),
    );
    c.position.copy(this.middle).addScaledVector(back, this.walking ? 0 : this.distance);
    c.up.set(0, 0, 1);
    c.lookAt(c.position.clone().sub(back));
    if (c instanceof THREE.OrthographicCamera) Object.assign(c, { left: -wide, right: wide, bottom: -high, top: high });
    else {
      c.aspect = this.rect.w / this.rect.h;
      const far = this.walking ? 5 : this.distance;
      c.near = Math.max(0.03, far * 0.01);
      c.far = far * 10 + 300;
    }
  }

  /** Turn about a place, which stays where it is on the screen. */
  turn(dx: number, dy: number, about: THREE.Vector3 = this.middle) {
    if (this.walking) {
      this.yaw += dx / this.metre; // as one turns one's head: what is under the hand stays under it
      this.pitch = Math.max(-1.5, Math.min(1.5, this.pitch + dy / this.metre));
      return;
    }
    const pitch = Math.max(-1.5, Math.min(1.55, this.pitch + dy * 0.006));
    const side = new THREE.Vector3(-Math.sin(this.yaw), Math.cos(this.yaw), 0); // to the right of the view
    const off = this.middle.clone().sub(about);
    off.applyAxisAngle(side, this.pitch - pitch).applyAxisAngle(new THREE.Vector3(0, 0, 1), -dx * 0.006);
    this.middle.copy(about).add(off);
    this.yaw -= dx * 0.006;
    this.pitch = pitch;
  }

  /** Look from a direction: radians from east, and up. */
  from(yaw: number, pitch: number) {
    this.yaw = yaw;
    this.pitch = pitch;
    this.touched = true;
  }

  /** A step: metres ahead and to the right; floor: the height below a place, where it is known. */
  step(ahead: number, right: number, floor: (at: THREE.Vector3) => number | null) {
    this.middle.x += -Math.cos(this.yaw) * ahead - Math.sin(this.yaw) * right;
    this.middle.y += -Math.sin(this.yaw) * ahead + Math.cos(this.yaw) * right;
    this.settle(floor);
  }

  /** Bring the eye to its height above the floor. */
  settle(floor: (at: THREE.Vector3) => number | null) {
    const z = floor(this.middle);
    if (z !== null) this.middle.z = z + EYE;
  }

  /** Begin a walk where the pane looks, or end it: then it looks at what lay ahead. */
  walk(on: boolean, floor: (at: THREE.Vector3) => number | null) {
    if (on === this.walking) return;
    this.walking = on;
    this.touched = true;
    if (on) {
      const z = floor(this.middle.clone().setZ(this.middle.z + EYE)) ?? floor(this.middle);
      this.middle.z = (z ?? this.middle.z - EYE) + EYE;
      this.pitch = 0;
    } else [this.distance, this.pitch] = [12, 0.6];
  }

  shift(dx: number, dy: number) {
    if (this.walking) return this.step(0.01 * dy, -0.01 * dx, () => null);
    const step = (2 * this.distance * Math.tan(WIDE)) / this.rect.h;
    const e = this.camera.matrixWorld.elements;
    this.middle.x += (-dx * e[0] + dy * e[4]) * step;
    this.middle.y += (-dx * e[1] + dy * e[5]) * step;
    this.middle.z += (-dx * e[2] + dy * e[6]) * step;
  }

  zoom(factor: number, _px: number, _py: number, _slab: Slab, under: THREE.Vector3 | null) {
    if (this.walking) return this.step(3 * Math.log(1 / factor), 0, () => null);
    if (under) this.middle.lerp(under, 1 - factor);
    this.distance = Math.max(0.15, Math.min(800, this.distance * factor));
  }

  frame(low: THREE.Vector3, high: THREE.Vector3) {
    this.walking = false;
    this.middle.copy(low).add(high).multiplyScalar(0.5);
    this.distance = Math.max(6, high.clone().sub(low).length() * 0.85);
  }

  protected pixelsAt(centre: THREE.Vector3, radius: number, spacing: number) {
    if (this.camera === this.parallelLens) return spacing * this.metre;
    const d = Math.max(NEAREST, centre.distanceTo(this.camera.position) - radius);
    return (spacing / d) * this.metre;
  }
}

/** A parallel view at a scale. */
export abstract class FlatPane extends Pane {
  readonly camera = new THREE.OrthographicCamera(-1, 1, 1, -1, -1000, 1000);
  scale = 0.05; // metres a pixel

  get metre() {
    return 1 / this.scale;
  }

  /** Pixels -> the point of the pane's plane. */
  abstract at(px: number, py: number, slab: Slab): THREE.Vector3;
  protected abstract look(slab: Slab): void;

  protected setCamera(slab: Slab) {
    const [c, { w, h }] = [this.camera, this.rect];
    [c.left, c.right] = [(-w / 2) * this.scale, (w / 2) * this.scale];
    [c.bottom, c.top] = [(-h / 2) * this.scale, (h / 2) * this.scale];
    this.look(slab);
  }

  /** Metres from the middle of the pane, to the right and up. */
  protected off(px: number, py: number): [number, number] {
    const { x, y, w, h } = this.rect;
    return [(px - x - w / 2) * this.scale, (h / 2 - (py - y)) * this.scale];
  }

  zoom(factor: number, px: number, py: number, slab: Slab) {
    const before = this.at(px, py, slab);
    this.scale = Math.max(0.0002, Math.min(2, this.scale * factor));
    this.middle.add(before.sub(this.at(px, py, slab)));
  }

  protected pixelsAt(_centre: THREE.Vector3, _radius: number, spacing: number) {
    return spacing / this.scale;
  }
}

/** From above, of a level slab or of everything. */
export class PlanPane extends FlatPane {
  readonly kind = "plan";

  shaded(slab: Slab) {
    return !slab.cutPlan;
  }

  cut(slab: Slab): Cut | null {
    if (!slab.cutPlan) return null;
    const half = slab.planDepth / 2;
    return { normal: new THREE.Vector3(0, 0, 1), offset: -slab.height, low: -half, high: half };
  }

  protected look() {
    this.camera.position.copy(this.middle);
    this.camera.up.set(0, 1, 0);
    this.camera.lookAt(this.middle.x, this.middle.y, this.middle.z - 1);
  }

  at(px: number, py: number, slab: Slab) {
    const [dx, dy] = this.off(px, py);
    return new THREE.Vector3(this.middle.x + dx, this.middle.y + dy, slab.height);
  }

  shift(dx: number, dy: number) {
    this.middle.x -= dx * this.scale;
    this.middle.y += dy * this.scale;
  }

  frame(low: THREE.Vector3, high: THREE.Vector3) {
    this.middle.copy(low).add(high).multiplyScalar(0.5);
    const size = high.clone().sub(low);
    this.scale = Math.max(size.x / this.rect.w, size.y / this.rect.h, 0.004) * 1.08;
  }
}

/** From the side, of an upright slab that runs in a direction. */
export class SlicePane extends FlatPane {
  readonly kind = "slice";

  shaded() {
    return false;
  }

  cut(slab: Slab): Cut {
    const n = normal(slab);
    const half = slab.sliceDepth / 2;
    return { normal: n, offset: -(n.x * slab.origin[0] + n.y * slab.origin[1]), low: -half, high: half };
  }

  protected look(slab: Slab) {
    const along = new THREE.Vector3(Math.cos(slab.azimuth), Math.sin(slab.azimuth), 0);
    const offset = (this.middle.x - slab.origin[0]) * along.x + (this.middle.y - slab.origin[1]) * along.y;
    this.middle.x = slab.origin[0] + along.x * offset; // stays on the slice
    this.middle.y = slab.origin[1] + along.y * offset;
    this.camera.position.copy(this.middle);
    this.camera.up.set(0, 0, 1);
    this.camera.lookAt(this.middle.clone().add(normal(slab)));
  }

  at(px: number, py: number, slab: Slab) {
    const [dx, dy] = this.off(px, py);
    return new THREE.Vector3(
      this.middle.x + dx * Math.cos(slab.azimuth),
      this.middle.y + dx * Math.sin(slab.azimuth),
      this.middle.z + dy,
    );
  }

  shift(dx: number, dy: number, slab: Slab) {
    this.middle.x -= dx * this.scale * Math.cos(slab.azimuth);
    this.middle.y -= dx * this.scale * Math.sin(slab.azimuth);
    this.middle.z += dy * this.scale;
  }

  frame(low: THREE.Vector3, high: THREE.Vector3) {
    this.middle.copy(low).add(high).multiplyScalar(0.5);
    const size = high.clone().sub(low);
    this.scale = Math.max(Math.hypot(size.x, size.y) / this.rect.w, size.z / this.rect.h, 0.004) * 1.05;
  }
}

/** Unit normal of the upright slice: to the left of the direction it runs. */
export function normal(slab: Slab): THREE.Vector3 {
  return new THREE.Vector3(-Math.sin(slab.azimuth), Math.cos(slab.azimuth), 0);
}
