import { expect, test } from "vitest";
import { errorAt, formOf } from "./expected";

test("the expected error grows with the distance from what is held, and is unknown where nothing is tied", () => {
  // 0.1 mm of shift, and a turn about z of 0.01 mrad: at 30 m sideways 0.3 mm more, along the axis nothing
  const form = formOf([1e-4, 0, 0, 0, 0, 1e-4, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0.01]);
  expect(errorAt(form, 0, 0, 50)).toBeCloseTo(0.1, 9);
  expect(errorAt(form, 30, 0, 0)).toBeCloseTo(Math.hypot(0.1, 0.3), 9);
  expect(errorAt(formOf(null), 1, 2, 3)).toBeNaN();
});
