/** What the cursor has caught: the server fits the surface there, once the cursor rests. */
import { http, type Schemas, sent } from "../api/client";
import { tellError } from "../api/queries";
import { lengthIn, type Unit } from "../kit/units";
import { useView } from "../kit/view";

export type Shape = Schemas["CatchOut"];
const REST = 180; // ms that the cursor rests before the server is asked

const fit = (project: string, at: number[], station: string, signal?: AbortSignal) =>
  sent(
    http.POST("/api/projects/{project_id}/catch", {
      params: { path: { project_id: project } },
      body: { at, station },
      signal,
    }),
  );

/** Follow the cursor and keep in view state what lies under it. Returns how to stop. */
export function follow(project: string): () => void {
  let timer: ReturnType<typeof setTimeout> | undefined;
  let control = new AbortController();
  const stop = () => {
    clearTimeout(timer);
    control.abort();
    control = new AbortController();
  };
  const forget = useView.subscribe((v, before) => {
    if (v.caught === before.caught && v.hover === before.hover) return;
    stop();
    if (v.shape) v.set({ shape: null });
    const { caught, hover } = v;
    if (!caught || !hover || v.matching) return; // what is being matched has no place yet
    const { signal } = control;
    timer = setTimeout(() => {
      fit(project, hover, caught.station, signal)
        .then((shape) => !signal.aborted && useView.getState().set({ shape }))
        .catch(() => undefined); // the cursor says what it knows without it
    }, REST);
  });
  return () => (forget(), stop());
}

/** Give a pick to who waits for it: the point, or the place of the shape that it lies on. */
export function pickAt(project: string, at: number[], station: string) {
  const { catching, onPick } = useView.getState();
  if (catching === "point") return onPick?.(at, station);
  fit(project, at, station)
    .then((shape) => onPick === useView.getState().onPick && onPick?.(shape.at, station))
    .catch(tellError);
}

const mm = (v: number) => (1000 * v).toFixed(1);

/** A shape in words. */
export function wordsOf(s: Shape, unit: Unit): string {
  const size = s.radius === null ? "" : `${lengthIn(2 * s.radius, unit)} ${unit} wide, its middle ±${mm(s.spread)} mm`;
  if (s.kind === "plane") return `plane, RMS ${mm(s.rms)} mm, ray at ${(s.incidence ?? 0).toFixed(0)}° to its normal`;
  if (s.kind === "edge") return `edge between planes, ${(s.angle ?? 0).toFixed(1)}° open, ±${mm(s.spread)} mm`;
  if (s.kind === "point") return "no plane, edge, pipe or sphere here";
  return `${s.kind} ${size}`;
}
