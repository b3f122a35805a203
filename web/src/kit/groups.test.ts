import { expect, test } from "vitest";
import type { Group } from "../api/client";
import { lines, stationsUnder, within } from "./groups";

const group = (id: string, parent: string | null, ...stations: string[]): Group => ({
  id,
  name: id,
  parent,
  stations,
  held: false,
  version: 1,
});
const GROUPS = [group("mill", null, "a"), group("cellar", "mill", "b", "c"), group("yard", null, "x")];
const STATIONS = ["c", "b", "a", "loose"].map((id) => ({ id }));
const said = (folded: Record<string, boolean>) =>
  lines(STATIONS, GROUPS, folded).map(
    (l) => " ".repeat(l.depth) + ("group" in l ? `${l.group.id} ${l.stations.length}` : l.station.id),
  );

test("a group has its own groups before its stations; who is in none comes last; a group without a station here is not shown", () => {
  expect(said({})).toEqual(["mill 3", " cellar 2", "  c", "  b", " a", "loose"]);
  expect(said({ cellar: true })).toEqual(["mill 3", " cellar 2", " a", "loose"]);
  expect(said({ mill: true })).toEqual(["mill 3", "loose"]);
});

test("what is under a group is what is in it and in all within", () => {
  expect(stationsUnder(GROUPS, "mill").sort()).toEqual(["a", "b", "c"]);
  expect(within(GROUPS, "gone")).toEqual([]);
});
