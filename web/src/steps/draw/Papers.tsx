/** Sheets: views of sections laid out on paper. */
import { useRef, useState } from "react";
import { http, posted, sent, type Schemas, type Section } from "../../api/client";
import { tellUndoable, useAsk, useSheets, useTitleBlocks } from "../../api/queries";
import { Actions, Button, Field, Heading, Pick, Quiet, Sentence, type Column } from "../../kit";
import { Await } from "../../kit/await";
import { Table } from "../../kit/table";
import { TakeFile } from "../../kit/file";
import { useView } from "../../kit/view";

type Sheet = Schemas["SheetOut"];
type Params = Omit<Schemas["SheetIn"], "name">;
const BLOCK = ["number", "client", "drawn by", "checked by"] as const;
const PICTURES: [string, string][] = [
  ["density", "points by density"],
  ["intensity", "points by intensity"],
  ["colour", "points in true colour"],
  ["depth", "points by depth"],
  ["relief", "a shaded relief"],
  ["x-ray", "all points as in an X-ray"],
  ["", "no points"],
];

export function PaperCard({ id, sections }: { id: string; sections: Section[] }) {
  const { paper, section, set } = useView();
  const asked = useSheets(id);
  const sheet = asked.data?.find((s) => s.id === paper);
  if (paper !== "new" && !sheet)
    return (
      <Await of={[asked]} what="sheets">
        <Sentence>This sheet is no longer there.</Sentence>
        <Actions>
          <Button onClick={() => set({ paper: null })}>Back to drawing</Button>
        </Actions>
      </Await>
    );
  return (
    <Form
      key={`${sheet?.id ?? "new"} ${sheet?.version ?? 0}`}
      {...{ id, sections, sheet }}
      first={section}
      close={() => set({ paper: null })}
    />
  );
}

