/** What the bench is to show, from server state and view state. */
import type { Box, Network, Project, Sighting, Station } from "../api/client";
import type { BoxInfo, DotInfo, StationInfo, StringInfo } from "../bench/types";

/** Stations with an open eye: those somebody switched, else all placed ones of the main part, else the first. */
export function seen(stations: Station[], eyes: Record<string, boolean>): Set<string> {
  const placed = stations.filter((s) => s.pose && s.part === 0);
  const first = placed.length ? placed : stations.slice(0, 1);
  const usual = new Set(first.map((s) => s.id));
  return new Set(stations.filter((s) => eyes[s.id] ?? usual.has(s.id)).map((s) => s.id));
}

export function stationInfos(
  stations: Station[],
  shown: Set<string>,
  selected: string[],
  link: { a: string; b: string } | undefined,
): StationInfo[] {
  return stations.map((s) => ({
    id: s.id,
    name: s.name,
    hue: s.hue,
    pose: s.pose,
    sigma: s.pose ? s.sigma_position_mm : null,
    visible: shown.has(s.id),
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

export function dots(sightings: Sighting[], target: string | null): DotInfo[] {
  const out = new Map<string, DotInfo>();
  for (const g of sightings)
    if (g.target && g.position && !out.has(g.target))
      out.set(g.target, { at: g.position, label: g.target, selected: g.target === target });
  return [...out.values()];
}

export function boxInfo(boxes: Box[]): BoxInfo | null {
  const b = boxes.find((x) => x.active);
  return b ? { centre: b.centre, half: b.half, yaw: b.yaw } : null;
}
