/** Design models beside the cloud: brought in, moved, laid on it, and how far it lies from them. */
import { useRef, useState } from "react";
import { http, posted, sent, type Schemas } from "../../api/client";
import {
  cache,
  tellError,
  tellUndoable,
  useAsk,
  useComparison,
  useJobs,
  useModels,
  useProject,
} from "../../api/queries";
import { Actions, Button, Field, fixed, grouped, Heading, Pick, Quiet, Sentence } from "../../kit";
import { Await } from "../../kit/await";
import { LengthField, useLengths } from "../../kit/fields";
import { lengthIn, UNIT_CHOICES, UNITS } from "../../kit/units";
import { useView } from "../../kit/view";
import { JobLine } from "../../parts/JobLine";

type Model = Schemas["DesignModelOut"];
type Compared = NonNullable<Model["compared"]>;
const LIVE = ["running", "waiting"];
const KINDS = ".ifc,.dxf,.obj,.stl,.ply,.glb";
const mm = (v: number | null | undefined, sign = false) =>
  v === null || v === undefined ? "–" : `${sign && v > 0 ? "+" : ""}${fixed(1000 * v)}`;

/** What was found, in a sentence. */
function found(m: Model): string {
  const c = m.compared;
  if (!c) return "It was not compared with the cloud yet.";
  if (!c.points) return `No point lies within ${mm(c.reach)} mm of it.`;
  const share = fixed((100 * c.within) / c.points, 1);
  return `${share} % of ${grouped(c.points)} points near it lie within ${mm(c.tolerance)} mm.`;
}

export function ModelList({ id }: { id: string }) {
  const asked = useModels(id);
  const project = useProject(id).data;
  const set = useView((s) => s.set);
  const file = useRef<HTMLInputElement>(null);
  const [unit, setUnit] = useState("");
  const [busy, setBusy] = useState(false);
  const rows = (asked.data ?? []).filter((m) => m.part === project?.part);
  const live = (useJobs(id).data ?? []).filter((j) => j.kind === "model" && LIVE.includes(j.state));
  const bring = async (chosen: File) => {
    setBusy(true);
    try {
      const query = new URLSearchParams({ name: chosen.name, ...(unit && { unit }) });
      await posted(`/api/projects/${id}/models?${query}`, chosen);
    } catch (error) {
      tellError(error);
    }
    setBusy(false);
    void cache.invalidateQueries({ queryKey: [id, "jobs"] });
  };
  const show = useAsk(id, (m: Model) =>
    sent(
      http.PATCH("/api/projects/{project_id}/models/{model_id}", {
        params: { path: { project_id: id, model_id: m.id } },
        body: { version: m.version, shown: !m.shown },
      }),
    ),
  );
  return (
    <Await of={[asked]} what="models">
      <Heading>Design models</Heading>
      {rows.length === 0 && (
        <Quiet>
          What was designed, as IFC, DXF, OBJ, STL, PLY or GLB: it stands beside the cloud, and each point tells how far
          it lies from it.
        </Quiet>
      )}
      <ul>
        {rows.map((m) => (
          <li key={m.id} className="flex items-start gap-2 border-b border-rule/60 py-1 text-[13.5px] last:border-0">
            <input
              type="checkbox"
              aria-label={`Show ${m.name}`}
              className="mt-1"
              checked={m.shown}
              onChange={() => show.mutate(m)}
            />
            <button
              type="button"
              className="flex-1 cursor-pointer text-left"
              onClick={() => set({ model: m.id, section: null })}
            >
              <span className="text-action underline">{m.name}</span>
              <span className={`block text-[12.5px] ${m.why_old ? "text-slack" : "text-quiet"}`}>
                {found(m)}
                {m.why_old && ` Out of date: ${m.why_old}.`}
              </span>
            </button>
          </li>
        ))}
      </ul>
      {live.map((j) => (
        <JobLine key={j.id} id={id} job={j} />
      ))}
      <Pick
        label="Lengths in the file"
        value={unit}
        onChange={(e) => setUnit(e.target.value)}
        options={[["", "as it says, else metres"], ...UNIT_CHOICES]}
      />
      <Actions>
        <Button busy={busy} onClick={() => file.current?.click()}>
          Bring in a model
        </Button>
      </Actions>
      <input
        ref={file}
        type="file"
        accept={KINDS}
        hidden
        aria-label="A design model"
        onChange={(e) => {
          if (e.target.files?.[0]) void bring(e.target.files[0]);
          e.target.value = "";
        }}
      />
    </Await>
  );
}

