import { describe, expect, test } from "vitest";
import type { Link, Network, Project, Sighting, Station } from "../api/client";
import { boxInfo, dots, seen, strings } from "./scene";

const station = (id: string, pose: number[] | null = null, part = 0) => ({ id, pose, part }) as Station;
const POSE = Array.from({ length: 16 }, (_, k) => Number(k % 5 === 0));

describe("which stations are shown", () => {
  test("the first alone, until some are placed", () =>
    expect([...seen([station("a"), station("b")], {})]).toEqual(["a"]));
  test("then all placed ones of the main part", () =>
    expect([...seen([station("a", POSE), station("b", POSE, 1), station("c", POSE), station("d")], {})]).toEqual([
      "a",
      "c",
    ]));
  test("and what somebody switched stays as it was switched", () =>
    expect([...seen([station("a", POSE), station("b")], { a: false, b: true })]).toEqual(["b"]));
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

test("a target is one dot however often it was seen, and none without a place", () => {
  const sighting = (target: string, position: number[] | null) => ({ target, position }) as Sighting;
  const found = dots(
    [sighting("T1", [1, 2, 3]), sighting("T1", [1, 2, 3.001]), sighting("T2", null), sighting("", [0, 0, 0])],
    "T1",
  );
  expect(found).toEqual([{ at: [1, 2, 3], label: "T1", selected: true }]);
});

test("only a crop box that is on crops", () => {
  const box = { centre: [0, 0, 0], half: [1, 1, 1], yaw: 0.2 };
  expect(boxInfo([{ ...box, active: false } as never])).toBeNull();
  expect(boxInfo([{ ...box, active: true } as never])).toEqual(box);
});
