/** The roster: stations and targets with their eyes; names are changed in place. */
import { Eye, EyeOff } from "lucide-react";
import { Fragment, useMemo, useRef, useState, type KeyboardEvent } from "react";
import { HUES } from "../bench/palette";
import { http, sent, type Project, type SavedView, type Station } from "../api/client";
import { tellUndoable, useAsk, useGroups, useProject, useSightings, useStations, useViews } from "../api/queries";
import { Mark } from "../kit";
import { stateOf, Trouble } from "../kit/await";
import { confirm } from "../kit/confirm";
import { lines } from "../kit/groups";
import { NameInPlace } from "../kit/naming";
import { useView } from "../kit/view";
import { DRAGGED, dropped, GroupLine } from "./GroupLine";
import { seen } from "./scene";
import { showSaved } from "./views";

export function Roster({ id }: { id: string }) {
  const asked = [useStations(id), useSightings(id)] as const;
  const stations = asked[0].data;
  const sightings = asked[1].data;
  const { stations: selected, selectStation, eyes, set, target } = useView();
  const [find, setFind] = useState("");
  const [naming, setNaming] = useState<string | null>(null);
  const project = useProject(id).data;
  const part = project?.part ?? null;
  const shown = useMemo(() => seen(stations ?? [], eyes, part), [stations, eyes, part]);
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
  const groups = grouped(stations ?? [], project?.parts ?? []).map((g) => ({
    ...g,
    stations: g.stations.filter((s) => matches(s.name)),
  }));
  const grouping = useGroups(id).data ?? [];
  const [folded, setFolded] = useState<Record<string, boolean>>({});
  const put = useAsk(id, (body: { stations: string[]; group: string }) =>
    sent(http.POST("/api/projects/{project_id}/groups/put", { params: { path: { project_id: id } }, body })),
  );
  const listed = groups.flatMap((g) =>
    lines(g.stations, grouping, folded).flatMap((l) => ("station" in l ? [l.station] : [])),
  );
  const targets = new Map<string, { name: string; count: number }>();
  for (const g of sightings ?? [])
    if (g.target && g.part === part && matches(g.target_name))
      targets.set(g.target, { name: g.target_name, count: (targets.get(g.target)?.count ?? 0) + 1 });
  const choose = (s: Station, more: boolean) => {
    selectStation(s.id, more);
    if (!more) set({ part: s.part }); // what is chosen is seen
  };

  const dragged = (s: Station) => (selected.includes(s.id) ? selected : [s.id]);

  const list = useRef<HTMLDivElement>(null);
  function onKey(e: KeyboardEvent) {
    const step = e.key === "ArrowDown" ? 1 : e.key === "ArrowUp" ? -1 : 0;
    const at = listed.findIndex(
      (s) => s.id === (e.target as HTMLElement).closest<HTMLElement>("[data-id]")?.dataset.id,
    );
    const next = listed[Math.max(0, Math.min(listed.length - 1, at + step))];
    if (step && next) {
      e.preventDefault();
      choose(next, e.shiftKey);
      list.current?.querySelector<HTMLElement>(`[data-id="${next.id}"] button`)?.focus();
    }
    if (e.key === "F2" && listed[at]) setNaming(listed[at].id);
    if (e.key === "Delete" && listed[at]) {
      e.stopPropagation();
      takeOut(listed[at]);
    }
  }
  const station = (s: Station, depth: number) => (
    <li
      key={s.id}
      data-station={s.name}
      data-id={s.id}
      draggable={naming !== s.id}
      onDragStart={(e) => e.dataTransfer.setData(DRAGGED, JSON.stringify(dragged(s)))}
      style={{ paddingLeft: 12 + 14 * depth }}
      className={`flex h-[25px] items-center gap-2 pr-3 text-[13px] ${selected.includes(s.id) ? "bg-halo font-semibold shadow-[inset_3px_0_0_#e8a700]" : "hover:bg-card"}`}
    >
      <span className="h-2.5 w-2.5 shrink-0 rounded-full" style={{ background: HUES[s.hue % 12] }} />
      {naming === s.id ? (
        <NameInPlace
          name={s.name}
          most={300}
          mono
          keep={(name) => change.mutate({ s, name })}
          end={() => setNaming(null)}
        />
      ) : (
        <>
          <button
            type="button"
            aria-pressed={selected.includes(s.id)}
            title={s.tied ? s.status : "not tied"}
            className="flex min-w-0 flex-1 cursor-pointer items-center gap-2 text-left"
            onClick={(e) => choose(s, e.ctrlKey || e.shiftKey || e.metaKey)}
            onDoubleClick={() => setNaming(s.id)}
            onKeyDown={onKey}
          >
            <span className="flex-1 truncate font-mono">{s.name}</span>
            <span className="font-mono text-[12px] text-quiet">{(s.points / 1e6).toFixed(2)} M</span>
            <Mark status={s.status} />
            <span className="sr-only">{s.tied ? s.status : "not tied"}</span>
          </button>
          <button
            type="button"
            aria-label={`${shown.has(s.id) ? "Hide" : "Show"} ${s.name}`}
            className="cursor-pointer text-quiet"
            onClick={() =>
              s.part === part
                ? set({ eyes: { ...eyes, [s.id]: !shown.has(s.id) } })
                : set({ part: s.part, eyes: { ...eyes, [s.id]: true } })
            }
          >
            {shown.has(s.id) ? <Eye size={14} /> : <EyeOff size={14} className="opacity-50" />}
          </button>
        </>
      )}
    </li>
  );
  return (
    <aside aria-label="Stations" className="flex h-full flex-col">
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
        {stations?.length === 0 && <Head name="Stations" count={0} />}
        {groups.map((g) => (
          <Fragment key={g.id}>
            <Head
              name={g.name}
              count={g.stations.length}
              here={groups.length > 1 && g.part !== null && g.part === part}
              show={
                g.part !== null && groups.length > 1 ? () => set({ part: g.part, stations: [], link: null }) : undefined
              }
              open={g.stations.every((s) => shown.has(s.id))}
              toggle={
                g.part === part
                  ? (on) => set({ eyes: { ...eyes, ...Object.fromEntries(g.stations.map((s) => [s.id, on])) } })
                  : undefined
              }
              put={(stations) => put.mutate({ stations, group: "" })}
            />
            <ul aria-label={g.name}>
              {lines(g.stations, grouping, folded).map((l) =>
                "group" in l ? (
                  <GroupLine
                    key={l.group.id}
                    id={id}
                    group={l.group}
                    count={l.stations.length}
                    depth={l.depth}
                    folded={Boolean(folded[l.group.id])}
                    fold={() => setFolded({ ...folded, [l.group.id]: !folded[l.group.id] })}
                    open={l.stations.every((s) => shown.has(s.id))}
                    toggle={
                      g.part === part
                        ? (on) => set({ eyes: { ...eyes, ...Object.fromEntries(l.stations.map((s) => [s.id, on])) } })
                        : undefined
                    }
                    put={(stations) => put.mutate({ stations, group: l.group.id })}
                  />
                ) : (
                  station(l.station, l.depth)
                ),
              )}
            </ul>
          </Fragment>
        ))}
        {stations?.length === 0 && (
          <p className="px-3 text-[13px] text-quiet">Stations appear here as they are brought in.</p>
        )}
        {targets.size > 0 && <Head name="Targets" count={targets.size} />}
        {[...targets].map(([t, { name, count }]) => (
          <button
            type="button"
            key={t}
            aria-pressed={target === t}
            className={`flex h-[25px] w-full cursor-pointer items-center gap-2 px-3 text-left text-[13px] ${target === t ? "bg-halo font-semibold shadow-[inset_3px_0_0_#e8a700]" : "hover:bg-card"}`}
            onClick={() => set({ target: t, stations: [], link: null })}
          >
            <span className="h-2.5 w-2.5 shrink-0 rounded-full border border-quiet" />
            <span className="flex-1 truncate font-mono">{name}</span>
            <span className="font-mono text-[12px] text-quiet">{count} x seen</span>
          </button>
        ))}
        <Views id={id} matches={matches} />
      </div>
    </aside>
  );
}

