/** The sheet: a section's slab at true scale with the traces over it, and the drawing hand. */
import { useEffect, useMemo, useRef, useState } from "react";
import { DRAWS, EDITS, ON_PICK, Pen, type Act, type P, type Tool } from "../../bench/pen";
import { Sheet, type Cloud } from "../../bench/sheet";
import { http, sent, type Schemas } from "../../api/client";
import {
  cache,
  tell,
  tellError,
  tellUndoable,
  useDesign,
  useLayers,
  useLine,
  useModels,
  useProject,
  useSections,
  useSlab,
} from "../../api/queries";
import { Button } from "../../kit";
import { provide } from "../../kit/commands";
import { into, inverse, lengthIn, UNITS } from "../../kit/units";
import { useView } from "../../kit/view";

const KEYS: Partial<Record<Tool, string>> = {
  line: "d",
  polyline: "p",
  rectangle: "r",
  circle: "c",
  arc: "v",
  text: "x",
  aligned: "w",
  trim: "i",
  extend: "e",
  corner: "n",
  offset: "z",
  move: "m",
};
export const keyOf = (tool: Tool) => KEYS[tool]?.toUpperCase() ?? "";
const TITLES: Record<Tool, string> = { ...DRAWS, ...EDITS };

/**
 * Read again what is drawn. Where the server's events reach the page they say so themselves, and once is enough for thousands of lines; what
 * they have not brought soon is asked for all the same.
 */
function drawnAnew(id: string) {
  const now = Date.now();
  const ask = () => {
    for (const key of ["sections", "project", "layers"]) void cache.invalidateQueries({ queryKey: [id, key] });
  };
  if (!useLine.getState().open) return ask();
  setTimeout(() => {
    const state = cache.getQueryState([id, "sections"]);
    if (state && state.fetchStatus === "idle" && state.dataUpdatedAt < now) ask();
  }, 700);
}

/** Keep what the pen has made, and show it as soon as the server has it. */
async function keep(id: string, section: string, act: Act) {
  const own = { project_id: id };
  const { layer, traces } = useView.getState();
  try {
    if ("draw" in act) {
      const path = { ...own, section_id: section };
      const body: Schemas["TraceIn"] = { ...act.draw, layer };
      await sent(http.POST("/api/projects/{project_id}/sections/{section_id}/traces", { params: { path }, body }));
    } else {
      const ids = act.edit.ids ?? traces;
      if (!ids.length) return tell("Choose what is to be changed first.", "click it, with Shift for more", false);
      await sent(
        http.POST("/api/projects/{project_id}/traces/edit", { params: { path: own }, body: { ...act.edit, ids } }),
      );
    }
  } catch (error) {
    tellError(error);
  }
  drawnAnew(id);
}

export async function removeTraces(id: string, ids: string[]) {
  if (!ids.length) return;
  try {
    await sent(
      http.POST("/api/projects/{project_id}/traces/remove", { params: { path: { project_id: id } }, body: { ids } }),
    );
    useView.getState().set({ traces: [] });
  } catch (error) {
    tellError(error);
  }
  drawnAnew(id);
}

/** Where a place of a section stands in the part. foot: of an unrolled wall, metres along, x and y of each corner of its line. */
function inSpace(at: P, back: number[], foot: number[][]): [number, number, number] {
  if (!foot.length) return into(back, [...at, 0]);
  const next = Math.max(
    1,
    foot.findIndex(([along]) => along! >= Math.min(at[0], foot.at(-1)![0]!)),
  );
  const [s0, x0, y0] = foot[next - 1] as [number, number, number];
  const [s1, x1, y1] = foot[next] as [number, number, number];
  const t = Math.min(1, Math.max(0, (at[0] - s0) / (s1 - s0)));
  return [x0 + t * (x1 - x0), y0 + t * (y1 - y0), into(back, [0, 0, at[1]])[2]];
}

