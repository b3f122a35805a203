/** Bring in: what is in each file before it is stored, limits and unit, the import report. */
import { useEffect, useRef, useState } from "react";
import { http, sent, type Job, type Schemas, type Station } from "../../api/client";
import { useAsk, useJobs, useOriginals, useProject, useStations } from "../../api/queries";
import { upload, useUploads } from "../../api/uploads";
import {
  Actions,
  Button,
  fixed,
  grouped,
  Heading,
  megabytes,
  Pick,
  Quiet,
  Row,
  Sentence,
  type Column,
} from "../../kit";
import { Await } from "../../kit/await";
import { provide } from "../../kit/commands";
import { LengthField, useLengths } from "../../kit/fields";
import { askToLetGo } from "../../kit/confirm";
import { Table } from "../../kit/table";
import { UNIT_CHOICES, type Unit } from "../../kit/units";
import { useView } from "../../kit/view";
import { JobLine } from "../../parts/JobLine";
import { AnotherProject } from "./AnotherProject";
import { DeviceDrawer, openDevices } from "./Devices";

type Original = Schemas["OriginalOut"];

export function BringInCard({ id }: { id: string }) {
  const asked = [useOriginals(id), useStations(id), useJobs(id)] as const;
  useEffect(
    () =>
      provide([{ id: "devices", title: "Open the drawer of instruments", keys: "i", run: () => openDevices(true) }]),
    [],
  );
  return (
    <Await of={[...asked]} what="files and stations">
      <Loaded id={id} files={asked[0].data ?? []} stations={asked[1].data ?? []} jobs={asked[2].data ?? []} />
      <DeviceDrawer id={id} />
    </Await>
  );
}

function Loaded({ id, files, stations, jobs }: { id: string; files: Original[]; stations: Station[]; jobs: Job[] }) {
  const sending = useUploads((s) => s.files).filter((f) => f.project === id);
  const chosen = useView((s) => s.stations);
  const input = useRef<HTMLInputElement>(null);
  const shownIn = useProject(id).data?.unit ?? "m";
  const limits = useLengths({ nearest: 0.4, farthest: 200 }, shownIn, {
    nearest: { least: 0, most: 5000 },
    farthest: { above: 0, most: 5000 },
  });
  const [unit, setUnit] = useState<Unit>("m");
  const demo = jobs.find((j) => j.kind === "demo" && (j.state === "running" || j.state === "waiting"));
  const ready = files.filter((f) => !demo && f.state === "complete" && f.scans.length && !f.brought_in && !f.discarded);
  const bring = useAsk(id, () =>
    sent(
      http.POST("/api/projects/{project_id}/bring-in", {
        params: { path: { project_id: id } },
        body: {
          originals: ready.map((f) => f.id),
          min_range: limits.values!.nearest,
          max_range: limits.values!.farthest,
          unit,
        },
      }),
    ),
  );
  const station = stations.find((s) => s.id === chosen[0]);
  if (station && !ready.length) return <StationReport station={station} />;
  const coming = jobs.filter(
    (j) => ["import", "merge"].includes(j.kind) && (j.state === "running" || j.state === "waiting"),
  );
  const scans = ready.flatMap((f) => f.scans);
  const points = scans.reduce((sum, s) => sum + s.points, 0);
  return (
    <>
      <Sentence>
        {coming.some((j) => j.kind === "merge")
          ? "A project is coming in as a group."
          : coming.length
            ? `${coming.length} scans are coming in. Those that are here can be looked at.`
            : ready.length
              ? `${ready.length} files with ${scans.length} scans and ${(points / 1e6).toFixed(1)} million points wait to be brought in.`
              : demo
                ? "The demo site is being scanned; its stations come in by themselves."
                : stations.length
                  ? `${stations.length} stations are here. Choose one for its import report, or drop more files.`
                  : "Drop a folder of E57 files on the page."}
      </Sentence>
      {sending.map((f) => (
        <div key={f.name} className="my-1.5 text-[13px]">
          <div className="flex gap-2">
            <span className="flex-1 truncate">{f.name}</span>
            <span className="figure">
              {megabytes(f.sent)} of {megabytes(f.size)}
            </span>
          </div>
          <div className="h-1.5 rounded bg-rule">
            <div className="h-full rounded bg-action" style={{ width: `${(100 * f.sent) / Math.max(1, f.size)}%` }} />
          </div>
          {f.error && <p className="text-slack">{f.error}</p>}
        </div>
      ))}
      {coming.map((j) => (
        <JobLine key={j.id} id={id} job={j} />
      ))}
      {ready.length > 0 && (
        <>
          <Heading>Keep points</Heading>
          <LengthField of={limits} name="nearest" label="Farther than" />
          <LengthField of={limits} name="farthest" label="Nearer than" />
          <Pick
            label="Unit in the files"
            value={unit}
            onChange={(e) => setUnit(e.target.value as Unit)}
            options={UNIT_CHOICES}
          />
          <Quiet>Points nearer than 0.4 m are the tripod and whoever stood beside it.</Quiet>
          <Actions>
            <Button
              main
              busy={bring.isPending}
              onClick={() => bring.mutate(undefined)}
              why={
                limits.why ||
                (limits.values!.nearest < limits.values!.farthest ? "" : "the nearest range must be below the farthest")
              }
            >
              Bring in {scans.length} {scans.length === 1 ? "scan" : "scans"}
            </Button>
          </Actions>
        </>
      )}
      <Actions>
        <Button onClick={() => input.current?.click()}>Choose files</Button>
        <Button onClick={() => openDevices(true)}>Instruments</Button>
        {stations.length > 1 && !coming.length && !ready.length && (
          <Button main onClick={() => useView.getState().go("tie")}>
            Go on to Tie
          </Button>
        )}
      </Actions>
      {!ready.length && <AnotherProject id={id} busy={coming.some((j) => j.kind === "merge")} />}
      <input
        ref={input}
        type="file"
        multiple
        accept=".e57"
        className="hidden"
        aria-label="E57 files"
        data-testid="files"
        onChange={(e) => {
          void upload(id, [...(e.target.files ?? [])]);
          e.target.value = "";
        }}
      />
    </>
  );
}

