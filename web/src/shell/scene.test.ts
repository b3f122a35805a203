import { describe, expect, test } from "vitest";
import type { Link, Network, Project, Sighting, Station } from "../api/client";
import { boxesShown, boxInfo, dots, seen, stationInfos, strings } from "./scene";

const station = (id: string, part: string) => ({ id, part, pose: POSE, tied: true }) as unknown as Station;
const POSE = Array.from({ length: 16 }, (_, k) => Number(k % 5 === 0));

describe("which stations are shown", () => {
  const all = [station("a", "P"), station("b", "Q"), station("c", "Q"), station("d", "R")];
  test("those of the largest part, until another is in view", () => {
    expect([...seen(all, {})]).toEqual(["b", "c"]);
    expect([...seen(all, {}, "P")]).toEqual(["a"]);
    expect([...seen(all, {}, "gone")]).toEqual(["b", "c"]);
  });
  test("and never two parts at once, whatever eyes are open", () =>
    expect([...seen(all, { a: true, b: false, d: true }, "Q")]).toEqual(["c"]));
  test("lamps of other parts have no place in the picture", () => {
    const infos = stationInfos(all, seen(all, {}), [], undefined, null);
    expect(infos.map((s) => s.pose !== null)).toEqual([false, true, true, false]);
  });
});

describe("links as strings", () => {
  const link = (id: string, part: Partial<Link>) =>
    ({ id, a: "a", b: "b", used: true, status: "slack", residual_mm: 3, fit_rms_mm: 1, ...part }) as Link;
  const network = {
    links: [
      link("1", {}),
      link("2", { residual_mm: 12 }),
      link("3", { used: false, status: "taut" }),
      link("4", { residual_mm: 900 }),
    ],
  } as Network;
  const project = { profile: { fit: 0.006 } } as unknown as Project;
  test("sag with the residual over the tolerance, up to a limit", () => {
    const [one, two, four] = strings(network, project, null, []);
    expect(two!.sag - one!.sag).toBeCloseTo((0.05 * 9) / 6, 9);
    expect(four!.sag).toBe(0.22);
  });
  test("what is switched off shows only with its station or itself, and loose", () => {
    expect(strings(network, project, null, []).map((k) => k.id)).not.toContain("3");
    expect(strings(network, project, "3", []).find((k) => k.id === "3")?.status).toBe("loose");
    expect(strings(network, project, null, ["b"]).map((k) => k.id)).toContain("3");
  });
  test("there are none before the network is there", () => expect(strings(undefined, undefined, null, [])).toEqual([]));
});

test("a target is one dot however often it was seen, in the part that is in view", () => {
  const sighting = (target: string | null, part: string, position: number[]) =>
    ({ target, target_name: `${target} of ${part}`, part, position }) as Sighting;
  const found = dots(
    [
      sighting("T1", "P", [1, 2, 3]),
      sighting("T1", "P", [1, 2, 3.001]),
      sighting("T1", "Q", [9, 9, 9]),
      sighting(null, "P", [0, 0, 0]),
    ],
    "T1",
    "P",
  );
  expect(found).toEqual([{ at: [1, 2, 3], label: "T1 of P", selected: true }]);
});

test("only crop boxes that are on, and of the part in view, crop", () => {
  const box = { id: "x", centre: [0, 0, 0], half: [1, 1, 1], yaw: 0.2, outside: false, outline: null };
  const shown = (active: boolean, part: string, ofView: string | null = null) =>
    boxesShown([{ ...box, active, part } as never, { ...box, id: "y", active: true, part: "P" } as never], "P", ofView)
      .map(boxInfo)
      .map((b) => b.id);
  expect(shown(false, "P")).toEqual(["y"]);
  expect(shown(true, "Q")).toEqual(["y"]);
  expect(shown(true, "P")).toEqual(["x", "y"]);
  expect(shown(true, "P", "none")).toEqual([]); // a view that had none
  expect(shown(false, "P", "x")).toEqual(["x"]);
});

test("by held group, a station has the colour of its group, and none when it is in none", () => {
  const all = [station("a", "P"), station("b", "P")];
  const hues = (groups: { stations: string[] }[] | null) =>
    stationInfos(all, new Set(["a", "b"]), [], undefined, "P", groups).map((s) => s.hue);
  expect(hues([{ stations: ["x"] }, { stations: ["b"] }])).toEqual([-1, 1]);
  expect(hues(null)).toEqual(all.map((s) => s.hue));
});
