/** Setting how stations are looked for. */
import { http, sent, type Search } from "../../api/client";
import { tellUndoable, useAsk, useSearch } from "../../api/queries";

export type SearchChange = Partial<Pick<Search, "in_order" | "level" | "reach">> & { sketch?: string };

export function useSetSearch(id: string, done?: () => void) {
  const search = useSearch(id).data;
  return useAsk(
    id,
    (change: SearchChange) =>
      sent(
        http.PATCH("/api/projects/{project_id}/search", {
          params: { path: { project_id: id } },
          body: { ...change, version: search!.version },
        }),
      ),
    () => {
      done?.();
      void tellUndoable(id, "Set. It holds from the next time that the stations are tied.");
    },
  );
}
