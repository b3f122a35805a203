/** Setting how stations are looked for. */
import { http, sent, type Search } from "../../api/client";
import { tellUndoable, useAsk, useSearch } from "../../api/queries";

export type Below = { x: number; y: number; size: number };
export type SearchChange = Partial<Pick<Search, "in_order" | "level" | "level_sigma_mrad" | "reach">> & {
  sketch?: string;
  picture?: Below;
};

/** Lay a picture, or a page of a PDF, below the sketch; null takes it away. */
export const useSketchPicture = (id: string, done: (now: Search) => void) =>
  useAsk(
    id,
    (what: { file: Blob; page: number } | null) =>
      what
        ? sent(
            http.POST("/api/projects/{project_id}/search/picture", {
              params: { path: { project_id: id }, query: { page: what.page } },
              body: what.file as unknown as string,
              bodySerializer: (b) => b as unknown as BodyInit,
              headers: { "Content-Type": "application/octet-stream" },
            }),
          )
        : sent(http.DELETE("/api/projects/{project_id}/search/picture", { params: { path: { project_id: id } } })),
    done,
  );

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
