/** The bench in the page: panes with their heads, bound to server state and view state. */
import { useEffect, useMemo, useRef, useState } from "react";
import { Bench, type Hands } from "../bench/bench";
import type { PaneKind, Rect, Scene } from "../bench/types";
import { bytes, http, sent } from "../api/client";
import {
  tell,
  tellError,
  useBoxes,
  useEdits,
  useNetwork,
  useProject,
  useSightings,
  useStations,
  useTiles,
} from "../api/queries";
import { fixed } from "../kit";
import { stateOf, Trouble } from "../kit/await";
import { provide } from "../kit/commands";
import { EYE, heightIn, into, lengthIn, UNITS } from "../kit/units";
import { type Outline, useView } from "../kit/view";
import { takeOver } from "./early";
import { boxInfo, dots, QUICK, rects, seen, stationInfos, STILL, strings, tilesOf } from "./scene";

export function BenchHost({ id }: { id: string }) {
  const host = useRef<HTMLDivElement>(null);
  const bench = useRef<Bench | null>(null);
  const [size, setSize] = useState({ w: 0, h: 0 });
  const [failed, setFailed] = useState("");
  const view = useView();
  const project = useProject(id).data;
  const read = [useStations(id), useTiles(id)] as const;
  const stations = read[0].data;
  const tiles = read[1].data;
  const network = useNetwork(id).data;
  const sightings = useSightings(id).data;
  const boxes = useBoxes(id).data;
  const edits = useEdits(id).data;

  const count = useRef((outline: Outline) => {
    useView.getState().set({ outline: { ...outline, count: null } });
    sent(
      http.POST("/api/projects/{project_id}/lasso", {
        params: { path: { project_id: id } },
        body: { view: outline.view, outline: outline.outline, stations: outline.stations, only_count: true },
      }),
    )
      .then(
        (r) =>
          useView.getState().outline?.outline === outline.outline &&
          useView.getState().set({ outline: { ...outline, count: r.count ?? "many" } }),
      )
      .catch(tellError);
  });

  const part = project?.part ?? null;
  const shown = useMemo(() => seen(stations ?? [], view.eyes, part), [stations, view.eyes, part]);
  const scene = useMemo<Scene>(() => {
    const link = network?.links.find((k) => k.id === view.link);
    const infos = stationInfos(stations ?? [], shown, view.stations, link, part);
    if (view.step !== "tie" && view.step !== "prove") for (const s of infos) s.sigma = null;
    if (view.placing) for (const s of infos) s.visible = s.id === view.placing.station || s.id === view.placing.a;
    return {
      stations: infos,
      tiles: tiles ?? [],
      strings:
        !["tie", "prove", "place"].includes(view.step) || view.placing
          ? []
          : strings(network, project, view.link, view.stations),
      dots:
        view.step === "place" || view.step === "tie" || view.step === "prove" || view.target
          ? dots(sightings ?? [], view.target, part)
          : [],
      box: boxInfo(boxes ?? [], part),
      colourBy: view.colourBy,
      ground: view.ground,
      slab: view.slab,
      tool: view.tool,
      placing: view.placing,
      picks: view.picks,
    };
  }, [
    stations,
    shown,
    tiles,
    network,
    project,
    sightings,
    boxes,
    view.step,
    view.link,
    view.stations,
    view.target,
    view.colourBy,
    view.ground,
    view.slab,
    view.tool,
    view.placing,
    view.picks,
    part,
  ]);
  const now = useRef({ scene, shown, stations: stations ?? [] });
  now.current = { scene, shown, stations: stations ?? [] };

  useEffect(() => {
    const element = host.current!;
    const v = useView.getState;
    try {
      const hands: Hands = {
        select: (what) => {
          if (what?.station) v().selectStation(what.station, false);
          else v().set({ link: what?.link ?? null, stations: [], target: null });
        },
        hover: (at) => v().set({ hover: at }),
        lasso: (matrix, outline) =>
          count.current({ view: matrix, outline, stations: [...now.current.shown], count: null }),
        pick: (at) => (at ? v().onPick?.(at) : tell("No point lies there.", "click on a surface, or fly closer")),
        planPick: (at) => v().onPick?.([...at, v().slab.height]),
        placed: (pose) => v().placing && v().set({ placing: { ...v().placing!, pose } }),
        drawn: (drawn) =>
          (drawn.points !== v().drawn.points || drawn.busy !== v().drawn.busy || drawn.failing !== v().drawn.failing) &&
          v().set({ drawn }),
        sliceAt: (origin) => v().moveSlab({ origin }),
      };
      const begun = takeOver(id);
      begun?.adopt(element, hands);
      bench.current =
        begun ??
        new Bench(
          element,
          tilesOf(id, () => now.current.stations),
          hands,
          now.current.scene,
          STILL,
          QUICK,
        );
    } catch (e) {
      setFailed(e instanceof Error ? e.message : String(e));
      return;
    }
    const observer = new ResizeObserver(() => setSize({ w: element.clientWidth, h: element.clientHeight }));
    observer.observe(element);
    const forget = provide([
      { id: "view.frame", title: "Look at the selection, or at all", keys: "f", run: () => bench.current?.frame() },
      { id: "view.top", title: "Look from above", keys: "t", run: () => bench.current?.topView() },
    ]);
    return () => {
      forget();
      observer.disconnect();
      bench.current?.dispose();
      bench.current = null;
    };
  }, [id]);

  const places = useMemo(() => (size.w && size.h ? rects(view.panes, size.w, size.h) : []), [view.panes, size]);
  useEffect(() => bench.current?.layout(places), [places]);
  useEffect(() => {
    if (stations && tiles) bench.current?.update(scene, UNITS[project?.unit ?? "m"]);
  }, [scene, project?.unit, stations, tiles]);

  const framed = useRef(part);
  useEffect(() => {
    if (framed.current !== part && part !== null) {
      if (framed.current !== null) bench.current?.frame(true); // another part has coordinates of its own
      framed.current = part;
    }
  }, [part, scene]);

  const outline = view.outline;
  const lit = outline?.outline;
  useEffect(() => {
    bench.current?.cloud.light(useView.getState().outline);
    bench.current?.draw();
  }, [lit]);

  // Marks of deleted points: all of them first, then of each change the tiles that it touched.
  const known = useRef<Map<string, { active: boolean; stations: string[] }> | null>(null);
  useEffect(() => void (known.current = null), [id]);
  useEffect(() => {
    if (!edits) return;
    const before = known.current;
    const now = new Map(edits.map((e) => [e.id, e]));
    known.current = now;
    const ids = new Set([...now.keys(), ...(before?.keys() ?? [])]);
    const changed = [...ids].filter((e) => (now.get(e)?.active ?? false) !== (before?.get(e)?.active ?? false));
    const asked = new Set(changed.flatMap((e) => (now.get(e) ?? before?.get(e))?.stations ?? []));
    for (const s of asked) {
      const query = before ? `?${changed.map((e) => `changed=${e}`).join("&")}` : "";
      bytes(`/api/projects/${id}/stations/${s}/marks${query}`)
        .then((body) => {
          bench.current?.cloud.setMarks(s, body, !before);
          bench.current?.draw();
        })
        .catch((e: unknown) => {
          known.current = null; // the next time all are asked for
          tellError(e);
        });
    }
  }, [id, edits]);

  const tied = (stations ?? []).some((s) => s.tied);
  return (
    <section
      aria-label="Bench"
      className="relative h-full min-w-0 flex-1 overflow-hidden bg-[#12161d]"
      data-drawn={view.drawn.points}
      data-busy={view.drawn.busy}
    >
      <div ref={host} className={`absolute inset-0 ${view.tool !== "none" ? "cursor-crosshair" : ""}`} />
      {failed && (
        <p className="absolute inset-0 grid place-items-center p-8 text-center text-white">
          The cloud cannot be drawn here: {failed}. Use a browser with WebGL 2. Everything but the panes works without
          it.
        </p>
      )}
      {places.map(({ kind, rect }) => (
        <PaneHead
          key={kind}
          kind={kind}
          rect={rect}
          unit={project?.unit ?? "m"}
          frame={project?.T_frame_part ?? EYE}
          last={places[places.length - 1]?.kind === kind}
        />
      ))}
      {stations?.length === 0 && (
        <p className="pointer-events-none absolute inset-0 grid place-items-center px-10 text-center text-[15px] text-[#f2efe6]">
          Drop the E57 files of the stations here. What is in each file is shown before anything is stored.
        </p>
      )}
      {stations && stations.length > 1 && !tied && !view.placing && view.step !== "bring_in" && (
        <p className="pointer-events-none absolute inset-x-0 bottom-8 text-center text-[13px] text-[#f2efe6]">
          The stations are not tied yet, so they share no coordinates: one is shown. Choose another in the roster.
        </p>
      )}
      {stateOf([...read]) === "loading" && (
        <p
          role="status"
          className="pointer-events-none absolute inset-0 grid place-items-center text-[14px] text-[#f2efe6]"
        >
          Reading the stations …
        </p>
      )}
      {stateOf([...read]) === "failed" && (
        <div className="absolute inset-0 grid place-items-center">
          <Trouble asked={[...read]} what="stations" />
        </div>
      )}
      {view.drawn.failing > 0 && (
        <div
          role="alert"
          className="absolute bottom-8 left-1/2 flex -translate-x-1/2 items-center gap-3 rounded bg-[#12161d]/90 px-3 py-1.5 text-[13px] text-[#f2efe6]"
        >
          {view.drawn.failing} {view.drawn.failing === 1 ? "part" : "parts"} of the cloud could not be read; asked again
          in a while.
          <button type="button" className="cursor-pointer underline" onClick={() => bench.current?.cloud.retry()}>
            Ask now
          </button>
        </div>
      )}
      <Readout id={id} high={(places[places.length - 1]?.rect.w ?? 999) < 620} />
    </section>
  );
}

