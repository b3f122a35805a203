/** What the bench is to show, from server state and view state. */
import {
  bytes,
  type Box,
  type Edit,
  type Network,
  type Note,
  type Project,
  type Search,
  type Sighting,
  type Station,
} from "../api/client";
import type { Source } from "../bench/cloud";
import { EYE, into } from "../kit/units";
import type { Matching } from "../kit/view";
import type { BoxInfo, DotInfo, NoteInfo, PaneKind, Rect, StationInfo, StringInfo, UnderInfo } from "../bench/types";

const asked = Number(new URLSearchParams(globalThis.location?.search ?? "").get("budget"));
/** Points drawn at rest, and while something moves. */
export const STILL = asked > 0 ? asked : 3_000_000;
export const QUICK = Math.min(STILL, 1_000_000) / (asked > 0 ? 4 : 1);

/** Places of panes: beside each other on a wide bench, above each other on a high one or with a slice. */
export function rects(kinds: PaneKind[], w: number, h: number): { kind: PaneKind; rect: Rect }[] {
  const [a, b, c] = kinds;
  if (!a) return [];
  if (!b) return [{ kind: a, rect: { x: 0, y: 0, w, h } }];
  const rows = !c && (kinds.includes("slice") || w < h * 1.2);
  if (!c) {
    const [half, rest] = rows ? [Math.round(h / 2), h - Math.round(h / 2)] : [Math.round(w / 2), w - Math.round(w / 2)];
    return rows
      ? [
          { kind: a, rect: { x: 0, y: 0, w, h: half } },
          { kind: b, rect: { x: 0, y: half, w, h: rest } },
        ]
      : [
          { kind: a, rect: { x: 0, y: 0, w: half, h } },
          { kind: b, rect: { x: half, y: 0, w: rest, h } },
        ];
  }
  const [left, top] = [Math.round(w * 0.55), Math.round(h / 2)];
  return [
    { kind: a, rect: { x: 0, y: 0, w: left, h } },
    { kind: b, rect: { x: left, y: 0, w: w - left, h: top } },
    { kind: c, rect: { x: left, y: top, w: w - left, h: h - top } },
  ];
}

/** How the points of a project's stations are asked for: the revision of a station's layers is part of a tile's address. */
export function sourceOf(project: string): Source {
  const tiles = (station: string) => `/api/projects/${project}/stations/${station}/tiles`;
  return {
    apart: (t, other, signal) =>
      bytes(
        other === "models"
          ? `/api/projects/${project}/stations/${t.station}/models/${t.first}`
          : `${tiles(t.station)}/${t.first}/apart/${other}`,
        signal,
      ),
    tree: (station, signal) => bytes(tiles(station), signal),
    tile: (t, layers, signal) => bytes(`${tiles(t.station)}/${t.first}${layers ? `?revision=${layers}` : ""}`, signal),
  };
}

/** The part that is shown first: the largest. */
export function mainPart(stations: Station[]): string | null {
  const size = new Map<string | null, number>();
  for (const s of stations) size.set(s.part, (size.get(s.part) ?? 0) + 1);
  let best: string | null = null;
  for (const [part, n] of size) if (n > (size.get(best) ?? 0)) best = part;
  return best;
}

/** Stations of the part in view (else of the largest) whose eye nobody closed: two parts never share a picture. */
export function seen(stations: Station[], eyes: Record<string, boolean>, part: string | null = null): Set<string> {
  const shown = part && stations.some((s) => s.part === part) ? part : mainPart(stations);
  return new Set(stations.filter((s) => s.part === shown && (eyes[s.id] ?? true)).map((s) => s.id));
}

export function stationInfos(
  stations: Station[],
  shown: Set<string>,
  selected: string[],
  link: { a: string; b: string } | undefined,
  part: string | null = null,
  groups: { stations: string[] }[] | null = null, // colours are those of groups; null: of stations
): StationInfo[] {
  part ??= mainPart(stations);
  return stations.map((s) => ({
    id: s.id,
    name: s.name,
    hue: groups ? groups.findIndex((g) => g.stations.includes(s.id)) : s.hue,
    pose: s.part === part ? s.pose : null,
    sigma: s.tied ? s.sigma_position_mm : null,
    expected: s.expected_mm2,
    visible: shown.has(s.id),
    points: s.points,
    layers: s.layers,
    low: s.low,
    high: s.high,
    root: s.root,
    selected: selected.includes(s.id) || link?.a === s.id || link?.b === s.id,
  }));
}

