import { expect, test } from "vitest";
import { contoursOf, roundStep } from "./contours";
import type { StationInfo } from "./types";

const station = (x: number, expected: number[] | null): StationInfo => ({
  ...{
    id: String(x),
    name: "ST",
    hue: 0,
    sigma: null,
    visible: true,
    points: 1,
    layers: 0,
    low: [0, 0, 0],
    high: [0, 0, 0],
  },
  ...{ root: { count: 1, spacing: 1 }, selected: false, expected },
  pose: [1, 0, 0, x, 0, 1, 0, 0, 0, 0, 1, 2, 0, 0, 0, 1],
});

test("contours run where the expected error has their value: round a station that only turns about itself", () => {
  const turning = [0.01, 0, 0, 0, 0, 0.01, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0.0001]; // mm2: 0.1 mm a metre aside, 0.01 at the station
  const found = contoursOf([station(5, turning)], 2);
  expect(found.map((c) => c.mm)).toEqual([0.5, 1]);
  for (const { mm, lines } of found)
    for (const [x, y] of lines.flat())
      if (Math.abs(x - 5) < 7 && Math.abs(y) < 7) expect(Math.hypot(x - 5, y) * 0.1).toBeCloseTo(mm, 1);
  expect(contoursOf([station(0, null)], 0)).toEqual([]);
  // the datum errs by nothing wherever one looks; beside it the other one is heard
  const both = contoursOf([station(0, Array<number>(16).fill(0)), station(20, [...Array<number>(15).fill(0), 1])], 2);
  const half = both.find((c) => Math.abs(c.mm - 0.6) < 1e-9)!;
  const crossing = half.lines.flat().filter(([x, y]) => Math.abs(y) < 0.5 && x > 0 && x < 20);
  for (const [x] of crossing)
    expect((1 / (1 + (20 - x) ** 2) ** 2 / (1 / (1 + (20 - x) ** 2) ** 2 + 1 / (1 + x * x) ** 2)) ** 0.5).toBeCloseTo(
      0.6,
      1,
    );
  expect(crossing.length).toBeGreaterThan(0);
});

test("steps are round, and few lines lie between two values", () => {
  for (const span of [0.013, 0.7, 1, 4.9, 5.1, 1234]) {
    expect(span / roundStep(span)).toBeLessThanOrEqual(5);
    expect(span / roundStep(span)).toBeGreaterThan(1.9);
  }
});