function StationReport({ station: s }: { station: Station }) {
  const r = s.report as Record<string, number>;
  const remarks = (s.report["remarks"] ?? []) as string[];
  const lost = (r["read"] ?? 0) - (r["kept"] ?? 0);
  return (
    <>
      <Sentence>
        {s.name} kept {grouped(r["kept"] ?? s.points)} of {grouped(r["read"] ?? s.points)} points.
      </Sentence>
      <Heading>Import report</Heading>
      {remarks.map((remark) => (
        <p key={remark} className="my-1 text-[13px] text-slack">
          {remark.charAt(0).toUpperCase() + remark.slice(1)}.
        </p>
      ))}
      <Row name="read" value={grouped(r["read"] ?? 0)} />
      <Row name="no return, or marked invalid" value={grouped(r["invalid"] ?? 0)} />
      <Row name="not a number" value={grouped(r["not_finite"] ?? 0)} doubt={(r["not_finite"] ?? 0) > 0} />
      <Row name="nearer than the limit" value={grouped(r["too_near"] ?? 0)} />
      <Row name="farther than the limit" value={grouped(r["too_far"] ?? 0)} />
      <Row name="kept" value={grouped(r["kept"] ?? 0)} />
      <Quiet>
        {lost ? "What was left out stays in the original file, which is kept as it came." : "Nothing was left out."}{" "}
        {s.has_rgb ? "With true colour." : "Without true colour."}{" "}
        {s.has_intensity ? "With intensity." : "Without intensity."}
      </Quiet>
      <Heading>Extent from the instrument</Heading>
      {["E", "N", "H"].map((axis, k) => (
        <Row key={axis} name={axis} value={`${fixed(s.low[k], 2)} to ${fixed(s.high[k], 2)}`} unit="m" />
      ))}
      <Actions>
        <Button onClick={() => useView.getState().set({ stations: [] })}>Back to the files</Button>
        <Button onClick={() => openDevices(true)}>Instruments</Button>
      </Actions>
    </>
  );
}

