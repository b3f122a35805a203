/** What does not belong, as filters find it: each thing is looked at, then deleted, given a class or kept; nothing goes by itself. */
import { useState } from "react";
import { http, sent, type Schemas } from "../../api/client";
import { tellUndoable, useAsk, useJobs, useRecipes, useStations } from "../../api/queries";
import { Actions, Button, fixed, grouped, Heading, Quiet } from "../../kit";
import { useView } from "../../kit/view";
import { JobLine } from "../../parts/JobLine";

type Edit = Schemas["EditOut"];
type Kind = Schemas["FilterIn"]["kinds"][number];
type Limits = Record<"far" | "near" | "dim" | "dust", string>;
const path = (id: string) => ({ params: { path: { project_id: id } } });
const MOVER = 67; // the class of what moves

/** of: what is found one by one has a list; the rest is decided on as a whole. */
const FILTERS: {
  kind: Kind;
  words: string;
  found: string;
  compared?: true;
  listed?: true;
  limit?: keyof Limits;
  unit?: string;
}[] = [
  { kind: "mover", words: "What moved", found: "things moved", compared: true, listed: true },
  { kind: "door", words: "Doors that turned", found: "ways that doors stood", compared: true, listed: true },
  { kind: "ghost", words: "Images in mirrors and wet floors", found: "images", compared: true, listed: true },
  { kind: "edge", words: "Points between two surfaces", found: "points lie between two surfaces" },
  { kind: "lone", words: "Points that stand alone", found: "points stand alone" },
  { kind: "dust", words: "Rain and dust, nearer than", found: "points hang in the air", limit: "dust", unit: "m" },
  { kind: "far", words: "Farther than", found: "points are too far away", limit: "far", unit: "m" },
  { kind: "near", words: "Nearer than", found: "points are too near", limit: "near", unit: "m" },
  { kind: "dim", words: "Intensity below", found: "points came back too weak", limit: "dim", unit: "0–1" },
];

