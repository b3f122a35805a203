/** What the colours of the points say: a scale with its ends, or the names of groups, classes and zones. */
import { useClasses, useGroups, useProject, useStations, useZones } from "../api/queries";
import { hueOf } from "../bench/palette";
import type { ColourBy } from "../bench/types";
import { heightIn, lengthIn, UNITS } from "../kit/units";
import { useView } from "../kit/view";
import { chip } from "./PaneHead";
import { usePair } from "./pair";

const SCALES: Partial<Record<ColourBy, string>> = {
  intensity: "intensity",
  height: "height",
  range: "distance",
  inclination: "inclination",
  apart: "distance between two",
  expected: "expected error against the datum",
  model: "before or behind the models",
};

/** The scale that points are coloured by, with its ends; they can be set by hand, and given back to the points in view. */
export function Legend({
  id,
  unit,
  frame,
  high,
}: {
  id: string;
  unit: keyof typeof UNITS;
  frame: number[];
  high: boolean;
}) {
  const { colourBy, scale, spans, set } = useView();
  const project = useProject(id).data;
  const placed = project?.frames.some((f) => f.id === project.frame && f.kind === "control");
  const name = colourBy === "expected" && placed ? "expected error in control" : SCALES[colourBy];
  if (!name) return <Words id={id} high={high} />;
  const [size, word] = {
    intensity: [1, ""],
    inclination: [1, "°"],
    apart: [1000, "mm"],
    expected: [1, "mm"],
    model: [1000, "mm"],
  }[colourBy as string] ?? [UNITS[unit].metre, unit];
  const lift = colourBy === "height" ? heightIn(frame, 0) : 0;
  const digits = { intensity: 2, inclination: 0, apart: 1, expected: 2, model: 1 }[colourBy as string];
  const shown = (v: number) =>
    digits === undefined ? lengthIn(v + lift, unit) : (v * (size as number)).toFixed(digits);
  const change = (k: 0 | 1, text: string) => {
    const typed = Number(text.replace(",", ".").replace("\u2212", "-"));
    if (!Number.isFinite(typed)) return;
    const next: [number, number] = [...scale];
    next[k] = typed / (size as number) - lift;
    if (next[0] < next[1]) set({ spans: { ...spans, [colourBy]: next } });
  };
  const end = (k: 0 | 1, which: string) => (
    <input
      key={`${k}${scale[k]}`}
      aria-label={`${which} ${name} of the scale`}
      defaultValue={shown(scale[k])}
      onBlur={(e) => e.target.value !== shown(scale[k]) && change(k, e.target.value)}
      onKeyDown={(e) => (e.stopPropagation(), e.key === "Enter" && e.currentTarget.blur())}
      className="pointer-events-auto w-16 rounded bg-[#12161d]/85 px-1 text-right font-mono"
    />
  );
  return (
    <div
      role="group"
      aria-label={`Scale of ${name}`}
      className={`pointer-events-none absolute ${high ? "bottom-[70px]" : "bottom-8"} left-3 flex max-w-[95%] flex-wrap items-center gap-1.5 text-[12px] text-[#f2efe6]`}
    >
      {end(0, "Lowest")}
      <span
        className="h-2.5 w-28 rounded-sm"
        style={{ background: { apart: TWO_SIDED, model: BANDS }[colourBy as string] ?? VIRIDIS }}
      />
      {end(1, "Highest")}
      <span className="rounded bg-[#12161d]/85 px-1">
        {word} {name}
        {spans[colourBy]
          ? ", set by hand"
          : ["intensity", "height", "range", "expected"].includes(colourBy)
            ? ", of what is in view"
            : ""}
      </span>
      {spans[colourBy] && (
        <button
          type="button"
          className={`${chip} pointer-events-auto cursor-pointer underline`}
          onClick={() => set({ spans: { ...spans, [colourBy]: undefined } })}
        >
          {["inclination", "apart", "model"].includes(colourBy) ? "as it was" : "as the points have it"}
        </button>
      )}
      {colourBy === "apart" && <Pair id={id} />}
      {colourBy === "model" && (
        <span className="rounded bg-[#12161d]/85 px-1">
          {`pale: within ${((1000 * scale[1]) / 3).toFixed(1)} mm; grey: beyond 250 mm, or no model is shown`}
        </span>
      )}
    </div>
  );
}
const VIRIDIS = "linear-gradient(90deg,#440154,#414487,#2a788e,#22a884,#7ad151,#fde725)";
const BANDS =
  "linear-gradient(90deg,#ed800d 16%,#ed9e53 16% 33%,#ede0ac 33% 34%,#cce0d1 34% 66%,#a3bfe2 66% 83%,#1a59d9 83%)";
const TWO_SIDED = "linear-gradient(90deg,#ed800d,#ededE6,#1a59d9)";

/** Which two stations are compared, or what to do so that two are. */
function Pair({ id }: { id: string }) {
  const stations = useStations(id).data ?? [];
  const pair = usePair(id);
  const names = pair?.map((x) => stations.find((s) => s.id === x)?.name).join(" and ");
  return (
    <span className="rounded bg-[#12161d]/85 px-1">
      {names ? `${names}; grey: not seen by both` : "choose two stations, or a link"}
    </span>
  );
}

/** What the colours of groups are. */
function Words({ id, high }: { id: string; high: boolean }) {
  const by = useView((s) => s.colourBy);
  const groups = (useGroups(id).data ?? []).map((g, k) => ({ ...g, k })).filter((g) => g.stations.length);
  const classes = useClasses(id).data ?? [];
  const zones = (useZones(id).data ?? []).filter((z) => z.kind === "zone");
  const told = {
    group: { of: "groups", rows: groups, rest: groups.length ? "grey: in no group" : "no stations are in a group" },
    class: {
      of: "classes",
      rows: classes.map((c, k) => ({ id: String(c.code), name: c.name, k: k % 12 })),
      rest: "grey: no class yet",
    },
    zone: {
      of: "zones",
      rows: zones.map((z) => ({ ...z, k: z.hue })),
      rest: zones.length ? "grey: in no zone" : "there are no zones yet",
    },
  }[by as "group"];
  if (!told) return null;
  return (
    <div
      role="group"
      aria-label={`Colours of ${told.of}`}
      className={`pointer-events-none absolute ${high ? "bottom-[70px]" : "bottom-8"} left-3 flex flex-wrap gap-1.5 text-[12px] text-[#f2efe6]`}
    >
      {told.rows.map((b) => (
        <span key={b.id} className={`${chip} flex items-center gap-1`}>
          <span className="size-2.5 rounded-full" style={{ background: hueOf(b.k) }} />
          {b.name}
        </span>
      ))}
      <span className={chip}>{told.rest}</span>
    </div>
  );
}
