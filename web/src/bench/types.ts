/** What the bench is told: plain values, no server and no framework. */
import type { Ground } from "./palette";

export interface TileInfo {
  station: string;
  level: number;
  first: number;
  count: number;
  low: number[];
  high: number[];
  spacing: number;
}
/** A tile's name: its station and its first point. */
export const nameOf = (t: { station: string; first: number }) => `${t.station}/${t.first}`;
export interface StationInfo {
  id: string;
  name: string;
  hue: number;
  pose: number[] | null; // T_project_station, row by row
  sigma: number[] | null; // mm
  expected: number[] | null; // 16 numbers, mm2: the expected square of a point's error, [p, 1] Q [p, 1], p in its own frame
  visible: boolean;
  selected: boolean;
  points: number;
  layers: number; // revision of intensity and colour
  low: number[]; // of its points, in its own frame
  high: number[];
  root: { count: number; spacing: number }; // its first tile
}
export interface StringInfo {
  id: string;
  a: string;
  b: string;
  status: "taut" | "slack" | "parted" | "loose";
  sag: number; // share of the length
  selected: boolean;
}
export interface DotInfo {
  at: number[];
  label: string;
  selected: boolean;
  only?: string; // seen in panoramas of this station alone
}
export interface BoxInfo {
  id: string;
  centre: number[];
  half: number[];
  yaw: number;
  outside: boolean; // what lies within is taken away
  outline: number[][] | null; // of a prism: its corners in plan
}
/** How deleted points are seen. */
export type Ghosts = "none" | "ghosts" | "alone";
export type PaneKind = "space" | "plan" | "slice" | "panorama" | "panorama2";
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
export type Tool = "none" | "lasso" | "rectangle" | "corners" | "brush" | "pick" | "planPick" | "place";
export type Op = "replace" | "add" | "subtract" | "intersect";
export interface Rect {
  x: number;
  y: number;
  w: number;
  h: number;
}
export interface Slab {
  height: number; // plan: middle of the slab, project z
  planDepth: number;
  origin: [number, number]; // slice: a point of its plane in plan
  azimuth: number; // direction the slice runs along, radians
  sliceDepth: number;
  cutPlan: boolean; // plan shows only its slab
  lid: number; // space hides what lies above this height, project z
  cutLid: boolean;
}
/** A measure that is kept. */
export interface NoteInfo {
  id: string;
  points: number[][];
  closed: boolean;
  label: string;
  selected: boolean;
}
export interface Scene {
  notes: NoteInfo[];
  stations: StationInfo[];
  strings: StringInfo[];
  dots: DotInfo[];
  boxes: BoxInfo[]; // that crop what is seen
  boxed: string | null; // the one that is worked on: it has handles
  ghosts: Ghosts;
  slots: Uint8Array; // of the palette, by class or zone (256)
  brush: number; // pixels to each side
  deep: number; // metres that it goes into what is in front
  colourBy: ColourBy;
  span: [number, number] | null; // values at the ends of the scale; null: as the points in view have them
  shading: number; // 0 to 1
  stand: string | null; // the station that a panorama looks round from
  stand2: string | null; // and the second one
  parallel: boolean; // the space is seen without perspective
  ground: Ground;
  slab: Slab;
  tool: Tool;
  placing: { station: string; pose: number[]; reach: number } | null; // metres round its lamp that it is looked for
  picks: number[][];
  split: { of: [string, string]; at: number } | null; // left of this share of each pane only the one, right only the other
  walking: boolean; // the space is walked through at eye height
  models: ModelInfo[]; // design models that are shown
  compared: string | null; // what distances from models hang on, while they colour the points
  pair: [string, string] | null; // two stations whose distance from each other colours their points
  shape: ShapeInfo | null; // under the cursor
  under: UnderInfo | null; // in plan
  axes: number[] | null; // T_grid_part of a grid as it would lie (16), then the place in the part that it is drawn from (3)
}
/** The edges of a design model: places two by two, and the 16 numbers that put them into the part. */
export interface ModelInfo {
  id: string;
  edges: Float32Array;
  T: number[];
  selected: boolean;
}
/** A field sketch in the plan. T: (2, 3) row by row, from its pixels (x to the right, y down) to metres of the part. */
export interface UnderInfo {
  url: string;
  wide: number; // its pixels
  T: number[];
}
/** A surface that was fitted where the cursor is; metres in the part. */
export interface ShapeInfo {
  kind: "point" | "plane" | "edge" | "pipe" | "sphere";
  at: number[];
  normal: number[] | null;
  axis: number[] | null;
  radius: number | null;
}

/** What the bench tells of what a hand did and of what is drawn. */
export interface Hands {
  select(what: { station?: string; link?: string; note?: string } | null): void;
  /** Where the cursor is, and what it has caught there. */
  hover(at: number[] | null, caught: { station: string; range: number } | null): void;
  /** Points were drawn round, or over with a brush of this radius; only: the station whose pane it was. */
  drew(what: {
    view: number[];
    outline: number[][];
    radius: [number, number] | null;
    op: Op;
    only: string | null;
  }): void;
  /** A handle of the box that is worked on was moved; done: the hand let go of it. */
  reshaped(box: BoxInfo, done: boolean): void;
  /** The nearest point in front under a click, or null when none is there. */
  pick(at: number[] | null, station: string | null): void;
  planPick(at: [number, number]): void;
  /** Stand at another station in a panorama. */
  jump(kind: PaneKind, station: string): void;
  /** The view has come to rest. */
  settled(): void;
  placed(pose: number[]): void;
  drawn(state: { points: number; busy: boolean; failing: number }): void;
  sliceAt(at: [number, number]): void;
  /** The line between two compared stations was moved to this share of its pane. */
  split(at: number): void;
  /** The ends of the scale that points are coloured by. */
  scale(by: ColourBy, span: [number, number]): void;
}

/** Where the panes of a bench look: plain values, kept in views and addresses. Lengths in metres of the part in view. */
export interface Cameras {
  space?: { middle: number[]; yaw: number; pitch: number; distance: number };
  plan?: { middle: number[]; scale: number };
  slice?: { middle: number[]; scale: number };
  panorama?: { yaw: number; pitch: number; wide: number };
}

/** Whether two scenes show the same points: what stands over them may differ. */
export function onlyMarksDiffer(a: Scene, b: Scene): boolean {
  const points = (s: Scene) =>
    JSON.stringify([
      [
        s.boxes,
        s.ghosts,
        [...s.slots],
        s.pair,
        s.compared,
        s.split,
        s.walking,
        s.colourBy,
        s.span,
        s.shading,
        s.stand,
        s.stand2,
        s.parallel,
        s.ground,
        s.slab,
        s.placing,
      ],
      s.stations.map((x) => [x.id, x.hue, x.pose, x.visible, x.layers, !s.stand && x.selected]),
    ]);
  return points(a) === points(b);
}
