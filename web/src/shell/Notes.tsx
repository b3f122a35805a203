/** Measures: picks make them, the server gives their figures, they are kept as notes. Shown in every step. */
import { useEffect, useRef } from "react";
import { http, sent, type Note } from "../api/client";
import { tell, tellUndoable, useAsk, useNotes, useProject } from "../api/queries";
import { Actions, Button, type Column, Heading, Pick, Quiet, Row, Sentence } from "../kit";
import { Table } from "../kit/table";
import { into, lengthIn, UNITS, type Unit } from "../kit/units";
import { useView, type MeasureKind } from "../kit/view";
import { PipeHand } from "./PipeHand";

const KINDS: [MeasureKind, string, number, number][] = [
  // words, picks it takes at least, and at most
  ["distance", "Distance", 2, 2],
  ["polyline", "Line of points", 2, 2000],
  ["angle", "Angle", 3, 3],
  ["area", "Area", 3, 2000],
  ["plane", "Distance from a plane", 2, 2],
  ["clearance", "Clearance between two things", 2, 2],
  ["pipe", "Pipe, over its elbows", 1, 1],
  ["profile", "Steel member, its section and length", 1, 1],
  ["box", "Box, from two of its faces", 2, 2],
  ["sphere", "Sphere", 1, 1],
  ["point", "Point", 1, 1],
];
const wordsOf = (kind: string) => KINDS.find(([k]) => k === kind)?.[1] ?? kind;
const NAMES: Record<string, string> = {
  slope: "along the line",
  level: "level",
  height: "height",
  angle: "angle",
  level_angle: "level angle",
  area: "area",
  level_area: "level area",
  round: "all round",
  flat: "corners leave its plane by",
  off: "off the plane",
  rms: "of what was fitted, RMS",
  diameter: "in diameter",
  standard_diameter: "standard diameter",
  fall: "out of level over its longest run",
  clearance: "clear",
  error: "uncertain by",
  section_height: "high, its section",
  section_width: "wide, its section",
  long: "long",
  wide: "wide",
  high: "high",
};

const EMPTY =
  "Nothing is measured yet. Press M, then pick points in any pane: " +
  "distances, angles, areas, distances from a plane, clearances, pipes, steel members and boxes are kept here.";
const FINE = ["diameter", "standard_diameter", "rms", "flat", "fall", "error", "section_height", "section_width"];

/** A figure with its unit: millimetres of what is small, degrees, or metres and square metres in the unit of the coordinates. */
function figure(key: string, value: number, unit: Unit): [string, string] {
  if (key.includes("angle")) return [value.toFixed(3), "°"];
  if (FINE.includes(key)) return [(1000 * value).toFixed(1), "mm"];
  if (!key.includes("area")) return [lengthIn(value, unit), unit];
  const u = unit === "mm" ? UNITS.m : UNITS[unit]; // nobody counts areas in square millimetres
  return [(value * u.metre ** 2).toFixed(3), `${u.name}²`];
}
const main = (n: Note): [string, number] | null => {
  const key = ["clearance", "diameter", "slope", "long", "angle", "area", "off"].find(
    (k) => n.figures[k] !== undefined,
  );
  return key ? [key, n.figures[key]!] : null;
};

/** Take picks one after another into view state, until there are as many as the kind takes. */
export function startMeasuring(kind: MeasureKind = useView.getState().measuring ?? "distance") {
  useView.getState().set({
    ...{ measuring: kind, note: null, tool: "pick", picks: [] },
    onPick: (at) => {
      const v = useView.getState();
      v.set({ picks: [...v.picks, at] });
    },
  });
}

type Kept = Exclude<MeasureKind, "pipe" | "profile">; // these are followed in the background

/** Without the last pick, and ready for another. */
function again(kind: MeasureKind) {
  const picks = useView.getState().picks.slice(0, -1);
  startMeasuring(kind);
  useView.getState().set({ picks });
}

