/** The panorama: a look round from a station. */
import * as THREE from "three";
import { NEAREST, Pane } from "./pane";

const [NARROWEST, WIDEST] = [1.5, 100]; // degrees that a panorama sees from bottom to top

/** A look round from a station, in its own axes: what was scanned from here has no gaps seen from here. */
export class PanoramaPane extends Pane {
  constructor(readonly kind: "panorama" | "panorama2" = "panorama") {
    super();
  }

  readonly camera = new THREE.PerspectiveCamera(70, 1, 0.05, 1000);
  protected override get eye() {
    return -0.02;
  }
  yaw = 0;
  pitch = 0;
  wide = 70; // degrees from bottom to top
  private pose = new THREE.Matrix4();

  /** Stand at a station; pose: T_part_station, row by row. */
  stand(station: string, pose: number[] | null) {
    this.only = station;
    this.pose.identity();
    if (pose) this.pose.set(...(pose as Parameters<THREE.Matrix4["set"]>));
    this.middle.setFromMatrixPosition(this.pose);
  }

  get metre() {
    return this.rect.h / (2 * Math.tan((this.wide * Math.PI) / 360));
  }

  shaded() {
    return true;
  }

  cut() {
    return null;
  }

  protected setCamera() {
    const c = this.camera;
    c.fov = this.wide;
    c.aspect = this.rect.w / this.rect.h;
    c.position.copy(this.middle);
    const way = new THREE.Vector3(
      Math.cos(this.yaw) * Math.cos(this.pitch),
      Math.sin(this.yaw) * Math.cos(this.pitch),
      Math.sin(this.pitch),
    );
    c.up.setFromMatrixColumn(this.pose, 2);
    c.lookAt(way.applyMatrix4(this.pose));
  }

  /** Turn the head: what is under the hand stays under it. */
  shift(dx: number, dy: number) {
    this.yaw += dx / this.metre / Math.max(0.2, Math.cos(this.pitch));
    this.pitch = Math.max(-1.5, Math.min(1.5, this.pitch + dy / this.metre));
  }

  override centre(place: THREE.Vector3) {
    this.lookAt(place);
  }

  /** Look where another panorama looks, and as closely. */
  follow(other: PanoramaPane) {
    const way = new THREE.Vector3();
    other.camera.getWorldDirection(way);
    this.lookAt(way.add(this.middle));
    this.wide = other.wide;
  }

  /** Look at a place of the part. */
  lookAt(place: THREE.Vector3) {
    const d = place.clone().applyMatrix4(this.pose.clone().invert());
    this.yaw = Math.atan2(d.y, d.x);
    this.pitch = Math.atan2(d.z, Math.hypot(d.x, d.y));
  }

  zoom(factor: number) {
    this.wide = Math.max(NARROWEST, Math.min(WIDEST, this.wide * factor));
  }

  frame() {
    this.wide = 70;
    this.pitch = 0;
  }

  protected pixelsAt(centre: THREE.Vector3, radius: number, spacing: number) {
    return (spacing / Math.max(NEAREST, centre.distanceTo(this.middle) - radius)) * this.metre;
  }
}
