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
  visible: boolean;
  selected: boolean;
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
}
export interface BoxInfo {
  centre: number[];
  half: number[];
  yaw: number;
}
export type PaneKind = "space" | "plan" | "slice";
export type ColourBy = "station" | "intensity" | "height" | "colour";
export type Tool = "none" | "lasso" | "pick" | "planPick" | "place";
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
export interface Scene {
  stations: StationInfo[];
  tiles: TileInfo[];
  strings: StringInfo[];
  dots: DotInfo[];
  box: BoxInfo | null;
  colourBy: ColourBy;
  ground: Ground;
  slab: Slab;
  tool: Tool;
  placing: { station: string; pose: number[] } | null;
  picks: number[][];
}
