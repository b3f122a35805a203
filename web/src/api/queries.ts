/** Server state lives only here, in the query cache; events of the server say what to read again. */
import { useInfiniteQuery, useMutation, useQuery, type UseQueryResult } from "@tanstack/react-query";
import { useCallback } from "react";
import { create } from "zustand";
import { useView } from "../kit/view";
import { cache, useGone } from "./cache";
import { bytes, http, type Link, Refusal, sent, type Project } from "./client";

export { cache, useGone };

export interface Notice {
  id: number;
  message: string;
  remedy: string;
  good: boolean;
  then?: { words: string; alt: string; run: () => void }; // what can be done about it: taken back, or looked at
}
/** What is worth telling, in the order in which it happened; errors stay until they are dismissed. */
export const useNotices = create<{ notices: Notice[] }>(() => ({ notices: [] }));
let told = 0;
export function tell(message: string, remedy = "", good = true, then?: Notice["then"]) {
  useNotices.setState(({ notices }) => {
    const others = notices.filter((n) => n.message !== message || n.remedy !== remedy); // said again, it moves to the end
    const done = others.filter((n) => n.good).slice(good ? -1 : -2); // what went well gives way to what is new
    const kept = others.filter((n) => !n.good || done.includes(n));
    return { notices: [...kept, { id: ++told, message, remedy, good, then }].slice(-5) };
  });
}
export const dismiss = (id: number) =>
  useNotices.setState(({ notices }) => ({ notices: notices.filter((n) => n.id !== id) }));
export function tellError(error: unknown) {
  const r = error instanceof Refusal ? error : new Refusal("unexpected", String(error), "reload the page", 0);
  tell(r.message.charAt(0).toUpperCase() + r.message.slice(1), r.remedy, false);
  if (r.status === 409) void cache.invalidateQueries();
}

const path = (project_id: string) => ({ params: { path: { project_id } } });

export const useProjects = () => useQuery({ queryKey: ["projects"], queryFn: () => sent(http.GET("/api/projects")) });
/** The head of a project, in the coordinates and the unit of the part that is in view. */
export function useProject(id: string): UseQueryResult<Project> {
  const part = useView((s) => s.part);
  const select = useCallback((p: Project) => inPart(p, part), [part]);
  return useQuery({
    queryKey: [id, "project"],
    queryFn: () => sent(http.GET("/api/projects/{project_id}", path(id))),
    select,
  });
}
export function inPart(p: Project, part: string | null): Project {
  const own = p.parts.find((q) => q.id === part);
  if (!own) return p;
  const { id, frame, frame_name, unit, T_frame_part } = own;
  return { ...p, part: id, frame, frame_name, unit, T_frame_part };
}
export const useStations = (id: string) =>
  useQuery({
    queryKey: [id, "stations"],
    queryFn: () => sent(http.GET("/api/projects/{project_id}/stations", path(id))),
  });
export const useNetwork = (id: string) =>
  useQuery({
    queryKey: [id, "network"],
    queryFn: () => sent(http.GET("/api/projects/{project_id}/network", path(id))),
  });
export const useKnown = (id: string) =>
  useQuery({ queryKey: [id, "known"], queryFn: () => sent(http.GET("/api/projects/{project_id}/known", path(id))) });
/** A link with all that is known of it: read again when what the network lists of it has changed, never once it is gone from there. */
export const useLink = (id: string, link: Link) =>
  useQuery({
    queryKey: [id, "link", link.id, link],
    queryFn: () =>
      sent(
        http.GET("/api/projects/{project_id}/links/{link_id}", {
          params: { path: { project_id: id, link_id: link.id } },
        }),
      ),
    placeholderData: (before, query) => (query?.queryKey[2] === link.id ? before : undefined),
  });
export const useQuestions = (id: string) =>
  useQuery({
    queryKey: [id, "questions"],
    queryFn: () => sent(http.GET("/api/projects/{project_id}/questions", path(id))),
  });
export const useSearch = (id: string) =>
  useQuery({ queryKey: [id, "search"], queryFn: () => sent(http.GET("/api/projects/{project_id}/search", path(id))) });
export const useAcceptances = (id: string) =>
  useQuery({
    queryKey: [id, "acceptances"],
    queryFn: () => sent(http.GET("/api/projects/{project_id}/acceptances", path(id))),
  });
export const usePictures = (id: string) =>
  useQuery({
    queryKey: [id, "pictures"],
    queryFn: () => sent(http.GET("/api/projects/{project_id}/pictures", path(id))),
  });
export const useNotes = (id: string) =>
  useQuery({ queryKey: [id, "notes"], queryFn: () => sent(http.GET("/api/projects/{project_id}/notes", path(id))) });
export const useModels = (id: string) =>
  useQuery({ queryKey: [id, "models"], queryFn: () => sent(http.GET("/api/projects/{project_id}/models", path(id))) });
