/** Server state lives only here, in the query cache; events of the server say what to read again. */
import { QueryClient, useMutation, useQuery, type UseQueryResult } from "@tanstack/react-query";
import { create } from "zustand";
import { bytes, early, http, Refusal, sent, type Project, type Schemas, type Station } from "./client";

export const cache = new QueryClient({ defaultOptions: { queries: { staleTime: 60_000, retry: 1, refetchOnWindowFocus: false } } });

interface Notice {
  message: string;
  remedy: string;
  good: boolean;
}
/** The last thing worth telling; errors stay until they are dismissed. */
export const useNotice = create<{ notice: Notice | null; tell: (n: Notice | null) => void }>((set) => ({ notice: null, tell: (notice) => set({ notice }) }));

export const tell = (message: string, remedy = "", good = true) => useNotice.getState().tell({ message, remedy, good });
export function tellError(error: unknown) {
  const r = error instanceof Refusal ? error : new Refusal("unexpected", String(error), "reload the page", 0);
  tell(r.message.charAt(0).toUpperCase() + r.message.slice(1), r.remedy, false);
  if (r.status === 409) void cache.invalidateQueries();
}

const path = (project_id: string) => ({ params: { path: { project_id } } });

export const useProjects = () => useQuery({ queryKey: ["projects"], queryFn: () => sent(http.GET("/api/projects")) });
export const useProject = (id: string): UseQueryResult<Project> => useQuery({ queryKey: [id, "project"], queryFn: () => sent(http.GET("/api/projects/{project_id}", path(id))) });
export const useStations = (id: string) => useQuery({ queryKey: [id, "stations"], queryFn: async () => (await early<Station[]>(`/api/projects/${id}/stations`)) ?? sent(http.GET("/api/projects/{project_id}/stations", path(id))) });
export const useTiles = (id: string) => useQuery({ queryKey: [id, "tiles"], queryFn: async () => (await early<Schemas["TileOut"][]>(`/api/projects/${id}/tiles`)) ?? sent(http.GET("/api/projects/{project_id}/tiles", path(id))) });
export const useNetwork = (id: string) => useQuery({ queryKey: [id, "network"], queryFn: () => sent(http.GET("/api/projects/{project_id}/network", path(id))) });
export const useSightings = (id: string) => useQuery({ queryKey: [id, "sightings"], queryFn: () => sent(http.GET("/api/projects/{project_id}/sightings", path(id))) });
export const useJobs = (id: string) => useQuery({ queryKey: [id, "jobs"], queryFn: () => sent(http.GET("/api/projects/{project_id}/jobs", path(id))) });
export const useOriginals = (id: string) => useQuery({ queryKey: [id, "originals"], queryFn: () => sent(http.GET("/api/projects/{project_id}/originals", path(id))) });
export const useControl = (id: string) => useQuery({ queryKey: [id, "control"], queryFn: () => sent(http.GET("/api/projects/{project_id}/control", path(id))) });
export const useEdits = (id: string) => useQuery({ queryKey: [id, "edits"], queryFn: () => sent(http.GET("/api/projects/{project_id}/edits", path(id))) });
export const useBoxes = (id: string) => useQuery({ queryKey: [id, "boxes"], queryFn: () => sent(http.GET("/api/projects/{project_id}/boxes", path(id))) });
export const useSections = (id: string) => useQuery({ queryKey: [id, "sections"], queryFn: () => sent(http.GET("/api/projects/{project_id}/sections", path(id))) });
export const useDeliveries = (id: string) => useQuery({ queryKey: [id, "deliveries"], queryFn: () => sent(http.GET("/api/projects/{project_id}/deliveries", path(id))) });
export const useJournal = (id: string) => useQuery({ queryKey: [id, "journal"], queryFn: () => sent(http.GET("/api/projects/{project_id}/journal", path(id))) });
export const useSlab = (id: string, section: string | null) =>
  useQuery({
    queryKey: [id, "slab", section],
    enabled: section !== null,
    staleTime: Infinity,
    queryFn: () => bytes(`/api/projects/${id}/sections/${section}/points`),
  });

/** What every change makes older: the head with its thread, the journal, and whether deliveries are of today. */
const CHANGED = ["project", "journal", "deliveries"];

/** What to read again when the server says that a topic changed. */
const FOLLOWS: Record<string, string[]> = {
  job: ["jobs"],
  jobs: ["jobs", "stations", "originals", "project"],
  originals: ["originals", "project"],
  stations: ["stations", "tiles", "network", "sightings", "control", "sections", "slab", ...CHANGED],
  network: ["network", "stations", "sightings", "control", "sections", "slab", ...CHANGED],
  control: ["control", ...CHANGED],
  edits: ["edits", "boxes", "stations", "slab", ...CHANGED],
  sections: ["sections", ...CHANGED],
  deliveries: ["deliveries", "jobs", "project"],
};
/** Points: large, and they change only with the topics that name them. */
const HEAVY = ["tiles", "slab"];

/** Listen to the server's events for a project; returns how to stop. */
export function listen(project: string): () => void {
  const source = new EventSource(`/api/projects/${project}/events`);
  source.addEventListener("change", (event) => {
    const { topic } = JSON.parse((event as MessageEvent<string>).data) as { topic: string };
    const keys = FOLLOWS[topic];
    if (keys) for (const key of keys) void cache.invalidateQueries({ queryKey: [project, key] });
    else void cache.invalidateQueries({ queryKey: [project] });
  });
  let lost = false;
  source.addEventListener("error", () => (lost = true));
  source.addEventListener("open", () => {
    if (lost) void cache.invalidateQueries({ queryKey: [project] }); // what we missed while away
    lost = false;
  });
  return () => source.close();
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
