/** Draw: cut, find, trace, lay out. */
import { useEffect, useRef, useState } from "react";
import { http, sent, type Section } from "../../api/client";
import { tellUndoable, useAsk, useJobs, useLayers, useProject, useSections, useStations } from "../../api/queries";
import { Actions, Button, Heading, Pick, Quiet, Sentence } from "../../kit";
import { Await } from "../../kit/await";
import { commands } from "../../kit/commands";
import { LengthField, useLengths } from "../../kit/fields";
import { useView } from "../../kit/view";
import { JobLine } from "../../parts/JobLine";
import { CutCard, OfWhat, ofOf } from "./Cuts";
import { ModelCard, ModelList } from "./Models";
import { LayersLedger, LinesLedger, SectionsLedger } from "./ledgers";
import { Several, TraceCard } from "./Lines";
import { PaperCard, SheetsLedger } from "./Papers";
import { ByRule, Join, Square, Tools } from "./Tools";
import { Style } from "./Style";

export function DrawCard({ id }: { id: string }) {
  const asked = [useSections(id), useStations(id), useJobs(id), useLayers(id)] as const;
  return (
    <Await of={[...asked]} what="sections">
      <Loaded id={id} sections={asked[0].data ?? []} />
    </Await>
  );
}

function Loaded({ id, sections }: { id: string; sections: Section[] }) {
  const { section: chosen, paper, model } = useView();
  const section = sections.find((s) => s.id === chosen);
  if (paper) return <PaperCard key={paper} id={id} sections={sections} />;
  if (section) return <SectionCard key={section.id} id={id} section={section} />;
  if (model) return <ModelCard key={model} id={id} model={model} />;
  return (
    <>
      <CutCard id={id} count={sections.length} />
      <ModelList id={id} />
    </>
  );
}

