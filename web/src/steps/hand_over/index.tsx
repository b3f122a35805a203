/** Hand over: clouds, drawing and report, each made from one state and kept with its checksum. */
import { useState } from "react";
import { http, sent, type Box, type Job, type Project, type Schemas } from "../../api/client";
import { useAsk, useBoxes, useDeliveries, useJobs, useProject, useZones } from "../../api/queries";
import { Actions, Button, Field, grouped, Heading, megabytes, Pick, Quiet, Sentence, type Column } from "../../kit";
import { Await } from "../../kit/await";
import { metresOf } from "../../kit/length";
import { askToLetGo } from "../../kit/confirm";
import { Table } from "../../kit/table";
import { UNITS } from "../../kit/units";
import { JobLine } from "../../parts/JobLine";
import { DrawnOut } from "./Drawn";

type Delivery = Schemas["DeliveryOut"];
type Kind = Schemas["DeliveryIn"]["kind"];
const DRAWN = ["dxf", "svg", "sheet", "csv"];

export function HandOverCard({ id }: { id: string }) {
  const asked = [useProject(id), useDeliveries(id), useBoxes(id), useJobs(id)] as const;
  return (
    <Await of={[...asked]} what="deliveries">
      {asked[0].data && (
        <Loaded
          id={id}
          project={asked[0].data}
          deliveries={asked[1].data ?? []}
          boxes={asked[2].data ?? []}
          work={asked[3].data ?? []}
        />
      )}
    </Await>
  );
}

function Loaded({
  id,
  project,
  deliveries,
  boxes,
  work,
}: {
  id: string;
  project: Project;
  deliveries: Delivery[];
  boxes: Box[];
  work: Job[];
}) {
  const jobs = work.filter((j) => j.kind === "deliver" && (j.state === "running" || j.state === "waiting"));
  const [crop, setCrop] = useState(true);
  const [even, setEven] = useState("");
  const [zone, setZone] = useState("");
  const metres = even.trim() ? metresOf(even.trim(), "mm") : null;
  const spacing =
    metres === null ? (even.trim() ? undefined : null) : metres >= 0.0005 && metres <= 1 ? metres : undefined;
  const make = useAsk(id, (kind: Kind) =>
    sent(
      http.POST("/api/projects/{project_id}/deliveries", {
        params: { path: { project_id: id } },
        body: {
          ...{ kind, crop, coordinates: "grid", unit: null, part: project.part, sections: null },
          zones: zone && (kind === "e57" || kind === "laz") ? [zone] : null,
          even: (kind === "e57" || kind === "laz") && spacing ? spacing : null,
        },
      }),
    ),
  );
  const all = useZones(id).data ?? [];
  const zones = all.filter((z) => z.kind === "zone");
  const evened = all.find((z) => z.kind === "even" && !z.shown && z.detail.part === project.part);
  const hidden = all.filter((z) => z.kind !== "even" && !z.shown).reduce((n, z) => n + z.count, 0);
  const parts = project.parts.length;
  const here = project.parts.find((p) => p.id === project.part);
  const old_frame = project.frames.find((f) => f.id === project.frame)?.old;
  const old = deliveries.filter((d) => d.outdated).length;
  const box = boxes.some((b) => b.active && b.part === project.part);
  const busy = (kind: string) => jobs.some((j) => j.title.toLowerCase().includes(kind));
  return (
    <>
      <Sentence>
        {deliveries.length === 0
          ? "Nothing was handed over yet."
          : old
            ? `${old} of ${deliveries.length} deliveries are older than the last change.`
            : `${deliveries.length} deliveries, all of the project as it stands.`}
      </Sentence>
      <Quiet>
        Coordinates: {project.frame_name}, in {UNITS[project.unit].name}. They are chosen at the top of the page.
        {parts > 1 && ` What goes out is the part in view: ${here?.name ?? ""}.`}
      </Quiet>
      {old_frame && (
        <p role="alert" className="my-1 text-[13px] text-slack">
          These coordinates are out of date: {old_frame}.
        </p>
      )}
      <Heading>Clouds, with poses and without deleted points</Heading>
      <label className="flex items-center gap-2 py-0.5 text-[13.5px]">
        <input type="checkbox" checked={crop && box} disabled={!box} onChange={(e) => setCrop(e.target.checked)} />{" "}
        {box ? "only what lies in the crop box" : "no crop box is on: everything goes out"}
      </label>
      {zones.length > 0 && (
        <Pick
          label="Points of"
          value={zone}
          onChange={(e) => setZone(e.target.value)}
          options={[["", "all zones and none"], ...zones.map((z) => [z.id, z.name] as [string, string])]}
        />
      )}
      {hidden > 0 && <Quiet>{grouped(hidden)} hidden points go out too: they are only out of sight.</Quiet>}
      {evened && !even.trim() && (
        <Quiet>
          One spacing of {1000 * (evened.detail.spacing ?? 0)} mm is on{evened.old && ` (out of date: ${evened.old})`}:
          clouds go out as they are seen. Another one can be given here.
        </Quiet>
      )}
      <Field
        label="One spacing, the best of each cell"
        unit="mm"
        value={even}
        placeholder="as scanned"
        aria-invalid={spacing === undefined}
        onChange={(e) => setEven(e.target.value)}
      />
      {spacing === undefined && <Quiet>From 0.5 to 1000 mm, or nothing.</Quiet>}
      <Actions>
        <Button
          busy={busy("e57")}
          onClick={() => make.mutate("e57")}
          why={spacing === undefined ? "the spacing is no length" : ""}
        >
          Make the E57
        </Button>
        <Button
          busy={busy("laz")}
          onClick={() => make.mutate("laz")}
          why={spacing === undefined ? "the spacing is no length" : ""}
        >
          Make the LAZ
        </Button>
      </Actions>
      <DrawnOut id={id} project={project} busy={busy} />
      <Heading>Report</Heading>
      <Actions>
        <Button busy={busy("pdf")} onClick={() => make.mutate("pdf")}>
          Make the PDF
        </Button>
        <Button busy={busy("html")} onClick={() => make.mutate("html")}>
          Make one web page
        </Button>
      </Actions>
      {jobs.map((j) => (
        <JobLine key={j.id} id={id} job={j} />
      ))}
    </>
  );
}

