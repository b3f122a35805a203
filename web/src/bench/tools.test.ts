import * as THREE from "three";
import { describe, expect, it } from "vitest";
import { PlanPane, SpacePane } from "./pane";
import { into } from "./tools";
import type { Slab } from "./types";

const slab: Slab = {
  height: 1,
  planDepth: 1,
  origin: [0, 0],
  azimuth: 0,
  sliceDepth: 1,
  cutPlan: true,
  lid: 9,
  cutLid: false,
};

describe("how far a brush goes in", () => {
  it("is measured away from the eye in space, and straight down in plan", () => {
    const space = new SpacePane();
    space.rect = { x: 0, y: 0, w: 600, h: 400 };
    space.place(slab);
    const at = new THREE.Vector3(3, 2, 1);
    const eye = space.camera.position.clone();
    const end = into(space, at, 0.15);
    expect(end.distanceTo(at)).toBeCloseTo(0.15, 9);
    expect(end.distanceTo(eye)).toBeCloseTo(at.distanceTo(eye) + 0.15, 9); // on the same ray, behind it
    const plan = new PlanPane();
    plan.rect = { x: 0, y: 0, w: 600, h: 400 };
    plan.place(slab);
    expect(into(plan, at, 0.15).toArray()).toEqual([3, 2, expect.closeTo(0.85, 9)]);
  });
});
