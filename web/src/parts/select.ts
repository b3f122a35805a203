/** Selecting: what is asked of the server, and what is done with what it selected. */
import { http, type Schemas, sent } from "../api/client";
import { cache, tell, tellError } from "../api/queries";
import { useView } from "../kit/view";

export type Shape = Schemas["SelectIn"]["shape"];
export type Selection = Schemas["SelectionOut"];
type Op = Schemas["SelectIn"]["op"];
const at = (id: string) => ({ params: { path: { project_id: id } } });

/** Select by a shape, of the stations whose points are seen. */
export async function selectBy(id: string, shape: Shape, op: Op = "replace", stations?: string[]): Promise<void> {
  const { set, shown, ghosts } = useView.getState();
  set({ choosing: true });
  try {
    const seen = cache.getQueryData<Schemas["ProjectOut"]>([id, "project"])?.network_revision ?? null;
    const body = {
      ...{ shape, op, seen, stations: stations ?? shown },
      among: ghosts === "none" ? ("living" as const) : ("deleted" as const),
    };
    const done = await sent(http.POST("/api/projects/{project_id}/selection", { ...at(id), body }));
    take(id, done);
    if (done.job) tell("There are so many points that they are selected in the background.", "look at the jobs");
    if (done.recounted)
      tell("Stations were moved since this was drawn.", "the points were selected where they stand now");
  } catch (e) {
    tellError(e);
  } finally {
    set({ choosing: false });
  }
}

/** What the server says is selected now. */
export const take = (id: string, now: Selection) => cache.setQueryData([id, "selection"], now);

export const letGo = (id: string) =>
  sent(http.DELETE("/api/projects/{project_id}/selection", at(id))).then((r) => take(id, r), tellError);
export const stepBack = (id: string) =>
  sent(http.POST("/api/projects/{project_id}/selection/back", at(id))).then((r) => take(id, r), tellError);
