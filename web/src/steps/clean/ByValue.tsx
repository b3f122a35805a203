/** Selecting by a value, a place or a name. */
import { useState } from "react";
import { http, sent, type Box, type Project } from "../../api/client";
import { useClasses, useGroups, useZones } from "../../api/queries";
import { Actions, Button, Pick, Quiet } from "../../kit";
import { UNITS } from "../../kit/units";
import { useView } from "../../kit/view";
import { selectBy, type Shape } from "../../parts/select";

type By = "height" | "intensity" | "range" | "sphere" | "slab" | "stations" | "class" | "zone" | "box";
const BY: [By, string][] = [
  ["height", "height"],
  ["range", "distance from the scanner"],
  ["intensity", "intensity"],
  ["sphere", "a sphere round a pick"],
  ["slab", "above or below a picked surface"],
  ["stations", "stations chosen in the roster"],
  ["class", "a class"],
  ["zone", "a zone"],
  ["box", "a crop box"],
];

/** What is selected by a value, a place or a name. */
export function ByValue({ id, project, boxes }: { id: string; project: Project; boxes: Box[] }) {
  const { stations: chosen, group, set } = useView();
  const [by, setBy] = useState<By>("height");
  const [op, setOp] = useState<"replace" | "add" | "subtract" | "intersect">("replace");
  const [low, setLow] = useState("");
  const [high, setHigh] = useState("");
  const [radius, setRadius] = useState("0.5");
  const [named, setNamed] = useState("");
  const classes = useClasses(id).data ?? [];
  const zones = (useZones(id).data ?? []).filter((z) => z.kind === "zone");
  const groups = useGroups(id).data ?? [];
  const metre = by === "intensity" ? 1 : UNITS[project.unit].metre;
  const number = (text: string) => (text.trim() === "" ? null : Number(text.replace(",", ".")) / metre);
  const [from, to] = [number(low), number(high)];
  const wrong = [from, to].some((v) => v !== null && !Number.isFinite(v)) ? "that is no number" : "";
  const limits = by === "height" || by === "intensity" || by === "range" || by === "slab";
  const options = {
    class: classes.map((c) => [String(c.code), c.name]),
    zone: zones.map((z) => [z.id, z.name]),
    box: boxes.map((b) => [b.id, b.name]),
  };
  const list = (options as Record<string, string[][]>)[by] as [string, string][] | undefined;
  const name = list?.some(([v]) => v === named) ? named : (list?.[0]?.[0] ?? "");
  const ask = (shape: Shape, of?: string[]) => void selectBy(id, shape, op, of);
  const go = () => {
    if (by === "height" || by === "intensity" || by === "range") return ask({ kind: by, low: from, high: to });
    if (by === "class") return ask({ kind: "class", code: Number(name) });
    if (by === "zone") return ask({ kind: "zone", zone: name });
    if (by === "box") return ask({ kind: "box", box: name });
    if (by === "stations") {
      const own = group ? (groups.find((g) => g.id === group)?.stations ?? []) : chosen;
      return ask({ kind: "stations" }, own);
    }
    set({
      tool: "pick",
      picks: [],
      onPick: (at, station) => {
        set({ tool: "none", picks: [] });
        if (by === "sphere") return ask({ kind: "sphere", centre: at, radius: number(radius) ?? 0.5 });
        sent(
          http.POST("/api/projects/{project_id}/catch", {
            params: { path: { project_id: id } },
            body: { at, station },
          }),
        )
          .then((c) => ask({ kind: "slab", at: c.at, normal: c.normal ?? [0, 0, 1], low: from, high: to }))
          .catch(() => ask({ kind: "slab", at, normal: [0, 0, 1], low: from, high: to }));
      },
    });
  };
  const unit = by === "intensity" ? "0–1" : UNITS[project.unit].name;
  const why =
    wrong ||
    (limits && from === null && to === null ? "give a lower or a higher limit" : "") ||
    (list && !list.length ? `there is no ${by} yet` : "") ||
    (by === "stations" && !chosen.length && !group ? "choose stations in the roster" : "");
  return (
    <details className="mt-2">
      <summary className="cursor-pointer text-[13.5px] text-action">Select by value, place or name</summary>
      <Pick label="By" value={by} onChange={(e) => setBy(e.target.value as By)} options={BY} />
      {list && list.length > 0 && (
        <Pick label="Which" value={name} onChange={(e) => setNamed(e.target.value)} options={list} />
      )}
      {limits && (
        <>
          <Value label="From" unit={unit} value={low} onChange={setLow} />
          <Value label="To" unit={unit} value={high} onChange={setHigh} />
        </>
      )}
      {by === "slab" && <Quiet>Measured from the surface that is picked, towards the scanner.</Quiet>}
      {by === "height" && <Quiet>Heights in {project.frame_name}.</Quiet>}
      {by === "sphere" && <Value label="Radius" unit={unit} value={radius} onChange={setRadius} />}
      <Pick
        label="And"
        value={op}
        onChange={(e) => setOp(e.target.value as "add")}
        options={[
          ["replace", "instead of what is selected"],
          ["add", "added to it"],
          ["subtract", "taken away from it"],
          ["intersect", "only what both have"],
        ]}
      />
      <Actions>
        <Button onClick={go} why={why}>
          {by === "sphere" || by === "slab" ? "Pick the place" : "Select"}
        </Button>
      </Actions>
    </details>
  );
}

const Value = (p: { label: string; unit: string; value: string; onChange: (v: string) => void }) => (
  <label className="flex items-center gap-2 py-0.5 text-[13.5px]">
    <span className="flex-1">{p.label}</span>
    <input
      value={p.value}
      inputMode="decimal"
      placeholder="no limit"
      onChange={(e) => p.onChange(e.target.value)}
      onKeyDown={(e) => e.stopPropagation()}
      className="w-24 rounded border border-rule bg-card px-1.5 py-0.5 text-right font-mono text-[13px]"
    />
    <span className="w-8 font-mono text-[12px] text-quiet">{p.unit}</span>
  </label>
);
