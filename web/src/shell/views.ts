/** Saved views and the view in the page's address: cameras, cut, colours, open eyes. */
import type { Cameras } from "../bench/types";
import { http, sent, type SavedView } from "../api/client";
import { tell } from "../api/queries";
import { heightIn, into } from "../kit/units";
import { openedWith, useView } from "../kit/view";

/** What a view holds; lengths in metres of the part it was kept in. */
export interface Shows {
  cameras: Cameras;
  panes: ReturnType<typeof useView.getState>["panes"];
  slab: ReturnType<typeof useView.getState>["slab"];
  colourBy: ReturnType<typeof useView.getState>["colourBy"];
  spans: ReturnType<typeof useView.getState>["spans"];
  ground: ReturnType<typeof useView.getState>["ground"];
  eyes: Record<string, boolean>;
  stand: string | null;
  stand2: string | null;
  parallel: boolean;
  walking: boolean;
  part: string | null;
  stations: string[]; // selected
  link: string; // selected; "none"
  box: string; // that crops what is shown; "none"
}

export function shownNow(): Shows | null {
  const v = useView.getState();
  const { camera, panes, slab, colourBy, spans, ground, eyes, stand, stand2, parallel, walking, part, stations } = v;
  if (!camera) return null;
  const chosen = { stations, link: v.link ?? "none", box: v.cropping ?? "none" };
  return {
    ...{
      cameras: camera.read() as Cameras,
      panes,
      slab,
      colourBy,
      spans,
      ground,
      eyes,
      stand,
      stand2,
      parallel,
      walking,
      part,
    },
    ...chosen,
  };
}

/** Show what a view holds; T_part_base brings its coordinates to those of the part now. */
export function show(shows: Partial<Shows>, T_part_base: number[] | null = null) {
  const { cameras, link, box, ...rest } = shows;
  if (T_part_base && rest.slab) rest.slab = moved(rest.slab, T_part_base);
  const chosen = link === undefined ? {} : { link: link === "none" ? null : link };
  useView.getState().set({ ...rest, ...chosen, ...(box === undefined ? {} : { box }) });
  if (cameras) requestAnimationFrame(() => useView.getState().camera?.show(cameras, T_part_base));
}

/** A cut in the coordinates that T leads to; level ones stay level. */
function moved(slab: Shows["slab"], T: number[]): Shows["slab"] {
  const [x, y] = into(T, [...slab.origin, slab.height]);
  const turn = Math.atan2(T[4]!, T[0]!);
  const [height, lid] = [heightIn(T, slab.height), heightIn(T, slab.lid)];
  return { ...slab, origin: [x, y], azimuth: slab.azimuth + turn, height, lid };
}

const LONGEST = 50; // views that one can go back through
let past: Shows[] = [];
let at = -1;
let of: string | null = null; // the project they are of

/** The view has come to rest: one can come back to it. */
export function remember(shows: Shows) {
  const { project } = useView.getState();
  if (project !== of) [past, at] = [[], -1];
  of = project;
  past = [...past.slice(0, at + 1), shows].slice(-LONGEST);
  at = past.length - 1;
}

/** Go back (-1) or forward (1) through the views that were looked at. */
export function go(way: -1 | 1) {
  const to = of === useView.getState().project ? past[at + way] : undefined;
  if (!to) return tell(way < 0 ? "There is no view before this one." : "There is no view after this one.");
  at += way;
  show(to);
}

export const showSaved = (v: SavedView) => show({ ...(v.shows as Partial<Shows>), part: v.part }, v.T_part_base);

export async function keepView(project: string, name: string) {
  const shows = shownNow();
  if (shows)
    await sent(
      http.POST("/api/projects/{project_id}/views", {
        params: { path: { project_id: project } },
        body: { name, shows: shows, part: shows.part },
      }),
    );
}

const round = (_: string, v: unknown) => (typeof v === "number" ? Number(v.toPrecision(7)) : v);

/** The view as it stands in an address, so that a link shows the same. */
export const inAddress = (shows: Shows) => `#v=${encodeURIComponent(JSON.stringify(shows, round))}`;

/** What the address asked for that the page was opened with, once. */
export function askedFor(): Partial<Shows> | null {
  const asked = fromAddress(openedWith.hash);
  openedWith.hash = "";
  return asked;
}

/** What an address asks for; null when it asks for nothing that can be read. */
export function fromAddress(hash: string): Partial<Shows> | null {
  const found = /^#v=(.+)$/.exec(hash);
  try {
    const shows = found && (JSON.parse(decodeURIComponent(found[1]!)) as Partial<Shows>);
    return shows && typeof shows === "object" ? shows : null;
  } catch {
    return null;
  }
}