export function Finds({ id, finds, part }: { id: string; finds: Edit[]; part: string | null }) {
  const [strength, setStrength] = useState(0.5);
  const [kinds, setKinds] = useState<Kind[]>(["mover"]);
  const [limits, setLimits] = useState<Limits>({ far: "60", near: "0.5", dim: "0.02", dust: "10" });
  const [name, setName] = useState("");
  const stations = (useStations(id).data ?? []).filter((s) => s.part === part).length;
  const recipes = useRecipes(id).data ?? [];
  const live = (useJobs(id).data ?? []).filter(
    (j) => j.kind === "filter" && (j.state === "running" || j.state === "waiting"),
  );
  const number = (k: keyof Limits) => Number(limits[k].replace(",", "."));
  const told = Object.fromEntries(
    FILTERS.filter((f) => f.limit && kinds.includes(f.kind)).map((f) => [f.limit!, number(f.limit!)]),
  );
  const look = useAsk(id, () =>
    sent(
      http.POST("/api/projects/{project_id}/filters", { ...path(id), body: { kinds, strength, limits: told, part } }),
    ),
  );
  const keep = useAsk(
    id,
    () =>
      sent(
        http.PUT("/api/projects/{project_id}/recipes", {
          ...path(id),
          body: { name: name.trim(), kinds, strength, limits: told },
        }),
      ),
    () => setName(""),
  );
  const drop = useAsk(id, (recipe: string) =>
    sent(
      http.DELETE("/api/projects/{project_id}/recipes/{name}", { params: { path: { project_id: id, name: recipe } } }),
    ),
  );
  const toggle = (kind: Kind) => setKinds(kinds.includes(kind) ? kinds.filter((k) => k !== kind) : [...kinds, kind]);
  const alone = stations < 2 && FILTERS.some((f) => f.compared && kinds.includes(f.kind));
  const why =
    (live.length ? "this is under way already" : "") ||
    (kinds.length ? "" : "choose what to look for") ||
    (alone ? "what moved is seen by comparing stations" : "") ||
    (stations ? "" : "no scans yet") ||
    (Object.values(told).some((v) => !(v > 0)) ? "a limit is no number" : "");
  return (
    <>
      <Heading>What does not belong</Heading>
      <Quiet>Stations are asked what they saw through. What is found is shown first; nothing goes by itself.</Quiet>
      {recipes.length > 0 && (
        <label className="flex items-center gap-2 py-0.5 text-[13.5px]">
          <span className="flex-1">Filters that were kept</span>
          <select
            value=""
            className="rounded border border-rule bg-card px-1.5 py-0.5 text-[13px]"
            onChange={(e) => {
              const [way, ...rest] = e.target.value.split(" ");
              const chosen = recipes.find((r) => r.name === rest.join(" "));
              if (!chosen) return;
              if (way === "drop") return drop.mutate(chosen.name);
              setKinds(chosen.kinds);
              setStrength(chosen.strength);
              const texts = Object.entries(chosen.limits).map(([k, v]) => [k, String(v)]);
              setLimits({ ...limits, ...(Object.fromEntries(texts) as Partial<Limits>) });
            }}
          >
            <option value="">choose …</option>
            {recipes.map((r) => (
              <option key={r.name} value={`use ${r.name}`}>
                {r.name}
              </option>
            ))}
            {recipes.map((r) => (
              <option key={`-${r.name}`} value={`drop ${r.name}`}>
                give up {r.name}
              </option>
            ))}
          </select>
        </label>
      )}
      {FILTERS.map((f) => (
        <label key={f.kind} className="flex items-center gap-2 py-px text-[13.5px]">
          <input type="checkbox" checked={kinds.includes(f.kind)} onChange={() => toggle(f.kind)} />
          <span className="flex-1">{f.words}</span>
          {f.limit && (
            <>
              <input
                aria-label={`${f.words} (${f.unit})`}
                inputMode="decimal"
                value={limits[f.limit]}
                onChange={(e) => setLimits({ ...limits, [f.limit!]: e.target.value })}
                onKeyDown={(e) => e.stopPropagation()}
                className="w-16 rounded border border-rule bg-card px-1.5 text-right font-mono text-[13px]"
              />
              <span className="w-7 font-mono text-[12px] text-quiet">{f.unit}</span>
            </>
          )}
        </label>
      ))}
      {STRONG.some((k) => kinds.includes(k)) && (
        <label className="flex items-center gap-2 py-0.5 text-[13.5px]">
          <span
            className="flex-1"
            title="of what moved, of images, of points between two surfaces and of points that stand alone"
          >
            Strength
          </span>
          <input
            type="range"
            min={0}
            max={1}
            step={0.1}
            value={strength}
            aria-valuetext={strengthOf(strength)}
            onChange={(e) => setStrength(Number(e.target.value))}
          />
          <span className="w-16 text-[12px] text-quiet">{strengthOf(strength)}</span>
        </label>
      )}
      <Actions>
        <Button busy={look.isPending} onClick={() => look.mutate(undefined)} why={why}>
          Look for them
        </Button>
        <input
          aria-label="Keep these filters as"
          placeholder="keep these as …"
          value={name}
          maxLength={60}
          onChange={(e) => setName(e.target.value)}
          onKeyDown={(e) => (e.stopPropagation(), e.key === "Enter" && name.trim() && keep.mutate(undefined))}
          className="w-32 rounded border border-rule bg-card px-1.5 text-[13px]"
        />
        {name.trim() && (
          <Button busy={keep.isPending} onClick={() => keep.mutate(undefined)} why={kinds.length ? "" : "choose some"}>
            Keep
          </Button>
        )}
      </Actions>
      {live.map((j) => (
        <JobLine key={j.id} id={id} job={j} />
      ))}
      {FILTERS.map((f) => {
        const own = finds.filter((e) => e.kind === f.kind);
        return own.length > 0 && <Found key={f.kind} id={id} filter={f} finds={own} />;
      })}
    </>
  );
}

const strengthOf = (v: number) => (v < 0.4 ? "careful" : v > 0.6 ? "thorough" : "middle");
const STRONG = ["mover", "ghost", "edge", "lone"] as const;
const SHOWN = 30;
const DO = "cursor-pointer text-action underline";