export function SheetPane({ id }: { id: string }) {
  const host = useRef<HTMLDivElement>(null);
  const sheet = useRef<Sheet | null>(null);
  const pen = useRef<Pen | null>(null);
  const [, again] = useState(0);
  const { section: chosen, traces, pen: tool, layer, sheet: cloud, set, hover } = useView();
  const project = useProject(id).data;
  const unit = project?.unit ?? "m";
  const section = useSections(id).data?.find((s) => s.id === chosen);
  const layers = useLayers(id).data;
  const cut = Object.entries(section?.params ?? {}).filter(([k]) => k !== "window");
  const slab = useSlab(id, chosen, section ? JSON.stringify(cut) : "");
  const models = (useModels(id).data ?? []).filter((m) => m.shown && m.part === section?.part);
  const standing = models.map((m) => `${m.id}${m.T_part_edges.join()}`).join("/");
  const design = useDesign(id, chosen, section && standing ? `${section.version}/${standing}` : "").data;
  useEffect(() => sheet.current?.setDesign(design ?? []), [design]);
  const back = useMemo(() => (section ? inverse(section.T_section_part) : null), [section]);
  const now = useRef({ id, chosen, back, section });
  now.current = { id, chosen, back, section };

  useEffect(() => {
    const refresh = () => {
      const [s, p] = [sheet.current, pen.current];
      if (!s) return;
      s.pen = p && {
        from: p.last,
        preview: (at) => p.preview(at),
        words: (by) => [p.typed, by].filter(Boolean).join("  "),
      };
      s.draw(false);
      again((k) => k + 1);
    };
    const made = (act: Act | null) => {
      refresh();
      if (act) void keep(now.current.id, now.current.chosen!, act);
    };
    const s = new Sheet(host.current!, {
      pick: (at, under, more) => {
        if (pen.current) return made(pen.current.pick(at, under));
        const held = useView.getState().traces;
        if (!more) return set({ traces: under ? [under] : [] });
        if (under) set({ traces: held.includes(under) ? held.filter((t) => t !== under) : [...held, under] });
      },
      end: () => made(pen.current?.enter(s.here?.at ?? [0, 0]) ?? null),
      pull: (cut, a, b) => void pull(cut, a, b),
      picture: (own) => `/api/projects/${now.current.id}/pictures/${own}/file`,
      hover: (caught) => {
        const { back: to, section: own } = now.current;
        set({ hover: caught && to ? inSpace(caught.at, to, own?.foot ?? []) : null });
      },
    });
    sheet.current = s;
    const pull = async (cut: string, a: P, b: P) => {
      const { id: project, section: own } = now.current;
      const mark = own?.marks.cuts.find((m) => m.id === cut);
      if (!own || !mark) return;
      try {
        await sent(
          http.PUT("/api/projects/{project_id}/sections/{section_id}/marks/{cut_id}", {
            params: { path: { project_id: project, section_id: own.id, cut_id: cut } },
            body: { version: mark.version, a, b },
          }),
        );
        void tellUndoable(project, `${mark.name} is moved; what was found in it is out of date.`);
      } catch (error) {
        tellError(error);
      }
      void cache.invalidateQueries({ queryKey: [project] });
    };
    const take = (e: KeyboardEvent) => {
      const p = pen.current;
      const typing = /^(INPUT|TEXTAREA|SELECT)$/.test((e.target as HTMLElement).tagName);
      if (typing || e.ctrlKey || e.metaKey || document.querySelector('[role="dialog"][data-state="open"]')) return;
      const wanted = (Object.keys(KEYS) as Tool[]).find((t) => KEYS[t] === e.key.toLowerCase());
      if (wanted && !(p && (p.picks.length || p.typed))) {
        // on the sheet its own keys come first
        e.preventDefault();
        e.stopPropagation();
        return set({ pen: p?.tool === wanted ? null : wanted });
      }
      if (!p) {
        if (e.key === "Escape" && s.release()) e.stopPropagation();
        return;
      }
      const here: P = s.here?.at ?? p.last ?? [0, 0];
      let taken = true;
      if (e.key === "Enter") made(p.enter(here));
      else if (e.key === "Escape") {
        if (!p.back()) set({ pen: null });
      } else if (e.key.toLowerCase() === "c" && p.tool === "polyline" && p.picks.length > 2) made(p.close());
      else taken = p.key(e.key);
      if (!taken) return;
      e.preventDefault();
      e.stopPropagation();
      refresh();
    };
    window.addEventListener("keydown", take, true);
    const tools = (Object.keys(TITLES) as Tool[])
      .map((t) => ({
        id: `sheet.${t}`,
        title: `On the sheet: ${TITLES[t]}`,
        keys: KEYS[t],
        run: () => set({ pen: useView.getState().pen === t ? null : t }),
      }))
      .filter((t) => t.id !== "sheet.picture"); // which needs a file first
    const windowed = async (window: number[]) => {
      const { id: project, section: own } = now.current;
      if (!own) return;
      try {
        await sent(
          http.PATCH("/api/projects/{project_id}/sections/{section_id}", {
            params: { path: { project_id: project, section_id: own.id } },
            body: { version: own.version, window },
          }),
        );
        tell(`Sheets show this much of ${own.name}.`);
      } catch (error) {
        tellError(error);
      }
      void cache.invalidateQueries({ queryKey: [project] });
    };
    const forget = provide([
      { id: "sheet.frame", title: "Show the whole section", keys: "f", run: () => s.frame() },
      ...tools,
      { id: "sheet.window", title: "Sheets show what is seen here", run: () => void windowed(s.window()) },
      {
        id: "sheet.remove",
        title: "Remove the chosen lines",
        keys: "Delete",
        run: () => void removeTraces(now.current.id, useView.getState().traces),
      },
    ]);
    const off = useView.subscribe((v, before) => {
      if (v.pen === before.pen) return;
      pen.current = v.pen ? new Pen(v.pen) : null;
      if (pen.current) pen.current.pinned = v.pinned;
      refresh();
    });
    if (useView.getState().pen) pen.current = new Pen(useView.getState().pen!);
    refresh();
    return () => {
      off();
      window.removeEventListener("keydown", take, true);
      forget();
      s.dispose();
      sheet.current = null;
    };
  }, [set]);
  const framed = useRef<string | null>(null);
  useEffect(() => {
    if (!slab.data || !sheet.current) return;
    sheet.current.setSlab(slab.data, framed.current !== chosen);
    framed.current = chosen;
  }, [slab.data, chosen]);
  useEffect(() => {
    if (layers) sheet.current?.setLayers(layers);
  }, [layers]);
  useEffect(() => {
    if (!section) return;
    sheet.current?.setTraces(
      section.traces.map((t) => ({
        ...t,
        selected: traces.includes(t.id),
        picture: t.kind === "picture" ? String(t.shape["picture"]) : null,
      })),
      section.marks,
    );
  }, [section, traces]);
  useEffect(() => {
    if (pen.current) {
      pen.current.metre = 1 / UNITS[unit].metre;
      const line = section?.traces.find((t) => t.id === traces.at(-1) && t.kind === "line");
      const [a, b] = line?.points ?? [];
      pen.current.turn = a && b ? Math.atan2(b[1]! - a[1]!, b[0]! - a[0]!) : 0;
    }
    const s = sheet.current;
    if (!s) return;
    s.cloud = cloud;
    s.unit = UNITS[unit];
    s.draw();
  }, [tool, cloud, unit, section, traces]);

  const at = hover && project ? into(project.T_frame_part, hover) : null;
  const chip = "rounded border border-rule bg-card/95 px-1.5 py-0.5 text-[12px]";
  const waits = tool && !(ON_PICK.includes(tool) || tool in DRAWS || traces.length);
  const more = tool && tool in DRAWS ? `, on ${layer}` : waits ? " (choose lines first)" : "";
  const locked = tool && tool in DRAWS && layers?.find((l) => l.name === layer)?.locked;
  return (
    <section
      aria-label="Sheet"
      className="relative h-full min-w-0 flex-1 overflow-hidden"
      data-slab={slab.data ? slab.data.byteLength / 12 : 0}
      data-traces={section?.traces.length ?? 0}
    >
      <div ref={host} className={`absolute inset-0 ${tool ? "cursor-crosshair" : ""}`} />
      <div className="pointer-events-none absolute inset-x-0 top-0 flex flex-wrap items-center gap-1.5 p-1.5">
        <span className={`${chip} font-semibold`}>Sheet</span>
        <span className={chip}>{section?.name}</span>
        <span className={`${chip} font-mono`}>
          {section
            ? `${lengthIn(Number(section.params["before"]), unit)} before, ${lengthIn(Number(section.params["behind"]), unit)} ${unit} behind the cut`
            : ""}
        </span>
        <select
          aria-label="Points on the sheet"
          value={cloud}
          onChange={(e) => set({ sheet: e.target.value as Cloud })}
          className={`${chip} pointer-events-auto`}
        >
          <option value="density">points by density</option>
          <option value="colour">points in true colour</option>
          <option value="intensity">points by intensity</option>
          <option value="off">no points</option>
        </select>
        {tool && (
          <span role="status" className={`${chip} border-lamp bg-halo`}>
            {locked
              ? `the layer ${layer} is locked`
              : `${TITLES[tool]}: ${pen.current?.asks ?? ""}${more}; Alt is caught by nothing, Escape goes back`}
          </span>
        )}
      </div>
      {slab.isLoading && <p className="absolute inset-0 grid place-items-center text-quiet">Cutting …</p>}
      {slab.isError && !slab.data && (
        <div role="alert" className="absolute inset-0 grid place-content-center gap-2 text-center text-quiet">
          The points of this section could not be read.
          <Button onClick={() => void slab.refetch()}>Try again</Button>
        </div>
      )}
      {slab.data?.byteLength === 0 && (
        <p className="pointer-events-none absolute inset-0 grid place-items-center text-quiet">
          No points lie in this slab. Cut elsewhere, or deeper.
        </p>
      )}
      {at && (
        <div className="pointer-events-none absolute right-2 bottom-1.5 rounded bg-card/90 px-1.5 font-mono text-[11.5px]">
          {project?.frame_name} E {lengthIn(at[0], unit)} N {lengthIn(at[1], unit)} H {lengthIn(at[2], unit)} {unit}
        </div>
      )}
    </section>
  );
}
