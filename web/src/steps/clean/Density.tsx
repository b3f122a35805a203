/** One spacing over all stations, looked at before it is handed over; a switch brings all points back. */
import { useState } from "react";
import { http, sent, type Project } from "../../api/client";
import { tellUndoable, useAsk, useJobs, useZones } from "../../api/queries";
import { Actions, Button, Field, grouped, Heading, Quiet } from "../../kit";
import { metresOf } from "../../kit/length";
import { JobLine } from "../../parts/JobLine";

export function Density({ id, project }: { id: string; project: Project }) {
  const even = (useZones(id).data ?? []).find((z) => z.kind === "even" && z.detail.part === project.part);
  const live = (useJobs(id).data ?? []).filter(
    (j) => j.kind === "even" && (j.state === "running" || j.state === "waiting"),
  );
  const [text, setText] = useState("5");
  const spacing = metresOf(text.trim(), "mm");
  const right = spacing !== null && spacing >= 0.0005 && spacing <= 1;
  const make = useAsk(id, () =>
    sent(
      http.POST("/api/projects/{project_id}/even", {
        params: { path: { project_id: id } },
        body: { spacing: spacing!, part: project.part },
      }),
    ),
  );
  const change = useAsk(id, (shown: boolean) =>
    sent(
      http.PATCH("/api/projects/{project_id}/zones/{zone_id}", {
        params: { path: { project_id: id, zone_id: even!.id } },
        body: { shown, version: even!.version },
      }),
    ),
  );
  const drop = useAsk(
    id,
    () =>
      sent(
        http.DELETE("/api/projects/{project_id}/zones/{zone_id}", {
          params: { path: { project_id: id, zone_id: even!.id }, query: { version: even!.version } },
        }),
      ),
    () => void tellUndoable(id, "All points are seen again."),
  );
  return (
    <>
      <Heading>Even density</Heading>
      {even ? (
        <>
          <label className="flex items-center gap-2 py-0.5 text-[13.5px]">
            <input type="checkbox" checked={!even.shown} onChange={(e) => change.mutate(!e.target.checked)} />
            <span className="flex-1">One spacing of {1000 * (even.detail.spacing ?? 0)} mm</span>
          </label>
          <Quiet>
            {grouped(even.detail.kept ?? 0)} points stay, {grouped(even.count)} are left out: the best of each cell is
            kept. {even.shown ? "All are seen and handed over now." : "Clouds are handed over as they are seen."}
          </Quiet>
          {even.old && (
            <p role="alert" className="my-1 text-[13px] text-slack">
              Out of date: {even.old}. Find the spacing again.
            </p>
          )}
        </>
      ) : (
        <Quiet>
          Of the points in each cell the best one stays: from nearby, and not at a glance. Nothing is deleted.
        </Quiet>
      )}
      <Field label="Spacing" unit="mm" value={text} aria-invalid={!right} onChange={(e) => setText(e.target.value)} />
      <Actions>
        <Button
          busy={make.isPending || live.length > 0}
          onClick={() => make.mutate(undefined)}
          why={right ? "" : "from 0.5 to 1000 mm"}
        >
          {even ? "Find it again" : "See one spacing"}
        </Button>
        {even && (
          <Button busy={drop.isPending} onClick={() => drop.mutate(undefined)}>
            Give it up
          </Button>
        )}
      </Actions>
      {live.map((j) => (
        <JobLine key={j.id} id={id} job={j} />
      ))}
    </>
  );
}
