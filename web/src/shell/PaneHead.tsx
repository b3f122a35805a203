/** What stands in and round the panes: their heads, the readout of the cursor. */
import { Box, Map, Orbit, SeparatorVertical, SlidersHorizontal, type LucideIcon } from "lucide-react";
import { Popover } from "radix-ui";
import type { PaneKind, Rect } from "../bench/types";
import type { Station } from "../api/client";
import { useProject, useStations } from "../api/queries";
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
export const chip = "shrink-0 rounded bg-[#12161d]/85 px-1.5 py-0.5 text-[12px] whitespace-nowrap text-[#f2efe6]";

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
