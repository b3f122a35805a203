/** Selecting points: tools that draw in the panes, places that are picked, limits that are typed; and what is done with what is selected. */
import { Brush, Lasso, Pentagon, SquareDashed, type LucideIcon } from "lucide-react";
import { useEffect, useState } from "react";
import { http, Refusal, sent, type Schemas } from "../../api/client";
import { tellUndoable, useAsk, useClasses, useZones } from "../../api/queries";
import { Actions, Button, Field, grouped, Heading, Hint, Pick, Quiet } from "../../kit";
import { provide } from "../../kit/commands";
import { confirm } from "../../kit/confirm";
import { LengthField, useLengths } from "../../kit/fields";
import { useView, type Tool } from "../../kit/view";
import { letGo, selectBy, stepBack, type Selection } from "../../parts/select";

type Act = Schemas["ActIn"];
const WHY: Record<string, string> = {
  hidden: "hidden",
  cropped: "outside the crop boxes",
  locked: "in locked zones",
  behind: "behind what stands in front",
};

/** What the last shape left alone, in words; "" when it took all. */
export const spared = (s: Selection) =>
  Object.entries(s.spared)
    .map(([why, n]) => `${grouped(n)} ${WHY[why] ?? why}`)
    .join(", ");

/** What is done with what is selected. */
export function WithSelection({ id, selection }: { id: string; selection: Selection }) {
  const { shown, ghosts, choosing, set } = useView();
  const classes = useClasses(id).data ?? [];
  const zones = (useZones(id).data ?? []).filter((z) => z.kind === "zone");
  const [name, setName] = useState("");
  const { revision, count } = selection;
  const act = useAsk(
    id,
    (given: Partial<Act> & Pick<Act, "do">) =>
      sent(
        http.POST("/api/projects/{project_id}/selection/act", {
          params: { path: { project_id: id } },
          body: { revision, sure: false, stations: shown, code: 0, name: "zone", ...given },
        }),
      ).catch((e: unknown) => {
        if (!(e instanceof Refusal) || e.code !== "too_much") throw e;
        confirm({
          title: `Delete ${grouped(count)} points?`,
          text: `${e.message.charAt(0).toUpperCase() + e.message.slice(1)}. They can be brought back, now or later.`,
          yes: "Delete them",
          no: "Keep them",
          then: () => act.mutate({ do: "delete", sure: true }),
        });
        return null;
      }),
    (r) =>
      r &&
      void tellUndoable(id, `${r.message}${r.spared ? `; ${grouped(r.spared)} were gone or locked by then` : ""}.`),
  );
  const remove = () => act.mutate({ do: "delete" });
  const dead = selection.among === "deleted";
  const none = count ? "" : "nothing is selected";
  useEffect(() => {
    const can = () => count > 0 && !act.isPending;
    return provide([
      {
        id: "clean.delete",
        title: dead ? "Bring the selected points back" : "Delete the selected points",
        keys: "Delete",
        run: () => can() && (dead ? act.mutate({ do: "restore" }) : remove()),
      },
      { id: "clean.keep", title: "Keep the selected points as a zone", keys: "k", run: () => can() && !dead && keep() },
      {
        id: "clean.hide",
        title: "Hide the selected points",
        keys: "j",
        run: () => can() && !dead && act.mutate({ do: "hide" }),
      },
      {
        id: "clean.only",
        title: "Show only the selected points",
        run: () => can() && !dead && act.mutate({ do: "only" }),
      },
      {
        id: "clean.invert",
        title: "Select what is not selected",
        keys: "y",
        run: () => void selectBy(id, { kind: "inverse" }),
      },
      {
        id: "clean.back",
        title: "Take the last step of the selection back",
        keys: "Backspace",
        run: () => void stepBack(id),
      },
    ]);
  });
  const keep = () => act.mutate({ do: "keep", name: name.trim() || `Zone ${zones.length + 1}` });
  if (!count && !selection.back) return null;
  return (
    <>
      {count > 0 && (
        <Actions>
          {dead ? (
            <Button main busy={act.isPending} onClick={() => act.mutate({ do: "restore" })}>
              Bring {grouped(count)} points back
            </Button>
          ) : (
            <>
              <Button main busy={act.isPending} onClick={remove}>
                Delete {grouped(count)} points
              </Button>
              <Button busy={act.isPending} onClick={() => act.mutate({ do: "hide" })}>
                Hide
              </Button>
              <Button busy={act.isPending} onClick={() => act.mutate({ do: "only" })}>
                Show only these
              </Button>
            </>
          )}
        </Actions>
      )}
      <Actions>
        <Button busy={choosing} onClick={() => void selectBy(id, { kind: "inverse" })}>
          Turn round
        </Button>
        <Button busy={choosing} onClick={() => void stepBack(id)} why={selection.back ? "" : "there is no step before"}>
          One step back
        </Button>
        <Button onClick={() => void letGo(id)} why={none}>
          Let go
        </Button>
      </Actions>
      {count > 0 && !dead && (
        <>
          <Field
            label="Keep as zone"
            type="text"
            value={name}
            maxLength={120}
            placeholder={`Zone ${zones.length + 1}`}
            onChange={(e) => setName(e.target.value)}
          />
          <Actions>
            <Button busy={act.isPending} onClick={keep}>
              Keep it
            </Button>
            {zones.length > 0 && (
              <select
                aria-label="Add to a zone, or take out of it"
                className="rounded border border-rule bg-card px-1.5 text-[13px]"
                value=""
                onChange={(e) => {
                  const [way, zone] = e.target.value.split(" ");
                  if (zone) act.mutate({ do: way as "into", zone });
                }}
              >
                <option value="">Change a zone …</option>
                {zones.map((z) => (
                  <option key={`+${z.id}`} value={`into ${z.id}`}>
                    add to {z.name}
                  </option>
                ))}
                {zones.map((z) => (
                  <option key={`-${z.id}`} value={`out_of ${z.id}`}>
                    take out of {z.name}
                  </option>
                ))}
              </select>
            )}
          </Actions>
          <Pick
            label="Class"
            value=""
            onChange={(e) => {
              if (!e.target.value) return;
              act.mutate({ do: "class", code: Number(e.target.value) });
              set({ colourBy: "class" });
            }}
            options={[["", "give a class …"], ...classes.map((c) => [String(c.code), c.name] as [string, string])]}
          />
        </>
      )}
      {ghosts !== "none" && !dead && <Quiet>Deleted points are seen: what you draw now selects among them.</Quiet>}
    </>
  );
}

