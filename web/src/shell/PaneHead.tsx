/** What stands in and round the panes: their heads, the readout of the cursor, the scale of the colours. */
import { Box, Map, Orbit, SeparatorVertical, type LucideIcon } from "lucide-react";
import type { PaneKind, Rect } from "../bench/types";
import type { Station } from "../api/client";
import { useProject, useStations } from "../api/queries";
import { fixed } from "../kit";
import { heightIn, into, lengthIn, UNITS } from "../kit/units";
import { useView } from "../kit/view";

/** Where the cursor is, in the active coordinates. */
export function Readout({ id, high }: { id: string; high: boolean }) {
  const hover = useView((s) => s.hover);
  const { drawn, caught } = useView();
  const stations = useStations(id).data;
  const project = useProject(id).data;
  const at = hover && project ? into(project.T_frame_part, hover) : null;
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
const chip = "rounded bg-[#12161d]/85 px-1.5 py-0.5 text-[12px] text-[#f2efe6]";

export function PaneHead({
  kind,
  rect,
  unit,
  frame,
  last,
  stations,
}: {
  kind: PaneKind;
  rect: Rect;
  unit: keyof typeof UNITS;
  frame: number[];
  last: boolean;
  stations: Station[];
}) {
  const {
    slab,
    moveSlab,
    colourBy,
    ground,
    set,
    panes,
    stand,
    stand2,
    parallel,
    shading,
    stations: chosen,
  } = useView();
  const standing =
    kind === "panorama"
      ? (stand ?? chosen[0] ?? stations[0]?.id ?? "")
      : (stand2 ?? chosen[1] ?? stations[1]?.id ?? "");
  const height = (z: number) => lengthIn(heightIn(frame, z), unit); // in the coordinates that everything on the screen is in
  const low = height(slab.height - slab.planDepth / 2);
  const high = height(slab.height + slab.planDepth / 2);
  return (
    <div
      className="pointer-events-none absolute flex flex-wrap items-center gap-1.5 p-1.5"
      style={{ left: rect.x, top: rect.y, width: rect.w }}
    >
      <span className={`${chip} font-semibold`}>{NAMES[kind]}</span>
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
        <button
          type="button"
          className={`${chip} pointer-events-auto cursor-pointer`}
          title="With perspective, or parallel: lengths are true at every depth"
          onClick={() => set({ parallel: !parallel })}
        >
          {parallel ? "parallel" : "perspective"}
        </button>
      )}
      {kind === "space" && (
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
      <select
        aria-label="Coloured by"
        value={colourBy}
        onChange={(e) => set({ colourBy: e.target.value as "station" })}
        className={`${chip} pointer-events-auto cursor-pointer`}
      >
        <option value="station">by station</option>
        <option value="intensity">by intensity</option>
        <option value="height">by height</option>
        <option value="colour">true colour</option>
        <option value="range">by distance</option>
      </select>
      <span className="flex-1" />
      {last && (
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
          <label
            className={`${chip} pointer-events-auto flex items-center gap-1`}
            title="How strongly edges are shaded"
          >
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
      )}
    </div>
  );
}

export function toggle(p: PaneKind) {
  const { panes, set } = useView.getState();
  const next = panes.includes(p) ? panes.filter((x) => x !== p) : [...panes, p].slice(-3);
  set({ panes: next.length ? next : panes });
}

const SCALES = { intensity: "intensity", height: "height", range: "distance" } as const;

/** The scale that points are coloured by, with its ends; they can be set by hand, and given back to the points in view. */
export function Legend({ unit, frame }: { unit: keyof typeof UNITS; frame: number[] }) {
  const { colourBy, scale, spans, set } = useView();
  if (!(colourBy in SCALES)) return null;
  const lengths = colourBy !== "intensity";
  const lift = colourBy === "height" ? heightIn(frame, 0) : 0;
  const shown = (v: number) => (lengths ? lengthIn(v + lift, unit) : v.toFixed(2));
  const given = spans[colourBy];
  const change = (k: 0 | 1, text: string) => {
    const typed = Number(text.replace(",", ".").replace("\u2212", "-"));
    if (!Number.isFinite(typed)) return;
    const next: [number, number] = [...scale];
    next[k] = lengths ? typed / UNITS[unit].metre - lift : typed;
    if (next[0] < next[1]) set({ spans: { ...spans, [colourBy]: next } });
  };
  const end = (k: 0 | 1, name: string) => (
    <input
      key={`${k}${scale[k]}`}
      aria-label={`${name} ${SCALES[colourBy as "height"]} of the scale`}
      defaultValue={shown(scale[k])}
      onBlur={(e) => e.target.value !== shown(scale[k]) && change(k, e.target.value)}
      onKeyDown={(e) => (e.stopPropagation(), e.key === "Enter" && e.currentTarget.blur())}
      className="pointer-events-auto w-16 rounded bg-[#12161d]/85 px-1 text-right font-mono"
    />
  );
  return (
    <div
      role="group"
      aria-label={`Scale of ${SCALES[colourBy as "height"]}`}
      className="pointer-events-none absolute bottom-8 left-3 flex items-center gap-1.5 text-[12px] text-[#f2efe6]"
    >
      {end(0, "Lowest")}
      <span className="h-2.5 w-28 rounded-sm" style={{ background: VIRIDIS }} />
      {end(1, "Highest")}
      <span className="rounded bg-[#12161d]/85 px-1">
        {lengths ? unit : ""} {SCALES[colourBy as "height"]}
        {given ? ", set by hand" : ", of what is in view"}
      </span>
      {given && (
        <button
          type="button"
          className={`${chip} pointer-events-auto cursor-pointer underline`}
          onClick={() => set({ spans: { ...spans, [colourBy]: undefined } })}
        >
          as the points have it
        </button>
      )}
    </div>
  );
}
const VIRIDIS = "linear-gradient(90deg,#440154,#414487,#2a788e,#22a884,#7ad151,#fde725)";
