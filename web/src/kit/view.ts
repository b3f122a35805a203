/** View state: what is selected, shown and in hand. Never a copy of server state. Reset when another project opens. */
import { create } from "zustand";

export type StepId = "bring_in" | "tie" | "prove" | "place" | "clean" | "colour" | "draw" | "hand_over";
export type Tool = "none" | "lasso" | "rectangle" | "corners" | "brush" | "pick" | "planPick" | "place";
type PaneName = "space" | "plan" | "slice" | "panorama" | "panorama2";

export interface Folded {
  roster: boolean;
  card: boolean;
  ledger: boolean;
}
/** What the hand on a sheet does (see bench/pen), and how the points below look. */
type Draws = "line" | "polyline" | "rectangle" | "circle" | "arc" | "ellipse" | "spline" | "point" | "text" | "hatch";
type Figures = "aligned" | "linear" | "radius" | "angle" | "level" | "leader" | "picture";
type Edits =
  "move" | "copy" | "turn" | "mirror" | "stretch" | "array" | "offset" | "trim" | "extend" | "corner" | "break";
type Pen = Draws | Figures | Edits;
type Cloud = "density" | "colour" | "intensity" | "off";
export type MeasureKind =
  "point" | "distance" | "polyline" | "angle" | "area" | "plane" | "pipe" | "clearance" | "profile" | "box" | "sphere";
export type ColourBy =
  | "station"
  | "intensity"
  | "height"
  | "colour"
  | "range"
  | "inclination"
  | "group"
  | "apart"
  | "expected"
  | "class"
  | "zone"
  | "model";

interface Slab {
  height: number;
  planDepth: number;
  origin: [number, number];
  azimuth: number;
  sliceDepth: number;
  cutPlan: boolean;
  lid: number;
  cutLid: boolean;
}
/** A crop box as a hand is shaping it. */
interface Shaping {
  id: string;
  centre: number[];
  half: number[];
  yaw: number;
  outside: boolean;
  outline: number[][] | null;
}
/** A shape that was fitted round the point under the cursor; metres in the part. */
interface Shape {
  kind: "point" | "plane" | "edge" | "pipe" | "sphere";
  at: number[];
  rms: number;
  spread: number;
  points: number;
  normal: number[] | null;
  axis: number[] | null;
  angle: number | null;
  radius: number | null;
  incidence: number | null;
}
interface Placing {
  a: string;
  station: string;
  pose: number[];
  reach: number; // metres round its lamp within which it is looked for
}
/** Places that are picked in two scans, each in its station's frame; T: where b then stands as seen from a, row by row. */
export interface Matching {
  a: string;
  b: string;
  rows: { a?: number[]; b?: number[] }[];
  T: number[] | null;
}
interface State {
  project: string | null;
  part: string | null; // part of the network that is in view; null: the one that is shown first
  step: StepId;
  stations: string[];
  group: string | null; // the group whose stations are chosen
  link: string | null;
  target: string | null;
  section: string | null;
  traces: string[]; // of the sheet, the last chosen last
  note: string | null;
  model: string | null; // the design model whose card is shown
  about: string | null; // the station whose card is shown
  measuring: MeasureKind | null; // picks are being taken for a measure
  camera: {
    read(): unknown;
    show(cameras: unknown, moved: number[] | null): void;
    /** What the bench shows now, as a PNG. */
    picture(): Promise<Blob>;
    lookAt(place: number[]): void;
  } | null; // of the bench, which knows them
  eyes: Record<string, boolean>; // what somebody switched by hand
  box: string | null; // the crop box of a view that is shown ("none": it had none); null: the one that is on
  cropping: string | null; // the crop box that is drawn
  colourBy: ColourBy;
  spans: Partial<Record<ColourBy, [number, number]>>; // ends of a scale that somebody set, metres of the part
  scale: [number, number]; // the ends that points are coloured by now
  shading: number; // of depth, 0 to 1
  walking: boolean; // the space is walked through at eye height
  underPlan: boolean; // the field sketch is seen under the plan while tying
  advising: boolean; // advice on the network is looked at
  split: number | null; // share of a pane at which two stations are compared side by side
  parallel: boolean; // the space is seen without perspective
  stand2: string | null; // of the second panorama
  stand: string | null; // the station that a panorama looks round from; null: one that is selected
  ground: "ink" | "mid" | "paper";
  panes: PaneName[];
  tool: Tool;
  picks: number[][];
  onPick: ((at: number[], station: string) => void) | null;
  placing: Placing | null;
  picking: boolean; // natural points are picked as targets
  knowing: "tape" | "plumb" | null; // what is known beside the scans is being given
  axes: number[] | null; // a grid as it would lie, see Scene
  mode: "rigid" | "level" | "scaled" | "network" | null; // how control is solved; null: as the part is placed now
  matching: Matching | null;
  hover: number[] | null;
  caught: { station: string; range: number } | null; // the point under the cursor
  shape: Shape | null; // the surface that it lies on
  catching: "point" | "shape"; // what a pick takes
  choosing: boolean; // a selection is being looked for
  front: number | null; // what an outline takes: only things in front, this deep; null: all through
  brush: number; // pixels to each side of a brush
  deep: number; // metres that a brush goes into what is in front
  ghosts: "none" | "ghosts" | "alone"; // how deleted points are seen, and which are selected then
  shown: string[]; // stations whose points are seen
  boxed: string | null; // the crop box that is worked on
  shaping: Shaping | null; // as a hand is shaping it
  pen: Pen | null; // of the sheet
  pinned: { id: string; tall: number } | null; // the picture that it pins, and how high that is of its width
  paper: string | null; // the sheet that is looked at
  layer: string;
  sheet: Cloud;
  slab: Slab;
  drawn: { points: number; busy: boolean; failing: number };
  ledger: string;
  folded: Folded; // parts of the page that make room for the bench
  palette: boolean;
  keys: boolean;
}
interface Actions {
  set: (part: Partial<State>) => void;
  open: (project: string | null) => void;
  go: (step: StepId) => void;
  selectStation: (id: string, more: boolean) => void;
  moveSlab: (part: Partial<Slab>) => void;
  letGo: () => void;
  match: (station: string, at: number[]) => void;
}