/** Where the cursor is, in the active coordinates. */
function Readout({ id, high }: { id: string; high: boolean }) {
  const hover = useView((s) => s.hover);
  const drawn = useView((s) => s.drawn);
  const project = useProject(id).data;
  const at = hover && project ? into(project.T_frame_part, hover) : null;
  const unit = project?.unit ?? "m";
  return (
    <div
      className={`pointer-events-none absolute right-2 ${high ? "bottom-7" : "bottom-1.5"} rounded bg-[#12161d]/80 px-1.5 font-mono text-[11.5px] text-[#f2efe6]`}
    >
      {at
        ? `${project?.frame_name}  E ${lengthIn(at[0], unit)}  N ${lengthIn(at[1], unit)}  H ${lengthIn(at[2], unit)} ${unit}`
        : `${fixed(drawn.points / 1e6, 2)} M points drawn${drawn.busy ? ", more coming" : ""}`}
    </div>
  );
}

const NAMES: Record<PaneKind, string> = { space: "Space", plan: "Plan", slice: "Slice" };
const chip = "rounded bg-[#12161d]/85 px-1.5 py-0.5 text-[12px] text-[#f2efe6]";

function PaneHead({
  kind,
  rect,
  unit,
  frame,
  last,
}: {
  kind: PaneKind;
  rect: Rect;
  unit: keyof typeof UNITS;
  frame: number[];
  last: boolean;
}) {
  const { slab, moveSlab, colourBy, ground, set, panes } = useView();
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
          className={`${chip} pointer-events-auto cursor-pointer font-mono`}
          title="Hide what lies above, or show everything"
          onClick={() => moveSlab({ cutLid: !slab.cutLid })}
        >
          {slab.cutLid ? `below ${height(slab.lid)} ${unit}` : "with roof"}
        </button>
      )}
      {kind === "slice" && (
        <>
          <span className={`${chip} font-mono`}>
            {lengthIn(slab.sliceDepth, unit)} {unit} deep
          </span>
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
      </select>
      <span className="flex-1" />
      {last && (
        <>
          {(["space", "plan", "slice"] as const).map((p) => (
            <button
              key={p}
              type="button"
              aria-pressed={panes.includes(p)}
              aria-label={`Pane ${p}`}
              className={`${chip} pointer-events-auto cursor-pointer border ${panes.includes(p) ? "border-[#f2efe6]" : "border-transparent opacity-70"}`}
              onClick={() => toggle(p)}
            >
              {p}
            </button>
          ))}
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
  const next = panes.includes(p) ? panes.filter((x) => x !== p) : [...panes, p];
  set({ panes: next.length ? next : panes });
}