function FilesLedger({ id }: { id: string }) {
  const asked = useOriginals(id);
  const files = asked.data ?? [];
  const restore = useAsk(id, (f: Original) =>
    sent(
      http.POST("/api/projects/{project_id}/originals/{upload_id}/restore", {
        params: { path: { project_id: id, upload_id: f.id } },
      }),
    ),
  );
  const discard = useAsk(id, (f: Original) =>
    sent(
      http.DELETE("/api/projects/{project_id}/originals/{upload_id}", {
        params: { path: { project_id: id, upload_id: f.id } },
      }),
    ),
  );
  const letGo = useAsk(id, ({ f, reason }: { f: Original; reason: string }) =>
    sent(
      http.POST("/api/projects/{project_id}/originals/{upload_id}/let-go", {
        params: { path: { project_id: id, upload_id: f.id } },
        body: { reason },
      }),
    ),
  );
  const ask = (f: Original) => {
    const points = grouped(f.scans.reduce((n, s) => n + s.points, 0));
    askToLetGo(
      f.name,
      `Its ${points} points stay in the project, and ${megabytes(f.size)} are given back.`,
      ": it cannot be read again with other limits",
      (reason) => letGo.mutate({ f, reason }),
    );
  };
  const columns: Column<Original>[] = [
    { head: "file", cell: (f) => <span className="font-mono">{f.name}</span>, value: (f) => f.name },
    { head: "size", cell: (f) => megabytes(f.size), value: (f) => f.size, figure: true },
    { head: "scans", cell: (f) => f.scans.length || "–", value: (f) => f.scans.length, figure: true },
    {
      head: "points",
      cell: (f) => grouped(f.scans.reduce((n, s) => n + s.points, 0)),
      value: (f) => f.scans.reduce((n, s) => n + s.points, 0),
      figure: true,
    },
    {
      head: "holds",
      cell: (f) =>
        [
          f.scans.some((s) => s.intensity) && "intensity",
          f.scans.some((s) => s.colour) && "true colour",
          f.scans.some((s) => s.has_pose) && "poses",
          f.scans.some((s) => s.rows > 0) && "grid",
        ]
          .filter(Boolean)
          .join(", ") || "–",
    },
    {
      head: "state",
      cell: (f) =>
        f.let_go
          ? `let go of on ${f.let_go.at.slice(0, 10)}`
          : f.discarded
            ? "in the bin"
            : f.state === "receiving"
              ? `${Math.round((100 * f.received) / f.size)} % sent`
              : f.problem
                ? "cannot be used"
                : f.brought_in
                  ? "brought in"
                  : f.scans.length
                    ? "read, waits"
                    : "being read",
      value: (f) => f.state,
    },
    {
      head: "remarks",
      cell: (f) => (
        <span className={f.problem ? "text-parted" : "text-slack"}>
          {f.problem
            ? `${f.problem.message}. What to do: ${f.problem.remedy}.`
            : [
                f.let_go ? `${f.let_go.by}: ${f.let_go.reason}` : "",
                ...f.scans.flatMap((s) => s.problems),
                f.same_as ? `the same bytes as ${f.same_as}` : "",
              ]
                .filter(Boolean)
                .join("; ")}
        </span>
      ),
    },
    {
      head: "",
      cell: (f) =>
        f.let_go ? null : f.brought_in ? (
          <button type="button" className="cursor-pointer text-action underline" onClick={() => ask(f)}>
            let go of it
          </button>
        ) : (
          <button
            type="button"
            className="cursor-pointer text-action underline"
            onClick={() => (f.discarded ? restore : discard).mutate(f)}
          >
            {f.discarded ? "bring back" : "discard"}
          </button>
        ),
      width: "90px",
    },
  ];
  return (
    <Table
      what="files"
      from={[asked]}
      rows={files}
      columns={columns}
      id={(f) => f.id}
      empty="No files yet. Drop E57 files on the page: what is in each is listed here before anything is stored."
    />
  );
}

function StationsLedger({ id }: { id: string }) {
  const asked = useStations(id);
  const stations = asked.data ?? [];
  const { stations: selected, selectStation } = useView();
  const of = (s: Station, key: string) => Number((s.report as Record<string, number>)[key] ?? 0);
  const remarks = (s: Station) => ((s.report["remarks"] as string[] | undefined) ?? []).join("; ");
  const columns: Column<Station>[] = [
    { head: "station", cell: (s) => <span className="font-mono">{s.name}</span>, value: (s) => s.name },
    ...(["read", "invalid", "not_finite", "too_near", "too_far", "kept"] as const).map((key) => ({
      head: key.replace("_", " "),
      figure: true,
      value: (s: Station) => of(s, key),
      cell: (s: Station) => grouped(of(s, key)),
    })),
    { head: "remarks", cell: (s) => <span className="text-slack">{remarks(s)}</span>, value: remarks },
  ];
  return (
    <Table
      what="stations"
      from={[asked]}
      rows={stations}
      columns={columns}
      id={(s) => s.id}
      selected={(s) => selected.includes(s.id)}
      onSelect={(s) => selectStation(s.id, false)}
      empty="The import report lists each station here: points read, left out and why, kept."
    />
  );
}

export const bringInLedgers = [
  { id: "files", title: "Files", Body: FilesLedger },
  { id: "report", title: "Import report", Body: StationsLedger },
];
