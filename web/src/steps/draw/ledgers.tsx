/** The lists of Draw: sections, lines, layers. */
import { useRef, useState } from "react";
import { http, posted, sent, type Schemas, type Section } from "../../api/client";
import {
  tellError,
  tellUndoable,
  useAsk,
  useBoxes,
  useEdits,
  useLayers,
  useProject,
  useSections,
} from "../../api/queries";
import { Button, fixed, type Column } from "../../kit";
import { NameInPlace } from "../../kit/naming";
import { Table } from "../../kit/table";
import { lengthIn, UNITS } from "../../kit/units";
import { TakeFile } from "../../kit/file";
import { useView } from "../../kit/view";

const KINDS: Record<string, string> = {
  upright: "section",
  ceiling: "ceiling",
  elevation: "elevation",
  plan: "plan",
  unrolled: "unrolled wall",
};

export function SectionsLedger({ id }: { id: string }) {
  const asked = useSections(id);
  const sections = asked.data ?? [];
  const { section, set } = useView();
  const [naming, setNaming] = useState<string | null>(null);
  const project = useProject(id).data;
  const unit = project?.unit ?? "m";
  const cleaned = [...(useEdits(id).data ?? []), ...(useBoxes(id).data ?? [])].filter((x) => x.active);
  const revision = `${project?.network_revision ?? 0}.${cleaned.length}.${cleaned.reduce((n, x) => n + x.version, 0)}`;
  const rename = useAsk(id, ({ s, name }: { s: Section; name: string }) =>
    sent(
      http.PATCH("/api/projects/{project_id}/sections/{section_id}", {
        params: { path: { project_id: id, section_id: s.id } },
        body: { version: s.version, name },
      }),
    ),
  );
  const count = (s: Section, state: string) => s.traces.filter((t) => t.state === state).length;
  const columns: Column<Section>[] = [
    {
      head: "picture",
      width: "104px",
      cell: (s) => (
        <img
          loading="lazy"
          width={88}
          height={52}
          className="rounded-sm border border-rule"
          src={`/api/projects/${id}/sections/${s.id}/picture?v=${s.version}.${s.traces.length}.${s.traces.reduce((n, t) => n + t.version, 0)}.${revision}`}
          alt={`What ${s.name} cuts`}
        />
      ),
    },
    {
      head: "section",
      cell: (s) =>
        naming === s.id ? (
          <NameInPlace
            name={s.name}
            most={120}
            keep={(name) => rename.mutate({ s, name })}
            end={() => setNaming(null)}
          />
        ) : (
          <span onDoubleClick={() => setNaming(s.id)} title="Double-click to rename">
            {s.name}
          </span>
        ),
      value: (s) => s.name,
    },
    {
      head: "kind",
      cell: (s) => (KINDS[s.kind] ?? s.kind) + (s.params["steps"] ? " in steps" : "") + (s.of && ` of ${s.of}`),
      value: (s) => s.kind,
    },
    {
      head: `depth ${UNITS[unit].name}`,
      figure: true,
      cell: (s) => lengthIn(Number(s.params["before"]) + Number(s.params["behind"]), unit),
    },
    { head: "found", figure: true, cell: (s) => count(s, "found"), value: (s) => count(s, "found") },
    { head: "accepted", figure: true, cell: (s) => count(s, "accepted"), value: (s) => count(s, "accepted") },
    { head: "drawn", figure: true, cell: (s) => count(s, "drawn"), value: (s) => count(s, "drawn") },
    {
      head: "state",
      cell: (s) => {
        const old = s.traces.find((t) => t.why_old)?.why_old;
        return old ? <span className="text-slack">out of date: {old}</span> : s.traces.length ? "up to date" : "";
      },
      value: (s) => s.traces.find((t) => t.why_old)?.why_old ?? "",
    },
  ];
  return (
    <Table
      what="sections"
      from={[asked]}
      rows={sections}
      columns={columns}
      id={(s) => s.id}
      selected={(s) => s.id === section}
      onSelect={(s) => set({ section: s.id, traces: [], paper: null, part: s.part })}
      empty="No sections yet. A plan 1.2 m above the floor is the usual first one."
    />
  );
}

