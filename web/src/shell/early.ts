/** The first points of a project, drawn before the rest of the program has arrived; the page then goes on with them. */
import { bytes, type Station } from "../api/client";
import { Bench } from "../bench/bench";
import type { Hands } from "../bench/types";
import { isStep, useView } from "../kit/view";
import { QUICK, rects, seen, stationInfos, sourceOf, STILL } from "./scene";

interface Begun {
  project: string;
  host: HTMLElement;
  bench: Bench;
}
let begun: Begun | null = null;
/** What was read for the first points, for the page to begin with. */
export const known: { project: string; stations?: Station[] } = { project: "" };
const PATIENCE = 1500; // ms after which the page no longer waits for points
const FIRST = 200_000; // points, that leave a machine without a graphics card time to bring the page
const idle = () => undefined;

/** The bench that was begun for a project, once; its own place in the page goes. */
export function takeOver(project: string): Bench | null {
  const own = begun?.project === project ? begun : null;
  if (!own) return null;
  begun = null;
  queueMicrotask(() => own.host.remove());
  return own.bench;
}

const read = async <T>(url: string) => JSON.parse(new TextDecoder().decode(await bytes(url))) as T;

/** Draw the first points of a project's page. Resolves when they are there, or when there is nothing to wait for. */
export async function begin(project: string, step: string): Promise<void> {
  const view = useView.getState();
  view.open(project);
  if (isStep(step)) view.go(step);
  if (step === "draw") return;
  const stations = await read<Station[]>(`/api/projects/${project}/stations`);
  Object.assign(known, { project, stations });
  if (!stations.some((s) => s.points > 0)) return;
  const host = document.createElement("div");
  host.setAttribute("aria-label", "Bench");
  host.setAttribute("role", "img");
  host.style.cssText = "position:fixed;left:248px;top:58px;right:320px;bottom:calc(30% - 17px);background:#12161d";
  document.body.append(host);
  await new Promise<void>((done) => {
    setTimeout(done, PATIENCE);
    const hands: Hands = {
      ...{
        select: idle,
        hover: idle,
        drew: idle,
        reshaped: idle,
        pick: idle,
        planPick: idle,
        placed: idle,
        sliceAt: idle,
        settled: idle,
        jump: idle,
        split: idle,
        scale: idle,
      },
      drawn: ({ points }) => {
        host.dataset["drawn"] = String(points);
        if (points > 0) requestAnimationFrame(() => done());
      },
    };
    const { panes, colourBy, ground, slab, shading } = useView.getState();
    const scene = {
      ...{ stations: stationInfos(stations, seen(stations, {}), [], undefined), colourBy, ground, slab },
      ...{
        notes: [],
        strings: [],
        dots: [],
        boxes: [],
        boxed: null,
        ghosts: "none" as const,
        slots: new Uint8Array(256),
        brush: 0,
        deep: 0,
        tool: "none" as const,
        placing: null,
        picks: [],
      },
      ...{
        span: null,
        shading,
        stand: null,
        stand2: null,
        parallel: false,
        axes: null,
        shape: null,
        pair: null,
        models: [],
        compared: null,
        split: null,
        under: null,
        walking: false,
      },
    };
    try {
      const bench = new Bench(host, sourceOf(project), hands, scene, STILL, QUICK);
      bench.first = FIRST;
      begun = { project, host, bench };
      bench.update(scene, { name: "m", metre: 1 });
      bench.layout(rects(panes, host.clientWidth, host.clientHeight));
    } catch {
      host.remove(); // the page itself says what is wrong with drawing here
      done();
    }
  });
}
