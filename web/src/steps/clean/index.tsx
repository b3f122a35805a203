/** Clean: a crop box, a lasso; points are marked, never rewritten. */
import { useEffect, useState } from "react";
import { http, sent, type Box, type Schemas } from "../../api/client";
import { tell, useAsk, useBoxes, useEdits, useProject } from "../../api/queries";
import { Actions, Button, Field, fixed, grouped, Heading, Quiet, Sentence, type Column } from "../../kit";
import { provide } from "../../kit/commands";
import { Table } from "../../kit/table";
import { into, inverse } from "../../kit/units";
import { useView } from "../../kit/view";

type Edit = Schemas["EditOut"];
const path = (id: string) => ({ params: { path: { project_id: id } } });

export function CleanCard({ id }: { id: string }) {
  const edits = useEdits(id).data ?? [];
  const boxes = useBoxes(id).data ?? [];
  const project = useProject(id).data;
  const { tool, outline, set } = useView();
  const remove = useAsk(
    id,
    () => sent(http.POST("/api/projects/{project_id}/lasso", { ...path(id), body: { view: outline!.view, outline: outline!.outline, stations: outline!.stations, only_count: false } })),
    (r) => {
      set({ outline: null });
      tell(`Deleted ${grouped(r.count)} points. Ctrl+Z brings them back.`);
    },
  );
  const count = outline?.count ?? null;
  useEffect(() => {
    const ask = () => useView.getState().outline?.count && remove.mutate(undefined);
    return provide([
      { id: "clean.delete", title: "Delete the points inside the outline", keys: "Delete", run: () => void ask() },
      { id: "clean.lasso", title: "Draw round points", keys: "l", run: () => set({ tool: "lasso" }) },
    ]);
  });
  const gone = edits.filter((e) => e.active).reduce((n, e) => n + e.count, 0);
  const box = boxes.find((b) => b.active);
  return (
    <>
      <Sentence>
        {outline
          ? count === null
            ? "Counting the points inside the outline …"
            : count
              ? `${grouped(count)} points lie inside the outline.`
              : "No points lie inside the outline."
          : gone
            ? `${grouped(gone)} points are deleted${box ? ", and a crop box is on" : ""}.`
            : box
              ? "A crop box is on; nothing is deleted."
              : "Nothing is deleted yet. People, noise and what lies outside the site can go."}
      </Sentence>
      {outline ? (
        <Actions>
          <Button main busy={remove.isPending} onClick={() => remove.mutate(undefined)} why={count ? "" : "no points lie inside"}>
            Delete {grouped(count ?? 0)} points
          </Button>
          <Button onClick={() => set({ outline: null })}>Keep them</Button>
        </Actions>
      ) : (
        <Actions>
          <Button main={tool !== "lasso"} pressed={tool === "lasso"} onClick={() => set({ tool: tool === "lasso" ? "none" : "lasso" })}>
            {tool === "lasso" ? "Put the lasso down" : "Draw round points"}
          </Button>
        </Actions>
      )}
      <Quiet>{tool === "lasso" ? "Hold the left button and draw round what is to go, in any pane. What the pane hides (slab, crop box, closed eyes) is left alone." : "Deleted points stay in the store: every deletion can be brought back, today or next month."}</Quiet>
      <Heading>Crop box</Heading>
      {project && <BoxPart key={`${box?.id}${box?.version}${project.frame}`} id={id} boxes={boxes} box={box} frame={project.T_frame_project} />}
    </>
  );
}

