/** The roster: stations and targets with their eyes; names are changed in place. */
import { Eye, EyeOff } from "lucide-react";
import { useMemo, useState, type KeyboardEvent } from "react";
import { HUES } from "../bench/palette";
import { http, sent, type Station } from "../api/client";
import { useAsk, useSightings, useStations } from "../api/queries";
import { Mark } from "../kit";
import { useView } from "../kit/view";
import { seen } from "./scene";

export function Roster({ id }: { id: string }) {
  const stations = useStations(id).data;
  const sightings = useSightings(id).data;
  const { stations: selected, selectStation, eyes, set, target } = useView();
  const [find, setFind] = useState("");
  const [naming, setNaming] = useState<string | null>(null);
  const shown = useMemo(() => seen(stations ?? [], eyes), [stations, eyes]);
  const change = useAsk(id, ({ s, ...body }: { s: Station; name?: string; deleted?: true }) =>
    sent(http.PATCH("/api/projects/{project_id}/stations/{station_id}", { params: { path: { project_id: id, station_id: s.id } }, body: { ...body, version: s.version } })),
  );
  const matches = (name: string) => name.toLowerCase().includes(find.trim().toLowerCase());
  const listed = (stations ?? []).filter((s) => matches(s.name));
  const targets = [...new Set((sightings ?? []).map((g) => g.target).filter(Boolean))].filter(matches);

  function onKey(e: KeyboardEvent) {
    const step = e.key === "ArrowDown" ? 1 : e.key === "ArrowUp" ? -1 : 0;
    const at = listed.findIndex((s) => selected[selected.length - 1] === s.id);
    const next = listed[Math.max(0, Math.min(listed.length - 1, at + step))];
    if (step && next) {
      e.preventDefault();
      selectStation(next.id, e.shiftKey);
    }
    if (e.key === "F2" && listed[at]) setNaming(listed[at].id);
    if (e.key === "Delete" && listed[at]) {
      e.stopPropagation();
      change.mutate({ s: listed[at], deleted: true });
    }
  }
  return (
    <aside aria-label="Stations" className="flex h-full w-[248px] shrink-0 flex-col border-r border-rule">
      <div className="p-2.5">
        <input aria-label="Find a station or target" placeholder="Find a station or target" value={find} onChange={(e) => setFind(e.target.value)} className="w-full rounded border border-rule bg-card px-2 py-1 text-[13px]" />
      </div>
      <div className="flex-1 overflow-auto pb-3" tabIndex={0} onKeyDown={onKey}>
        <Head name="Stations" count={listed.length} open={listed.every((s) => shown.has(s.id))} toggle={(on) => set({ eyes: { ...eyes, ...Object.fromEntries(listed.map((s) => [s.id, on])) } })} />
        {listed.map((s) => (
          <div key={s.id} data-station={s.name} aria-selected={selected.includes(s.id)} className={`flex h-[25px] cursor-pointer items-center gap-2 px-3 text-[13px] ${selected.includes(s.id) ? "bg-halo" : "hover:bg-card"}`} onClick={(e) => selectStation(s.id, e.ctrlKey || e.shiftKey || e.metaKey)} onDoubleClick={() => setNaming(s.id)}>
            <span className="h-2.5 w-2.5 shrink-0 rounded-full" style={{ background: HUES[s.hue % 12] }} />
            {naming === s.id ? (
              <input
                autoFocus
                defaultValue={s.name}
                maxLength={300}
                className="w-full rounded border border-action bg-card px-1 font-mono"
                onBlur={(e) => {
                  setNaming(null);
                  if (e.target.value.trim() && e.target.value !== s.name) change.mutate({ s, name: e.target.value });
                }}
                onKeyDown={(e) => {
                  e.stopPropagation();
                  if (e.key === "Enter") e.currentTarget.blur();
                  if (e.key === "Escape") setNaming(null);
                }}
              />
            ) : (
              <>
                <span className="flex-1 truncate font-mono" title={s.name}>
                  {s.name}
                </span>
                <span className="font-mono text-[12px] text-quiet">{(s.points / 1e6).toFixed(2)} M</span>
                <span title={s.pose ? s.status : "not placed"}>
                  <Mark status={s.status} />
                </span>
                <button type="button" aria-label={`${shown.has(s.id) ? "Hide" : "Show"} ${s.name}`} className="cursor-pointer text-quiet" onClick={(e) => (e.stopPropagation(), set({ eyes: { ...eyes, [s.id]: !shown.has(s.id) } }))}>
                  {shown.has(s.id) ? <Eye size={14} /> : <EyeOff size={14} className="opacity-50" />}
                </button>
              </>
            )}
          </div>
        ))}
        {stations?.length === 0 && <p className="px-3 text-[13px] text-quiet">Stations appear here as they are brought in.</p>}
        {targets.length > 0 && <Head name="Targets" count={targets.length} />}
        {targets.map((t) => {
          const own = (sightings ?? []).filter((g) => g.target === t);
          return (
            <div key={t} className={`flex h-[25px] cursor-pointer items-center gap-2 px-3 text-[13px] ${target === t ? "bg-halo" : "hover:bg-card"}`} onClick={() => set({ target: t, stations: [], link: null })}>
              <span className="h-2.5 w-2.5 shrink-0 rounded-full border border-quiet" />
              <span className="flex-1 truncate font-mono">{t}</span>
              <span className="font-mono text-[12px] text-quiet">{own.length} x seen</span>
            </div>
          );
        })}
      </div>
    </aside>
  );
}

function Head({ name, count, open, toggle }: { name: string; count: number; open?: boolean; toggle?: (on: boolean) => void }) {
  return (
    <div className="flex items-center gap-2 px-3 pt-2 pb-1 text-[13px]">
      <span className="font-semibold">{name}</span>
      <span className="flex-1 text-quiet">{count}</span>
      {toggle && count > 0 && (
        <button type="button" className="cursor-pointer text-quiet" aria-label={open ? "Hide all stations" : "Show all stations"} onClick={() => toggle(!open)}>
          {open ? <Eye size={14} /> : <EyeOff size={14} />}
        </button>
      )}
    </div>
  );
}
