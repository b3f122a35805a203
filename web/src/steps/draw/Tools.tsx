/** What is done on a section: the tools of the hand, what is accepted by rule, joined and laid square. */
import { useRef, useState } from "react";
import { DRAWS, EDITS, type Tool } from "../../bench/pen";
import { http, posted, sent, type Schemas, type Section, type Trace } from "../../api/client";
import { tellUndoable, useAsk } from "../../api/queries";
import { Actions, Button, Field, fixed } from "../../kit";
import { TakeFile } from "../../kit/file";
import { useView } from "../../kit/view";
import { keyOf } from "./SheetPane";

const HELD = "border-lamp bg-halo";
const FREE = "border-rule bg-card text-action hover:border-action";

/** The tools of the sheet; each with its key. */
export function Tools({ id }: { id: string }) {
  const { pen, set, traces } = useView();
  const file = useRef<HTMLInputElement>(null);
  const pin = useAsk(
    id,
    (chosen: File) => posted<Schemas["PinnedOut"]>(`/api/projects/${id}/pinned`, chosen),
    (pinned) => set({ pen: "picture", pinned }),
  );
  const button = (tool: Tool, title: string) => (
    <button
      key={tool}
      type="button"
      aria-pressed={pen === tool}
      onClick={() =>
        tool === "picture" && pen !== tool ? file.current?.click() : set({ pen: pen === tool ? null : tool })
      }
      className={`cursor-pointer rounded border px-1.5 py-0.5 text-[12.5px] ${pen === tool ? HELD : FREE}`}
    >
      {title}
      {keyOf(tool) && <span className="ml-1 font-mono text-[11px] text-quiet">{keyOf(tool)}</span>}
    </button>
  );
  return (
    <>
      <div className="my-1 flex flex-wrap gap-1">
        {(Object.entries(DRAWS) as [Tool, string][]).map(([t, title]) => button(t, title))}
      </div>
      <TakeFile
        input={file}
        label="A picture or PDF to pin"
        accept=".png,.jpg,.jpeg,.pdf"
        take={(own) => pin.mutate(own)}
      />
      <p className="mt-2 text-[12.5px] text-quiet">
        {traces.length ? `With the ${traces.length} chosen` : "With what is chosen, or picked"}
      </p>
      <div className="my-1 flex flex-wrap gap-1">
        {(Object.entries(EDITS) as [Tool, string][]).map(([t, title]) => button(t, title))}
      </div>
    </>
  );
}

/** Say yes to what a rule takes. */
export function ByRule({ id, section, found }: { id: string; section: Section; found: Trace[] }) {
  const [rms, setRms] = useState("3");
  const [seen, setSeen] = useState("50");
  const number = (t: string) => (t.trim() ? Number(t.replace(",", ".")) : null);
  const [most, least] = [number(rms), number(seen)];
  const bad = (most !== null && !(most > 0)) || (least !== null && !(least >= 0 && least <= 100));
  const accept = useAsk(
    id,
    (body: Schemas["AcceptFoundIn"]) =>
      sent(
        http.POST("/api/projects/{project_id}/sections/{section_id}/accept", {
          params: { path: { project_id: id, section_id: section.id } },
          body,
        }),
      ),
    (r) => void tellUndoable(id, r.message),
  );
  return (
    <>
      <Field label="Residual at most" unit="mm" value={rms} onChange={(e) => setRms(e.target.value)} />
      <Field label="Seen at least" unit="%" value={seen} onChange={(e) => setSeen(e.target.value)} />
      <Actions>
        <Button
          busy={accept.isPending}
          why={bad ? "a limit is no number" : ""}
          onClick={() =>
            accept.mutate({ most_rms_mm: most, least_seen: least === null ? null : least / 100, layers: null })
          }
        >
          Accept those
        </Button>
        <Button
          busy={accept.isPending}
          onClick={() => accept.mutate({ most_rms_mm: null, least_seen: null, layers: null })}
        >
          Accept all {found.length}
        </Button>
      </Actions>
    </>
  );
}

/** Make polylines of lines that meet at their corners. */
export function Join({ id, section }: { id: string; section: Section }) {
  const { traces } = useView();
  const lines = section.traces.filter(
    (t) => (t.kind === "line" || t.kind === "arc") && (traces.length ? traces.includes(t.id) : t.state !== "found"),
  );
  const ids = lines.map((t) => t.id).slice(0, 2000);
  const join = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/traces/edit", {
          params: { path: { project_id: id } },
          body: { do: "join", ids, at: [], value: 0, count: 2 },
        }),
      ),
    () => {
      useView.getState().set({ traces: [] });
      void tellUndoable(id, "Lines whose ends meet are polylines now.");
    },
  );
  return (
    <Actions>
      <Button
        busy={join.isPending}
        why={ids.length > 1 ? "" : "it takes two lines at least"}
        onClick={() => join.mutate(undefined)}
      >
        Join {traces.length ? "the chosen" : "all"} where they meet
      </Button>
    </Actions>
  );
}

/** Lay lines parallel and square. */
export function Square({ id, section }: { id: string; section: Section }) {
  const { traces } = useView();
  const [limit, setLimit] = useState("5");
  const mm = Number(limit.replace(",", "."));
  const square = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/sections/{section_id}/regularise", {
          params: { path: { project_id: id, section_id: section.id } },
          body: { limit_mm: mm, ids: traces.length ? traces : null },
        }),
      ),
    (r) =>
      void tellUndoable(
        id,
        r.lines ? `${r.lines} lines moved, the farthest by ${fixed(r.most_mm)} mm.` : "All lines lie square already.",
      ),
  );
  return (
    <>
      <Field
        label="Parallel and square, moved at most"
        unit="mm"
        value={limit}
        onChange={(e) => setLimit(e.target.value)}
      />
      <Actions>
        <Button
          busy={square.isPending}
          why={mm > 0 && mm <= 200 ? "" : "0.1 to 200 mm"}
          onClick={() => square.mutate(undefined)}
        >
          Lay {traces.length ? "the chosen" : "all"} square
        </Button>
      </Actions>
    </>
  );
}