function BoxPart({ id, boxes, box, frame }: { id: string; boxes: Box[]; box: Box | undefined; frame: number[] }) {
  const turned = (Math.atan2(frame[4]!, frame[0]!) * 180) / Math.PI; // of the active coordinates
  const [draft, setDraft] = useState(box ? { centre: into(frame, box.centre).map((v) => fixedIn(v)), size: box.half.map((v) => fixedIn(2 * v)), yaw: fixedIn((box.yaw * 180) / Math.PI + turned) } : null);
  const propose = useAsk(
    id,
    async () => {
      const p = await sent(http.GET("/api/projects/{project_id}/boxes/proposal", path(id)));
      return sent(http.POST("/api/projects/{project_id}/boxes", { ...path(id), body: { ...p, name: "site", active: true } }));
    },
  );
  const change = useAsk(id, (body: Partial<Schemas["BoxIn"]>) =>
    sent(http.PUT("/api/projects/{project_id}/boxes/{box_id}", { params: { path: { project_id: id, box_id: (box ?? boxes[0]!).id } }, body: { name: (box ?? boxes[0]!).name, centre: (box ?? boxes[0]!).centre, half: (box ?? boxes[0]!).half, yaw: (box ?? boxes[0]!).yaw, active: true, version: (box ?? boxes[0]!).version, ...body } })),
  );
  const remove = useAsk(id, () => sent(http.DELETE("/api/projects/{project_id}/boxes/{box_id}", { params: { path: { project_id: id, box_id: (box ?? boxes[0]!).id } } })));
  if (!box)
    return (
      <>
        <Quiet>Hides what lies outside, on the screen and in everything handed over.</Quiet>
        <Actions>
          {boxes.length > 0 ? (
            <Button busy={change.isPending} onClick={() => change.mutate({ active: true })}>
              Switch the box on
            </Button>
          ) : (
            <Button busy={propose.isPending} onClick={() => propose.mutate(undefined)}>
              Set a box round the site
            </Button>
          )}
        </Actions>
      </>
    );
  const numbers = draft ? [...draft.centre, ...draft.size, draft.yaw].map(Number) : [];
  const good = numbers.every(Number.isFinite) && numbers.slice(3, 6).every((v) => v > 0);
  const apply = () => good && change.mutate({ centre: into(inverse(frame), numbers.slice(0, 3)), half: numbers.slice(3, 6).map((v) => v / 2), yaw: ((numbers[6]! - turned) * Math.PI) / 180 });
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        apply();
      }}
    >
      {draft && ["E", "N", "H"].map((axis, k) => <Field key={axis} label={`Middle ${axis}`} unit="m" inputMode="decimal" value={draft.centre[k]} onChange={(e) => setDraft({ ...draft, centre: draft.centre.map((v, j) => (j === k ? e.target.value : v)) })} />)}
      {draft && ["Length", "Width", "Height"].map((axis, k) => <Field key={axis} label={axis} unit="m" inputMode="decimal" value={draft.size[k]} onChange={(e) => setDraft({ ...draft, size: draft.size.map((v, j) => (j === k ? e.target.value : v)) })} />)}
      {draft && <Field label="Turned by" unit="°" inputMode="decimal" value={draft.yaw} onChange={(e) => setDraft({ ...draft, yaw: e.target.value })} />}
      <Actions>
        <Button main type="submit" busy={change.isPending} onClick={apply} why={good ? "" : "sizes must be numbers above zero"}>
          Set the box
        </Button>
        <Button onClick={() => change.mutate({ active: false })}>Switch it off</Button>
        <Button onClick={() => remove.mutate(undefined)}>Remove it</Button>
      </Actions>
    </form>
  );
}
const fixedIn = (v: number) => v.toFixed(2);

function EditsLedger({ id }: { id: string }) {
  const edits = useEdits(id).data ?? [];
  const change = useAsk(id, (e: Edit) => sent(http.PATCH("/api/projects/{project_id}/edits/{edit_id}", { params: { path: { project_id: id, edit_id: e.id } }, body: { active: !e.active, version: e.version } })));
  const columns: Column<Edit>[] = [
    { head: "deletion", cell: (e) => <span className={e.active ? "" : "text-quiet line-through"}>{e.title}</span>, value: (e) => e.title },
    { head: "points", cell: (e) => grouped(e.count), value: (e) => e.count, figure: true },
    { head: "", cell: (e) => (e.active ? "deleted" : "brought back"), value: (e) => String(e.active), width: "120px" },
    {
      head: "can be",
      cell: (e) => (
        <button type="button" className="cursor-pointer text-action underline" onClick={() => change.mutate(e)}>
          {e.active ? "brought back" : "deleted again"}
        </button>
      ),
      width: "140px",
    },
  ];
  return <Table rows={edits} columns={columns} id={(e) => e.id} empty="Deletions are listed here, the latest first, and each can be brought back on its own." />;
}

function BoxesLedger({ id }: { id: string }) {
  const boxes = useBoxes(id).data ?? [];
  const columns: Column<Box>[] = [
    { head: "crop box", cell: (b) => b.name, value: (b) => b.name },
    { head: "", cell: (b) => (b.active ? "on" : "off"), width: "70px" },
    { head: "size m", figure: true, cell: (b) => b.half.map((v) => fixed(2 * v, 2)).join(" x ") },
    { head: "turned °", figure: true, cell: (b) => fixed((b.yaw * 180) / Math.PI, 1) },
  ];
  return <Table rows={boxes} columns={columns} id={(b) => b.id} empty="No crop box yet." />;
}

export const cleanLedgers = [
  { id: "edits", title: "Deletions", Body: EditsLedger },
  { id: "boxes", title: "Crop boxes", Body: BoxesLedger },
];
