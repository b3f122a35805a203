/** Draw: cut, fit, trace. */
import { http, sent, type Schemas, type Section, type Trace } from "../../api/client";
import { tell, tellUndoable, useAsk, useJobs, useProject, useSections, useStations } from "../../api/queries";
import { Actions, Button, fixed, grouped, Heading, Pick, Quiet, Row, Sentence, type Column } from "../../kit";
import { Await } from "../../kit/await";
import { LengthField, useLengths } from "../../kit/fields";
import { Table } from "../../kit/table";
import { lengthIn, UNITS } from "../../kit/units";
import { pickTwo, useView } from "../../kit/view";
import { JobLine } from "../../parts/JobLine";

const LAYERS = ["wall", "floor", "pipe", "steel", "ground", "to check"];
const of = (id: string) => ({ params: { path: { project_id: id } } });

export function DrawCard({ id }: { id: string }) {
  const asked = [useSections(id), useStations(id), useJobs(id)] as const;
  return (
    <Await of={[...asked]} what="sections">
      <Loaded id={id} sections={asked[0].data ?? []} />
    </Await>
  );
}

function Loaded({ id, sections }: { id: string; sections: Section[] }) {
  const chosen = useView((s) => s.section);
  const section = sections.find((s) => s.id === chosen);
  return section ? (
    <SectionCard key={section.id} id={id} section={section} />
  ) : (
    <CutCard id={id} count={sections.length} />
  );
}

function CutCard({ id, count }: { id: string; count: number }) {
  const stations = useStations(id).data ?? [];
  const { picks, tool, set, letGo } = useView();
  const depth = { least: 0, most: 100 };
  const project = useProject(id).data;
  const part = project?.part ?? null;
  const form = useLengths({ above: 1.2, before: 0, behind: 0.05, width: 0.1 }, project?.unit ?? "m", {
    before: depth,
    behind: depth,
    width: { above: 0, most: 100 },
  });
  const cut = useAsk(
    id,
    (body: Schemas["SectionIn"]) => sent(http.POST("/api/projects/{project_id}/sections", { ...of(id), body })),
    (r) => {
      letGo();
      set({ section: r.id, trace: null });
    },
  );
  const pick = () =>
    pickTwo((from, to) =>
      cut.mutate({
        kind: "upright",
        name: "",
        part,
        a: from.slice(0, 2),
        b: to.slice(0, 2),
        before: form.values!.width / 2,
        behind: form.values!.width / 2,
      }),
    );
  const picking = tool === "planPick";
  const v = form.values;
  const bad = form.why || (v && v.before + v.behind > 0 ? "" : "the slab needs some depth");
  const why = stations.length === 0 ? "there are no stations yet" : bad;
  return (
    <>
      <Sentence>
        {picking
          ? picks.length
            ? "Now pick where the section ends."
            : "Pick in plan where the section begins."
          : count
            ? `${count} ${count === 1 ? "section is" : "sections are"} cut. Choose one below, or cut another.`
            : "Cut a plan, or a section through two picks."}
      </Sentence>
      {picking ? (
        <>
          <Quiet>One looks to the left of the way from the first pick to the second.</Quiet>
          <Actions>
            <Button onClick={letGo}>Leave it</Button>
          </Actions>
        </>
      ) : (
        <>
          <Heading>Plan</Heading>
          <LengthField of={form} name="above" label="Above the floor" />
          <LengthField of={form} name="before" label="Depth above the cut" />
          <LengthField of={form} name="behind" label="Depth below the cut" />
          <Actions>
            <Button
              main
              busy={cut.isPending}
              why={why}
              onClick={() =>
                cut.mutate({
                  kind: "plan",
                  name: "",
                  part,
                  above_floor: v!.above,
                  before: v!.before,
                  behind: v!.behind,
                })
              }
            >
              Cut the plan
            </Button>
          </Actions>
          <Heading>Upright section</Heading>
          <LengthField of={form} name="width" label="Depth of the slab" />
          <Actions>
            <Button onClick={pick} why={why}>
              Pick two points in plan
            </Button>
          </Actions>
          <Quiet>Only tiles that the slab meets are read. Crop box and deletions hold for sections too.</Quiet>
        </>
      )}
    </>
  );
}

