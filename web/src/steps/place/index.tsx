/** Place: on control points, or squared to a wall. The network is never touched by it. */
import { useRef, useState } from "react";
import { http, sent, type Control, type Job } from "../../api/client";
import { useAsk, useControl, useJobs, useProject } from "../../api/queries";
import { Actions, Button, fixed, Heading, Quiet, Row, Sentence, StatusWord, type Column } from "../../kit";
import { Await } from "../../kit/await";
import { Table } from "../../kit/table";
import { into, lengthIn } from "../../kit/units";
import { useView } from "../../kit/view";
import { ControlFile, type Reading } from "./ControlFile";
import { Square } from "./Square";

type Point = Control["points"][number];

export function PlaceCard({ id }: { id: string }) {
  const asked = [useControl(id), useJobs(id)] as const;
  return (
    <Await of={[...asked]} what="control">
      {asked[0].data && <Loaded id={id} control={asked[0].data} jobs={asked[1].data ?? []} />}
    </Await>
  );
}

function Loaded({ id, control, jobs }: { id: string; control: Control; jobs: Job[] }) {
  const [reading, setReading] = useState<Reading | null>(null);
  const [squaring, setSquaring] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const ask = useAsk(id, (what: "match" | "apply") =>
    sent<unknown>(http.POST(`/api/projects/{project_id}/control/${what}`, { params: { path: { project_id: id } } })),
  );
  if (squaring) return <Square id={id} done={() => setSquaring(false)} />;
  const survey = jobs.find((j) => j.kind === "demo" && j.result)?.result?.["control"];
  const used = control.points.filter((p) => p.residual_mm);
  return (
    <>
      <Sentence>{control.sentence}</Sentence>
      <Actions>
        {control.points.length > 0 && (
          <Button
            main={!control.up_to_date}
            busy={ask.isPending}
            onClick={() => ask.mutate("apply")}
            why={control.problem ?? (control.up_to_date ? "it is applied already" : "")}
          >
            Place the project on control
          </Button>
        )}
        <Button main={control.points.length === 0} onClick={() => input.current?.click()}>
          {control.points.length ? "Read another control file" : "Read a control file"}
        </Button>
        {typeof survey === "string" && control.points.length === 0 && (
          <Button onClick={() => setReading({ file: "control.csv", text: survey })}>Read the demo's survey</Button>
        )}
        {control.points.length > 0 && <Button onClick={() => ask.mutate("match")}>Match again</Button>}
      </Actions>
      {control.points.length > 0 && (
        <>
          {control.problem && <Quiet>{control.problem}.</Quiet>}
          <Heading>Residuals in space, limit {fixed(control.tolerance_mm)} mm</Heading>
          {used.map((p) => (
            <Row
              key={p.id}
              name={`${p.name}${p.role === "check" ? " (check)" : ""}`}
              value={fixed(p.residual_mm?.["d3"])}
              unit="mm"
              doubt={p.status !== "taut"}
            />
          ))}
          {control.findings.map((f) => (
            <Quiet key={f.code + f.message}>{f.message}</Quiet>
          ))}
          {used.length === 0 && (
            <Quiet>Control meets the network at targets: find spheres in the step Tie, then match again.</Quiet>
          )}
        </>
      )}
      <Heading>Without control</Heading>
      <Quiet>Turn the coordinates along a wall, and give one point its values.</Quiet>
      <Actions>
        <Button onClick={() => setSquaring(true)}>Square to a wall</Button>
      </Actions>
      <input
        ref={input}
        type="file"
        accept=".csv,.txt,.asc,.xyz,.pts"
        className="hidden"
        aria-label="Control file"
        data-testid="control"
        onChange={(e) => {
          const file = e.target.files?.[0];
          e.target.value = "";
          void file?.text().then((text) => setReading({ file: file.name, text }));
        }}
      />
      {reading && <ControlFile id={id} reading={reading} close={() => setReading(null)} />}
    </>
  );
}

