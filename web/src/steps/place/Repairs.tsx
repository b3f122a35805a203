/** What control can be put right by when it was found to be wrong, and the placements that were applied before. */
import { http, sent, type Control } from "../../api/client";
import { tellUndoable, useAsk, usePlacements } from "../../api/queries";
import { Actions, Button, fixed, Heading, Quiet } from "../../kit";
import { Await } from "../../kit/await";

/** A button for each finding that one request puts right. */
export function Repairs({ id, control }: { id: string; control: Control }) {
  const path = { params: { path: { project_id: id } } };
  const done = (what: string) => ({ onSuccess: () => void tellUndoable(id, what) });
  const exchange = useAsk(id, () =>
    sent(http.POST("/api/projects/{project_id}/control/exchange", { ...path, body: { part: control.part } })),
  );
  const unit = useAsk(id, (unit: "m" | "mm" | "ft" | "us_ft") =>
    sent(http.POST("/api/projects/{project_id}/control/unit", { ...path, body: { unit } })),
  );
  const swap = useAsk(id, (body: { a: string; b: string }) =>
    sent(http.POST("/api/projects/{project_id}/control/swap", { ...path, body })),
  );
  const has = (code: string) => control.findings.find((f) => f.code === code);
  const swapped = has("swapped")?.subject.split(" and ") ?? [];
  const pair = swapped.map((name) => control.points.find((p) => p.name === name)?.id);
  const wrong = has("unit")?.message ?? "";
  const units: ["m" | "mm" | "ft" | "us_ft", string][] = wrong.includes("written in feet")
    ? [
        ["us_ft", "Read it in US survey feet"],
        ["ft", "Read it in international feet"],
      ]
    : wrong.includes("written in millimetres")
      ? [["mm", "Read it in millimetres"]]
      : [["m", "Read it in metres"]];
  return (
    <Actions>
      {has("axes_exchanged") && (
        <Button
          main
          busy={exchange.isPending}
          onClick={() => exchange.mutate(undefined, done("Exchanged easting and northing."))}
        >
          Exchange easting and northing
        </Button>
      )}
      {wrong &&
        units.map(([key, words], k) => (
          <Button key={key} main={k === 0} busy={unit.isPending} onClick={() => unit.mutate(key, done(`${words}.`))}>
            {words}
          </Button>
        ))}
      {pair.length === 2 && pair[0] && pair[1] && (
        <Button
          main
          busy={swap.isPending}
          onClick={() => swap.mutate({ a: pair[0]!, b: pair[1]! }, done(`Swapped ${swapped.join(" and ")}.`))}
        >
          Swap {swapped.join(" and ")}
        </Button>
      )}
    </Actions>
  );
}

/** Placements that were applied, beside the one that is solved now. */
export function Placements({ id }: { id: string }) {
  const asked = usePlacements(id);
  const restore = useAsk(id, (frame: string) =>
    sent(
      http.POST("/api/projects/{project_id}/placements/{frame_id}/restore", {
        params: { path: { project_id: id, frame_id: frame } },
      }),
    ),
  );
  const list = asked.data ?? [];
  if (asked.isSuccess && list.length === 0) return null;
  return (
    <Await of={[asked]} what="placements">
      <Heading>Placements that were applied</Heading>
      {list.map((p) => (
        <div key={p.id} className="flex items-baseline gap-2 border-b border-rule/60 py-1 text-[13.5px] last:border-0">
          <span className="flex-1">
            {p.revision}
            {p.mode === "rigid" ? "" : `, ${p.mode}`}: {p.points.length} points, ±{fixed(p.sigma_mm)} mm
            {p.check_mm !== null && `, check ${fixed(p.check_mm)} mm`}
            {p.moves_mm && moved(p.moves_mm) >= 0.05 && (
              <span className="text-quiet">
                {" "}
                · lies {fixed(moved(p.moves_mm))} mm from what is solved now
                {p.turns_mrad !== null && p.turns_mrad >= 0.005 && `, turned by ${fixed(p.turns_mrad, 2)} mrad`}
              </span>
            )}
          </span>
          {p.in_use ? (
            <span className="text-quiet">in use</span>
          ) : (
            <button
              type="button"
              className="cursor-pointer text-action underline"
              onClick={() =>
                restore.mutate(p.id, {
                  onSuccess: () => void tellUndoable(id, `Placement ${p.revision} is in use again.`),
                })
              }
            >
              restore
            </button>
          )}
        </div>
      ))}
      {list.length > 1 && <Quiet>Nothing of them is lost: restoring one keeps the others.</Quiet>}
    </Await>
  );
}

const moved = (shift: number[]) => Math.hypot(...shift);
