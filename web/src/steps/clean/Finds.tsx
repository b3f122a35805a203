/** What does not belong, as filters find it: each thing is looked at, then deleted or kept; nothing goes by itself. */
import { useState } from "react";
import { http, sent, type Schemas } from "../../api/client";
import { tellUndoable, useAsk, useJobs, useStations } from "../../api/queries";
import { Actions, Button, fixed, grouped, Heading, Quiet } from "../../kit";
import { useView } from "../../kit/view";
import { JobLine } from "../../parts/JobLine";

type Edit = Schemas["EditOut"];
type Kind = "mover" | "edge";
const path = (id: string) => ({ params: { path: { project_id: id } } });

export function Finds({ id, finds, part }: { id: string; finds: Edit[]; part: string | null }) {
  const [strength, setStrength] = useState(0.5);
  const stations = (useStations(id).data ?? []).filter((s) => s.part === part).length;
  const live = (useJobs(id).data ?? []).filter(
    (j) => j.kind === "filter" && (j.state === "running" || j.state === "waiting"),
  );
  const look = useAsk(id, (kind: Kind) =>
    sent(http.POST("/api/projects/{project_id}/filters", { ...path(id), body: { kinds: [kind], strength, part } })),
  );
  const all = useAsk(
    id,
    ({ kind, gone }: { kind: Kind; gone: boolean }) =>
      sent(http.POST("/api/projects/{project_id}/finds/decide", { ...path(id), body: { kind, delete: gone } })),
    (r) => void tellUndoable(id, `${r.message}.`),
  );
  const moved = finds.filter((e) => e.kind === "mover");
  const edges = finds.find((e) => e.kind === "edge");
  const busy = live.length ? "this is under way already" : "";
  return (
    <>
      <Heading>What does not belong</Heading>
      <Quiet>
        People, carts and cars that one station saw where others looked through; points at edges that no surface has.
        What is found is shown first.
      </Quiet>
      <label className="flex items-center gap-2 py-0.5 text-[13.5px]">
        <span className="flex-1">Strength</span>
        <input
          type="range"
          min={0}
          max={1}
          step={0.1}
          value={strength}
          aria-valuetext={strength < 0.4 ? "careful" : strength > 0.6 ? "thorough" : "middle"}
          onChange={(e) => setStrength(Number(e.target.value))}
        />
        <span className="w-16 text-[12px] text-quiet">
          {strength < 0.4 ? "careful" : strength > 0.6 ? "thorough" : "middle"}
        </span>
      </label>
      <Actions>
        <Button
          busy={look.isPending}
          onClick={() => look.mutate("mover")}
          why={busy || (stations < 2 ? "what moved is seen by comparing stations" : "")}
        >
          Find what moved
        </Button>
        <Button
          busy={look.isPending}
          onClick={() => look.mutate("edge")}
          why={busy || (stations ? "" : "no scans yet")}
        >
          Find points on no surface
        </Button>
      </Actions>
      {live.map((j) => (
        <JobLine key={j.id} id={id} job={j} />
      ))}
      {moved.length > 0 && (
        <>
          <p className="mt-2 text-[13.5px]">
            {moved.length} {moved.length === 1 ? "thing" : "things"} moved,{" "}
            {grouped(moved.reduce((n, e) => n + e.count, 0))} points.
          </p>
          <Actions>
            <Button main busy={all.isPending} onClick={() => all.mutate({ kind: "mover", gone: true })}>
              Delete them all
            </Button>
            <Button busy={all.isPending} onClick={() => all.mutate({ kind: "mover", gone: false })}>
              Keep them all
            </Button>
          </Actions>
          <ul>
            {moved.slice(0, SHOWN).map((e) => (
              <Find key={e.id} id={id} find={e} />
            ))}
          </ul>
          {moved.length > SHOWN && <Quiet>{moved.length - SHOWN} more stand in the ledger of deletions.</Quiet>}
        </>
      )}
      {edges && (
        <>
          <p className="mt-2 text-[13.5px]">
            {grouped(edges.count)} points lie on no surface, in {edges.stations.length} stations.
          </p>
          {edges.detail.too_much.map((t) => (
            <Quiet key={t.station}>
              In {t.station} that is {fixed(100 * t.share, 0)} % of all: look there before you delete.
            </Quiet>
          ))}
          <Actions>
            <Button main busy={all.isPending} onClick={() => all.mutate({ kind: "edge", gone: true })}>
              Delete these points
            </Button>
            <Button busy={all.isPending} onClick={() => all.mutate({ kind: "edge", gone: false })}>
              Keep these points
            </Button>
          </Actions>
        </>
      )}
    </>
  );
}

const SHOWN = 30;
const DO = "cursor-pointer text-action underline";

function Find({ id, find: e }: { id: string; find: Edit }) {
  const decide = useAsk(
    id,
    (gone: boolean) =>
      sent(
        http.POST("/api/projects/{project_id}/edits/{edit_id}/decide", {
          params: { path: { project_id: id, edit_id: e.id } },
          body: { delete: gone, version: e.version },
        }),
      ),
    (r) => void tellUndoable(id, `${e.title}: ${r.message}.`),
  );
  const d = e.detail;
  return (
    <li className="border-b border-rule/60 py-1 text-[13px] last:border-0">
      {e.title}
      <span className="block text-[12.5px] text-quiet">
        {grouped(e.count)} points, {d.size?.map((v) => fixed(v)).join(" × ")} m; {d.against.length}{" "}
        {d.against.length === 1 ? "station" : "stations"} looked through
      </span>
      <span className="flex gap-3">
        <button
          type="button"
          className={DO}
          onClick={() => {
            const { set, camera, eyes } = useView.getState();
            if (e.stations[0]) set({ eyes: { ...eyes, [e.stations[0]]: true } });
            if (d.at) camera?.lookAt(d.at);
          }}
        >
          look at it
        </button>
        <button type="button" className={DO} onClick={() => decide.mutate(true)}>
          delete it
        </button>
        <button type="button" className={DO} onClick={() => decide.mutate(false)}>
          keep it
        </button>
      </span>
    </li>
  );
}
