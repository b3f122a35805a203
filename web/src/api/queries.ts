/** What the server keeps, list by list: it lives only in the query cache; events of the server say what to read again. */
import { useInfiniteQuery, useQuery, type UseQueryResult } from "@tanstack/react-query";
import { useCallback } from "react";
import { useView } from "../kit/view";
import { bytes, http, type Link, sent, type Project } from "./client";

export { cache, useGone } from "./cache";
export * from "./asking";
export { listen, useLine } from "./line";

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
