/** Clean: points are selected, then deleted, hidden, kept as zones or given a class; marks, never a rewrite. */
import { http, sent, type Box, type Project, type Schemas } from "../../api/client";
import { useAsk, useBoxes, useEdits, useProject, useSelection } from "../../api/queries";
import { grouped, Pick, Quiet, Sentence, type Column } from "../../kit";
import { Await } from "../../kit/await";
import { Table } from "../../kit/table";
import { useView } from "../../kit/view";
import type { Selection } from "../../parts/select";
import { ByValue } from "./ByValue";
import { BoxesLedger, BoxPart } from "./Boxes";
import { Density } from "./Density";
import { Finds } from "./Finds";
import { spared, Tools, WithSelection } from "./Selecting";
import { ZonesLedger } from "./Zones";

type Edit = Schemas["EditOut"];

export function CleanCard({ id }: { id: string }) {
  const asked = [useEdits(id), useBoxes(id), useProject(id), useSelection(id)] as const;
  const [edits, boxes, project, selection] = asked;
  return (
    <Await of={[...asked]} what="deletions and crop boxes">
      {project.data && selection.data && (
        <Loaded
          id={id}
          edits={edits.data ?? []}
          boxes={(boxes.data ?? []).filter((b) => b.part === project.data.part)}
          project={project.data}
          selection={selection.data}
        />
      )}
    </Await>
  );
}

interface Of {
  id: string;
  edits: Edit[];
  boxes: Box[];
  project: Project;
  selection: Selection;
}

function Loaded({ id, edits, boxes, project, selection }: Of) {
  const { choosing, ghosts, set } = useView();
  const left = spared(selection);
  return (
    <>
      <Sentence>{choosing ? "Looking for the points …" : sentence(edits, boxes, selection)}</Sentence>
      {!choosing && left && <Quiet>Left alone: {left}.</Quiet>}
      <WithSelection id={id} selection={selection} />
      <Tools id={id} />
      <ByValue id={id} project={project} boxes={boxes} />
      <Pick
        label="Deleted points are"
        value={ghosts}
        onChange={(e) => set({ ghosts: e.target.value as "none" })}
        options={[
          ["none", "not seen"],
          ["ghosts", "seen as ghosts"],
          ["alone", "all that is seen"],
        ]}
      />
      {ghosts !== "none" && <Quiet>What is selected now are deleted points: they can be brought back in part.</Quiet>}
      <Finds id={id} finds={edits.filter((e) => e.proposed)} part={project.part} />
      <BoxPart id={id} boxes={boxes} project={project} />
      <Density id={id} project={project} />
    </>
  );
}

function sentence(edits: Edit[], boxes: Box[], { count, stations, among }: Selection): string {
  const gone = edits.filter((e) => e.active && e.does === "delete").reduce((n, e) => n + e.count, 0);
  const found = edits.filter((e) => e.proposed).reduce((n, e) => n + e.count, 0);
  const on = boxes.filter((b) => b.active).length;
  const cropped = on === 1 ? "a crop box is on" : `${on} crop boxes are on`;
  if (count) {
    const of = stations.length === 1 ? "one station" : `${stations.length} stations`;
    return `${grouped(count)} ${among === "deleted" ? "deleted points" : "points"} of ${of} are selected.`;
  }
  if (found) return `${grouped(found)} points that do not belong are found: look at them, then delete or keep them.`;
  if (gone) return `${grouped(gone)} points are deleted${on ? `, and ${cropped}` : ""}.`;
  if (on) return `${cropped.charAt(0).toUpperCase()}${cropped.slice(1)}; nothing is deleted.`;
  return "Nothing is deleted yet. People, noise and what lies outside the site can go.";
}

function EditsLedger({ id }: { id: string }) {
  const asked = useEdits(id);
  const edits = asked.data ?? [];
  const change = useAsk(id, (e: Edit) =>
    sent(
      http.PATCH("/api/projects/{project_id}/edits/{edit_id}", {
        params: { path: { project_id: id, edit_id: e.id } },
        body: { active: !e.active, version: e.version },
      }),
    ),
  );
  const columns: Column<Edit>[] = [
    {
      head: "edit",
      cell: (e) => <span className={e.active || e.proposed ? "" : "text-quiet line-through"}>{e.title}</span>,
      value: (e) => e.title,
    },
    {
      head: "picture",
      cell: (e) => (
        <img
          loading="lazy"
          className="h-7 rounded"
          src={`/api/projects/${id}/edits/${e.id}/picture?v=${e.version}`}
          alt={`what ${e.title} holds`}
        />
      ),
      width: "64px",
    },
    { head: "points", cell: (e) => grouped(e.count), value: (e) => e.count, figure: true },
    {
      head: "brought back of it",
      cell: (e) => (e.detail.restored ? grouped(e.detail.restored) : ""),
      value: (e) => e.detail.restored,
      figure: true,
      width: "140px",
    },
    { head: "by", cell: (e) => e.detail.by ?? "", value: (e) => e.detail.by ?? "", width: "100px" },
    {
      head: "when",
      cell: (e) => <span className="font-mono">{(e.detail.when ?? "").slice(0, 16).replace("T", " ")}</span>,
      value: (e) => e.detail.when ?? "",
      width: "170px",
    },
    { head: "state", cell: (e) => stateOf(e), value: (e) => stateOf(e), width: "120px" },
    {
      head: "can be",
      cell: (e) => (
        <button type="button" className="cursor-pointer text-action underline" onClick={() => change.mutate(e)}>
          {canBe(e)}
        </button>
      ),
      width: "140px",
    },
  ];
  return (
    <Table
      what="deletions"
      from={[asked]}
      rows={edits}
      columns={columns}
      id={(e) => e.id}
      empty="Deletions are listed here, the latest first, and each can be brought back on its own."
    />
  );
}

const stateOf = (e: Edit) =>
  e.does === "class"
    ? e.active
      ? "class given"
      : "class taken away"
    : e.active
      ? "deleted"
      : e.proposed
        ? "found"
        : "brought back";
const canBe = (e: Edit) =>
  e.does === "class"
    ? e.active
      ? "taken away"
      : "given again"
    : e.active
      ? "brought back"
      : e.proposed
        ? "deleted"
        : "deleted again";

export const cleanLedgers = [
  { id: "edits", title: "Deletions", Body: EditsLedger },
  { id: "zones", title: "Zones", Body: ZonesLedger },
  { id: "boxes", title: "Crop boxes", Body: BoxesLedger },
];
