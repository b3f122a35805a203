/** One view of the project: its camera, and how points and pixels belong together. */
import * as THREE from "three";
import type { PaneKind, Rect, Slab } from "./types";

export class Pane {
  rect: Rect = { x: 0, y: 0, w: 1, h: 1 };
  touched = false; // somebody moved it: leave it where it is
  readonly camera: THREE.PerspectiveCamera | THREE.OrthographicCamera;
  /** space: pivot; plan: middle; slice: middle (all project frame) */
  readonly middle = new THREE.Vector3();
  distance = 30; // space
  yaw = -0.9;
  pitch = 0.8;
  scale = 0.05; // metres a pixel, flat panes

  constructor(readonly kind: PaneKind) {
    this.camera =
      kind === "space"
        ? new THREE.PerspectiveCamera(50, 1, 0.05, 500)
        : new THREE.OrthographicCamera(-1, 1, 1, -1, -1000, 1000);
  }

  /** Put the camera where the pane's state says. */
  place(slab: Slab) {
    const { w, h } = this.rect;
    const c = this.camera;
    if (c instanceof THREE.PerspectiveCamera) {
      const back = new THREE.Vector3(
        Math.cos(this.yaw) * Math.cos(this.pitch),
        Math.sin(this.yaw) * Math.cos(this.pitch),
        Math.sin(this.pitch),
      );
      c.position.copy(this.middle).addScaledVector(back, this.distance);
      c.up.set(0, 0, 1);
      c.lookAt(this.middle);
      c.aspect = w / h;
      c.near = Math.max(0.03, this.distance * 0.01);
      c.far = this.distance * 10 + 300;
    } else {
      c.left = (-w / 2) * this.scale;
      c.right = (w / 2) * this.scale;
      c.top = (h / 2) * this.scale;
      c.bottom = (-h / 2) * this.scale;
      if (this.kind === "plan") {
        c.position.set(this.middle.x, this.middle.y, this.middle.z);
        c.up.set(0, 1, 0);
        c.lookAt(this.middle.x, this.middle.y, this.middle.z - 1);
      } else {
        const n = normal(slab);
        const along = new THREE.Vector3(Math.cos(slab.azimuth), Math.sin(slab.azimuth), 0);
        const offset = (this.middle.x - slab.origin[0]) * along.x + (this.middle.y - slab.origin[1]) * along.y;
        this.middle.x = slab.origin[0] + along.x * offset;
        this.middle.y = slab.origin[1] + along.y * offset;
        c.position.copy(this.middle);
        c.up.set(0, 0, 1);
        c.lookAt(this.middle.clone().add(n));
      }
    }
    c.updateProjectionMatrix();
    c.updateMatrixWorld(true);
  }

  /** clip = view * [x y z 1]: sixteen numbers row by row; -1..1 in depth is what the pane shows, a slab when it has one. */
  view(slab: Slab): number[] {
    const m = new THREE.Matrix4()
      .multiplyMatrices(this.camera.projectionMatrix, this.camera.matrixWorldInverse)
      .transpose()
      .toArray();
    if (this.kind === "plan" && slab.cutPlan) {
      const half = slab.planDepth / 2;
      m.splice(8, 4, 0, 0, 1 / half, -slab.height / half);
    } else if (this.kind === "slice") {
      const half = slab.sliceDepth / 2;
      const n = normal(slab);
      m.splice(8, 4, n.x / half, n.y / half, 0, -(n.x * slab.origin[0] + n.y * slab.origin[1]) / half);
    } else if (this.kind === "space" && slab.cutLid) {
      // depth = w + 1e-4 (z - lid): beyond 1 exactly above the lid
      m.splice(8, 4, m[12], m[13], m[14] + 1e-4, m[15] - 1e-4 * slab.lid);
    }
    return m;
  }

  /** Project point -> pixels of the bench, null when behind the camera. */
  pixel(x: number, y: number, z: number): [number, number] | null {
    const v = new THREE.Vector3(x, y, z).applyMatrix4(this.camera.matrixWorldInverse);
    if (this.kind === "space" && v.z > -0.02) return null;
    v.applyMatrix4(this.camera.projectionMatrix);
    return [this.rect.x + ((v.x + 1) / 2) * this.rect.w, this.rect.y + ((1 - v.y) / 2) * this.rect.h];
  }

