/** Clean: a crop box, a lasso; points are marked, never rewritten. */
import { useEffect } from "react";
import { http, sent, type Box, type Project, type Schemas } from "../../api/client";
import { tell, tellUndoable, useAsk, useBoxes, useEdits, useProject } from "../../api/queries";
import { Actions, Button, fixed, grouped, Heading, Quiet, Sentence, type Column } from "../../kit";
import { provide } from "../../kit/commands";
import { Await } from "../../kit/await";
import { LengthField, useLengths } from "../../kit/fields";
import { Table } from "../../kit/table";
import { into, inverse, lengthIn, UNITS } from "../../kit/units";
import { useView } from "../../kit/view";
import { Finds } from "./Finds";

type Edit = Schemas["EditOut"];
const path = (id: string) => ({ params: { path: { project_id: id } } });

export function CleanCard({ id }: { id: string }) {
  const asked = [useEdits(id), useBoxes(id), useProject(id)] as const;
  return (
    <Await of={[...asked]} what="deletions and crop boxes">
      {asked[2].data && (
        <Loaded id={id} edits={asked[0].data ?? []} boxes={asked[1].data ?? []} project={asked[2].data} />
      )}
    </Await>
  );
}

function Loaded({ id, edits, boxes, project }: { id: string; edits: Edit[]; boxes: Box[]; project: Project }) {
  const { tool, outline, set } = useView();
  const remove = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/lasso", {
          ...path(id),
          body: {
            view: outline!.view,
            outline: outline!.outline,
            stations: outline!.stations,
            front: outline!.front,
            only_count: false,
            expected: typeof outline!.count === "number" ? outline!.count : null,
          },
        }),
      ),
    (r) => {
      set({ outline: null });
      if (r.count === null)
        tell("There are so many points that they are deleted in the background.", "look at the jobs for how far it is");
      else void tellUndoable(id, `Deleted ${grouped(r.count)} points.`);
    },
  );
  const count = outline?.count ?? null;
  useEffect(() => {
    const ask = () => useView.getState().outline?.count && !remove.isPending && remove.mutate(undefined);
    return provide([
      { id: "clean.delete", title: "Delete the points inside the outline", keys: "Delete", run: () => void ask() },
      { id: "clean.lasso", title: "Draw round points", keys: "l", run: () => set({ tool: "lasso" }) },
    ]);
  });
  const gone = edits.filter((e) => e.active).reduce((n, e) => n + e.count, 0);
  const found = edits.filter((e) => e.proposed).reduce((n, e) => n + e.count, 0);
  const here = boxes.filter((b) => b.part === project.part);
  const box = here.find((b) => b.active);
  return (
    <>
      <Sentence>
        {outline
          ? count === null
            ? "Counting the points inside the outline …"
            : count === "many"
              ? "More points lie inside the outline than can be counted at once."
              : count
                ? `${grouped(count)} points ${outline.front === null ? "lie inside the outline" : "of things in front lie inside the outline"}.`
                : "No points lie inside the outline."
          : found
            ? `${grouped(found)} points that do not belong are found: look at them, then delete or keep them.`
            : gone
              ? `${grouped(gone)} points are deleted${box ? ", and a crop box is on" : ""}.`
              : box
                ? "A crop box is on; nothing is deleted."
                : "Nothing is deleted yet. People, noise and what lies outside the site can go."}
      </Sentence>
      {outline ? (
        <Actions>
          <Button
            main
            busy={remove.isPending}
            onClick={() => remove.mutate(undefined)}
            why={count ? "" : "no points lie inside"}
          >
            {count === "many" ? "Delete them in the background" : `Delete ${grouped(count ?? 0)} points`}
          </Button>
          <Button onClick={() => set({ outline: null })}>Keep them</Button>
        </Actions>
      ) : (
        <Actions>
          <Button
            main={tool !== "lasso"}
            pressed={tool === "lasso"}
            onClick={() => set({ tool: tool === "lasso" ? "none" : "lasso" })}
          >
            {tool === "lasso" ? "Put the lasso down" : "Draw round points"}
          </Button>
        </Actions>
      )}
      <FrontChoice />
      <Quiet>
        {tool === "lasso"
          ? "Hold the left button and draw round what is to go, in any pane. What the pane hides (slab, crop box, closed eyes) is left alone."
          : "Deleted points stay in the store: every deletion can be brought back, today or next month."}
      </Quiet>
      <Finds id={id} finds={edits.filter((e) => e.proposed)} part={project.part} />
      <Heading>Crop box</Heading>
      <BoxPart key={`${box?.id}${box?.version}${project.frame}`} id={id} boxes={here} box={box} project={project} />
    </>
  );
}

/** What an outline takes: all through, or only what stands in front. */
function FrontChoice() {
  const front = useView((s) => s.front);
  const set = useView((s) => s.set);
  const deep = useLengths({ deep: front ?? 3 }, "m", { deep: { least: 0.005, most: 20 } });
  const value = deep.values?.deep ?? null;
  return (
    <>
      <label className="flex items-center gap-2 py-0.5 text-[13.5px]">
        <input
          type="checkbox"
          checked={front !== null}
          onChange={(e) => set({ front: e.target.checked ? (value ?? 3) : null, outline: null })}
        />
        only what stands in front: what it hides stays
      </label>
      {front !== null && (
        <LengthField
          of={deep}
          name="deep"
          label="No deeper than"
          onCommit={() => value !== null && value !== front && set({ front: value, outline: null })}
        />
      )}
    </>
  );
}