function ControlLedger({ id }: { id: string }) {
  const asked = useControl(id);
  const control = asked.data;
  const project = useProject(id).data;
  const { target, set } = useView();
  const change = useAsk(id, ({ p, ...body }: { p: Point; role?: "control" | "check" | "off"; target?: string }) =>
    sent(
      http.PATCH("/api/projects/{project_id}/control/{control_id}", {
        params: { path: { project_id: id, control_id: p.id } },
        body: { ...body, version: p.version },
      }),
    ),
  );
  const axis = (k: "e" | "n" | "h" | "d3", head: string): Column<Point> => ({
    head,
    figure: true,
    value: (p) => p.residual_mm?.[k] ?? null,
    cell: (p) => fixed(p.residual_mm?.[k]),
  });
  const unit = project?.unit ?? "m";
  const columns: Column<Point>[] = [
    {
      head: "status",
      cell: (p) => <StatusWord status={p.status} off={p.role === "off"} />,
      value: (p) => p.status,
      width: "96px",
    },
    { head: "point", cell: (p) => <span className="font-mono">{p.name}</span>, value: (p) => p.name },
    {
      head: "role",
      value: (p) => p.role,
      cell: (p) => (
        <select
          aria-label={`Role of ${p.name}`}
          className="bg-transparent"
          value={p.role}
          onChange={(e) => change.mutate({ p, role: e.target.value as "control" })}
        >
          <option value="control">control</option>
          <option value="check">check</option>
          <option value="off">off</option>
        </select>
      ),
    },
    {
      head: "matched to",
      value: (p) => p.target ?? "",
      cell: (p) => (
        <select
          aria-label={`Target of ${p.name}`}
          className="bg-transparent font-mono"
          value={p.target ?? ""}
          onChange={(e) => change.mutate({ p, target: e.target.value })}
        >
          <option value="">not matched</option>
          {[...new Set([...(control?.targets ?? []), ...(p.target ? [p.target] : [])])].map((t) => (
            <option key={t}>{t}</option>
          ))}
        </select>
      ),
    },
    axis("e", "E mm"),
    axis("n", "N mm"),
    axis("h", "H mm"),
    axis("d3", "in space mm"),
    ...(["E", "N", "H"] as const).map((head, k) => ({
      head: `${head} ${unit}`,
      figure: true,
      value: (p: Point) => p.enh[k] ?? null,
      cell: (p: Point) => lengthIn(p.enh[k] ?? 0, unit),
    })),
    {
      head: "remarks",
      cell: (p) => p.reasons.map((r) => r.message).join(" · ") || <span className="text-quiet">{p.remark}</span>,
    },
  ];
  return (
    <Table
      what="control"
      from={[asked]}
      rows={control?.points ?? []}
      columns={columns}
      id={(p) => p.id}
      selected={(p) => p.target !== null && p.target === target}
      onSelect={(p) => set({ target: p.target, stations: [], link: null })}
      empty="No control points yet. Read the surveyor's file: its columns and units are shown before anything is kept."
    />
  );
}

function FramesLedger({ id }: { id: string }) {
  const asked = useProject(id);
  const project = asked.data;
  const hover = useView((s) => s.hover);
  const use = useAsk(id, (frame: string) =>
    sent(
      http.PATCH("/api/projects/{project_id}", {
        params: { path: { project_id: id } },
        body: { frame, version: project!.version },
      }),
    ),
  );
  type F = NonNullable<typeof project>["frames"][number];
  const columns: Column<F>[] = [
    {
      head: "in use",
      cell: (f) => (
        <input
          type="radio"
          name="frame"
          aria-label={`Use ${f.name}`}
          checked={project?.frame === f.id}
          onChange={() => use.mutate(f.id)}
        />
      ),
      width: "70px",
    },
    { head: "coordinates", cell: (f) => f.name, value: (f) => f.name },
    {
      head: "kind",
      cell: (f) =>
        ({ project: "as tied: the first station, levelled", control: "control points", grid: "site grid" })[f.kind] ??
        f.kind,
    },
    {
      head: "cursor",
      cell: (f) =>
        hover && project && f.id === project.frame
          ? into(project.T_frame_project, hover)
              .map((v) => lengthIn(v, project.unit))
              .join("  ")
          : "",
    },
  ];
  return (
    <Table what="coordinates" from={[asked]} rows={project?.frames ?? []} columns={columns} id={(f) => f.id} empty="" />
  );
}

export const placeLedgers = [
  { id: "control", title: "Control", Body: ControlLedger },
  { id: "frames", title: "Coordinates", Body: FramesLedger },
];