/** What one filter found. */
function Found({ id, filter, finds }: { id: string; filter: (typeof FILTERS)[number]; finds: Edit[] }) {
  const { kind, listed } = filter;
  const points = finds.reduce((n, e) => n + e.count, 0);
  const all = useAsk(
    id,
    ({ gone, code = null }: { gone: boolean; code?: number | null }) =>
      sent(http.POST("/api/projects/{project_id}/finds/decide", { ...path(id), body: { kind, delete: gone, code } })),
    (r) => void tellUndoable(id, `${r.message}.`),
  );
  return (
    <>
      <p className="mt-2 text-[13.5px]">
        {listed
          ? `${finds.length} ${filter.found}, ${grouped(points)} points.`
          : `${grouped(points)} ${filter.found}, in ${finds[0]!.stations.length} stations.`}
      </p>
      {finds[0]!.detail.too_much.map((t) => (
        <Quiet key={t.station}>
          In {t.station} that is {fixed(100 * t.share, 0)} % of all: look there before you delete.
        </Quiet>
      ))}
      {kind === "door" ? (
        <Quiet>Delete the way that is not wanted, and keep the other.</Quiet>
      ) : (
        <Actions>
          <Button main busy={all.isPending} onClick={() => all.mutate({ gone: true })}>
            {listed ? "Delete them all" : "Delete these points"}
          </Button>
          {kind === "mover" && (
            <Button busy={all.isPending} onClick={() => all.mutate({ gone: false, code: MOVER })}>
              Only give them the class mover
            </Button>
          )}
          <Button busy={all.isPending} onClick={() => all.mutate({ gone: false })}>
            {listed ? "Keep them all" : "Keep these points"}
          </Button>
        </Actions>
      )}
      {listed && (
        <ul>
          {finds.slice(0, SHOWN).map((e) => (
            <Find key={e.id} id={id} find={e} />
          ))}
        </ul>
      )}
      {listed && finds.length > SHOWN && <Quiet>{finds.length - SHOWN} more stand in the ledger of deletions.</Quiet>}
    </>
  );
}

function Find({ id, find: e }: { id: string; find: Edit }) {
  const decide = useAsk(
    id,
    (gone: boolean) =>
      sent(
        http.POST("/api/projects/{project_id}/edits/{edit_id}/decide", {
          params: { path: { project_id: id, edit_id: e.id } },
          body: { delete: gone, version: e.version },
        }),
      ),
    (r) => void tellUndoable(id, `${e.title}: ${r.message}.`),
  );
  const d = e.detail;
  const looked = d.against.length === 1 ? "1 station" : `${d.against.length} stations`;
  const reason =
    e.kind === "mover"
      ? `; ${looked} looked through`
      : e.kind === "ghost"
        ? `; ${fixed(100 * (d.share ?? 0), 0)} % are the image of what stands before it`
        : "";
  return (
    <li className="border-b border-rule/60 py-1 text-[13px] last:border-0">
      <img
        loading="lazy"
        width={264}
        height={176}
        className="my-1 w-full rounded bg-ink"
        src={`/api/projects/${id}/edits/${e.id}/picture?v=${e.version}`}
        alt={`as ${e.detail.station_name ?? "an instrument"} saw it`}
      />
      {e.title}
      <span className="block text-[12.5px] text-quiet">
        {grouped(e.count)} points, {d.size?.map((v) => fixed(v)).join(" × ")} m{reason}
      </span>
      <span className="flex gap-3">
        <button
          type="button"
          className={DO}
          onClick={() => {
            const { set, camera, eyes } = useView.getState();
            if (e.stations[0]) set({ eyes: { ...eyes, [e.stations[0]]: true } });
            if (d.at) camera?.lookAt(d.at);
          }}
        >
          look at it
        </button>
        <button type="button" className={DO} onClick={() => decide.mutate(true)}>
          delete it
        </button>
        <button type="button" className={DO} onClick={() => decide.mutate(false)}>
          keep it
        </button>
      </span>
    </li>
  );
}