export function ModelCard({ id, model }: { id: string; model: string }) {
  const asked = useModels(id);
  const set = useView((s) => s.set);
  const m = asked.data?.find((x) => x.id === model);
  return (
    <Await of={[asked]} what="models">
      {m ? (
        <Known id={id} m={m} />
      ) : (
        <>
          <Sentence>This model is gone.</Sentence>
          <Actions>
            <Button onClick={() => set({ model: null })}>Back to the cuts</Button>
          </Actions>
        </>
      )}
    </Await>
  );
}

function Known({ id, m }: { id: string; m: Model }) {
  const { set, spans, camera, colourBy } = useView();
  const unit = useProject(id).data?.unit ?? "m";
  const [tolerance, setTolerance] = useState(String(1000 * (m.compared?.tolerance ?? 0.01)));
  const [reach, setReach] = useState(String(1000 * (m.compared?.reach ?? 0.1)));
  const number = (t: string) => Number(t.replace(",", ".")) / 1000;
  const [tol, far] = [number(tolerance), number(reach)];
  const path = { params: { path: { project_id: id, model_id: m.id } } };
  const live = (useJobs(id).data ?? []).filter(
    (j) => j.kind === "model" && LIVE.includes(j.state) && j.title.includes(m.name),
  );
  const start = useAsk(id, (what: "compare" | "lay") =>
    sent(
      http.POST("/api/projects/{project_id}/models/{model_id}/{do}", {
        params: { path: { ...path.params.path, do: what } },
        body: { tolerance: tol, reach: far },
      }),
    ),
  );
  const change = useAsk(id, (body: Omit<Schemas["ModelPatch"], "version">) =>
    sent(
      http.PATCH("/api/projects/{project_id}/models/{model_id}", { ...path, body: { ...body, version: m.version } }),
    ),
  );
  const colour = () => set({ colourBy: "model", spans: { ...spans, model: [-3 * tol, 3 * tol] } });
  const why =
    (live.length ? "this is under way" : "") ||
    (tol >= 0.0005 && tol <= 0.5 ? "" : "the tolerance is 0.5 to 500 mm") ||
    (far >= 0.005 && far <= 1 ? "" : "it looks 5 to 1000 mm far");
  const middle = m.at.map((v) => lengthIn(v, unit)).join("  ");
  return (
    <>
      <Sentence>
        {m.name}: {found(m)}
      </Sentence>
      {m.why_old && <p className="text-[13.5px] text-slack">Out of date: {m.why_old}. Compare it again.</p>}
      <Quiet>
        {m.file}, {grouped(m.elements)} {m.elements === 1 ? "element" : "elements"}, {grouped(m.faces)} faces, lengths
        in {m.unit}; {m.size.map((v) => lengthIn(v, unit)).join(" × ")} {UNITS[unit].name}.
      </Quiet>
      {m.compared && m.compared.points > 0 && <Spread c={m.compared} />}
      <Heading>Compare it with the cloud</Heading>
      <Field label="Tolerance" unit="mm" value={tolerance} onChange={(e) => setTolerance(e.target.value)} />
      <Field label="Look as far as" unit="mm" value={reach} onChange={(e) => setReach(e.target.value)} />
      <Actions>
        <Button main busy={start.isPending} why={why} onClick={() => start.mutate("compare")}>
          Compare
        </Button>
        <Button
          pressed={colourBy === "model"}
          onClick={() => (colourBy === "model" ? set({ colourBy: "station" }) : colour())}
        >
          Colour the points by it
        </Button>
      </Actions>
      {live.map((j) => (
        <JobLine key={j.id} id={id} job={j} />
      ))}
      {m.compared && <Elements id={id} m={m} />}
      <Heading>Where it stands</Heading>
      <Quiet>
        Its middle: {middle} {UNITS[unit].name}
      </Quiet>
      <Actions>
        <Button busy={start.isPending} why={why} onClick={() => start.mutate("lay")}>
          Lay it on the cloud
        </Button>
        <Button onClick={() => void camera?.lookAt(here(m))}>Look at it</Button>
      </Actions>
      <Move id={id} m={m} />
      <Actions>
        <Button
          busy={change.isPending}
          onClick={() =>
            change.mutate(
              { deleted: true },
              { onSuccess: () => (set({ model: null }), void tellUndoable(id, `Deleted the model ${m.name}.`)) },
            )
          }
        >
          Delete it
        </Button>
        <Button onClick={() => set({ model: null })}>Back to the cuts</Button>
      </Actions>
    </>
  );
}

/** Its middle in the part. */
const here = (m: Model) => [m.T_part_edges[3]!, m.T_part_edges[7]!, m.T_part_edges[11]!];

