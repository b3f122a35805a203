import { asCsv } from "./table";
import { describe, expect, test } from "vitest";
import { fixed, grouped, megabytes } from ".";
import { chord } from "./commands";
import { into, inverse, lengthIn, product } from "./units";

const POSE = [0, -1, 0, 437215.5, 1, 0, 0, 5812904.3, 0, 0, 1, 46.25, 0, 0, 0, 1];

describe("frames on the screen", () => {
  test("a point goes into a frame and back", () => {
    const p = [3, 4, 5];
    const there = into(POSE, p);
    expect(there).toEqual([437211.5, 5812907.3, 51.25]);
    into(inverse(POSE), there).forEach((v, k) => expect(v).toBeCloseTo(p[k]!, 6));
  });
  test("a pose times its inverse is nothing", () => {
    product(POSE, inverse(POSE)).forEach((v, k) => expect(v).toBeCloseTo(k % 5 === 0 ? 1 : 0, 6));
  });
});

describe("figures", () => {
  test("have a true minus, no minus zero, and a dash for what is not known", () => {
    expect([0, 7, 999, 1000, 12345, 1234567, 9876543210, -4321].map(grouped)).toEqual([
      "0",
      "7",
      "999",
      "1,000",
      "12,345",
      "1,234,567",
      "9,876,543,210",
      "-4,321",
    ]);
    expect([fixed(-1.25, 1), fixed(-0.04, 1), fixed(null), fixed(Number.NaN), fixed(2, 3)]).toEqual([
      "−1.3",
      "0.0",
      "–",
      "–",
      "2.000",
    ]);
  });
  test("come in the unit of the project", () => {
    expect([lengthIn(1.5, "m"), lengthIn(-1.5, "mm"), lengthIn(0.3048, "ft")]).toEqual(["1.500", "−1500", "1.000"]);
    expect(megabytes(17_200_000)).toBe("17.2 MB");
  });
});

test("keys are named as the sheet of keys names them", () => {
  const key = (part: Partial<KeyboardEvent>) =>
    chord({ ctrlKey: false, metaKey: false, shiftKey: false, ...part } as KeyboardEvent);
  expect([
    key({ key: "z", ctrlKey: true }),
    key({ key: "Z", metaKey: true, shiftKey: true }),
    key({ key: "?", shiftKey: true }),
    key({ key: "Delete" }),
  ]).toEqual(["ctrl+z", "ctrl+shift+z", "?", "Delete"]);
});

test("a ledger as CSV quotes what has to be quoted, and no cell is a formula", () => {
  const text = asCsv([
    ["a", 'say "so", twice'],
    ["=SUM(A1)", "-12.5"],
    ["-ST", "two\nlines"],
  ]);
  expect(text).toBe('a,"say ""so"", twice"\r\n\'=SUM(A1),-12.5\r\n\'-ST,"two\nlines"\r\n');
});
