/** The server's events: what to read again of the cache when something changed. */
import { create } from "zustand";
import { cache } from "./cache";

/** What every change makes older: the head with its thread, the journal, and whether deliveries are of today. */
const CHANGED = ["project", "journal", "deliveries"];

/** What hangs on which stations are there and where they stand. */
const NETWORK = [
  "stations",
  "network",
  "known",
  "questions",
  "search",
  "acceptances",
  "advice",
  "groups",
  "sightings",
  "control",
  "placements",
  "sections",
  "floors",
  "slab",
  "notes",
  "views",
  "models",
  ...CHANGED,
];

/** What to read again when the server says that a topic changed. */
const FOLLOWS: Record<string, string[]> = {
  job: ["jobs"],
  jobs: ["jobs", "stations", "originals", "project"],
  originals: ["originals", "project"],
  stations: NETWORK,
  network: NETWORK,
  control: ["control", "placements", "notes", ...CHANGED],
  edits: ["edits", "models", "boxes", "zones", "stations", "slab", ...CHANGED],
  zones: ["zones", ...CHANGED],
  selection: ["selection"],
  sections: ["sections", "layers", "sheets", "title-blocks", ...CHANGED],
  notes: ["notes", ...CHANGED],
  views: ["views", ...CHANGED],
  models: ["models", ...CHANGED],
  deliveries: ["deliveries", "jobs", "project"],
};
/** What changes only with the topics that name it (points, which are large), or with its key (a link). */
export const HEAVY = ["slab", "link"];
/** What is read again by its name; a link has another key once it is another one, and may be gone. */
export const keyed = (q: { queryKey: readonly unknown[] }) => q.queryKey[1] !== "link";

/** Whether the server's events reach this page: what is shown is of now only while they do. */
export const useLine = create<{ open: boolean; since: number }>(() => ({ open: true, since: 0 }));
const SILENCE = 25_000; // ms; the server says something every ten seconds

/**
 * Listen to the server's events for a project; returns how to stop. Every (re)connection reads again what was read before
 * it; a line that breaks, or falls silent, is seen and taken up again.
 */
export function listen(project: string): () => void {
  let source: EventSource | null = null;
  let tries = 0;
  let heard = Date.now();
  let retry: ReturnType<typeof setTimeout> | undefined;
  const invalidate = (keys: string[] | null) => {
    if (keys) for (const key of keys) void cache.invalidateQueries({ queryKey: [project, key] });
    else void cache.invalidateQueries({ queryKey: [project], predicate: keyed });
  };
  const lose = () => {
    source?.close();
    source = null;
    if (useLine.getState().open) useLine.setState({ open: false, since: Date.now() });
    clearTimeout(retry);
    retry = setTimeout(connect, Math.min(10_000, 500 * 2 ** tries++));
  };
  const connect = () => {
    const own = new EventSource(`/api/projects/${project}/events`);
    source = own;
    heard = Date.now();
    own.addEventListener("hello", () => {
      heard = Date.now();
      tries = 0;
      useLine.setState({ open: true, since: 0 });
      afresh(project, heard);
    });
    own.addEventListener("beat", () => (heard = Date.now()));
    own.addEventListener("change", (event) => {
      heard = Date.now();
      const { topic } = JSON.parse((event as MessageEvent<string>).data) as { topic: string };
      invalidate(FOLLOWS[topic] ?? null);
    });
    own.addEventListener("error", () => source === own && lose());
  };
  const watch = setInterval(() => source && Date.now() - heard > SILENCE && lose(), 5000);
  connect();
  return () => {
    clearInterval(watch);
    clearTimeout(retry);
    source?.close();
    source = null;
    useLine.setState({ open: true, since: 0 });
  };
}

/** Read again what was read before events reached us; what is just being read is read again once it is here. */
function afresh(project: string, now: number) {
  const own = { queryKey: [project] };
  const flying = cache.getQueryCache().findAll({ ...own, fetchStatus: "fetching" });
  void cache.invalidateQueries({
    ...own,
    predicate: (q) =>
      (keyed(q) || q.state.status === "error") &&
      !flying.includes(q) &&
      (q.state.status === "error" || (q.state.dataUpdatedAt > 0 && q.state.dataUpdatedAt < now)), // what failed, too
  });
  if (flying.length)
    setTimeout(
      () =>
        void cache.invalidateQueries(
          { ...own, predicate: (q) => flying.includes(q) && q.state.dataUpdatedAt < now + 1500 },
          { cancelRefetch: false },
        ),
      1500,
    );
}
