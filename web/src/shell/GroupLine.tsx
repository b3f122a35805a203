/** A group's line in the roster: folded, chosen with all that is under it, renamed in place, and what is dragged onto it put in. */
import { ChevronDown, ChevronRight, Eye, EyeOff } from "lucide-react";
import { useState, type DragEvent } from "react";
import { http, sent, type Group } from "../api/client";
import { useAsk, useGroups } from "../api/queries";
import { stationsUnder } from "../kit/groups";
import { NameInPlace } from "../kit/naming";
import { useView } from "../kit/view";

export const DRAGGED = "application/x-stations"; // ids of the stations that are dragged

/** What takes stations that are dragged onto it. */
export const dropped = (put: (stations: string[]) => void) => ({
  onDragOver: (e: DragEvent) => {
    if (e.dataTransfer.types.includes(DRAGGED)) e.preventDefault();
  },
  onDrop: (e: DragEvent) => {
    const stations = e.dataTransfer.getData(DRAGGED);
    if (!stations) return;
    e.preventDefault();
    e.stopPropagation();
    put(JSON.parse(stations) as string[]);
  },
});

interface Props {
  id: string;
  group: Group;
  count: number; // of its stations that stand here
  depth: number;
  folded: boolean;
  fold: () => void;
  open: boolean;
  toggle?: (on: boolean) => void;
  put: (stations: string[]) => void;
}

export function GroupLine({ id, group, count, depth, folded, fold, open, toggle, put }: Props) {
  const groups = useGroups(id).data ?? [];
  const { group: chosen, set } = useView();
  const [naming, setNaming] = useState(false);
  const rename = useAsk(id, (name: string) =>
    sent(
      http.PATCH("/api/projects/{project_id}/groups/{group_id}", {
        params: { path: { project_id: id, group_id: group.id } },
        body: { version: group.version, name },
      }),
    ),
  );
  const Arrow = folded ? ChevronRight : ChevronDown;
  return (
    <li
      data-group={group.name}
      style={{ paddingLeft: 6 + 14 * depth }}
      className={`flex h-[25px] items-center gap-1.5 pr-3 text-[13px] ${chosen === group.id ? "bg-halo shadow-[inset_3px_0_0_#e8a700]" : "hover:bg-card"}`}
      {...dropped(put)}
    >
      <button
        type="button"
        aria-expanded={!folded}
        aria-label={`${folded ? "Unfold" : "Fold"} ${group.name}`}
        className="cursor-pointer text-quiet"
        onClick={fold}
      >
        <Arrow size={14} />
      </button>
      {naming ? (
        <NameInPlace name={group.name} most={110} keep={(name) => rename.mutate(name)} end={() => setNaming(false)} />
      ) : (
        <button
          type="button"
          aria-pressed={chosen === group.id}
          className="flex min-w-0 flex-1 cursor-pointer items-center gap-2 text-left"
          onClick={() =>
            set({ group: group.id, stations: stationsUnder(groups, group.id), link: null, note: null, about: null })
          }
          onDoubleClick={() => setNaming(true)}
          onKeyDown={(e) => e.key === "F2" && setNaming(true)}
        >
          <span className="truncate font-semibold">{group.name}</span>
          <span className="flex-1 text-quiet">
            {count}
            {group.held ? " · held" : ""}
          </span>
        </button>
      )}
      {toggle && !naming && (
        <button
          type="button"
          className="cursor-pointer text-quiet"
          aria-label={`${open ? "Hide" : "Show"} the stations of ${group.name}`}
          onClick={() => toggle(!open)}
        >
          {open ? <Eye size={14} /> : <EyeOff size={14} className="opacity-50" />}
        </button>
      )}
    </li>
  );
}