export function MeasureCard({ id, kind }: { id: string; kind: MeasureKind }) {
  const project = useProject(id).data;
  const { picks, catching, set, letGo } = useView();
  const [, words, least, most] = KINDS.find(([k]) => k === kind)!;
  const keep = useAsk(
    id,
    (points: number[][]) =>
      sent(
        http.POST("/api/projects/{project_id}/notes", {
          params: { path: { project_id: id } },
          body: { kind: kind as Kept, points, name: "", remark: "", part: project?.part ?? null },
        }),
      ),
    ({ id: note }) => {
      letGo();
      set({ measuring: null, note });
    },
  );
  const follow = useAsk(
    id,
    (at: number[]) =>
      sent(
        http.POST(kind === "profile" ? "/api/projects/{project_id}/members" : "/api/projects/{project_id}/pipes", {
          params: { path: { project_id: id } },
          body: { at, name: "", part: project?.part ?? null },
        }),
      ),
    () => {
      letGo();
      set({ measuring: null });
    },
  );
  const { mutate, isPending } = keep;
  const { mutate: go } = follow;
  const asked = useRef<number[][] | null>(null); // these picks were sent: what fails is not asked again by itself
  useEffect(() => {
    if (picks.length === most && asked.current !== picks) {
      asked.current = picks;
      set({ tool: "none", onPick: null });
      if (kind === "pipe" || kind === "profile") go(picks[0]!);
      else mutate(picks);
    }
  }, [picks, most, mutate, go, kind, set]);
  const unit = project?.unit ?? "m";
  return (
    <>
      <Sentence>
        {picks.length === 0
          ? kind === "plane"
            ? "Pick a bare part of the surface from which to measure."
            : kind === "pipe"
              ? "Pick the skin of a pipe; it is followed both ways."
              : kind === "profile"
                ? "Pick a flange, a web or a side of the member, where it is seen over half a metre."
                : kind === "box"
                  ? "Pick a face of the box."
                  : kind === "sphere"
                    ? "Pick its skin."
                    : kind === "clearance"
                      ? "Pick one of two things; the shortest way between both is looked for."
                      : "Pick the first point, in any pane."
          : most > 3
            ? `${picks.length} picked. Pick the next, or keep what is there.`
            : `Pick ${picks.length + 1} of ${most}.`}
      </Sentence>
      <Pick
        label="Measure"
        value={kind}
        onChange={(e) => startMeasuring(e.target.value as MeasureKind)}
        options={KINDS.map(([k, w]) => [k, w])}
      />
      <Pick
        label="A pick takes"
        value={catching}
        onChange={(e) => set({ catching: e.target.value as "point" })}
        options={[
          ["point", "the point"],
          ["shape", "the plane, edge or middle it lies on"],
        ]}
      />
      {picks.map((p, k) => {
        const at = project ? into(project.T_frame_part, p) : [0, 0, 0];
        return (
          <p key={k} className="font-mono text-[12.5px]">
            {k + 1} {at.map((v) => lengthIn(v, unit)).join("  ")}
          </p>
        );
      })}
      <Actions>
        {most > 3 && (
          <Button
            main
            busy={isPending}
            why={picks.length < least ? `takes ${least} picks` : ""}
            onClick={() => mutate(picks)}
          >
            Keep this {words.toLowerCase()}
          </Button>
        )}
        <Button why={picks.length ? "" : "nothing is picked"} onClick={() => again(kind)}>
          Take back the last pick
        </Button>
        <Button onClick={() => (letGo(), set({ measuring: null }))}>Leave it</Button>
      </Actions>
    </>
  );
}

const lineOf = (n: Note, unit: Unit) =>
  [
    n.name,
    ...Object.entries(n.figures).map(([k, v]) => `${NAMES[k] ?? k} ${figure(k, v, unit).join(" ")}`),
    ...n.at.map((p) => `${n.frame} ${p.map((v) => lengthIn(v, unit)).join(" ")} ${unit}`),
    n.remark,
  ]
    .filter(Boolean)
    .join("\t");

/** Copy a note's line, as it goes into a letter or a spreadsheet. */
export function copyNote(n: Note, unit: Unit) {
  void navigator.clipboard.writeText(lineOf(n, unit)).then(() => tell(`Copied ${n.name}.`));
}