function SectionCard({ id, section }: { id: string; section: Section }) {
  const { traces: chosen, layer, set } = useView();
  const layers = useLayers(id).data ?? [];
  const traces = section.traces.filter((t) => chosen.includes(t.id));
  const top = useRef<HTMLDivElement>(null);
  const first = chosen.join();
  useEffect(() => void top.current?.scrollIntoView({ block: "nearest" }), [first]); // what is said of a line is said above
  const path = { params: { path: { project_id: id, section_id: section.id } } };
  const fit = useAsk(id, () => sent(http.POST("/api/projects/{project_id}/sections/{section_id}/fit", path)));
  const live = (useJobs(id).data ?? []).filter(
    (j) =>
      j.kind === "fit" && (j.state === "running" || j.state === "waiting") && j.title.endsWith(` in ${section.name}`),
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
  const found = section.traces.filter((t) => t.state === "found");
  const firm = section.traces.length - found.length;
  const old = section.traces.find((t) => t.why_old)?.why_old;
  const pens = (
    <>
      <Heading>Draw</Heading>
      <Pick
        label="Draw on layer"
        value={layer}
        onChange={(e) => set({ layer: e.target.value })}
        options={[...new Set([...layers.map((l) => l.name), layer])].map((l) => [l, l])}
      />
      <Tools id={id} />
      <Style id={id} />
    </>
  );
  return (
    <>
      <div ref={top} />
      {traces.length === 1 ? (
        <TraceCard key={traces[0]!.id} id={id} trace={traces[0]!} />
      ) : traces.length ? (
        <Several id={id} traces={traces} />
      ) : (
        <Sentence>
          {section.traces.length === 0
            ? `${section.name} has no lines yet.`
            : found.length
              ? `${section.name}: ${firm} lines stand, ${found.length} found ones wait for a yes or no.`
              : `${section.name}: ${firm} lines stand.`}
        </Sentence>
      )}
      {old && !traces.length && <Quiet>Some of them are out of date: {old}. Find lines again.</Quiet>}
      {section.traces.length > 0 && pens}
      <Heading>Find</Heading>
      <Actions>
        <Button
          main={section.traces.length === 0}
          why={section.kind === "unrolled" ? "lines on an unrolled wall are traced by hand" : ""}
          busy={fit.isPending || live.length > 0}
          onClick={() => fit.mutate(undefined)}
        >
          Find lines and circles
        </Button>
      </Actions>
      {live.map((j) => (
        <JobLine key={j.id} id={id} job={j} />
      ))}
      {found.length > 0 && <ByRule id={id} section={section} found={found} />}
      {firm + found.length > 0 && <Square id={id} section={section} />}
      {firm + found.length > 0 && <Join id={id} section={section} />}
      {section.traces.length === 0 && pens}
      <Heading>{section.name}</Heading>
      <Actions>
        <Button
          onClick={() => set({ paper: "new", section: section.id })}
          why={section.traces.length ? "" : "nothing is drawn yet"}
        >
          Lay out a sheet
        </Button>
        <Button onClick={() => set({ section: null, traces: [], pen: null })}>Back to the plan</Button>
        <Button busy={remove.isPending} onClick={() => remove.mutate(undefined)}>
          Delete the section
        </Button>
      </Actions>
      <Window id={id} section={section} />
      <Depth key={section.id} id={id} section={section} />
    </>
  );
}

/** How much of a section sheets show. */
function Window({ id, section }: { id: string; section: Section }) {
  const all = useAsk(id, () =>
    sent(
      http.PATCH("/api/projects/{project_id}/sections/{section_id}", {
        params: { path: { project_id: id, section_id: section.id } },
        body: { version: section.version, window: [] },
      }),
    ),
  );
  const whole = !section.params["window"];
  return (
    <Actions>
      <Button
        onClick={() =>
          commands()
            .find((c) => c.id === "sheet.window")
            ?.run()
        }
      >
        Sheets show what is seen here
      </Button>
      {!whole && (
        <Button busy={all.isPending} onClick={() => all.mutate(undefined)}>
          Show all again
        </Button>
      )}
    </Actions>
  );
}

/** The one zone or station that a cut is of, as OfWhat has it; "" when it is of all, or of several. */
function ofNow(section: Section) {
  const of = section.params["of"] as { stations?: string[]; zones?: string[]; boxes?: string[] } | undefined;
  const all = [
    ...(of?.zones ?? []).map((z) => `z:${z}`),
    ...(of?.boxes ?? []).map((b) => `b:${b}`),
    ...(of?.stations ?? []).map((s) => `s:${s}`),
  ];
  return all.length === 1 ? all[0]! : "";
}

/** Where the cut lies and how deep it is; changed, what was found is out of date. */
function Depth({ id, section }: { id: string; section: Section }) {
  const unit = useProject(id).data?.unit ?? "m";
  const p = section.params as Record<string, number>;
  const level = section.kind === "plan" || section.kind === "ceiling";
  const deep = { least: 0, most: 100 };
  const [only, setOnly] = useState(ofNow(section));
  const form = useLengths({ before: p["before"]!, behind: p["behind"]!, up: 0 }, unit, { before: deep, behind: deep });
  const move = useAsk(id, () =>
    sent(
      http.PATCH("/api/projects/{project_id}/sections/{section_id}", {
        params: { path: { project_id: id, section_id: section.id } },
        body: {
          version: section.version,
          before: form.values!.before,
          behind: form.values!.behind,
          ...(level ? { height: p["height"]! + form.values!.up } : {}),
          ...(only === ofNow(section) ? {} : { of: ofOf(only) }),
        },
      }),
    ),
  );
  return (
    <details className="mt-1 text-[13.5px]">
      <summary className="cursor-pointer text-action">Move or deepen the cut</summary>
      {section.marks.cuts.length > 0 && (
        <Quiet>The cuts that are marked here are moved by their lines on the sheet, and turned by their ends.</Quiet>
      )}
      <LengthField of={form} name="before" label="Depth before the cut" />
      <LengthField of={form} name="behind" label="Depth behind the cut" />
      {level && <LengthField of={form} name="up" label="Move it up by" />}
      <OfWhat id={id} part={section.part} value={only} onChange={setOnly} />
      <Actions>
        <Button busy={move.isPending} why={form.why} onClick={() => move.mutate(undefined)}>
          Cut it so
        </Button>
      </Actions>
    </details>
  );
}

export const drawLedgers = [
  { id: "sections", title: "Sections", Body: SectionsLedger },
  { id: "traces", title: "Lines", Body: LinesLedger },
  { id: "layers", title: "Layers", Body: LayersLedger },
  { id: "sheets", title: "Sheets", Body: SheetsLedger },
];