function DeliveriesLedger({ id }: { id: string }) {
  const asked = useDeliveries(id);
  const rows = asked.data ?? [];
  const says = (d: Delivery) => {
    const p = d.params as { frame?: string; points?: number; cropped?: boolean; even?: number };
    return [
      p.frame,
      p.points ? `${grouped(p.points)} ${DRAWN.includes(d.kind) ? "lines and shapes" : "points"}` : "",
      p.cropped ? "cropped" : "",
      p.even ? `every ${1000 * p.even} mm` : "",
    ]
      .filter(Boolean)
      .join(", ");
  };
  const letGo = useAsk(id, ({ d, reason }: { d: Delivery; reason: string }) =>
    sent(
      http.POST("/api/projects/{project_id}/deliveries/{delivery_id}/let-go", {
        params: { path: { project_id: id, delivery_id: d.id } },
        body: { reason },
      }),
    ),
  );
  const ask = (d: Delivery) =>
    askToLetGo(
      d.name,
      `Its line and its checksum stay, and ${megabytes(d.size)} are given back.`,
      "; it can be made again",
      (reason) => letGo.mutate({ d, reason }),
    );
  const columns: Column<Delivery>[] = [
    { head: "delivery", cell: (d) => d.title, value: (d) => d.title },
    {
      head: "file",
      cell: (d) =>
        d.let_go ? (
          <span className="font-mono text-quiet line-through">{d.name}</span>
        ) : (
          <a
            className="font-mono text-action underline"
            href={`/api/projects/${id}/deliveries/${d.id}/file`}
            download={d.name}
          >
            {d.name}
          </a>
        ),
      value: (d) => d.name,
    },
    { head: "size", cell: (d) => megabytes(d.size), value: (d) => d.size, figure: true },
    { head: "holds", cell: says, value: says },
    { head: "of the state after", cell: (d) => d.state.title, value: (d) => d.state.title },
    {
      head: "made",
      cell: (d) => <span className="font-mono">{d.created_at.slice(0, 16).replace("T", " ")}</span>,
      value: (d) => d.created_at,
    },
    {
      head: "state",
      cell: (d) =>
        d.let_go ? (
          `let go of on ${d.let_go.at.slice(0, 10)} by ${d.let_go.by}: ${d.let_go.reason}`
        ) : d.outdated ? (
          <span className="text-slack">older than the last change</span>
        ) : (
          "up to date"
        ),
      value: (d) => String(d.outdated),
    },
    {
      head: "SHA-256",
      cell: (d) => (
        <span className="font-mono text-quiet" title={d.sha256}>
          {d.sha256.slice(0, 12)}
        </span>
      ),
      value: (d) => d.sha256,
    },
    {
      head: "can be",
      width: "90px",
      cell: (d) =>
        d.let_go ? null : (
          <button type="button" className="cursor-pointer text-action underline" onClick={() => ask(d)}>
            let go of
          </button>
        ),
    },
  ];
  return (
    <Table
      what="deliveries"
      from={[asked]}
      rows={rows}
      columns={columns}
      id={(d) => d.id}
      empty="E57, LAZ, DXF and the PDF report are listed here, each with its checksum and the coordinates it is in."
    />
  );
}

export const handOverLedgers = [{ id: "deliveries", title: "Deliveries", Body: DeliveriesLedger }];
