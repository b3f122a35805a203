/** What stands in and round the panes: their heads, the readout of the cursor, the scale of the colours. */
import { Box, Map, Orbit, SeparatorVertical, SlidersHorizontal, type LucideIcon } from "lucide-react";
import { Popover } from "radix-ui";
import type { PaneKind, Rect } from "../bench/types";
import type { Station } from "../api/client";
import { useClasses, useGroups, useProject, useStations, useZones } from "../api/queries";
import { hueOf } from "../bench/palette";
import type { ColourBy } from "../bench/types";
import { usePair } from "./pair";
import { fixed } from "../kit";
import { heightIn, into, lengthIn, UNITS } from "../kit/units";
import { useView } from "../kit/view";
import { wordsOf } from "./catching";

/** Where the cursor is, in the active coordinates. */
export function Readout({ id, high }: { id: string; high: boolean }) {
  const hover = useView((s) => s.hover);
  const { drawn, caught, shape, catching } = useView();
  const stations = useStations(id).data;
  const project = useProject(id).data;
  const place = catching === "shape" && shape ? shape.at : hover;
  const at = place && project ? into(project.T_frame_part, place) : null;
  const unit = project?.unit ?? "m";
  const of = caught && stations?.find((s) => s.id === caught.station)?.name;
  const from = of ? `  ${of}, ${lengthIn(caught.range, unit)} ${unit} away` : "";
  return (
    <div
      className={`pointer-events-none absolute right-2 ${high ? "bottom-7" : "bottom-1.5"} rounded bg-[#12161d]/80 px-1.5 font-mono text-[11.5px] text-[#f2efe6]`}
    >
      {at
        ? `${project?.frame_name}  E ${lengthIn(at[0], unit)}  N ${lengthIn(at[1], unit)}  H ${lengthIn(at[2], unit)} ${unit}${from}`
        : `${fixed(drawn.points / 1e6, 2)} M points drawn${drawn.busy ? ", more coming" : ""}`}
      {shape && (
        <div aria-label="Surface under the cursor">
          {catching === "shape" ? "picks take: " : ""}
          {wordsOf(shape, unit)}
        </div>
      )}
    </div>
  );
}

const ICONS: Record<PaneKind, LucideIcon> = {
  space: Box,
  plan: Map,
  slice: SeparatorVertical,
  panorama: Orbit,
  panorama2: Orbit,
};
const NAMES: Record<PaneKind, string> = {
  space: "Space",
  plan: "Plan",
  slice: "Slice",
  panorama: "Panorama",
  panorama2: "Second panorama",
};
const WIDE = 600; // pixels from which on all of the last head stands in one row
const NARROW = 430; // pixels below which a pane is named by its sign
const chip = "shrink-0 rounded bg-[#12161d]/85 px-1.5 py-0.5 text-[12px] whitespace-nowrap text-[#f2efe6]";

