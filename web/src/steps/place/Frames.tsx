/** The list of coordinates: which are in use, in which unit, what they were made from, and what can be done with them. */
import { http, sent } from "../../api/client";
import { tellUndoable, useAsk, useProject } from "../../api/queries";
import type { Column } from "../../kit";
import { Table } from "../../kit/table";
import { into, lengthIn, UNIT_CHOICES, type Unit } from "../../kit/units";
import { useView } from "../../kit/view";
import { DO, editGrid } from "./grid";

const KINDS = { project: "as tied", control: "control points", grid: "site grid" };

export function FramesLedger({ id }: { id: string }) {
  const asked = useProject(id);
  const project = asked.data;
  const hover = useView((s) => s.hover);
  type F = NonNullable<typeof project>["frames"][number];
  const path = (f: F) => ({ params: { path: { project_id: id, frame_id: f.id } } });
  const use = useAsk(id, (f: F) =>
    sent(
      http.PATCH("/api/projects/{project_id}", {
        params: { path: { project_id: id } },
        body: { frame: f.id, version: project!.version },
      }),
    ),
  );
  const change = useAsk(id, ({ f, ...body }: { f: F; name?: string; unit?: Unit; removed?: boolean }) =>
    f.kind === "project"
      ? sent(
          http.PATCH("/api/projects/{project_id}", {
            params: { path: { project_id: id } },
            body: { unit: body.unit, version: project!.version },
          }),
        )
      : sent(
          http.PATCH("/api/projects/{project_id}/frames/{frame_id}", {
            ...path(f),
            body: { removed: false, ...body, version: f.version },
          }),
        ),
  );
  const renew = useAsk(id, (f: F) =>
    sent(http.POST("/api/projects/{project_id}/frames/{frame_id}/renew", { ...path(f), body: { version: f.version } })),
  );
  const flip = useAsk(id, (f: F) =>
    sent(http.POST("/api/projects/{project_id}/frames/{frame_id}/flip", { ...path(f), body: { version: f.version } })),
  );
  const several = (project?.parts.length ?? 0) > 1;
  const columns: Column<F>[] = [
    {
      head: "in use",
      cell: (f) => (
        <input
          type="radio"
          name="frame"
          aria-label={`Use ${f.name}`}
          checked={project?.frame === f.id}
          onChange={() => {
            useView.getState().set({ part: f.kind === "project" ? (project?.part ?? null) : f.part });
            use.mutate(f);
          }}
        />
      ),
      width: "64px",
    },
    {
      head: "coordinates",
      value: (f) => f.name,
      cell: (f) =>
        f.kind === "project" ? (
          f.name
        ) : (
          <input
            aria-label={`Name of the coordinates ${f.name}`}
            key={f.name}
            defaultValue={f.name}
            maxLength={60}
            className="w-24 rounded border border-transparent bg-transparent px-1 hover:border-rule"
            onBlur={(e) =>
              e.target.value.trim() && e.target.value !== f.name && change.mutate({ f, name: e.target.value })
            }
          />
        ),
    },
    { head: "kind", cell: (f) => KINDS[f.kind], value: (f) => f.kind, width: "110px" },
    ...(several
      ? [{ head: "part", cell: (f: F) => project?.parts.find((p) => p.id === f.part)?.name ?? "its stations are gone" }]
      : []),
    {
      head: "unit",
      width: "150px",
      value: (f) => f.unit,
      cell: (f) => (
        <select
          aria-label={`Unit of ${f.name}`}
          className="bg-transparent"
          value={f.unit}
          disabled={f.kind === "project" && project?.frame !== "project"}
          onChange={(e) => change.mutate({ f, unit: e.target.value as Unit })}
        >
          {UNIT_CHOICES.map(([unit, words]) => (
            <option key={unit} value={unit}>
              {words}
            </option>
          ))}
        </select>
      ),
    },
    { head: "made from", cell: (f) => f.provenance },
    {
      head: "state",
      value: (f) => (f.old ? "out of date" : "follows"),
      cell: (f) =>
        f.old ? (
          <>
            <span className="text-slack">out of date: {f.old}</span>{" "}
            <button type="button" className="cursor-pointer text-action underline" onClick={() => renew.mutate(f)}>
              make it anew
            </button>
          </>
        ) : (
          "up to date"
        ),
    },
    {
      head: "cursor",
      cell: (f) =>
        hover && project && f.id === project.frame
          ? into(project.T_frame_part, hover)
              .map((v) => lengthIn(v, project.unit))
              .join("  ")
          : "",
    },
    {
      head: "can be",
      width: "210px",
      cell: (f) =>
        f.kind === "project" ? (
          ""
        ) : (
          <span className="flex gap-2">
            {f.picks && (
              <>
                <button type="button" className={DO} onClick={() => flip.mutate(f)}>
                  flipped
                </button>
                <button type="button" className={DO} onClick={() => editGrid(f)}>
                  edited
                </button>
              </>
            )}
            <button
              type="button"
              className="cursor-pointer text-action underline"
              onClick={() =>
                change.mutate(
                  { f, removed: true },
                  { onSuccess: () => void tellUndoable(id, `Took the coordinates ${f.name} away.`) },
                )
              }
            >
              taken away
            </button>
          </span>
        ),
    },
  ];
  return (
    <Table what="coordinates" from={[asked]} rows={project?.frames ?? []} columns={columns} id={(f) => f.id} empty="" />
  );
}