export function LinesLedger({ id }: { id: string }) {
  const asked = useSections(id);
  const sections = asked.data ?? [];
  const { traces, set } = useView();
  const unit = useProject(id).data?.unit ?? "m";
  const rows = sections.flatMap((s) => s.traces.map((t) => ({ ...t, section: s })));
  type R = (typeof rows)[number];
  const fit = (t: R, key: string) => (t.fit as Record<string, number>)[key] ?? null;
  const figure = (head: string, key: string, digits = 1): Column<R> => ({
    head,
    figure: true,
    cell: (t) => (fit(t, key) === null ? "" : fixed(fit(t, key), digits)),
    value: (t) => fit(t, key),
  });
  const share = (t: R) => {
    const long = fit(t, "length");
    return long && fit(t, "bridged") !== null ? (100 * fit(t, "bridged")!) / long : null;
  };
  const columns: Column<R>[] = [
    { head: "layer", cell: (t) => t.layer, value: (t) => t.layer, width: "110px" },
    { head: "kind", cell: (t) => t.kind, value: (t) => t.kind, width: "90px" },
    { head: "section", cell: (t) => t.section.name, value: (t) => t.section.name },
    {
      head: "state",
      cell: (t) => `${t.state}${t.why_old ? ", out of date" : ""}`,
      value: (t) => t.state,
      width: "100px",
    },
    {
      head: `length ${UNITS[unit].name}`,
      figure: true,
      cell: (t) => (fit(t, "length") === null ? "" : lengthIn(fit(t, "length")!, unit)),
      value: (t) => fit(t, "length"),
    },
    { head: "radius mm", figure: true, cell: (t) => (t.radius ? fixed(1000 * t.radius) : ""), value: (t) => t.radius },
    figure("thickness mm", "thickness_mm"),
    figure("fit mm", "rms_mm"),
    {
      head: "bridged %",
      figure: true,
      cell: (t) => (share(t) === null ? "" : fixed(share(t), 0)),
      value: (t) => share(t),
    },
    figure("lean mm/m", "lean_mm_m"),
    figure("± mm", "error_mm"),
    figure("points", "points", 0),
  ];
  return (
    <Table
      what="lines"
      from={[asked]}
      rows={rows}
      columns={columns}
      id={(t) => t.id}
      selected={(t) => traces.includes(t.id)}
      onSelect={(t) => set({ traces: [t.id], section: t.section.id, paper: null, part: t.section.part })}
      empty="Lines and circles of all sections are listed here with how well they fit."
    />
  );
}

type Layer = Schemas["LayerOut"];
const bare = ({ name, colour, line_type, weight, locked, shown }: Layer): Schemas["LayerIn"] => ({
  name,
  colour,
  line_type: line_type as "dashed",
  weight,
  locked,
  shown,
});
const TYPES: Layer["line_type"][] = ["continuous", "dashed", "dotted", "dash-dot"];
const WEIGHTS = [0.13, 0.18, 0.25, 0.35, 0.5, 0.7, 1];
const BOX = "rounded border border-rule bg-card px-1 text-[12.5px]";

