/** Where panes look: as it is kept with a view, and round the stations that are to be seen. */
import * as THREE from "three";
import { FlatPane, type PlanPane, type SlicePane, type SpacePane } from "./pane";
import type { PanoramaPane } from "./panorama";
import type { Cameras, StationInfo } from "./types";

interface Panes {
  space: SpacePane;
  plan: PlanPane;
  slice: SlicePane;
  panorama: PanoramaPane;
}

/** Where the panes look, as it is kept. */
export function camerasOf({ space, plan, slice, panorama }: Panes): Cameras {
  return {
    space: { middle: space.middle.toArray(), yaw: space.yaw, pitch: space.pitch, distance: space.distance },
    plan: { middle: plan.middle.toArray(), scale: plan.scale },
    slice: { middle: slice.middle.toArray(), scale: slice.scale },
    panorama: { yaw: panorama.yaw, pitch: panorama.pitch, wide: panorama.wide },
  };
}

/** Look as it was kept; moved: T_part_base, from the coordinates it was kept in to those of now. */
export function turnTo(panes: Panes, c: Cameras, moved: number[] | null) {
  const m = new THREE.Matrix4();
  if (moved) m.set(...(moved as Parameters<THREE.Matrix4["set"]>));
  const turned = moved ? Math.atan2(moved[4]!, moved[0]!) : 0;
  for (const kind of ["space", "plan", "slice"] as const) {
    const to = c[kind];
    const pane = panes[kind];
    if (!to) continue;
    pane.middle.fromArray(to.middle).applyMatrix4(m);
    if ("scale" in to && pane instanceof FlatPane) pane.scale = to.scale;
    pane.touched = true;
  }
  if (c.space) {
    const { yaw, pitch, distance } = c.space;
    Object.assign(panes.space, { yaw: yaw + turned, pitch, distance });
  }
  if (c.panorama) {
    Object.assign(panes.panorama, c.panorama);
    panes.panorama.touched = true;
  }
}

/** A box round the stations that are selected and visible, or round all that are visible; null without any. */
export function roundStations(stations: StationInfo[], all: boolean): THREE.Box3 | null {
  const some = all ? [] : stations.filter((s) => s.selected && s.visible);
  const which = some.length ? some : stations.filter((s) => s.visible);
  if (!which.length) return null;
  const box = new THREE.Box3();
  for (const s of which) box.expandByPoint(new THREE.Vector3(s.pose?.[3] ?? 0, s.pose?.[7] ?? 0, s.pose?.[11] ?? 0));
  return box.expandByVector(new THREE.Vector3(7, 7, 3.2));
}
