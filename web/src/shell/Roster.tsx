/** The roster: stations and targets with their eyes; names are changed in place. */
import { Eye, EyeOff } from "lucide-react";
import { useMemo, useRef, useState, type KeyboardEvent } from "react";
import { HUES } from "../bench/palette";
import { http, sent, type Station } from "../api/client";
import { tellUndoable, useAsk, useSightings, useStations } from "../api/queries";
import { Mark } from "../kit";
import { stateOf, Trouble } from "../kit/await";
import { confirm } from "../kit/confirm";
import { useView } from "../kit/view";
import { seen } from "./scene";

export function Roster({ id }: { id: string }) {
  const asked = [useStations(id), useSightings(id)] as const;
  const stations = asked[0].data;
  const sightings = asked[1].data;
  const { stations: selected, selectStation, eyes, set, target } = useView();
  const [find, setFind] = useState("");
  const [naming, setNaming] = useState<string | null>(null);
  const shown = useMemo(() => seen(stations ?? [], eyes), [stations, eyes]);
  const change = useAsk(id, ({ s, ...body }: { s: Station; name?: string; deleted?: true }) =>
    sent(
      http.PATCH("/api/projects/{project_id}/stations/{station_id}", {
        params: { path: { project_id: id, station_id: s.id } },
        body: { ...body, version: s.version },
      }),
    ),
  );
  const takeOut = (s: Station) =>
    confirm({
      title: `Take ${s.name} out of the project?`,
      text: `Its ${s.links} ${s.links === 1 ? "link" : "links"} and its points are no longer shown or handed over, and the network is adjusted without it. Undo brings it back.`,
      yes: `Take ${s.name} out`,
      no: "Keep it",
      then: () =>
        change.mutate(
          { s, deleted: true },
          { onSuccess: () => void tellUndoable(id, `Took ${s.name} out of the project.`) },
        ),
    });
  const matches = (name: string) => name.toLowerCase().includes(find.trim().toLowerCase());
  const listed = (stations ?? []).filter((s) => matches(s.name));
  const targets = [...new Set((sightings ?? []).map((g) => g.target).filter(Boolean))].filter(matches);

  const list = useRef<HTMLDivElement>(null);
  function onKey(e: KeyboardEvent) {
    const step = e.key === "ArrowDown" ? 1 : e.key === "ArrowUp" ? -1 : 0;
    const at = listed.findIndex(
      (s) => s.id === (e.target as HTMLElement).closest<HTMLElement>("[data-id]")?.dataset.id,
    );
    const next = listed[Math.max(0, Math.min(listed.length - 1, at + step))];
    if (step && next) {
      e.preventDefault();
      selectStation(next.id, e.shiftKey);
      list.current?.querySelector<HTMLElement>(`[data-id="${next.id}"] button`)?.focus();
    }
    if (e.key === "F2" && listed[at]) setNaming(listed[at].id);
    if (e.key === "Delete" && listed[at]) {
      e.stopPropagation();
      takeOut(listed[at]);
    }
  }
  return (
    <aside aria-label="Stations" className="flex h-full w-[248px] shrink-0 flex-col border-r border-rule">
      <div className="p-2.5">
        <input
          aria-label="Find a station or target"
          placeholder="Find a station or target"
          value={find}
          onChange={(e) => setFind(e.target.value)}
          className="w-full rounded border border-rule bg-card px-2 py-1 text-[13px]"
        />
      </div>
      <div className="flex-1 overflow-auto pb-3" ref={list}>
        {stateOf([...asked]) === "loading" && (
          <p role="status" className="px-3 pt-2 text-[13px] text-quiet">
            Reading the stations …
          </p>
        )}
        {["failed", "old"].includes(stateOf([...asked])) && (
          <Trouble asked={[...asked]} what="stations" old={stateOf([...asked]) === "old"} />
        )}
        <Head
          name="Stations"
          count={stations ? listed.length : null}
          open={listed.every((s) => shown.has(s.id))}
          toggle={(on) => set({ eyes: { ...eyes, ...Object.fromEntries(listed.map((s) => [s.id, on])) } })}
        />
        <ul>
          {listed.map((s) => (
            <li
              key={s.id}
              data-station={s.name}
              data-id={s.id}
              className={`flex h-[25px] items-center gap-2 px-3 text-[13px] ${selected.includes(s.id) ? "bg-halo" : "hover:bg-card"}`}
            >
              <span className="h-2.5 w-2.5 shrink-0 rounded-full" style={{ background: HUES[s.hue % 12] }} />
              {naming === s.id ? (
                <input
                  autoFocus
                  aria-label={`Name of ${s.name}`}
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
                  <button
                    type="button"
                    aria-pressed={selected.includes(s.id)}
                    title={s.pose ? s.status : "not placed"}
                    className="flex min-w-0 flex-1 cursor-pointer items-center gap-2 text-left"
                    onClick={(e) => selectStation(s.id, e.ctrlKey || e.shiftKey || e.metaKey)}
                    onDoubleClick={() => setNaming(s.id)}
                    onKeyDown={onKey}
                  >
                    <span className="flex-1 truncate font-mono">{s.name}</span>
                    <span className="font-mono text-[12px] text-quiet">{(s.points / 1e6).toFixed(2)} M</span>
                    <Mark status={s.status} />
                    <span className="sr-only">{s.pose ? s.status : "not placed"}</span>
                  </button>
                  <button
                    type="button"
                    aria-label={`${shown.has(s.id) ? "Hide" : "Show"} ${s.name}`}
                    className="cursor-pointer text-quiet"
                    onClick={() => set({ eyes: { ...eyes, [s.id]: !shown.has(s.id) } })}
                  >
                    {shown.has(s.id) ? <Eye size={14} /> : <EyeOff size={14} className="opacity-50" />}
                  </button>
                </>
              )}
            </li>
          ))}
        </ul>
        {stations?.length === 0 && (
          <p className="px-3 text-[13px] text-quiet">Stations appear here as they are brought in.</p>
        )}
        {targets.length > 0 && <Head name="Targets" count={targets.length} />}
        {targets.map((t) => {
          const own = (sightings ?? []).filter((g) => g.target === t);
          return (
            <button
              type="button"
              key={t}
              aria-pressed={target === t}
              className={`flex h-[25px] w-full cursor-pointer items-center gap-2 px-3 text-left text-[13px] ${target === t ? "bg-halo" : "hover:bg-card"}`}
              onClick={() => set({ target: t, stations: [], link: null })}
            >
              <span className="h-2.5 w-2.5 shrink-0 rounded-full border border-quiet" />
              <span className="flex-1 truncate font-mono">{t}</span>
              <span className="font-mono text-[12px] text-quiet">{own.length} x seen</span>
            </button>
          );
        })}
      </div>
    </aside>
  );
}

function Head({
  name,
  count,
  open,
  toggle,
}: {
  name: string;
  count: number | null;
  open?: boolean;
  toggle?: (on: boolean) => void;
}) {
  return (
    <div className="flex items-center gap-2 px-3 pt-2 pb-1 text-[13px]">
      <span className="font-semibold">{name}</span>
      <span className="flex-1 text-quiet">{count}</span>
      {toggle && count !== null && count > 0 && (
        <button
          type="button"
          className="cursor-pointer text-quiet"
          aria-label={open ? "Hide all stations" : "Show all stations"}
          onClick={() => toggle(!open)}
        >
          {open ? <Eye size={14} /> : <EyeOff size={14} />}
        </button>
      )}
    </div>
  );
}