  /** Pixels of the bench -> -1..1 */
  flat(px: number, py: number): [number, number] {
    return [((px - this.rect.x) / this.rect.w) * 2 - 1, 1 - ((py - this.rect.y) / this.rect.h) * 2];
  }

  /** Pixels -> the point of a flat pane (project frame). */
  at(px: number, py: number, slab: Slab): THREE.Vector3 {
    const dx = (px - this.rect.x - this.rect.w / 2) * this.scale;
    const dy = (this.rect.h / 2 - (py - this.rect.y)) * this.scale;
    if (this.kind === "plan") return new THREE.Vector3(this.middle.x + dx, this.middle.y + dy, slab.height);
    return new THREE.Vector3(
      this.middle.x + dx * Math.cos(slab.azimuth),
      this.middle.y + dx * Math.sin(slab.azimuth),
      this.middle.z + dy,
    );
  }

  contains(px: number, py: number) {
    const { x, y, w, h } = this.rect;
    return px >= x && px < x + w && py >= y && py < y + h;
  }

  turn(dx: number, dy: number) {
    this.yaw -= dx * 0.006;
    this.pitch = Math.max(-1.5, Math.min(1.55, this.pitch + dy * 0.006));
  }

  shift(dx: number, dy: number, slab: Slab) {
    if (this.kind === "space") {
      const step = (2 * this.distance * Math.tan((25 * Math.PI) / 180)) / this.rect.h;
      const e = this.camera.matrixWorld.elements;
      this.middle.x += (-dx * e[0] + dy * e[4]) * step;
      this.middle.y += (-dx * e[1] + dy * e[5]) * step;
      this.middle.z += (-dx * e[2] + dy * e[6]) * step;
    } else if (this.kind === "plan") {
      this.middle.x -= dx * this.scale;
      this.middle.y += dy * this.scale;
    } else {
      this.middle.x -= dx * this.scale * Math.cos(slab.azimuth);
      this.middle.y -= dx * this.scale * Math.sin(slab.azimuth);
      this.middle.z += dy * this.scale;
    }
  }

  zoom(factor: number, px: number, py: number, slab: Slab, under: THREE.Vector3 | null) {
    if (this.kind === "space") {
      if (under) this.middle.lerp(under, 1 - factor);
      this.distance = Math.max(0.15, Math.min(800, this.distance * factor));
      return;
    }
    const before = this.at(px, py, slab);
    this.scale = Math.max(0.0002, Math.min(2, this.scale * factor));
    const after = this.at(px, py, slab);
    this.middle.add(before.sub(after));
  }

  /** Look at everything between low and high. */
  frame(low: THREE.Vector3, high: THREE.Vector3) {
    this.middle.copy(low).add(high).multiplyScalar(0.5);
    const size = high.clone().sub(low);
    if (this.kind === "space") this.distance = Math.max(6, size.length() * 0.85);
    else if (this.kind === "plan") this.scale = Math.max(size.x / this.rect.w, size.y / this.rect.h, 0.004) * 1.08;
    else this.scale = Math.max(Math.hypot(size.x, size.y) / this.rect.w, size.z / this.rect.h, 0.004) * 1.05;
  }

  /** Pixels that ``spacing`` metres take at a place; 0 when it is out of sight. */
  pixelsOf(centre: THREE.Vector3, radius: number, spacing: number, frustum: THREE.Frustum, slab: Slab): number {
    if (this.kind === "plan" && slab.cutPlan && Math.abs(centre.z - slab.height) > radius + slab.planDepth / 2)
      return 0;
    if (this.kind === "space" && slab.cutLid && centre.z - radius > slab.lid) return 0;
    if (this.kind === "slice") {
      const n = normal(slab);
      if (
        Math.abs(n.x * (centre.x - slab.origin[0]) + n.y * (centre.y - slab.origin[1])) >
        radius + slab.sliceDepth / 2
      )
        return 0;
    }
    if (!frustum.intersectsSphere(new THREE.Sphere(centre, radius))) return 0;
    if (this.kind !== "space") return spacing / this.scale;
    const d = Math.max(0.3, centre.distanceTo(this.camera.position) - radius);
    return ((spacing / d) * this.rect.h) / (2 * Math.tan((25 * Math.PI) / 180));
  }
}

/** Unit normal of the upright slice: to the left of the direction it runs. */
export function normal(slab: Slab): THREE.Vector3 {
  return new THREE.Vector3(-Math.sin(slab.azimuth), Math.cos(slab.azimuth), 0);
}