export function PaneHead({
  kind,
  rect,
  unit,
  frame,
  first,
  last,
  stations,
}: {
  kind: PaneKind;
  rect: Rect;
  unit: keyof typeof UNITS;
  frame: number[];
  first: boolean;
  last: boolean;
  stations: Station[];
}) {
  const { slab, moveSlab, colourBy, set, stand, stand2, parallel, walking, stations: chosen } = useView();
  const standing =
    kind === "panorama"
      ? (stand ?? chosen[0] ?? stations[0]?.id ?? "")
      : (stand2 ?? chosen[1] ?? stations[1]?.id ?? "");
  const Sign = ICONS[kind];
  const height = (z: number) => lengthIn(heightIn(frame, z), unit); // in the coordinates that everything on the screen is in
  const low = height(slab.height - slab.planDepth / 2);
  const high = height(slab.height + slab.planDepth / 2);
  return (
    <div
      className="pointer-events-none absolute flex items-center gap-1.5 p-1.5"
      style={{ left: rect.x, top: rect.y, width: rect.w }}
    >
      <span className={`${chip} font-semibold`} title={NAMES[kind]}>
        {rect.w < NARROW ? <Sign role="img" size={14} aria-label={NAMES[kind]} /> : NAMES[kind]}
      </span>
      {kind === "plan" && (
        <button
          type="button"
          className={`${chip} pointer-events-auto cursor-pointer font-mono`}
          title="Show the slab only, or everything from above"
          onClick={() => moveSlab({ cutPlan: !slab.cutPlan })}
        >
          {slab.cutPlan ? `slab ${low} to ${high} ${unit}` : "everything"}
        </button>
      )}
      {kind === "space" && (
        <select
          aria-label="How the space is seen"
          title="With perspective; parallel: lengths are true at every depth; walking: arrows and wheel step, keys E and F end it"
          value={walking ? "walking" : parallel ? "parallel" : "perspective"}
          onChange={(e) => set({ walking: e.target.value === "walking", parallel: e.target.value === "parallel" })}
          className={`${chip} pointer-events-auto min-w-0 !shrink cursor-pointer`}
        >
          <option value="perspective">perspective</option>
          <option value="parallel">parallel</option>
          <option value="walking">at eye height</option>
        </select>
      )}
      {kind === "space" && !walking && (
        <button
          type="button"
          className={`${chip} pointer-events-auto cursor-pointer font-mono`}
          title="Hide what lies above, or show everything"
          onClick={() => moveSlab({ cutLid: !slab.cutLid })}
        >
          {slab.cutLid ? `below ${height(slab.lid)} ${unit}` : "with roof"}
        </button>
      )}
      {(kind === "panorama" || kind === "panorama2") && (
        <select
          aria-label={kind === "panorama" ? "Station to look round from" : "Second station to look round from"}
          value={standing}
          onChange={(e) => set({ [kind === "panorama" ? "stand" : "stand2"]: e.target.value })}
          className={`${chip} pointer-events-auto cursor-pointer font-mono`}
        >
          {stations.map((s) => (
            <option key={s.id} value={s.id}>
              {s.name}
            </option>
          ))}
        </select>
      )}
      {kind === "slice" && (
        <>
          <label className={`${chip} pointer-events-auto font-mono`} title="Thickness of the slice; keys [ and ]">
            <input
              key={slab.sliceDepth}
              aria-label="Thickness of the slice"
              defaultValue={lengthIn(slab.sliceDepth, unit)}
              onBlur={(e) => {
                const typed = Number(e.target.value.replace(",", ".")) / UNITS[unit].metre;
                if (typed > 0 && typed < 100) moveSlab({ sliceDepth: typed });
                else e.target.value = lengthIn(slab.sliceDepth, unit);
              }}
              onKeyDown={(e) => (e.stopPropagation(), e.key === "Enter" && e.currentTarget.blur())}
              className="w-14 bg-transparent text-right"
            />{" "}
            {unit}
          </label>
          <label
            className={`${chip} pointer-events-auto font-mono`}
            title="Direction the slice runs in, from east. Double-click a point to put the slice through it."
          >
            <input
              aria-label="Direction of the slice"
              type="number"
              step={5}
              defaultValue={Math.round((slab.azimuth * 180) / Math.PI)}
              onChange={(e) =>
                Number.isFinite(e.target.valueAsNumber) &&
                moveSlab({ azimuth: (e.target.valueAsNumber * Math.PI) / 180 })
              }
              className="w-12 bg-transparent text-right"
            />
            °
          </label>
        </>
      )}
      {first && (
        <select
          aria-label="Coloured by"
          value={colourBy}
          onChange={(e) => set({ colourBy: e.target.value as "station" })}
          className={`${chip} pointer-events-auto min-w-0 !shrink cursor-pointer`}
        >
          <option value="station">by station</option>
          <option value="intensity">by intensity</option>
          <option value="height">by height</option>
          <option value="colour">true colour</option>
          <option value="range">by distance</option>
          <option value="inclination">by inclination</option>
          <option value="group">by group</option>
          <option value="apart">by distance between two</option>
          <option value="expected">by expected error</option>
          <option value="class">by class</option>
          <option value="zone">by zone</option>
          <option value="model">by distance from models</option>
        </select>
      )}
      <span className="flex-1" />
      {last && (
        <>
          {rect.w >= WIDE ? (
            <Arrange />
          ) : (
            <Popover.Root>
              <Popover.Trigger
                aria-label="Panes, shading and background"
                title="Panes, shading and background"
                className={`${chip} pointer-events-auto cursor-pointer`}
              >
                <SlidersHorizontal size={14} />
              </Popover.Trigger>
              <Popover.Content align="end" sideOffset={4} className="z-30 flex gap-1.5 rounded bg-[#12161d]/95 p-2">
                <Arrange />
              </Popover.Content>
            </Popover.Root>
          )}
        </>
      )}
    </div>
  );
}

/** Which panes there are, how strongly depth is shaded, and on what. */
function Arrange() {
  const { panes, shading, ground, set } = useView();
  return (
    <>
      {(["space", "plan", "slice", "panorama", "panorama2"] as const).map((p) => {
        const Icon = ICONS[p];
        return (
          <button
            key={p}
            type="button"
            aria-pressed={panes.includes(p)}
            aria-label={p === "panorama2" ? "Second panorama" : `Pane ${p}`}
            title={NAMES[p]}
            className={`${chip} pointer-events-auto cursor-pointer border ${panes.includes(p) ? "border-[#f2efe6]" : "border-transparent opacity-70"}`}
            onClick={() => toggle(p)}
          >
            <Icon size={14} />
          </button>
        );
      })}
      <label className={`${chip} pointer-events-auto flex items-center gap-1`} title="How strongly edges are shaded">
        <input
          aria-label="Strength of depth shading"
          type="range"
          min={0}
          max={1}
          step={0.1}
          value={shading}
          onChange={(e) => set({ shading: e.target.valueAsNumber })}
          className="h-3 w-12 accent-current"
        />
      </label>
      <select
        aria-label="Background"
        value={ground}
        onChange={(e) => set({ ground: e.target.value as "ink" })}
        className={`${chip} pointer-events-auto cursor-pointer`}
      >
        <option value="ink">ink</option>
        <option value="mid">mid</option>
        <option value="paper">paper</option>
      </select>
    </>
  );
}

export function toggle(p: PaneKind) {
  const { panes, set } = useView.getState();
  const next = panes.includes(p) ? panes.filter((x) => x !== p) : [...panes, p].slice(-3);
  set({ panes: next.length ? next : panes });
}

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
  if (!name) return <Words id={id} />;
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
function Words({ id }: { id: string }) {
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
      className="pointer-events-none absolute bottom-8 left-3 flex flex-wrap gap-1.5 text-[12px] text-[#f2efe6]"
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