/** Links as strings; the sag grows with the residual over the tolerance of the profile. */
export function strings(
  network: Network | undefined,
  project: Project | undefined,
  selected: string | null,
  through: string[],
): StringInfo[] {
  const tolerance = 1000 * Number(project?.profile["fit"] ?? 0.006);
  return (network?.links ?? [])
    .filter((k) => k.used || k.id === selected || through.includes(k.a) || through.includes(k.b))
    .map((k) => ({
      id: k.id,
      a: k.a,
      b: k.b,
      status: k.used ? k.status : ("loose" as const),
      sag: Math.min(0.22, 0.06 + (0.05 * (k.residual_mm ?? k.fit_rms_mm)) / tolerance),
      selected: k.id === selected,
    }));
}

export function dots(sightings: Sighting[], target: string | null, part: string | null): DotInfo[] {
  const out = new Map<string, DotInfo>();
  for (const g of sightings)
    if (g.target && g.part === part && !out.has(g.target))
      out.set(g.target, { at: g.position, label: g.target_name, selected: g.target === target });
  return [...out.values()];
}

/** Where one more set-up would hold the network better. */
export const advised = (places: { at: number[] }[]): DotInfo[] =>
  places.map((p, k) => ({ at: p.at, label: `set-up ${k + 1}`, selected: true }));

/** Things that filters found to have moved, and nobody decided on. */
export function moved(edits: Edit[]): DotInfo[] {
  const found = edits.filter((e) => e.proposed && e.detail.at);
  const few = found.length <= NAMED; // the list says what the others are: their names would hide what they stand for
  return found.map((e) => ({ at: e.detail.at!, label: few ? e.title.split(" seen")[0]! : "", selected: false }));
}
const NAMED = 6;

/** The field sketch under the plan of a part, where a picture lies below it and two of its stations stand there. */
export function underPlan(project: string, search: Search | undefined, part: string | null): UnderInfo | null {
  const laid = search?.laid.find((l) => l.part === part);
  if (!search?.picture || !laid) return null;
  const { id, wide, high, x, y, size } = search.picture;
  const [a, b, e, c, d, f] = laid.T_part_sketch as [number, number, number, number, number, number];
  const top = y + high * size; // pixels go down from there
  return {
    url: `/api/projects/${project}/pictures/${id}/file`,
    wide,
    T: [a * size, -b * size, a * x + b * top + e, c * size, -d * size, c * x + d * top + f],
  };
}

/** What was picked in two scans, as it lies in each of them. */
export function matchDots(m: Matching, stations: StationInfo[]): DotInfo[] {
  return (["a", "b"] as const).flatMap((key) => {
    const pose = stations.find((s) => s.id === m[key])?.pose ?? EYE;
    return m.rows.flatMap((r, k) => {
      const p = r[key];
      return p ? [{ at: into(pose, p), label: String(k + 1), selected: false, only: m[key] }] : [];
    });
  });
}

/** Kept measures of the part in view. */
export const noteInfos = (notes: Note[], part: string | null, chosen: string | null): NoteInfo[] =>
  notes
    .filter((n) => n.part === part)
    .map((n) => ({
      id: n.id,
      points: n.kind === "box" ? edgesOf(n.points) : n.points,
      closed: n.kind === "area",
      label: n.name,
      selected: n.id === chosen,
    }));

/** All edges of a box, one after the other, from a corner and where its three edges from there end. */
function edgesOf([o, a, b, c]: number[][]): number[][] {
  const at = (i: number, j: number, k: number) =>
    o!.map((v, n) => v + i * (a![n]! - v) + j * (b![n]! - v) + k * (c![n]! - v));
  const low = [at(0, 0, 0), at(1, 0, 0), at(1, 1, 0), at(0, 1, 0), at(0, 0, 0)];
  const high = [at(0, 0, 1), at(1, 0, 1), at(1, 0, 0), at(1, 0, 1), at(1, 1, 1), at(1, 1, 0), at(1, 1, 1)];
  return [...low, ...high, at(0, 1, 1), at(0, 1, 0), at(0, 1, 1), at(0, 0, 1)];
}

/** The box that crops what is shown: that of a view, while it stands, else the one that is on. */
export const boxesShown = (boxes: Box[], part: string | null, ofView: string | null): Box[] =>
  boxes.filter((x) => x.part === part && (ofView === null ? x.active : ofView.split(" ").includes(x.id)));

export function boxInfo({ id, centre, half, yaw, outside, outline }: BoxInfo): BoxInfo {
  return { id, centre, half, yaw, outside, outline };
}