export function LayersLedger({ id }: { id: string }) {
  const asked = useLayers(id);
  const rows = asked.data ?? [];
  const { layer, set } = useView();
  const [naming, setNaming] = useState<string | null>(null);
  const file = useRef<HTMLInputElement>(null);
  const path = { params: { path: { project_id: id } } };
  const put = useAsk(id, (body: Schemas["LayersIn"]) =>
    sent(http.PUT("/api/projects/{project_id}/layers", { ...path, body })),
  );
  const alter = (name: string, part: Partial<Layer>) =>
    put.mutate({ layers: rows.map((l) => bare(l.name === name ? { ...l, ...part } : l)) });
  const bring = async (chosen: File) => {
    try {
      const said = await posted<Schemas["Said"]>(`/api/projects/${id}/layers/dxf`, chosen);
      void tellUndoable(id, said.message);
      void asked.refetch();
    } catch (error) {
      tellError(error);
    }
  };
  const columns: Column<Layer>[] = [
    {
      head: "layer",
      cell: (l) =>
        naming === l.name ? (
          <NameInPlace
            name={l.name}
            most={60}
            keep={(name) => put.mutate({ rename: [l.name, name] })}
            end={() => setNaming(null)}
          />
        ) : (
          <span onDoubleClick={() => setNaming(l.name)} title="Double-click to rename">
            {l.name}
          </span>
        ),
      value: (l) => l.name,
    },
    {
      head: "colour",
      cell: (l) => (
        <input
          type="color"
          aria-label={`Colour of ${l.name}`}
          defaultValue={l.colour}
          key={l.colour}
          onBlur={(e) => e.target.value !== l.colour && alter(l.name, { colour: e.target.value })}
          className="h-5 w-9 cursor-pointer border-0 bg-transparent"
        />
      ),
    },
    {
      head: "line type",
      cell: (l) => (
        <select
          aria-label={`Line type of ${l.name}`}
          value={l.line_type}
          onChange={(e) => alter(l.name, { line_type: e.target.value })}
          className={BOX}
        >
          {TYPES.map((t) => (
            <option key={t}>{t}</option>
          ))}
        </select>
      ),
      value: (l) => l.line_type,
    },
    {
      head: "weight mm",
      cell: (l) => (
        <select
          aria-label={`Weight of ${l.name}`}
          value={l.weight}
          onChange={(e) => alter(l.name, { weight: Number(e.target.value) })}
          className={BOX}
        >
          {WEIGHTS.map((w) => (
            <option key={w} value={w}>
              {w.toFixed(2)}
            </option>
          ))}
        </select>
      ),
      value: (l) => l.weight,
    },
    {
      head: "seen",
      cell: (l) => (
        <input
          type="checkbox"
          aria-label={`${l.name} is seen`}
          checked={l.shown}
          onChange={() => alter(l.name, { shown: !l.shown })}
        />
      ),
      value: (l) => Number(l.shown),
    },
    {
      head: "locked",
      cell: (l) => (
        <input
          type="checkbox"
          aria-label={`${l.name} is locked`}
          checked={l.locked}
          onChange={() => alter(l.name, { locked: !l.locked })}
        />
      ),
      value: (l) => Number(l.locked),
    },
    { head: "lines", figure: true, cell: (l) => l.traces, value: (l) => l.traces },
    {
      head: "",
      cell: (l) =>
        l.traces === 0 && l.name !== "to check" ? (
          <button
            type="button"
            className="cursor-pointer text-action underline"
            onClick={() => put.mutate({ layers: rows.filter((r) => r.name !== l.name).map(bare) })}
          >
            take it away
          </button>
        ) : null,
    },
  ];
  return (
    <div className="flex h-full flex-col">
      <div className="flex flex-wrap items-center gap-2 px-2 py-1">
        <Button
          onClick={() => {
            let k = 1;
            while (rows.some((r) => r.name === `layer ${k}`)) k++;
            put.mutate({
              layers: [
                ...rows.map(bare),
                {
                  name: `layer ${k}`,
                  colour: "#1e2530",
                  line_type: "continuous",
                  weight: 0.25,
                  locked: false,
                  shown: true,
                },
              ],
            });
            set({ layer: `layer ${k}` });
            setNaming(`layer ${k}`);
          }}
        >
          Another layer
        </Button>
        <select
          aria-label="Take the layers of a list"
          value=""
          onChange={(e) => put.mutate({ template: e.target.value as "plant" })}
          className={`${BOX} py-1`}
        >
          <option value="">layers of a list …</option>
          <option value="building survey">building survey</option>
          <option value="plant">plant</option>
          <option value="topographic">topographic</option>
        </select>
        <Button onClick={() => file.current?.click()}>Layers of a DXF file</Button>
        <TakeFile input={file} label="A DXF file with layers" accept=".dxf" take={(own) => void bring(own)} />
      </div>
      <div className="min-h-0 flex-1">
        <Table
          what="layers"
          from={[asked]}
          rows={rows}
          columns={columns}
          id={(l) => l.name}
          selected={(l) => l.name === layer}
          onSelect={(l) => set({ layer: l.name })}
          empty="No layers."
        />
      </div>
    </div>
  );
}
