/** The design models that are shown, with their edges, as the bench draws them. */
import { useQueries } from "@tanstack/react-query";
import { useMemo } from "react";
import type { ModelInfo } from "../bench/types";
import { bytes } from "../api/client";
import { useModels, useProject } from "../api/queries";
import { useView } from "../kit/view";

export function useModelInfos(id: string): { infos: ModelInfo[]; version: string } {
  const part = useProject(id).data?.part;
  const chosen = useView((s) => s.model);
  const rows = useModels(id).data;
  const shown = useMemo(() => (rows ?? []).filter((m) => m.shown && m.part === part), [rows, part]);
  const read = useQueries({
    queries: shown.map((m) => ({
      queryKey: [id, "edges", m.id],
      staleTime: Infinity,
      queryFn: async () => new Float32Array(await bytes(`/api/projects/${id}/models/${m.id}/edges`)),
    })),
    combine: (all) => all.map((q) => q.data),
  });
  return useMemo(
    () => ({
      infos: shown.flatMap((m, k) => {
        const edges = read[k];
        return edges ? [{ id: m.id, edges, T: m.T_part_edges, selected: m.id === chosen }] : [];
      }),
      version: shown.map((m) => `${m.id}${m.T_part_edges.join()}`).join("/"),
    }),
    [shown, read, chosen],
  );
}
