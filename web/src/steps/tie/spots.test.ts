import { expect, test } from "vitest";
import { bounds, lines, metres } from "./spots";

test("a board shows all spots, and a pixel is the place that it is drawn at", () => {
  const spots = { a: [0, 0], b: [90, 30] } as Record<string, [number, number]>;
  const view = bounds(spots, 760, 470);
  for (const [x, y] of Object.values(spots)) {
    const px: [number, number] = [(x - view.x) / view.size, 470 - (y - view.y) / view.size];
    expect(px[0]).toBeGreaterThan(40);
    expect(px[0]).toBeLessThan(720);
    expect(px[1]).toBeGreaterThan(20);
    expect(px[1]).toBeLessThan(450);
    expect(metres(px, view)[0]).toBeCloseTo(x, 9);
    expect(metres(px, view)[1]).toBeCloseTo(y, 9);
  }
});

test("what is sent names stations as the roster does, also those with a comma", () => {
  const stations = [
    { id: "1", name: "Boiler, east" },
    { id: "2", name: "ST-02" },
    { id: "3", name: "not placed" },
  ];
  expect(lines({ "1": [1.234, -5], "2": [0, 0] }, stations)).toBe("Boiler, east; 1.23; -5.00\nST-02; 0.00; 0.00");
});
