/** Groups of stations as people see them: a tree, in which a group holds stations and other groups. */
import type { Group } from "../api/client";

/** Groups within a group, and the group itself. */
export function within(groups: Group[], id: string): Group[] {
  const own = groups.find((g) => g.id === id);
  return own ? [own, ...groups.filter((g) => g.parent === id).flatMap((g) => within(groups, g.id))] : [];
}

/** The stations under a group. */
export const stationsUnder = (groups: Group[], id: string) => within(groups, id).flatMap((g) => g.stations);

export type Line<S> = { group: Group; depth: number; stations: S[] } | { station: S; depth: number };

/**
 * The lines of a list: of each group that has one of these stations its own line, then (unless it is folded) what is in it; last the
 * stations that are in no group.
 */
export function lines<S extends { id: string }>(
  stations: S[],
  groups: Group[],
  folded: Record<string, boolean>,
): Line<S>[] {
  const below = (parent: string | null, depth: number): Line<S>[] =>
    groups
      .filter((g) => g.parent === parent)
      .flatMap((group) => {
        const ids = new Set(stationsUnder(groups, group.id));
        const own = stations.filter((s) => ids.has(s.id));
        if (!own.length) return [];
        const inside = stations.filter((s) => group.stations.includes(s.id));
        return [
          { group, depth, stations: own },
          ...(folded[group.id]
            ? []
            : [...below(group.id, depth + 1), ...inside.map((station) => ({ station, depth: depth + 1 }))]),
        ];
      });
  const grouped = new Set(groups.flatMap((g) => g.stations));
  return [...below(null, 0), ...stations.filter((s) => !grouped.has(s.id)).map((station) => ({ station, depth: 0 }))];
}