function SectionCard({ id, section }: { id: string; section: Section }) {
  const { trace: chosen, drawing, layer, set } = useView();
  const trace = section.traces.find((t) => t.id === chosen);
  const path = { params: { path: { project_id: id, section_id: section.id } } };
  const fit = useAsk(id, () => sent(http.POST("/api/projects/{project_id}/sections/{section_id}/fit", path)));
  const live = (useJobs(id).data ?? []).filter(
    (j) =>
      j.kind === "fit" && (j.state === "running" || j.state === "waiting") && j.title.endsWith(` in ${section.name}`),
  );
  const accept = useAsk(
    id,
    () => sent(http.POST("/api/projects/{project_id}/sections/{section_id}/accept", path)),
    (r) => tell(r.message),
  );
  const remove = useAsk(
    id,
    () =>
      sent(
        http.DELETE("/api/projects/{project_id}/sections/{section_id}", {
          params: { ...path.params, query: { version: section.version } },
        }),
      ),
    () => {
      set({ section: null });
      void tellUndoable(id, `Deleted ${section.name}.`);
    },
  );
  const dxf = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/deliveries", {
          ...of(id),
          body: { kind: "dxf", crop: true, coordinates: "grid", part: section.part, sections: null },
        }),
      ),
    () => useView.getState().go("hand_over"),
  );
  const found = section.traces.filter((t) => t.state === "found");
  const firm = section.traces.length - found.length;
  return (
    <>
      {trace ? (
        <TraceCard key={trace.id} id={id} trace={trace} />
      ) : (
        <Sentence>
          {section.traces.length === 0
            ? `${section.name} has no lines yet.`
            : `${section.name}: ${firm} lines stand, ${found.length} found ones wait for a yes or no.`}
        </Sentence>
      )}
      <Heading>{section.name}</Heading>
      <Actions>
        <Button
          main={section.traces.length === 0}
          busy={fit.isPending || live.length > 0}
          onClick={() => fit.mutate(undefined)}
        >
          Find lines and circles
        </Button>
        <Button pressed={drawing} onClick={() => set({ drawing: !drawing })}>
          {drawing ? "Put the pen down" : "Draw a line"}
        </Button>
        {found.length > 0 && (
          <Button busy={accept.isPending} onClick={() => accept.mutate(undefined)}>
            Accept all {found.length}
          </Button>
        )}
      </Actions>
      {live.map((j) => (
        <JobLine key={j.id} id={id} job={j} />
      ))}
      <Pick
        label="Draw on layer"
        value={layer}
        onChange={(e) => set({ layer: e.target.value })}
        options={LAYERS.map((l) => [l, l])}
      />
      <Actions>
        <Button
          busy={dxf.isPending}
          onClick={() => dxf.mutate(undefined)}
          why={section.traces.length ? "" : "there is nothing drawn yet"}
        >
          Make the DXF
        </Button>
        <Button onClick={() => set({ section: null, trace: null, drawing: false })}>Back to the plan</Button>
        <Button busy={remove.isPending} onClick={() => remove.mutate(undefined)}>
          Delete the section
        </Button>
      </Actions>
      <Quiet>
        Found lines are dashed, and go out on the layer “to check”, until they are accepted. Accepted and drawn ones are
        kept when lines are found again.
      </Quiet>
    </>
  );
}

function TraceCard({ id, trace: t }: { id: string; trace: Trace }) {
  const change = useAsk(id, (body: Omit<Schemas["TracePatch"], "version">) =>
    sent(
      http.PATCH("/api/projects/{project_id}/traces/{trace_id}", {
        params: { path: { project_id: id, trace_id: t.id } },
        body: { ...body, version: t.version },
      }),
    ),
  );
  const fit = t.fit as Record<string, number>;
  const length = fit["length"];
  const unit = useProject(id).data?.unit ?? "m";
  return (
    <>
      <Sentence>
        {t.kind === "circle"
          ? `A circle of ${fixed(2000 * t.radius, 0)} mm diameter`
          : `A line of ${lengthIn(length ?? 0, unit)} ${UNITS[unit].name}`}
        {fit["rms_mm"] !== undefined
          ? `, found in ${grouped(fit["points"] ?? 0)} points that lie within ${fixed(fit["rms_mm"])} mm of it.`
          : ", drawn by hand."}
      </Sentence>
      {t.old && (
        <Quiet>
          It was found before the network last changed: find lines again, or check that it still lies on the points.
        </Quiet>
      )}
      {fit["out_of_plumb_mm"] !== undefined && (
        <Row name="out of plumb over its length" value={fixed(fit["out_of_plumb_mm"])} unit="mm" />
      )}
      {fit["out_of_level_mm"] !== undefined && (
        <Row name="out of level over its length" value={fixed(fit["out_of_level_mm"])} unit="mm" />
      )}
      {fit["share"] !== undefined && (
        <Row name="share of the circle seen" value={fixed(100 * fit["share"], 0)} unit="%" />
      )}
      <Pick
        label="Layer"
        value={t.layer}
        onChange={(e) => change.mutate({ layer: e.target.value })}
        options={[...new Set([...LAYERS, t.layer])].map((l) => [l, l])}
      />
      <Actions>
        {t.state === "found" && (
          <Button main onClick={() => change.mutate({ state: "accepted" })}>
            Accept it
          </Button>
        )}
        <Button onClick={() => change.mutate({ state: "rejected" })}>
          {t.state === "found" ? "Reject it" : "Remove it"}
        </Button>
      </Actions>
    </>
  );
}

