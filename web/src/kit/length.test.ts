/** What people type as lengths and angles, and what comes of it. */
import { expect, test } from "vitest";
import { degreesOf, length, metresOf, shown } from "./length";

test.each([
  ["1,25", "m", 1.25],
  ["1.25 m", "mm", 1.25],
  ["35", "mm", 0.035],
  ["35 mm", "m", 0.035],
  ["−0,4", "m", -0.4],
  ["4' 6\"", "m", 1.3716],
  ["10", "ft", 3.048],
  ["1e3 mm", "m", 1],
  ["12.5cm", "ft", 0.125],
  [" 7 ", "m", 7],
  [".5", "m", 0.5],
  ["-2' 6\"", "m", -0.762],
] as const)("%s in %s is %d metres", (text, unit, metres) => expect(metresOf(text, unit)).toBeCloseTo(metres, 12));

test.each(["", " ", "m", "1.2.3", "1,000,5", "two", "1 2", "3 furlongs", "-", "Infinity", "1m -2mm"])(
  "%j is no length",
  (text) => expect(metresOf(text, "m")).toBeNull(),
);

test("angles are degrees or gon", () =>
  expect([degreesOf("12,5"), degreesOf("100 gon"), degreesOf("-3°"), degreesOf("x"), degreesOf("")]).toEqual([
    12.5,
    90,
    -3,
    null,
    null,
  ]));

test("what a field first shows is as exact as the value, and reads back to it within a tenth of a millimetre", () => {
  for (const unit of ["m", "mm", "ft"] as const)
    for (const v of [437_215.4823, -1.23456, 0, 0.05]) expect(metresOf(shown(v, unit), unit)).toBeCloseTo(v, 4);
  expect(shown(0.05, "m")).toBe("0.05");
});

test("rules say what is expected, in the unit of the field", () => {
  const told = (text: string, ...rule: Parameters<typeof length>) =>
    length(...rule).safeParse(text).error?.issues[0]?.message ?? "good";
  expect(told("0", "m", { above: 0 })).toBe("more than 0 m");
  expect(told("9", "mm", { least: 0.01 })).toBe("at least 10 mm");
  expect(told("6000", "m", { most: 5000 })).toBe("at most 5000 m");
  expect(told("x", "m", { angle: true })).toContain("angle");
  expect(told("1,5", "m", { above: 0, most: 2 })).toBe("good");
});