export const useComparison = (id: string, model: string, at: string) =>
  useQuery({
    queryKey: [id, "comparison", model, at],
    enabled: at !== "",
    queryFn: () =>
      sent(
        http.GET("/api/projects/{project_id}/models/{model_id}/compared", {
          params: { path: { project_id: id, model_id: model } },
        }),
      ),
  });
/** Where a section cuts the models that are shown; of: what that hangs on. */
export const useDesign = (id: string, section: string | null, of: string) =>
  useQuery({
    queryKey: [id, "design", section, of],
    enabled: section !== null && of !== "",
    queryFn: () =>
      sent(
        http.GET("/api/projects/{project_id}/sections/{section_id}/design", {
          params: { path: { project_id: id, section_id: section! } },
        }),
      ),
  });
export const useViews = (id: string) =>
  useQuery({ queryKey: [id, "views"], queryFn: () => sent(http.GET("/api/projects/{project_id}/views", path(id))) });
export const useGroups = (id: string) =>
  useQuery({ queryKey: [id, "groups"], queryFn: () => sent(http.GET("/api/projects/{project_id}/groups", path(id))) });
/** What would hold the part in view better; asked of the server only while somebody looks at it. */
export function useAdvice(id: string, wanted: boolean) {
  const project = useProject(id).data;
  const part = project?.part;
  return useQuery({
    queryKey: [id, "advice", part],
    enabled: wanted && project !== undefined,
    queryFn: () =>
      sent(
        http.GET("/api/projects/{project_id}/advice", {
          params: { path: { project_id: id }, query: part ? { part } : {} },
        }),
      ),
  });
}
export const useSightings = (id: string) =>
  useQuery({
    queryKey: [id, "sightings"],
    queryFn: () => sent(http.GET("/api/projects/{project_id}/sightings", path(id))),
  });
export const useJobs = (id: string) =>
  useQuery({ queryKey: [id, "jobs"], queryFn: () => sent(http.GET("/api/projects/{project_id}/jobs", path(id))) });
export const useOriginals = (id: string) =>
  useQuery({
    queryKey: [id, "originals"],
    queryFn: () => sent(http.GET("/api/projects/{project_id}/originals", path(id))),
  });
/** Control as it fits the part in view. */
export function useControl(id: string) {
  const chosen = useView((s) => s.part);
  const mode = useView((s) => s.mode);
  const part = useProject(id).data?.parts.some((p) => p.id === chosen) ? chosen : null; // it may have joined another since
  return useQuery({
    queryKey: [id, "control", part, mode],
    queryFn: () =>
      sent(
        http.GET("/api/projects/{project_id}/control", {
          params: { path: { project_id: id }, query: { ...(part && { part }), ...(mode && { mode }) } },
        }),
      ),
    // while the other unknowns are solved for, what stands there says which it is of
    placeholderData: (before, query) => (query?.queryKey[0] === id && query.queryKey[2] === part ? before : undefined),
  });
}
/** Placements on control of the part in view that were applied, the last one first. */
export function usePlacements(id: string) {
  const chosen = useView((s) => s.part);
  const part = useProject(id).data?.parts.some((p) => p.id === chosen) ? chosen : null;
  return useQuery({
    queryKey: [id, "placements", part],
    queryFn: () =>
      sent(
        http.GET("/api/projects/{project_id}/placements", {
          params: { path: { project_id: id }, query: part ? { part } : {} },
        }),
      ),
  });
}
export const useEdits = (id: string) =>
  useQuery({ queryKey: [id, "edits"], queryFn: () => sent(http.GET("/api/projects/{project_id}/edits", path(id))) });
export const useBoxes = (id: string) =>
  useQuery({ queryKey: [id, "boxes"], queryFn: () => sent(http.GET("/api/projects/{project_id}/boxes", path(id))) });
export const useRecipes = (id: string) =>
  useQuery({
    queryKey: [id, "recipes"],
    queryFn: () => sent(http.GET("/api/projects/{project_id}/recipes", path(id))),
  });
export const useSelection = (id: string) =>
  useQuery({
    queryKey: [id, "selection"],
    queryFn: () => sent(http.GET("/api/projects/{project_id}/selection", path(id))),
  });
export const useZones = (id: string) =>
  useQuery({ queryKey: [id, "zones"], queryFn: () => sent(http.GET("/api/projects/{project_id}/zones", path(id))) });
export const useClasses = (id: string) =>
  useQuery({
    queryKey: [id, "classes"],
    queryFn: () => sent(http.GET("/api/projects/{project_id}/classes", path(id))),
  });
export const useSections = (id: string) =>
  useQuery({
    queryKey: [id, "sections"],
    queryFn: () => sent(http.GET("/api/projects/{project_id}/sections", path(id))),
  });
