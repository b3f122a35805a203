/** The sheet: a section's slab at true scale with the traces over it, and the drawing hand. */
import { useEffect, useMemo, useRef } from "react";
import { Sheet } from "../../bench/sheet";
import { http, sent } from "../../api/client";
import { useAsk, useProject, useSections, useSlab } from "../../api/queries";
import { provide } from "../../kit/commands";
import { into, inverse, lengthIn, UNITS } from "../../kit/units";
import { useView } from "../../kit/view";

export function SheetPane({ id }: { id: string }) {
  const host = useRef<HTMLDivElement>(null);
  const sheet = useRef<Sheet | null>(null);
  const { section: chosen, trace, drawing, layer, sheet: cloud, set, hover } = useView();
  const project = useProject(id).data;
  const section = useSections(id).data?.find((s) => s.id === chosen);
  const slab = useSlab(id, chosen);
  const draw = useAsk(id, (points: number[][]) =>
    sent(
      http.POST("/api/projects/{project_id}/sections/{section_id}/traces", {
        params: { path: { project_id: id, section_id: chosen! } },
        body: { kind: "line", layer: useView.getState().layer, points, radius: 0 },
      }),
    ),
  );
  const keep = useRef({ draw: draw.mutate, toProject: (at: number[]) => at });
  keep.current.draw = draw.mutate;
  const back = useMemo(() => (section ? inverse(section.T_section_part) : null), [section]);
  keep.current.toProject = (at) => (back ? into(back, [at[0]!, at[1]!, 0]) : at);

  useEffect(() => {
    const s = new Sheet(host.current!, {
      drew: (points) => keep.current.draw(points),
      select: (t) => set({ trace: t }),
      hover: (at) => set({ hover: at ? keep.current.toProject(at) : null }),
    });
    sheet.current = s;
    const forget = provide([
      { id: "sheet.frame", title: "Show the whole section", keys: "f", run: () => s.frame() },
      { id: "sheet.line", title: "Draw a line", keys: "d", run: () => set({ drawing: !useView.getState().drawing }) },
    ]);
    return () => {
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
    sheet.current?.setTraces((section?.traces ?? []).map((t) => ({ ...t, selected: t.id === trace })));
  }, [section, trace]);
  useEffect(() => {
    const s = sheet.current;
    if (!s) return;
    s.drawing = drawing;
    s.cloud = cloud;
    s.unit = UNITS[project?.unit ?? "m"];
    if (!drawing) s.cancelLine();
    s.draw();
  }, [drawing, cloud, project?.unit]);

  const unit = project?.unit ?? "m";
  const at = hover && project ? into(project.T_frame_part, hover) : null;
  const chip = "rounded border border-rule bg-card/95 px-1.5 py-0.5 text-[12px]";
  return (
    <section
      aria-label="Sheet"
      className="relative h-full min-w-0 flex-1 overflow-hidden"
      data-slab={slab.data ? slab.data.byteLength / 12 : 0}
      data-traces={section?.traces.length ?? 0}
    >
      <div ref={host} className={`absolute inset-0 ${drawing ? "cursor-crosshair" : ""}`} />
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
          onChange={(e) => set({ sheet: e.target.value as "density" })}
          className={`${chip} pointer-events-auto`}
        >
          <option value="density">points by density</option>
          <option value="colour">points in true colour</option>
          <option value="off">no points</option>
        </select>
        {drawing && (
          <span className={`${chip} border-lamp bg-halo`}>
            drawing on layer {layer}: click two ends, a ring shows where a point is caught, Escape ends
          </span>
        )}
      </div>
      {slab.isLoading && <p className="absolute inset-0 grid place-items-center text-quiet">Cutting …</p>}
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
