/** The bench in the page: panes with their heads, bound to server state and view state. */
import { useEffect, useMemo, useRef, useState } from "react";
import { Bench } from "../bench/bench";
import type { BoxInfo, Cameras, Hands, Scene } from "../bench/types";
import { http, sent, type Box } from "../api/client";
import {
  cache,
  tell,
  tellError,
  useAdvice,
  useGroups,
  useBoxes,
  useEdits,
  useNetwork,
  useNotes,
  useProject,
  useSearch,
  useSightings,
  useStations,
} from "../api/queries";
import { stateOf, Trouble } from "../kit/await";
import { provide } from "../kit/commands";
import { EYE, into, inverse, product, UNITS } from "../kit/units";
import { useView } from "../kit/view";
import { selectBy } from "../parts/select";
import { follow, pickAt } from "./catching";
import { useMarking } from "./marking";
import { useModelInfos } from "./models";
import { usePair } from "./pair";
import { takeOver } from "./early";
import { askedFor, inAddress, remember, show, shownNow } from "./views";
import { Legend } from "./Legend";
import { PaneHead, Readout } from "./PaneHead";
import {
  boxesShown,
  boxInfo,
  advised,
  dots,
  matchDots,
  moved,
  noteInfos,
  QUICK,
  rects,
  seen,
  stationInfos,
  STILL,
  sourceOf,
  strings,
  underPlan,
} from "./scene";

const NONE: never[] = [];