function BoxPart({ id, boxes, box, project }: { id: string; boxes: Box[]; box: Box | undefined; project: Project }) {
  const of = box ?? boxes[0];
  const at = (b: Box) => ({ params: { path: { project_id: id, box_id: b.id } } });
  const propose = useAsk(id, async () => {
    const query = project.part ? { part: project.part } : {};
    const p = await sent(
      http.GET("/api/projects/{project_id}/boxes/proposal", { params: { ...path(id).params, query } }),
    );
    return sent(
      http.POST("/api/projects/{project_id}/boxes", {
        ...path(id),
        body: { ...p, name: "site", active: true, part: project.part },
      }),
    );
  });
  const change = useAsk(id, (part: Partial<Schemas["BoxIn"]>) => {
    const { name, centre, half, yaw, version } = of!;
    return sent(
      http.PUT("/api/projects/{project_id}/boxes/{box_id}", {
        ...at(of!),
        body: { name, centre, half, yaw, active: true, version, ...part },
      }),
    );
  });
  const remove = useAsk(
    id,
    () =>
      sent(
        http.DELETE("/api/projects/{project_id}/boxes/{box_id}", {
          params: { ...at(of!).params, query: { version: of!.version } },
        }),
      ),
    () => void tellUndoable(id, `Removed the crop box ${of!.name}.`),
  );
  if (box)
    return (
      <BoxForm
        box={box}
        project={project}
        busy={change.isPending || remove.isPending}
        change={change.mutate}
        remove={() => remove.mutate(undefined)}
      />
    );
  return (
    <>
      <Quiet>Hides what lies outside, on the screen and in everything handed over.</Quiet>
      <Actions>
        {of ? (
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
}

function BoxForm({
  box,
  project,
  busy,
  change,
  remove,
}: {
  box: Box;
  project: Project;
  busy: boolean;
  change: (part: Partial<Schemas["BoxIn"]>) => void;
  remove: () => void;
}) {
  const frame = project.T_frame_part;
  const turned = (Math.atan2(frame[4]!, frame[0]!) * 180) / Math.PI; // of the active coordinates
  const middle = into(frame, box.centre);
  const size = { above: 0 };
  const form = useLengths(
    {
      e: middle[0],
      n: middle[1],
      h: middle[2],
      length: 2 * box.half[0]!,
      width: 2 * box.half[1]!,
      height: 2 * box.half[2]!,
      yaw: (box.yaw * 180) / Math.PI + turned,
    },
    project.unit,
    { length: size, width: size, height: size, yaw: { angle: true } },
  );
  const apply = () => {
    const v = form.values;
    if (!v || busy) return;
    const moved = v.e !== middle[0] || v.n !== middle[1] || v.h !== middle[2];
    change({
      centre: moved ? into(inverse(frame), [v.e, v.n, v.h]) : box.centre,
      half: [v.length / 2, v.width / 2, v.height / 2],
      yaw: ((v.yaw - turned) * Math.PI) / 180,
    });
  };
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        apply();
      }}
    >
      <LengthField of={form} name="e" label="Middle E" />
      <LengthField of={form} name="n" label="Middle N" />
      <LengthField of={form} name="h" label="Middle H" />
      <LengthField of={form} name="length" label="Length" />
      <LengthField of={form} name="width" label="Width" />
      <LengthField of={form} name="height" label="Height" />
      <LengthField of={form} name="yaw" label="Turned by" />
      <Actions>
        <Button main type="submit" busy={busy} why={form.why}>
          Set the box
        </Button>
        <Button busy={busy} onClick={() => change({ active: false })}>
          Switch it off
        </Button>
        <Button busy={busy} onClick={remove}>
          Remove it
        </Button>
      </Actions>
    </form>
  );
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
      head: "deletion",
      cell: (e) => <span className={e.active || e.proposed ? "" : "text-quiet line-through"}>{e.title}</span>,
      value: (e) => e.title,
    },
    { head: "points", cell: (e) => grouped(e.count), value: (e) => e.count, figure: true },
    { head: "state", cell: (e) => stateOf(e), value: (e) => stateOf(e), width: "120px" },
    {
      head: "can be",
      cell: (e) => (
        <button type="button" className="cursor-pointer text-action underline" onClick={() => change.mutate(e)}>
          {e.active ? "brought back" : e.proposed ? "deleted" : "deleted again"}
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

const stateOf = (e: Edit) => (e.active ? "deleted" : e.proposed ? "found" : "brought back");

function BoxesLedger({ id }: { id: string }) {
  const asked = useBoxes(id);
  const boxes = asked.data ?? [];
  const unit = useProject(id).data?.unit ?? "m";
  const columns: Column<Box>[] = [
    { head: "crop box", cell: (b) => b.name, value: (b) => b.name },
    { head: "state", cell: (b) => (b.active ? "on" : "off"), value: (b) => (b.active ? "on" : "off"), width: "70px" },
    {
      head: `size ${UNITS[unit].name}`,
      figure: true,
      cell: (b) => b.half.map((v) => lengthIn(2 * v, unit)).join(" x "),
    },
    { head: "turned °", figure: true, cell: (b) => fixed((b.yaw * 180) / Math.PI, 1) },
  ];
  return (
    <Table what="crop boxes" from={[asked]} rows={boxes} columns={columns} id={(b) => b.id} empty="No crop box yet." />
  );
}

export const cleanLedgers = [
  { id: "edits", title: "Deletions", Body: EditsLedger },
  { id: "boxes", title: "Crop boxes", Body: BoxesLedger },
];
