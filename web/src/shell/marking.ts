/** What the server marks of points, brought to the bench: deleted and hidden ones, what is selected, classes and zones. */
import { useEffect, useMemo, useRef, type RefObject } from "react";
import type { Bench } from "../bench/bench";
import type { MarkOf } from "../bench/marked";
import { bytes } from "../api/client";
import { cache, tellError, useClasses, useEdits, useSelection, useZones } from "../api/queries";
import { useView } from "../kit/view";

const NONE: never[] = [];
export const SLOTS = 24; // colours for classes and zones

/** Ask for marks of stations; after a failure all are asked for again. */
function ask(
  id: string,
  bench: RefObject<Bench | null>,
  of: MarkOf | "kinds",
  stations: Iterable<string>,
  query: string,
  whole: boolean,
  failed: () => void,
) {
  const path = of === "kinds" ? "kinds" : "marks";
  for (const s of stations)
    bytes(`/api/projects/${id}/stations/${s}/${path}?${query}`)
      .then((body) => {
        bench.current?.cloud.setMarks(of, s, body, whole);
        bench.current?.marked();
      })
      .catch((e: unknown) => {
        failed();
        tellError(e);
      });
}

export function useMarking(id: string, bench: RefObject<Bench | null>) {
  const { step, colourBy } = useView();
  const edits = useEdits(id).data;
  const zones = useZones(id).data;
  const selection = useSelection(id).data;
  const classes = useClasses(id).data ?? NONE;

  // Deleted points: all of them first, then of each change the tiles that it touched.
  type Known = Map<string, { active: boolean; count: number; stations: string[] }>;
  const known = useRef<Known | null>(null);
  const hidden = useRef<Set<string>>(new Set());
  const chosen = useRef<Set<string>>(new Set());
  useEffect(() => {
    known.current = null;
    hidden.current = new Set();
    chosen.current = new Set();
  }, [id]);
  useEffect(() => {
    if (!edits) return;
    const before = known.current;
    const now: Known = new Map(edits.filter((e) => e.does === "delete").map((e) => [e.id, e]));
    known.current = now;
    const ids = new Set([...now.keys(), ...(before?.keys() ?? [])]);
    const on = (of: Known | null, e: string) => (of?.get(e)?.active ? of.get(e)!.count : 0);
    const changed = [...ids].filter((e) => on(now, e) !== on(before, e));
    const asked = new Set(
      changed.flatMap((e) => [...(now.get(e)?.stations ?? []), ...(before?.get(e)?.stations ?? [])]),
    );
    const partly = changed.some((e) => on(now, e) > 0 && on(before, e) > 0); // what came back of it, it no longer names
    const query = before && !partly && changed.length < 100 ? changed.map((e) => `changed=${e}`).join("&") : "";
    ask(id, bench, "deleted", asked, query, query === "", () => (known.current = null));
  }, [id, edits, bench]);

  const out = useMemo(() => new Set((zones ?? NONE).filter((z) => !z.shown).map((z) => z.id)), [zones]);
  useEffect(() => {
    if (!zones) return;
    const below = (z: (typeof zones)[number]): boolean =>
      out.has(z.id) || zones.some((p) => p.id === z.parent_id && below(p));
    const now = new Set(zones.filter(below).flatMap((z) => z.stations));
    const asked = new Set([...now, ...hidden.current]);
    hidden.current = now;
    ask(id, bench, "hidden", asked, "of=hidden", true, () => undefined);
  }, [id, zones, out, bench]);

  const seen = step === "clean";
  useEffect(() => {
    if (!selection) return;
    const now = new Set(seen ? selection.stations.map((s) => s.station) : []);
    const gone = [...chosen.current].filter((s) => !now.has(s));
    chosen.current = now;
    for (const s of gone) bench.current?.cloud.setMarks("selected", s, new ArrayBuffer(0), true);
    if (gone.length) bench.current?.draw();
    ask(id, bench, "selected", now, "of=selected", true, () => undefined);
    // the revision says all: who asks again gets the same
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [id, selection?.revision, seen, bench]);

  const by = colourBy === "class" ? "class" : colourBy === "zone" ? "zone" : null;
  const told = by === "class" ? edits : zones;
  useEffect(() => {
    if (!by || !told) return;
    const stations = cache.getQueryData<{ id: string }[]>([id, "stations"]) ?? [];
    ask(
      id,
      bench,
      "kinds",
      stations.map((s) => s.id),
      `by=${by}`,
      true,
      () => undefined,
    );
  }, [id, by, told, bench]);

  const slots = useMemo(() => {
    const out = new Uint8Array(256);
    if (by === "class") classes.forEach((c, k) => (out[c.code] = 1 + (k % SLOTS)));
    if (by === "zone")
      (zones ?? NONE).filter((z) => z.kind === "zone").forEach((z, k) => (out[1 + (k % 255)] = 1 + z.hue));
    return out;
  }, [by, classes, zones]);
  return { slots };
}