function SectionsLedger({ id }: { id: string }) {
  const asked = useSections(id);
  const sections = asked.data ?? [];
  const { section, set } = useView();
  const unit = useProject(id).data?.unit ?? "m";
  const count = (s: Section, state: string) => s.traces.filter((t) => t.state === state).length;
  const columns: Column<Section>[] = [
    { head: "section", cell: (s) => s.name, value: (s) => s.name },
    { head: "kind", cell: (s) => (s.kind === "plan" ? "plan" : "upright"), value: (s) => s.kind },
    {
      head: `depth ${UNITS[unit].name}`,
      figure: true,
      cell: (s) => lengthIn(Number(s.params["before"]) + Number(s.params["behind"]), unit),
    },
    { head: "found", figure: true, cell: (s) => count(s, "found"), value: (s) => count(s, "found") },
    { head: "accepted", figure: true, cell: (s) => count(s, "accepted"), value: (s) => count(s, "accepted") },
    { head: "drawn", figure: true, cell: (s) => count(s, "drawn"), value: (s) => count(s, "drawn") },
  ];
  return (
    <Table
      what="sections"
      from={[asked]}
      rows={sections}
      columns={columns}
      id={(s) => s.id}
      selected={(s) => s.id === section}
      onSelect={(s) => set({ section: s.id, trace: null, part: s.part })}
      empty="No sections yet. A plan 1.2 m above the floor is the usual first one."
    />
  );
}

function TracesLedger({ id }: { id: string }) {
  const asked = useSections(id);
  const sections = asked.data ?? [];
  const { trace, set } = useView();
  const unit = useProject(id).data?.unit ?? "m";
  const rows = sections.flatMap((s) => s.traces.map((t) => ({ ...t, section: s })));
  type R = (typeof rows)[number];
  const fit = (t: R, key: string) => (t.fit as Record<string, number>)[key] ?? null;
  const columns: Column<R>[] = [
    { head: "layer", cell: (t) => t.layer, value: (t) => t.layer, width: "110px" },
    { head: "kind", cell: (t) => t.kind, value: (t) => t.kind, width: "90px" },
    { head: "section", cell: (t) => t.section.name, value: (t) => t.section.name },
    {
      head: "state",
      cell: (t) => `${t.state}${t.old ? ", older than the network" : ""}`,
      value: (t) => t.state,
      width: "100px",
    },
    {
      head: `length ${UNITS[unit].name}`,
      figure: true,
      cell: (t) => (fit(t, "length") === null ? "" : lengthIn(fit(t, "length")!, unit)),
      value: (t) => fit(t, "length"),
    },
    {
      head: "radius mm",
      figure: true,
      cell: (t) => (t.kind === "circle" ? fixed(1000 * t.radius) : ""),
      value: (t) => t.radius,
    },
    { head: "fit mm", figure: true, cell: (t) => fixed(fit(t, "rms_mm")), value: (t) => fit(t, "rms_mm") },
    { head: "points", figure: true, cell: (t) => fit(t, "points") ?? "", value: (t) => fit(t, "points") },
  ];
  return (
    <Table
      what="traces"
      from={[asked]}
      rows={rows}
      columns={columns}
      id={(t) => t.id}
      selected={(t) => t.id === trace}
      onSelect={(t) => set({ trace: t.id, section: t.section.id, part: t.section.part })}
      empty="Lines and circles of all sections are listed here with how well they fit."
    />
  );
}

export const drawLedgers = [
  { id: "sections", title: "Sections", Body: SectionsLedger },
  { id: "traces", title: "Lines", Body: TracesLedger },
];