export function NoteCard({ id, note: n }: { id: string; note: Note }) {
  const unit = useProject(id).data?.unit ?? "m";
  const { set } = useView();
  const change = useAsk(id, (body: { name?: string; remark?: string; deleted?: true }) =>
    sent(
      http.PATCH("/api/projects/{project_id}/notes/{note_id}", {
        params: { path: { project_id: id, note_id: n.id } },
        body: { ...body, version: n.version },
      }),
    ),
  );
  const first = main(n);
  return (
    <>
      <Sentence>
        {n.name}
        {first ? `: ${figure(...first, unit).join(" ")} ${NAMES[first[0]]}.` : "."}
      </Sentence>
      {n.section && (
        <Quiet>
          {n.section.includes(" or ")
            ? `Too little of its round was seen to tell which it is: ${n.section}.`
            : `Its round fits ${n.section} of the standard series, and no other.`}
        </Quiet>
      )}
      {Object.entries(n.figures).map(([k, v]) => {
        const [value, of] = figure(k, v, unit);
        return <Row key={k} name={NAMES[k] ?? k} value={value} unit={of} limit="" />;
      })}
      {n.kind === "pipe" && <PipeHand id={id} note={n} />}
      {n.bends.map((b, k) => (
        <Row
          key={`bend${k}`}
          name={`bend ${k + 1}${b ? `, of ${b.turn.toFixed(1)}°` : ""}, radius`}
          value={b ? (1000 * b.radius).toFixed(0) : "not told"}
          unit={b ? "mm" : ""}
          limit=""
        />
      ))}
      <Heading>
        {n.kind === "pipe" || n.kind === "profile"
          ? "Its axis"
          : n.kind === "clearance"
            ? "Where both are nearest"
            : n.kind === "box"
              ? "A corner, and where its edges from there end"
              : n.kind === "sphere"
                ? "Its centre"
                : "Picked"}
        , in {n.frame}
      </Heading>
      {n.at.map((p, k) => (
        <p key={k} className="font-mono text-[12.5px]">
          {k + 1} {p.map((v) => lengthIn(v, unit)).join("  ")}
        </p>
      ))}
      {(["name", "remark"] as const).map((field) => (
        <label key={`${field}${n.version}`} className="mt-2 block text-[13.5px]">
          {field === "name" ? "Name" : "Remark"}
          <input
            defaultValue={n[field]}
            maxLength={field === "name" ? 120 : 300}
            className="mt-0.5 w-full rounded border border-rule bg-paper px-2 py-1"
            onBlur={(e) => e.target.value !== n[field] && change.mutate({ [field]: e.target.value })}
            onKeyDown={(e) => (e.stopPropagation(), e.key === "Enter" && e.currentTarget.blur())}
          />
        </label>
      ))}
      <Actions>
        <Button main onClick={() => startMeasuring(n.kind as MeasureKind)}>
          Measure another
        </Button>
        <Button onClick={() => copyNote(n, unit)}>Copy</Button>
        <Button
          busy={change.isPending}
          onClick={() =>
            change.mutate(
              { deleted: true },
              { onSuccess: () => (set({ note: null }), void tellUndoable(id, `Deleted the note ${n.name}.`)) },
            )
          }
        >
          Delete
        </Button>
        <Button onClick={() => set({ note: null })}>Back to the step</Button>
      </Actions>
    </>
  );
}

export function NotesLedger({ id }: { id: string }) {
  const asked = useNotes(id);
  const project = useProject(id).data;
  const unit = project?.unit ?? "m";
  const { note, set } = useView();
  const rows = (asked.data ?? []).filter((n) => n.part === project?.part);
  const columns: Column<Note>[] = [
    { head: "note", cell: (n) => n.name, value: (n) => n.name },
    { head: "kind", cell: (n) => wordsOf(n.kind), value: (n) => wordsOf(n.kind) },
    {
      head: "figure",
      figure: true,
      value: (n) => main(n)?.[1] ?? 0,
      cell: (n) => {
        const m = main(n);
        return m ? figure(...m, unit).join(" ") : "–";
      },
    },
    {
      head: "first pick",
      cell: (n) => <span className="font-mono">{n.at[0]!.map((v) => lengthIn(v, unit)).join("  ")}</span>,
    },
    { head: "remark", cell: (n) => n.remark, value: (n) => n.remark },
  ];
  return (
    <>
      <div className="flex items-center gap-3 px-3 pt-1.5 text-[13px]">
        <Button onClick={() => startMeasuring()}>Measure</Button>
        {rows.length > 0 && (
          <a className="text-action underline" href={`/api/projects/${id}/notes.csv`} download="notes.csv">
            All figures and picks as CSV
          </a>
        )}
        <Quiet>They go onto a layer of their own in the drawing.</Quiet>
      </div>
      <Table
        what="notes"
        from={[asked]}
        rows={rows}
        columns={columns}
        id={(n) => n.id}
        selected={(n) => n.id === note}
        onSelect={(n) => set({ note: n.id, measuring: null })}
        empty={EMPTY}
      />
    </>
  );
}