/** Saved views: one click shows what somebody kept. */
function Views({ id, matches }: { id: string; matches: (name: string) => boolean }) {
  const views = (useViews(id).data ?? []).filter((v) => matches(v.name));
  const remove = useAsk(id, (v: SavedView) =>
    sent(
      http.PATCH("/api/projects/{project_id}/views/{view_id}", {
        params: { path: { project_id: id, view_id: v.id } },
        body: { version: v.version, deleted: true },
      }),
    ),
  );
  if (!views.length) return null;
  return (
    <>
      <Head name="Views" count={views.length} />
      <ul aria-label="Views">
        {views.map((v) => (
          <li key={v.id} className="flex h-[25px] items-center gap-2 px-3 text-[13px] hover:bg-card">
            <button type="button" className="flex-1 cursor-pointer truncate text-left" onClick={() => showSaved(v)}>
              {v.name}
            </button>
            <button
              type="button"
              aria-label={`Delete the view ${v.name}`}
              className="cursor-pointer text-quiet"
              onClick={() =>
                remove.mutate(v, { onSuccess: () => void tellUndoable(id, `Deleted the view ${v.name}.`) })
              }
            >
              ×
            </button>
          </li>
        ))}
      </ul>
    </>
  );
}

interface Shown {
  id: string;
  name: string;
  part: string | null; // null: stations that share coordinates with nobody
  stations: Station[];
}
/** Parts of the network as groups, the largest first, then what is not tied yet. */
function grouped(stations: Station[], parts: Project["parts"]): Shown[] {
  const tied = parts.filter((p) => p.stations.length > 1);
  const out: Shown[] = tied.map((p) => ({
    id: p.id,
    name: tied.length > 1 ? p.name : "Stations",
    part: p.id,
    stations: stations.filter((s) => s.part === p.id),
  }));
  const alone = stations.filter((s) => !tied.some((p) => p.id === s.part));
  if (alone.length) out.push({ id: "alone", name: out.length ? "Not tied" : "Stations", part: null, stations: alone });
  return out;
}

function Head({
  name,
  count,
  here,
  show,
  open,
  toggle,
  put,
}: {
  name: string;
  count: number | null;
  here?: boolean;
  show?: () => void;
  open?: boolean;
  toggle?: (on: boolean) => void;
  put?: (stations: string[]) => void;
}) {
  return (
    <div className="flex items-center gap-2 px-3 pt-2 pb-1 text-[13px]" {...(put && dropped(put))}>
      {show ? (
        <button
          type="button"
          aria-pressed={here}
          title={here ? "This part is in view" : "Show this part"}
          className={`cursor-pointer font-semibold ${here ? "" : "underline decoration-dotted underline-offset-2"}`}
          onClick={show}
        >
          {name}
        </button>
      ) : (
        <span className="font-semibold">{name}</span>
      )}
      <span className="flex-1 text-quiet">
        {count}
        {here ? " · in view" : ""}
      </span>
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