function Form({
  id,
  sections,
  sheet,
  first,
  close,
}: {
  id: string;
  sections: Section[];
  sheet: Sheet | undefined;
  first: string | null;
  close: () => void;
}) {
  const set = useView((s) => s.set);
  const [name, setName] = useState(sheet?.name ?? "");
  const [p, setP] = useState<Params>({
    paper: (sheet?.paper as "A3" | undefined) ?? "A3",
    upright: sheet?.upright ?? false,
    scale: sheet?.scale ?? null,
    sections: sheet?.sections ?? (first ? [first] : []),
    picture: (sheet?.picture as "density" | undefined) ?? "density",
    block: sheet?.block ?? {},
    revisions: sheet?.revisions ?? [],
    title: sheet?.title ?? null,
    fields: sheet?.fields ?? {},
  });
  const blocks = useTitleBlocks(id).data ?? [];
  const [scale, setScale] = useState(sheet?.scale ? String(sheet.scale) : "");
  const [note, setNote] = useState("");
  const wanted = scale.trim() ? Number(scale) : null;
  const path = { params: { path: { project_id: id } } };
  const body = () => ({
    ...p,
    scale: wanted,
    revisions: note.trim()
      ? [...(p.revisions ?? []), { date: new Date().toISOString().slice(0, 10), words: note.trim() }]
      : p.revisions,
  });
  const keep = useAsk(
    id,
    async () =>
      sheet
        ? sent(
            http.PATCH("/api/projects/{project_id}/sheets/{sheet_id}", {
              params: { path: { project_id: id, sheet_id: sheet.id } },
              body: { ...body(), name: name || sheet.name, version: sheet.version },
            }),
          )
        : sent(http.POST("/api/projects/{project_id}/sheets", { ...path, body: { ...body(), name } })),
    (r) => {
      setNote("");
      if ("id" in r) set({ paper: String(r.id) });
    },
  );
  const plot = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/deliveries", {
          ...path,
          body: { kind: "sheet", sheet: sheet!.id, crop: true, coordinates: "grid" },
        }),
      ),
    () => useView.getState().go("hand_over"),
  );
  const remove = useAsk(
    id,
    () =>
      sent(
        http.DELETE("/api/projects/{project_id}/sheets/{sheet_id}", {
          params: { path: { project_id: id, sheet_id: sheet!.id }, query: { version: sheet!.version } },
        }),
      ),
    () => {
      close();
      void tellUndoable(id, `Deleted ${sheet!.name}.`);
    },
  );
  const chosen = p.sections ?? [];
  const why =
    (chosen.length ? "" : "choose a section for it") ||
    (wanted !== null && !(wanted >= 1 && wanted <= 10_000) ? "the scale is no number" : "");
  return (
    <>
      <Sentence>
        {!sheet
          ? "What shall stand on the sheet?"
          : sheet.problem
            ? `${sheet.name} cannot be plotted: ${sheet.problem}.`
            : `${sheet.name}: ${sheet.views.length} ${sheet.views.length === 1 ? "view" : "views"} at 1:${sheet.fits} on ${sheet.paper}.`}
      </Sentence>
      {sheet && !sheet.problem && <Layout sheet={sheet} block={blocks.find((b) => b.id === sheet.title)} />}
      <Field
        label="Name"
        type="text"
        value={name}
        placeholder="Sheet"
        maxLength={120}
        onChange={(e) => setName(e.target.value)}
      />
      <Pick
        label="Paper"
        value={`${p.paper} ${p.upright ? "upright" : "lying"}`}
        onChange={(e) => {
          const [paper, way] = e.target.value.split(" ");
          setP({ ...p, paper: paper as "A3", upright: way === "upright" });
        }}
        options={["A4", "A3", "A2", "A1", "A0"].flatMap((a) => [
          [`${a} lying`, `${a}, lying`] as [string, string],
          [`${a} upright`, `${a}, upright`] as [string, string],
        ])}
      />
      <Field label="Scale 1:" value={scale} placeholder="what fits" onChange={(e) => setScale(e.target.value)} />
      <Pick
        label="Below the lines"
        value={p.picture ?? ""}
        onChange={(e) => setP({ ...p, picture: e.target.value as "density" })}
        options={PICTURES}
      />
      <Heading>Views</Heading>
      {sections.map((s) => (
        <label key={s.id} className="flex items-center gap-2 py-px text-[13.5px]">
          <input
            type="checkbox"
            checked={chosen.includes(s.id)}
            onChange={() =>
              setP({ ...p, sections: chosen.includes(s.id) ? chosen.filter((x) => x !== s.id) : [...chosen, s.id] })
            }
          />
          {s.name}
        </label>
      ))}
      <Heading>Title block</Heading>
      <TitleBlocks id={id} value={p.title ?? null} onChange={(title) => setP({ ...p, title, fields: {} })} />
      {p.title &&
        blocks
          .find((b) => b.id === p.title)
          ?.tags.map((tag) => (
            <Field
              key={tag}
              label={tag}
              type="text"
              value={(p.fields as Record<string, string>)[tag] ?? ""}
              placeholder={sheet?.says.find((s) => s.tag === tag)?.text ?? ""}
              maxLength={200}
              onChange={(e) => {
                const given = Object.entries({ ...(p.fields as Record<string, string>), [tag]: e.target.value });
                setP({ ...p, fields: Object.fromEntries(given.filter(([, text]) => text)) });
              }}
            />
          ))}
      {BLOCK.map((b) => (
        <Field
          key={b}
          label={b}
          type="text"
          value={(p.block as Record<string, string>)[b] ?? ""}
          maxLength={80}
          onChange={(e) => setP({ ...p, block: { ...p.block, [b]: e.target.value } })}
        />
      ))}
      <Field
        label="Revision, what changed"
        type="text"
        value={note}
        maxLength={120}
        onChange={(e) => setNote(e.target.value)}
      />
      {(p.revisions ?? []).map(({ date, words }) => (
        <Quiet key={date + words}>
          {date} {words}
        </Quiet>
      ))}
      <Actions>
        <Button main={!sheet} busy={keep.isPending} why={why} onClick={() => keep.mutate(undefined)}>
          {sheet ? "Keep the changes" : "Lay it out"}
        </Button>
        {sheet && (
          <Button main busy={plot.isPending} why={sheet.problem} onClick={() => plot.mutate(undefined)}>
            Make the PDF
          </Button>
        )}
        <Button onClick={close}>Back to drawing</Button>
        {sheet && (
          <Button busy={remove.isPending} onClick={() => remove.mutate(undefined)}>
            Delete the sheet
          </Button>
        )}
      </Actions>
    </>
  );
}