/** How many points lie how far from it; what is within the tolerance is dark. */
function Spread({ c }: { c: Compared }) {
  const most = Math.max(...c.histogram, 1);
  const wide = 100 / c.histogram.length;
  const within = (k: number) => Math.abs(((k + 0.5) / c.histogram.length) * 2 * c.reach - c.reach) <= c.tolerance;
  return (
    <figure className="my-2">
      <svg viewBox="0 0 100 30" preserveAspectRatio="none" className="h-16 w-full" role="img" aria-label="Distances">
        {c.histogram.map((n, k) => (
          <rect
            key={k}
            x={k * wide + 0.1}
            width={wide - 0.2}
            y={30 - (30 * n) / most}
            height={(30 * n) / most}
            className={within(k) ? "fill-action" : "fill-slack/60"}
          />
        ))}
      </svg>
      <figcaption className="flex justify-between font-mono text-[12px] text-quiet">
        <span>−{mm(c.reach)} mm</span>
        <span>
          median {mm(c.median, true)}, RMS {mm(c.rms)}
        </span>
        <span>+{mm(c.reach)}</span>
      </figcaption>
    </figure>
  );
}

const SHOWN = 12;

/** Element by element, the farthest off first; and as files. */
function Elements({ id, m }: { id: string; m: Model }) {
  const told = useComparison(id, m.id, m.compared?.at ?? "");
  const make = useAsk(id, (kind: "model-pdf" | "model-csv") =>
    sent(
      http.POST("/api/projects/{project_id}/deliveries", {
        params: { path: { project_id: id } },
        body: { kind, model: m.id, crop: true, coordinates: "grid" },
      }),
    ),
  );
  const rows = told.data?.elements ?? [];
  const unseen = rows.filter((e) => e.points === 0).length;
  return (
    <Await of={[told]} what="elements">
      <Heading>Elements, the farthest off first</Heading>
      <table className="w-full text-[12.5px]">
        <thead>
          <tr className="text-left text-quiet">
            <th className="font-normal">element</th>
            <th className="text-right font-normal">within</th>
            <th className="text-right font-normal">mean mm</th>
            <th className="text-right font-normal">95 % mm</th>
          </tr>
        </thead>
        <tbody>
          {rows
            .filter((e) => e.points)
            .slice(0, SHOWN)
            .map((e) => (
              <tr key={e.name} className="border-b border-rule/60 align-top last:border-0">
                <td className="py-0.5 pr-1 break-words">{e.name}</td>
                <td className="text-right font-mono">{fixed((100 * e.within) / e.points, 0)} %</td>
                <td className="text-right font-mono">{mm(e.mean, true)}</td>
                <td className="text-right font-mono">{mm(e.p95)}</td>
              </tr>
            ))}
        </tbody>
      </table>
      <Quiet>
        {[
          rows.length - unseen > SHOWN ? `${grouped(rows.length - unseen - SHOWN)} more stand in the table.` : "",
          unseen ? `${grouped(unseen)} of ${grouped(rows.length)} were not seen by any point.` : "",
          "Positive lies before a face of the model.",
        ]
          .filter(Boolean)
          .join(" ")}
      </Quiet>
      <Actions>
        <Button busy={make.isPending} onClick={() => make.mutate("model-pdf")}>
          Make the report
        </Button>
        <Button busy={make.isPending} onClick={() => make.mutate("model-csv")}>
          Make the table
        </Button>
      </Actions>
    </Await>
  );
}

function Move({ id, m }: { id: string; m: Model }) {
  const unit = useProject(id).data?.unit ?? "m";
  const any = { least: -10_000_000, most: 10_000_000 };
  const form = useLengths({ e: 0, n: 0, h: 0, turn: 0 }, unit, {
    e: any,
    n: any,
    h: any,
    turn: { angle: true, least: -360, most: 360 },
  });
  const move = useAsk(
    id,
    () =>
      sent(
        http.PATCH("/api/projects/{project_id}/models/{model_id}", {
          params: { path: { project_id: id, model_id: m.id } },
          body: {
            version: m.version,
            shift: [form.values!.e, form.values!.n, form.values!.h],
            turn: form.values!.turn,
          },
        }),
      ),
    () => (form.form.reset(), void tellUndoable(id, `Moved the model ${m.name}.`)),
  );
  return (
    <details className="mt-1 text-[13.5px]">
      <summary className="cursor-pointer text-action">Move and turn it by hand</summary>
      <LengthField of={form} name="e" label="Along E" />
      <LengthField of={form} name="n" label="Along N" />
      <LengthField of={form} name="h" label="Up" />
      <LengthField of={form} name="turn" label="Turn about its middle" />
      <Actions>
        <Button busy={move.isPending} why={form.why} onClick={() => move.mutate(undefined)}>
          Move it
        </Button>
      </Actions>
    </details>
  );
}