/** Floors of the part in view, the one that most instruments stood on first. */
export const useFloors = (id: string, part: string | null) =>
  useQuery({
    queryKey: [id, "floors", part],
    queryFn: () =>
      sent(http.GET("/api/projects/{project_id}/floors", { params: { path: { project_id: id }, query: { part } } })),
  });
export const useLayers = (id: string) =>
  useQuery({ queryKey: [id, "layers"], queryFn: () => sent(http.GET("/api/projects/{project_id}/layers", path(id))) });
export const useSheets = (id: string) =>
  useQuery({ queryKey: [id, "sheets"], queryFn: () => sent(http.GET("/api/projects/{project_id}/sheets", path(id))) });
export const useTitleBlocks = (id: string) =>
  useQuery({
    queryKey: [id, "title-blocks"],
    queryFn: () => sent(http.GET("/api/projects/{project_id}/title-blocks", path(id))),
  });
export const useDeliveries = (id: string) =>
  useQuery({
    queryKey: [id, "deliveries"],
    queryFn: () => sent(http.GET("/api/projects/{project_id}/deliveries", path(id))),
  });
/** The latest lines of the journal, and how to read those before them. */
export const useJournal = (id: string) =>
  useInfiniteQuery({
    queryKey: [id, "journal"],
    initialPageParam: null as number | null,
    queryFn: ({ pageParam }) =>
      sent(
        http.GET("/api/projects/{project_id}/journal", {
          params: { path: { project_id: id }, query: pageParam === null ? {} : { before: pageParam } },
        }),
      ),
    getNextPageParam: (last) => (last.length < 100 ? null : (last.at(-1)?.id ?? null)),
  });
export const useHealth = () =>
  useQuery({
    queryKey: ["health"],
    queryFn: () => sent(http.GET("/api/health")),
    refetchInterval: 15_000,
    staleTime: 5000,
    retry: 0,
  });
export const useBin = () => useQuery({ queryKey: ["bin"], queryFn: () => sent(http.GET("/api/bin")) });
/** cut: where and how deep it is; cut otherwise, its points are others. */
export const useSlab = (id: string, section: string | null, cut: string) =>
  useQuery({
    queryKey: [id, "slab", section, cut],
    enabled: section !== null && cut !== "",
    staleTime: Infinity,
    queryFn: () => bytes(`/api/projects/${id}/sections/${section}/points`),
  });

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
const HEAVY = ["slab", "link"];
/** What is read again by its name; a link has another key once it is another one, and may be gone. */
const keyed = (q: { queryKey: readonly unknown[] }) => q.queryKey[1] !== "link";

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

let before: Promise<unknown> = Promise.resolve();

/**
 * Take back the last change, or bring the next one back: the one that the page shows once it is up to date. The one way
 * this is done; asked for again and again it goes step by step.
 */
export function unwind(project: string, way: "undo" | "redo"): Promise<void> {
  const step = before.then(() => unwindNow(project, way));
  before = step.catch(() => undefined);
  return step;
}

async function unwindNow(project: string, way: "undo" | "redo") {
  const key = [project, "project"];
  const state = cache.getQueryState(key);
  if (state?.isInvalidated || state?.fetchStatus === "fetching") await cache.refetchQueries({ queryKey: key });
  const known = cache.getQueryData<Project>(key)?.[way];
  if (!known) {
    tell(way === "undo" ? "There is nothing to take back." : "There is nothing to bring back.");
    return;
  }
  try {
    const path = { params: { path: { project_id: project } }, body: { entry: known.entry } };
    const r = await sent(
      way === "undo"
        ? http.POST("/api/projects/{project_id}/undo", path)
        : http.POST("/api/projects/{project_id}/redo", path),
    );
    tell(`${way === "undo" ? "Took back" : "Brought back"}: ${r.message}`);
  } catch (e) {
    tellError(e);
  }
  await cache.invalidateQueries({ queryKey: [project], predicate: keyed });
}

/** Tell what was done, with the way back. */
export async function tellUndoable(project: string, message: string) {
  await cache.invalidateQueries({ queryKey: [project, "project"] });
  const entry = cache.getQueryData<Project>([project, "project"])?.undo?.entry;
  const back = () => {
    if (cache.getQueryData<Project>([project, "project"])?.undo?.entry === entry) void unwind(project, "undo");
    else tell("Something else was changed since.", "take the changes back one by one in the journal's order", false);
  };
  tell(message, "", true, { words: "Undo", alt: "Undo with Ctrl+Z", run: back });
}

/** A change asked of the server: refusals are told, everything it touches is read again. */
export function useAsk<A, R>(project: string, call: (argument: A) => Promise<R>, done?: (result: R) => void) {
  return useMutation({
    mutationFn: call,
    onError: tellError,
    onSuccess: (result: R) => {
      void cache.invalidateQueries({ queryKey: [project], predicate: (q) => !HEAVY.includes(String(q.queryKey[1])) });
      done?.(result);
    },
  });
}
