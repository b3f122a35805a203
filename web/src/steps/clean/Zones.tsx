/** Zones: selections that were kept, in a tree, with eyes and locks. */
import { Eye, EyeOff, Lock, LockOpen } from "lucide-react";
import { useState } from "react";
import { http, sent, type Schemas } from "../../api/client";
import { tellUndoable, useAsk, useZones } from "../../api/queries";
import { hueOf } from "../../bench/palette";
import { grouped, type Column } from "../../kit";
import { NameInPlace } from "../../kit/naming";
import { Table } from "../../kit/table";
import { useView } from "../../kit/view";
import { selectBy } from "../../parts/select";

type Zone = Schemas["ZoneOut"];
const LINK = "cursor-pointer text-action underline";

/** In the order of the tree, with how deep each is nested. */
export function inTree(zones: Zone[]): (Zone & { deep: number })[] {
  const below = (parent: string | null, deep: number): (Zone & { deep: number })[] =>
    zones
      .filter((z) => (zones.some((p) => p.id === z.parent_id) ? z.parent_id : null) === parent)
      .flatMap((z) => [{ ...z, deep }, ...below(z.id, deep + 1)]);
  return below(null, 0);
}

export function ZonesLedger({ id }: { id: string }) {
  const asked = useZones(id);
  const zones = inTree(asked.data ?? []);
  const [naming, setNaming] = useState<string | null>(null);
  const set = useView((s) => s.set);
  const change = useAsk(id, ({ z, ...body }: { z: Zone } & Omit<Schemas["ZonePatch"], "version">) =>
    sent(
      http.PATCH("/api/projects/{project_id}/zones/{zone_id}", {
        params: { path: { project_id: id, zone_id: z.id } },
        body: { ...body, version: z.version },
      }),
    ),
  );
  const remove = useAsk(
    id,
    (z: Zone) =>
      z.kind === "hidden"
        ? sent(http.POST("/api/projects/{project_id}/hidden/show", { params: { path: { project_id: id } } }))
        : sent(
            http.DELETE("/api/projects/{project_id}/zones/{zone_id}", {
              params: { path: { project_id: id, zone_id: z.id }, query: { version: z.version } },
            }),
          ),
    (r) => void tellUndoable(id, `${r.message.charAt(0).toUpperCase()}${r.message.slice(1)}.`),
  );
  const columns: Column<Zone & { deep: number }>[] = [
    {
      head: "zone",
      value: (z) => z.name,
      cell: (z) =>
        naming === z.id ? (
          <NameInPlace
            name={z.name}
            most={120}
            keep={(name) => change.mutate({ z, name })}
            end={() => setNaming(null)}
          />
        ) : (
          <span
            className="flex items-center gap-1.5"
            style={{ paddingLeft: 14 * z.deep }}
            onDoubleClick={() => z.kind === "zone" && setNaming(z.id)}
            title={z.kind === "zone" ? "Double-click to rename" : ""}
          >
            <span
              className="size-2.5 shrink-0 rounded-full"
              style={{ background: hueOf(z.kind === "zone" ? z.hue : -1) }}
            />
            {z.name}
          </span>
        ),
    },
    { head: "points held", cell: (z) => grouped(z.count), value: (z) => z.count, figure: true, width: "110px" },
    {
      head: "",
      says: "shown and locked",
      width: "70px",
      cell: (z) =>
        z.kind === "zone" && (
          <span className="flex gap-2">
            <button
              type="button"
              aria-label={z.shown ? `Hide ${z.name}` : `Show ${z.name}`}
              className="cursor-pointer"
              onClick={() => change.mutate({ z, shown: !z.shown })}
            >
              {z.shown ? <Eye size={15} /> : <EyeOff size={15} className="text-quiet" />}
            </button>
            <button
              type="button"
              aria-label={z.locked ? `Unlock ${z.name}` : `Lock ${z.name}`}
              title={z.locked ? "Locked: its points are neither selected nor deleted" : "Not locked"}
              className="cursor-pointer"
              onClick={() => change.mutate({ z, locked: !z.locked })}
            >
              {z.locked ? <Lock size={15} /> : <LockOpen size={15} className="text-quiet" />}
            </button>
          </span>
        ),
    },
    {
      head: "lies in",
      width: "150px",
      value: (z) => zones.find((p) => p.id === z.parent_id)?.name ?? "",
      cell: (z) =>
        z.kind === "zone" && (
          <select
            aria-label={`${z.name} lies in`}
            value={z.parent_id ?? ""}
            onChange={(e) => change.mutate({ z, parent: e.target.value })}
            className="w-full rounded border border-rule bg-card text-[12.5px]"
          >
            <option value="">no other</option>
            {zones
              .filter((p) => p.id !== z.id && p.kind === "zone")
              .map((p) => (
                <option key={p.id} value={p.id}>
                  {p.name}
                </option>
              ))}
          </select>
        ),
    },
    {
      head: "handed over",
      width: "150px",
      value: (z) => (z.apart ? "apart" : "with its stations"),
      cell: (z) =>
        z.kind === "zone" && (
          <button
            type="button"
            className={LINK}
            title="A cloud of its own in the E57, without any point twice"
            onClick={() => change.mutate({ z, apart: !z.apart })}
          >
            {z.apart ? "as a cloud of its own" : "with its stations"}
          </button>
        ),
    },
    {
      head: "can be",
      width: "180px",
      cell: (z) => (
        <span className="flex gap-3">
          {z.kind === "zone" && (
            <button
              type="button"
              className={LINK}
              onClick={() => (set({ ghosts: "none" }), void selectBy(id, { kind: "zone", zone: z.id }))}
            >
              selected
            </button>
          )}
          <button type="button" className={LINK} onClick={() => remove.mutate(z)}>
            {z.kind === "hidden" ? "shown again" : z.kind === "even" ? "all points again" : "given up"}
          </button>
        </span>
      ),
    },
  ];
  return (
    <Table
      what="zones"
      from={[asked]}
      rows={zones}
      columns={columns}
      id={(z) => z.id}
      empty="Select points and keep them as a zone: to hide or lock them, to give them a class, to hand them over alone."
    />
  );
}