const TOOLS: { tool: Tool; words: string; keys: string; icon: LucideIcon; how: string }[] = [
  { tool: "lasso", words: "Lasso", keys: "l", icon: Lasso, how: "Hold the left button and draw round the points." },
  { tool: "rectangle", words: "Rectangle", keys: "a", icon: SquareDashed, how: "Draw from corner to corner." },
  {
    tool: "corners",
    words: "Corners",
    keys: "",
    icon: Pentagon,
    how: "Click corner by corner, the first one again to close.",
  },
  { tool: "brush", words: "Brush", keys: "", icon: Brush, how: "Paint over things in front; what they hide stays." },
];

/** The tools that draw, and what they take. */
export function Tools({ id }: { id: string }) {
  const { tool, front, brush, deep, picks, set } = useView();
  const depth = useLengths({ front: front ?? 3, deep }, "m", {
    front: { least: 0.005, most: 20 },
    deep: { least: 0.005, most: 20 },
  });
  useEffect(() =>
    provide(
      TOOLS.filter((t) => t.keys).map((t) => ({
        id: `clean.${t.tool}`,
        title: `Select with the ${t.words.toLowerCase()}`,
        keys: t.keys,
        run: () => set({ tool: t.tool }),
      })),
    ),
  );
  const pick = (what: "surface" | "smooth" | "thing") => {
    const v = useView.getState();
    set({
      tool: "pick",
      picks: [],
      onPick: (at, station) =>
        void selectBy(id, { kind: "grow", at, station, what, reach: 8 }).then(() => v.set({ picks: [] })),
    });
  };
  const drawing = TOOLS.find((t) => t.tool === tool);
  return (
    <>
      <Heading>Select</Heading>
      <div className="flex flex-wrap gap-1.5">
        {TOOLS.map(({ tool: own, words, icon: Icon, keys }) => (
          <Hint key={own} text={keys ? `Key ${keys.toUpperCase()}` : ""}>
            <button
              type="button"
              aria-pressed={tool === own}
              onClick={() => set({ tool: tool === own ? "none" : own })}
              className={`flex cursor-pointer items-center gap-1 rounded border px-2 py-1 text-[13px] ${tool === own ? "border-lamp bg-halo text-ink" : "border-rule bg-card text-action hover:border-action"}`}
            >
              <Icon size={14} aria-hidden /> {words}
            </button>
          </Hint>
        ))}
      </div>
      {drawing && (
        <Quiet>
          {drawing.how} Shift adds, Alt takes away, Ctrl keeps what both have. Hidden, cropped and locked points are
          left alone.
        </Quiet>
      )}
      {(tool === "lasso" || tool === "rectangle" || tool === "corners") && (
        <>
          <label className="flex items-center gap-2 py-0.5 text-[13.5px]">
            <input
              type="checkbox"
              checked={front !== null}
              onChange={(e) => set({ front: e.target.checked ? (depth.values?.front ?? 3) : null })}
            />
            only what stands in front: what it hides stays
          </label>
          {front !== null && (
            <LengthField
              of={depth}
              name="front"
              label="No deeper than"
              onCommit={() => depth.values && set({ front: depth.values.front })}
            />
          )}
        </>
      )}
      {tool === "brush" && (
        <>
          <label className="flex items-center gap-2 py-0.5 text-[13.5px]">
            <span className="flex-1">Width</span>
            <input
              type="range"
              min={4}
              max={60}
              value={brush}
              aria-label="Width of the brush"
              onChange={(e) => set({ brush: e.target.valueAsNumber })}
            />
            <span className="w-12 text-right font-mono text-[12px] text-quiet">{2 * brush} px</span>
          </label>
          <LengthField
            of={depth}
            name="deep"
            label="No deeper than"
            onCommit={() => depth.values && set({ deep: depth.values.deep })}
          />
        </>
      )}
      <Actions>
        <Button pressed={tool === "pick" && picks.length === 0} onClick={() => pick("surface")}>
          Surface
        </Button>
        <Button onClick={() => pick("smooth")}>What bends on</Button>
        <Button onClick={() => pick("thing")}>Whole thing</Button>
      </Actions>
      {tool === "pick" && <Quiet>Click a point: what hangs together with it is selected.</Quiet>}
    </>
  );
}