const remembered = <T extends string>(key: string, otherwise: T): T =>
  (globalThis.localStorage?.getItem(`lantern.${key}`) as T | null | undefined) ?? otherwise;

const FRESH = {
  part: null,
  stations: [],
  group: null,
  link: null,
  target: null,
  section: null,
  traces: [],
  note: null,
  model: null,
  about: null,
  measuring: null,
  eyes: {},
  box: null,
  cropping: null,
  tool: "none" as Tool,
  picks: [],
  onPick: null,
  placing: null,
  picking: false,
  knowing: null,
  axes: null,
  mode: null,
  matching: null,
  hover: null,
  caught: null,
  shape: null,
  stand: null,
  stand2: null,
  parallel: false,
  walking: false,
  underPlan: true,
  advising: false,
  split: null,
  spans: {},
  choosing: false,
  front: null,
  brush: 18,
  deep: 0.5,
  ghosts: "none" as const,
  shown: [],
  boxed: null,
  shaping: null,
  pen: null,
  pinned: null,
  paper: null,
  layer: "wall",
  sheet: "density" as Cloud,
  slab: {
    height: -0.5,
    planDepth: 0.4,
    origin: [0, 0] as [number, number],
    azimuth: 0,
    sliceDepth: 0.2,
    cutPlan: true,
    lid: 0.6,
    cutLid: true,
  },
};

/** Nothing is in hand. */
const DOWN = {
  tool: "none" as Tool,
  picks: [],
  onPick: null,
  placing: null,
  picking: false,
  knowing: null,
  axes: null,
  matching: null,
  shaping: null,
  pen: null,
  pinned: null,
  measuring: null,
};

