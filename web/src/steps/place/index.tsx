/** Place: on control points, or squared to a wall. The network is never touched by it. */
import { useRef, useState } from "react";
import { http, sent, type Control, type Job } from "../../api/client";
import { tellUndoable, useAsk, useControl, useJobs, useProject } from "../../api/queries";
import { Actions, Button, fixed, Heading, Pick, Quiet, Row, Sentence, StatusWord, type Column } from "../../kit";
import { Await } from "../../kit/await";
import { Table } from "../../kit/table";
import { lengthIn, UNITS } from "../../kit/units";
import { useView } from "../../kit/view";
import { ControlFile, type Reading } from "./ControlFile";
import { FramesLedger } from "./Frames";
import { GivePoints } from "./GivePoints";
import { Transforms } from "./Transforms";
import { Placements, Repairs } from "./Repairs";
import { Square } from "./Square";
import { DO, newGrid, useGrid } from "./grid";

type Point = Control["points"][number];
const MODES: ["rigid" | "level" | "scaled" | "network", string][] = [
  ["rigid", "shift and all turns"],
  ["level", "shift and heading"],
  ["scaled", "shift, turns and scale"],
  ["network", "all, in the network"],
];

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
  const squaring = useGrid((g) => g.open);
  const [giving, setGiving] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const ask = useAsk(id, (what: "match" | "apply") =>
    sent<unknown>(
      http.POST(`/api/projects/{project_id}/control/${what}`, {
        params: { path: { project_id: id } },
        body: { part: control.part, mode: control.mode as "rigid" },
      }),
    ),
  );
  if (squaring) return <Square id={id} />;
  if (giving) return <GivePoints id={id} control={control} done={() => setGiving(false)} />;
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
        <Button onClick={() => setGiving(true)}>Give points by hand</Button>
      </Actions>
      <Repairs id={id} control={control} />
      {control.points.length > 0 && (
        <>
          <Pick
            label="Unknowns"
            value={control.mode}
            onChange={(e) => useView.getState().set({ mode: e.target.value as "rigid" })}
            options={MODES}
          />
          {control.mode === "network" && (
            <Quiet>
              Control takes part in the adjustment, each point by its given deviation (1 mm where none is given):
              stations move a little with it. The other two leave the network as it is.
            </Quiet>
          )}
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
          {control.far_mm !== null && (
            <Row
              name={`predicted ${fixed(control.far_from_m, 0)} m from its middle`}
              value={`±${fixed(control.far_mm)}`}
              unit="mm"
              doubt={control.far_mm > control.tolerance_mm}
            />
          )}
          {control.check_mm !== null && (
            <Row
              name="check points, root mean square"
              value={fixed(control.check_mm)}
              unit="mm"
              doubt={control.check_mm > control.tolerance_mm}
            />
          )}
          {control.scale_ppm !== null && (
            <Row
              name={control.mode === "scaled" ? "scale" : "scale, were it left free"}
              value={`${control.scale_ppm > 0 ? "+" : ""}${fixed(control.scale_ppm, 0)} ±${fixed(control.scale_sigma_ppm, 0)}`}
              unit="ppm"
              doubt={control.findings.some((f) => f.code.startsWith("scale"))}
            />
          )}
          {control.findings.map((f) => (
            <Quiet key={f.code + f.message}>{f.message}</Quiet>
          ))}
          {used.length === 0 && (
            <Quiet>Control meets the network at targets: find them in the step Tie, then match again.</Quiet>
          )}
        </>
      )}
      <Placements id={id} />
      <Heading>Without control</Heading>
      <Quiet>Turn the coordinates along a wall, or from one place to another, and give one point its values.</Quiet>
      <Actions>
        <Button onClick={newGrid}>Square to a wall</Button>
      </Actions>
      <Transforms id={id} />
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
  const remove = useAsk(id, (p: Point) =>
    sent(
      http.DELETE("/api/projects/{project_id}/control/{control_id}", {
        params: { path: { project_id: id, control_id: p.id }, query: { version: p.version } },
      }),
    ),
  );
  const axis = (k: "e" | "n" | "h" | "d3" | "alone", head: string): Column<Point> => ({
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
      value: (p) => p.target_name ?? "",
      cell: (p) => (
        <select
          aria-label={`Target of ${p.name}`}
          className="bg-transparent font-mono"
          value={p.target ?? ""}
          onChange={(e) => change.mutate({ p, target: e.target.value })}
        >
          <option value="">not matched</option>
          {p.target && !control?.targets.some((t) => t.id === p.target) && (
            <option value={p.target}>{p.target_name ?? "gone"}</option>
          )}
          {control?.targets.map((t) => (
            <option key={t.id} value={t.id}>
              {t.name}
            </option>
          ))}
        </select>
      ),
    },
    axis("e", "E mm"),
    axis("n", "N mm"),
    axis("h", "H mm"),
    axis("d3", "in space mm"),
    axis("alone", "to all others mm"),
    ...(["E", "N", "H"] as const).map((head, k) => ({
      head: `${head} ${UNITS[unit].name}`,
      figure: true,
      value: (p: Point) => p.enh[k] ?? null,
      cell: (p: Point) => (p.enh[k] === null || p.enh[k] === undefined ? "–" : lengthIn(p.enh[k], unit)),
    })),
    {
      head: "given ± mm",
      figure: true,
      value: (p) => p.sigma_mm[0] ?? null,
      cell: (p) => (p.sigma_mm.every((v) => v === null) ? "" : p.sigma_mm.map((v) => fixed(v)).join(" ")),
    },
    { head: "matched by", cell: (p) => p.matched_by, value: (p) => p.matched_by },
    {
      head: "remarks",
      cell: (p) =>
        [p.elsewhere, ...p.reasons.map((r) => r.message)].filter(Boolean).join(" · ") || (
          <span className="text-quiet">{p.remark}</span>
        ),
    },
    {
      head: "can be",
      width: "110px",
      cell: (p) => (
        <button
          type="button"
          className={DO}
          aria-label={`taken away: ${p.name}`}
          onClick={() =>
            remove.mutate(p, { onSuccess: () => void tellUndoable(id, `Took the control point ${p.name} away.`) })
          }
        >
          taken away
        </button>
      ),
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

export const placeLedgers = [
  { id: "control", title: "Control", Body: ControlLedger },
  { id: "frames", title: "Coordinates", Body: FramesLedger },
];
