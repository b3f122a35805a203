/** The edges of design models, over the points of any pane. */
import { beyond, FlatPane, type Pane } from "./pane";
import type { Scene } from "./types";

const MOST = 20_000; // edges of a model that are drawn in a pane, the longest

export function drawModels(g: CanvasRenderingContext2D, pane: Pane, scene: Scene) {
  const away = cutOff(pane, scene);
  for (const m of scene.models) {
    const { T, edges } = m;
    g.strokeStyle = m.selected ? "#e8a700" : scene.ground === "paper" ? "#7a3e9d" : "#c79be0";
    g.lineWidth = 1;
    g.globalAlpha = scene.compared !== null ? 0.25 : pane instanceof FlatPane ? 0.55 : 0.85; // the points are what counts then
    g.beginPath();
    const n = Math.min(edges.length, 6 * MOST);
    for (let i = 0; i < n; i += 6) {
      const [a, b] = [placed(T, edges, i), placed(T, edges, i + 3)];
      const [gone, far] = [away(a), away(b)];
      if (gone && far) continue;
      if (gone !== far) clip(gone ? a : b, gone ? b : a, away);
      const [p, q] = [pane.pixel(...a), pane.pixel(...b)];
      if (!p || !q) continue;
      g.moveTo(...p);
      g.lineTo(...q);
    }
    g.stroke();
    g.globalAlpha = 1;
  }
}

function placed(T: number[], e: Float32Array, i: number): Place {
  const [x, y, z] = [e[i]!, e[i + 1]!, e[i + 2]!];
  return [
    T[0]! * x + T[1]! * y + T[2]! * z + T[3]!,
    T[4]! * x + T[5]! * y + T[6]! * z + T[7]!,
    T[8]! * x + T[9]! * y + T[10]! * z + T[11]!,
  ];
}

type Place = [number, number, number];
/** Move the end that is cut off to where the line leaves what is seen. */
function clip(end: Place, kept: Place, away: (at: Place) => boolean) {
  const from = [...kept] as Place;
  const half = [...end] as Place;
  for (let n = 0; n < 16; n++) {
    const middle = from.map((v, k) => (v + half[k]!) / 2) as Place;
    const side = away(middle) ? half : from;
    middle.forEach((v, k) => (side[k] = v));
  }
  from.forEach((v, k) => (end[k] = v));
}

/** Whether a place lies outside of what a pane cuts out. In plan and slice all is seen, for what lies above and below says where it stands. */
function cutOff(pane: Pane, scene: Scene): (at: Place) => boolean {
  const cut = pane instanceof FlatPane ? null : pane.cut(scene.slab);
  return (at) => cut !== null && beyond(cut, ...at);
}