/** Ours, or one of the customer's, which comes from a DXF file. */
function TitleBlocks(p: { id: string; value: string | null; onChange: (title: string | null) => void }) {
  const file = useRef<HTMLInputElement>(null);
  const [block, setBlock] = useState("");
  const rows = useTitleBlocks(p.id).data ?? [];
  const bring = useAsk(
    p.id,
    (chosen: File) => {
      const query = new URLSearchParams({ name: chosen.name, block: block.trim() });
      return posted<Schemas["Made"]>(`/api/projects/${p.id}/title-blocks?${query}`, chosen);
    },
    (r) => p.onChange(r.id),
  );
  return (
    <>
      <Pick
        label="Block"
        value={p.value ?? ""}
        onChange={(e) => p.onChange(e.target.value || null)}
        options={[
          ["", "ours"],
          ...rows.map((b): [string, string] => [b.id, `${b.name}, ${Math.round(b.wide)} x ${Math.round(b.tall)} mm`]),
        ]}
      />
      <Field
        label="Its name in the file"
        type="text"
        value={block}
        placeholder="the one with most fields"
        maxLength={120}
        onChange={(e) => setBlock(e.target.value)}
      />
      <Actions>
        <Button busy={bring.isPending} onClick={() => file.current?.click()}>
          Bring a block from a DXF
        </Button>
      </Actions>
      <TakeFile input={file} label="A DXF with a title block" accept=".dxf" take={(own) => bring.mutate(own)} />
    </>
  );
}

/** Where the views stand on the paper. */
function Layout({ sheet, block }: { sheet: Sheet; block: Schemas["TitleBlockOut"] | undefined }) {
  const framing = block && block.wide > 0.85 * sheet.wide && block.tall > 0.85 * sheet.tall;
  const [wide, tall] = block && !framing ? [block.wide, Math.max(46, block.tall)] : [80, 46];
  return (
    <svg
      role="img"
      aria-label={`${sheet.name}, as it is laid out`}
      viewBox={`0 0 ${sheet.wide} ${sheet.tall}`}
      className="my-2 w-full border border-rule bg-card"
    >
      <rect x="10" y="10" width={sheet.wide - 20} height={sheet.tall - 20} fill="none" stroke="var(--ink)" />
      <path d={`M10 ${sheet.tall - 10 - tall}H${sheet.wide - 10}m${-wide} 0v${tall}`} stroke="var(--ink)" fill="none" />
      {sheet.views.map((v) => (
        <g key={v.section}>
          <rect
            x={v.x}
            y={sheet.tall - v.y - v.tall}
            width={v.wide}
            height={v.tall}
            fill="var(--halo)"
            stroke="var(--action)"
          />
          <text x={v.x} y={sheet.tall - v.y + 9} fontSize={sheet.wide / 45} fill="var(--ink)">
            {v.title}
          </text>
        </g>
      ))}
    </svg>
  );
}

export function SheetsLedger({ id }: { id: string }) {
  const asked = useSheets(id);
  const { paper, set } = useView();
  const columns: Column<Sheet>[] = [
    { head: "sheet", cell: (s) => s.name, value: (s) => s.name },
    { head: "paper", cell: (s) => `${s.paper}${s.upright ? ", upright" : ""}`, value: (s) => s.paper },
    { head: "scale", cell: (s) => (s.fits ? `1:${s.fits}` : ""), value: (s) => s.fits },
    { head: "views", cell: (s) => s.views.map((v) => v.title).join(", "), value: (s) => s.views.length },
    {
      head: "state",
      cell: (s) => (s.problem ? <span className="text-slack">{s.problem}</span> : "can be plotted"),
      value: (s) => s.problem,
    },
  ];
  return (
    <Table
      what="sheets"
      from={[asked]}
      rows={asked.data ?? []}
      columns={columns}
      id={(s) => s.id}
      selected={(s) => s.id === paper}
      onSelect={(s) => set({ paper: s.id, section: s.sections[0] ?? null, traces: [] })}
      empty="No sheets yet. Choose a section and lay out a sheet from it."
    />
  );
}