const PANES: Record<StepId, PaneName[]> = {
  bring_in: ["space"],
  tie: ["plan"],
  prove: ["plan", "slice"],
  place: ["space", "plan"],
  clean: ["space", "plan"],
  colour: ["space"],
  draw: ["plan"],
  hand_over: ["space"],
};

/** What stood behind the path when the page was opened; steps write the address anew. */
export const openedWith = { hash: globalThis.location?.hash ?? "" };

/** Let two places be picked in plan, then go on with them; the tool stays in hand until whoever asked lets go of it. */
export const pickTwo = (done: (from: number[], to: number[]) => void) => pickSome(2, ([from, to]) => done(from!, to!));

/** So many places in plan, one after the other. */
export function pickSome(count: number, done: (picks: number[][]) => void) {
  useView.getState().set({
    tool: "planPick",
    panes: ["plan"],
    picks: [],
    onPick: (at) => {
      const picks = [...useView.getState().picks, at];
      useView.getState().set({ picks });
      if (picks.length === count) done(picks);
    },
  });
}

/** Let any number of places be picked in plan; whoever asked reads them from ``picks`` and lets go of the tool. */
export function pickMany() {
  const { set } = useView.getState();
  set({
    tool: "planPick",
    panes: ["plan"],
    picks: [],
    onPick: (at) => set({ picks: [...useView.getState().picks, at] }),
  });
}

export const isStep = (step: string): step is StepId => step in PANES;

export const useView = create<State & Actions>((set, get) => ({
  project: null,
  step: "bring_in",
  ...FRESH,
  colourBy: remembered("colourBy", "station"),
  ground: remembered("ground", "ink"),
  scale: [0, 1],
  catching: "point",
  camera: null,
  folded: JSON.parse(remembered("folded", '{"roster":false,"card":false,"ledger":false}')) as Folded,
  shading: Number(remembered("shading", "0.5")),
  panes: ["space"],
  drawn: { points: 0, busy: false, failing: 0 },
  ledger: "",
  palette: false,
  keys: false,
  set: (part) => {
    if (part.colourBy) localStorage.setItem("lantern.colourBy", part.colourBy);
    if (part.shading !== undefined) localStorage.setItem("lantern.shading", String(part.shading));
    if (part.folded) localStorage.setItem("lantern.folded", JSON.stringify(part.folded));
    const { project } = get();
    if (part.spans && project) localStorage.setItem(`lantern.spans.${project}`, JSON.stringify(part.spans));
    if (part.ground) localStorage.setItem("lantern.ground", part.ground);
    set(part);
  },
  open: (project) =>
    set({
      project,
      ...FRESH,
      spans: JSON.parse(remembered(`spans.${project}`, "{}")) as State["spans"],
      step: "bring_in",
      panes: PANES.bring_in,
      ledger: "",
    }),
  go: (step) => {
    set({
      step,
      panes: PANES[step],
      ...DOWN,
      traces: [],
      note: null,
      about: null,
      ledger: "",
      section: step === "draw" ? get().section : null,
    });
    const { project } = get();
    if (project) window.history.replaceState(null, "", `/p/${project}/${step}`);
  },
  selectStation: (id, more) => {
    const { stations } = get();
    const alone = !more && !(stations.length === 1 && stations[0] === id);
    set({
      stations: more ? (stations.includes(id) ? stations.filter((s) => s !== id) : [...stations, id]) : [id],
      group: null,
      link: null,
      note: null,
      about: alone ? id : more ? null : get().about,
    });
  },
  moveSlab: (part) => set({ slab: { ...get().slab, ...part } }),
  letGo: () => set(DOWN),
  match: (station, at) => {
    const m = get().matching;
    const key = station === m?.a ? "a" : station === m?.b ? "b" : null;
    if (!m || !key) return;
    const open = m.rows.findIndex((r) => !r[key]);
    const rows = open < 0 ? [...m.rows, { [key]: at }] : m.rows.map((r, k) => (k === open ? { ...r, [key]: at } : r));
    set({ matching: { ...m, rows } });
  },
}));