export function BenchHost({ id }: { id: string }) {
  const host = useRef<HTMLDivElement>(null);
  const bench = useRef<Bench | null>(null);
  const [size, setSize] = useState({ w: 0, h: 0 });
  const [failed, setFailed] = useState("");
  const view = useView();
  const project = useProject(id).data;
  const read = [useStations(id)] as const;
  const stations = read[0].data;
  const network = useNetwork(id).data;
  const sightings = useSightings(id).data;
  const boxes = useBoxes(id).data;
  const edits = useEdits(id).data;
  const notes = useNotes(id).data;
  const groups = useGroups(id).data ?? NONE;
  const advising = view.advising && (view.step === "tie" || view.step === "prove");
  const told = useAdvice(id, advising).data;
  const advice = advising ? told : undefined;
  const pair = usePair(id);
  const models = useModelInfos(id);
  const search = useSearch(id).data;

  const marking = useMarking(id, bench);
  const reshape = useRef((box: BoxInfo) => {
    const { centre, half, yaw } = box;
    const known = cache.getQueryData<Box[]>([id, "boxes"])?.find((b) => b.id === box.id);
    if (!known) return;
    const { name, active, outside, outline, version } = known;
    sent(
      http.PUT("/api/projects/{project_id}/boxes/{box_id}", {
        params: { path: { project_id: id, box_id: box.id } },
        body: { name, active, outside, outline, version, centre, half, yaw, alone: false },
      }),
    )
      .then(() => cache.invalidateQueries({ queryKey: [id, "boxes"] }))
      .catch(tellError)
      .finally(() => useView.getState().set({ shaping: null }));
  });

  const part = project?.part ?? null;
  const shown = useMemo(() => seen(stations ?? [], view.eyes, part), [stations, view.eyes, part]);
  const crops = useMemo(() => boxesShown(boxes ?? [], part, view.box), [boxes, part, view.box]);
  const { set } = view;
  useEffect(() => set({ cropping: crops.map((b) => b.id).join(" ") || null }), [crops, set]);
  useEffect(() => set({ shown: [...shown] }), [shown, set]);
  const active =
    (boxes ?? [])
      .filter((x) => x.active && x.part === part)
      .map((b) => b.id)
      .join(" ") || "none";
  const last = useRef(active);
  useEffect(() => {
    if (last.current !== active) set({ box: null }); // a box that is switched on or off is looked at
    last.current = active;
  }, [active, set]);
  const scene = useMemo<Scene>(() => {
    const link = network?.links.find((k) => k.id === view.link);
    const infos = stationInfos(
      stations ?? [],
      shown,
      view.stations,
      link,
      part,
      view.colourBy === "group" ? groups : null,
    );
    if (view.step !== "tie" && view.step !== "prove") for (const s of infos) s.sigma = null;
    if (pair && (view.colourBy === "apart" || view.split !== null))
      for (const s of infos) s.visible = pair.includes(s.id) && s.pose !== null;
    if (view.matching) {
      const { a, b, T } = view.matching;
      const first = infos.find((s) => s.id === a)?.pose ?? EYE;
      for (const s of infos) s.visible = s.id === a || s.id === b;
      for (const s of infos) if (s.id === b && T) s.pose = product(first, T);
    }
    if (view.placing) for (const s of infos) s.visible = s.id === view.placing.station || s.id === view.placing.a;
    return {
      stations: infos,
      strings:
        !["tie", "prove", "place"].includes(view.step) || view.placing || view.matching
          ? []
          : strings(network, project, view.link, view.stations),
      notes: noteInfos(notes ?? [], part, view.note),
      dots: view.matching
        ? matchDots(view.matching, infos)
        : view.step === "place" || view.step === "tie" || view.step === "prove" || view.target
          ? [...dots(sightings ?? [], view.target, part), ...advised(advice?.places ?? [])]
          : view.step === "clean"
            ? moved(edits ?? [])
            : [],
      boxes: crops.map((b) => boxInfo(view.shaping?.id === b.id ? view.shaping : b)),
      boxed: view.step === "clean" ? view.boxed : null,
      ghosts: view.step === "clean" ? view.ghosts : "none",
      slots: marking.slots,
      brush: view.brush,
      deep: view.deep,
      colourBy: view.colourBy,
      span: view.spans[view.colourBy] ?? null,
      shading: view.shading,
      stand: view.stand,
      stand2: view.stand2,
      parallel: view.parallel,
      ground: view.ground,
      slab: view.slab,
      tool: view.tool,
      placing: view.placing,
      picks: view.picks,
      shape: view.shape,
      pair: view.colourBy === "apart" ? pair : null,
      models: view.step === "draw" || view.colourBy === "model" ? models.infos : [],
      compared: view.colourBy === "model" ? models.version : null,
      split: view.split !== null && pair ? { of: pair, at: view.split } : null,
      walking: view.walking,
      axes: view.axes,
      under: view.underPlan && view.step === "tie" ? underPlan(id, search, part) : null,
    };
  }, [
    stations,
    shown,
    network,
    project,
    sightings,
    edits,
    advice,
    crops,
    view.shaping,
    view.boxed,
    view.ghosts,
    view.brush,
    view.deep,
    marking.slots,
    notes,
    view.note,
    view.step,
    view.link,
    view.stations,
    view.target,
    view.colourBy,
    view.spans,
    view.shading,
    view.stand,
    view.stand2,
    view.parallel,
    view.ground,
    view.slab,
    view.tool,
    view.placing,
    view.picks,
    view.shape,
    pair,
    models,
    view.split,
    view.walking,
    view.axes,
    view.underPlan,
    search,
    id,
    view.matching,
    groups,
    part,
  ]);
  const azimuth = project ? Math.atan2(-project.T_frame_part[4]!, project.T_frame_part[0]!) : 0; // of E, in the part
  const now = useRef({ scene, shown, azimuth });
  now.current = { scene, shown, azimuth };

  useEffect(() => {
    const element = host.current!;
    const v = useView.getState;
    try {
      const hands: Hands = {
        select: (what) => {
          if (what?.station) v().selectStation(what.station, false);
          else if (what?.note) v().set({ note: what.note, measuring: null });
          else v().set({ link: what?.link ?? null, stations: [], target: null, note: null });
        },
        hover: (at, caught) => v().set({ hover: at, caught }),
        scale: (by, [low, high]) =>
          by === v().colourBy && (v().scale[0] !== low || v().scale[1] !== high) && v().set({ scale: [low, high] }),
        drew: ({ view: matrix, outline, radius, op, only }) => {
          const { front, deep } = v();
          const drawn = { view: matrix, outline };
          void selectBy(
            id,
            radius ? { kind: "brush", ...drawn, radius, front: deep } : { kind: "lasso", ...drawn, front },
            op,
            only === null ? [...now.current.shown] : [only],
          );
        },
        reshaped: (box, done) => {
          v().set({ shaping: box });
          if (done) reshape.current(box);
        },
        pick: (at, station) => {
          if (!at || !station) tell("No point lies there.", "click on a surface, or fly closer");
          else if (v().matching) {
            const pose = now.current.scene.stations.find((s) => s.id === station)?.pose ?? EYE;
            v().match(station, into(inverse(pose), at));
          } else pickAt(id, at, station);
        },
        planPick: (at) => v().onPick?.([...at, v().slab.height], ""),
        placed: (pose) => v().placing && v().set({ placing: { ...v().placing!, pose } }),
        drawn: (drawn) =>
          (drawn.points !== v().drawn.points || drawn.busy !== v().drawn.busy || drawn.failing !== v().drawn.failing) &&
          v().set({ drawn }),
        jump: (kind, station) => v().set({ [kind === "panorama2" ? "stand2" : "stand"]: station }),
        settled: () => {
          const shows = shownNow();
          if (shows) remember(shows);
          if (shows)
            window.history.replaceState(
              null,
              "",
              `${window.location.pathname}${window.location.search}${inAddress(shows)}`,
            );
        },
        split: (at) => v().set({ split: at }),
        sliceAt: (origin) => v().moveSlab({ origin }),
      };
      const begun = takeOver(id);
      begun?.adopt(element, hands);
      bench.current = begun ?? new Bench(element, sourceOf(id), hands, now.current.scene, STILL, QUICK);
    } catch (e) {
      setFailed(e instanceof Error ? e.message : String(e));
      return;
    }
    v().set({
      camera: {
        read: () => bench.current!.cameras(),
        lookAt: (place) => bench.current?.lookAt(place),
        picture: () => bench.current!.picture(),
        show: (cameras, moved) => bench.current?.showCameras(cameras as Cameras, moved),
      },
    });
    const leave = follow(id);
    const asked = askedFor();
    if (asked) setTimeout(() => show(asked), 0); // once the panes have their places
    const observer = new ResizeObserver(() => setSize({ w: element.clientWidth, h: element.clientHeight }));
    observer.observe(element);
    const side = (from: "front" | "side") => bench.current?.look(from, now.current.azimuth);
    const forget = provide([
      {
        id: "view.frame",
        title: "Look at the selection, or at all",
        keys: "f",
        run: () => (v().set({ walking: false }), bench.current?.frame()),
      },
      { id: "view.top", title: "Look from above", keys: "t", run: () => bench.current?.look("top") },
      { id: "view.front", title: "Look from the front, along the coordinates in use", run: () => side("front") },
      { id: "view.side", title: "Look from the side, along the coordinates in use", run: () => side("side") },
    ]);
    return () => {
      forget();
      leave();
      useView.getState().set({ camera: null });
      observer.disconnect();
      bench.current?.dispose();
      bench.current = null;
    };
  }, [id]);

  const places = useMemo(() => (size.w && size.h ? rects(view.panes, size.w, size.h) : []), [view.panes, size]);
  useEffect(() => bench.current?.layout(places), [places]);
  useEffect(() => {
    if (stations) bench.current?.update(scene, UNITS[project?.unit ?? "m"]);
  }, [scene, project?.unit, stations]);

  const framed = useRef(part);
  useEffect(() => {
    if (framed.current !== part && part !== null) {
      if (framed.current !== null) bench.current?.frame(true); // another part has coordinates of its own
      framed.current = part;
    }
  }, [part, scene]);

  const narrow = (places[places.length - 1]?.rect.w ?? 999) < 620; // the scale bar and the readout want the same place
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
      {places.map(({ kind, rect }, k) => (
        <PaneHead
          key={kind}
          kind={kind}
          rect={rect}
          unit={project?.unit ?? "m"}
          frame={project?.T_frame_part ?? EYE}
          first={k === 0}
          last={k === places.length - 1}
          stations={stations ?? []}
        />
      ))}
      {stations?.length === 0 && (
        <p className="pointer-events-none absolute inset-0 grid place-items-center px-10 text-center text-[15px] text-[#f2efe6]">
          Drop the E57 files of the stations here. What is in each file is shown before anything is stored.
        </p>
      )}
      {stations && stations.length > 1 && !tied && !view.placing && !view.matching && view.step !== "bring_in" && (
        <p className="pointer-events-none absolute inset-x-0 top-10 px-3 text-center text-[13px] text-[#f2efe6]">
          <span className="rounded bg-[#12161d]/80 box-decoration-clone px-1.5 py-0.5">
            The stations are not tied yet, so they share no coordinates: one is shown. Choose another in the roster.
          </span>
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
      {view.box !== null && view.box !== active && (
        <p className="absolute top-10 left-3 rounded bg-[#12161d]/85 px-1.5 text-[12px] text-[#f2efe6]">
          {view.box === "none" ? "Shown without a crop box, as the view was kept." : "Cropped as the view was kept."}{" "}
          <button type="button" className="cursor-pointer underline" onClick={() => set({ box: null })}>
            As the project is
          </button>
        </p>
      )}
      <Legend id={id} unit={project?.unit ?? "m"} frame={project?.T_frame_part ?? EYE} high={narrow} />
      <Readout id={id} high={narrow} />
    </section>
  );
}
