/** What the card says of chosen lines, and what can be done with them. */
import { useState } from "react";
import { http, sent, type Schemas, type Trace } from "../../api/client";
import { tell, tellUndoable, useAsk, useLayers, useProject } from "../../api/queries";
import { Actions, Button, Field, fixed, grouped, Pick, Quiet, Row, Sentence } from "../../kit";
import { lengthIn, UNITS } from "../../kit/units";
import { removeTraces } from "./SheetPane";

export function Several({ id, traces }: { id: string; traces: Trace[] }) {
  const join = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/traces/edit", {
          params: { path: { project_id: id } },
          body: { do: "join", ids: traces.map((t) => t.id), at: [], value: 0, count: 2 },
        }),
      ),
    () => tell("They are one polyline now."),
  );
  return (
    <>
      <Sentence>{traces.length} lines and shapes are chosen.</Sentence>
      <Actions>
        <Button busy={join.isPending} onClick={() => join.mutate(undefined)}>
          Join them where ends meet
        </Button>
        <Button
          onClick={() =>
            void removeTraces(
              id,
              traces.map((t) => t.id),
            )
          }
        >
          Remove them
        </Button>
      </Actions>
    </>
  );
}

const WHAT: Record<string, string> = {
  polyline: "A polyline",
  arc: "An arc",
  ellipse: "An ellipse",
  spline: "A curve",
  point: "A point",
  text: "A text",
  hatch: "A hatched area",
  dimension: "A dimension",
  picture: "A picture",
};

export function TraceCard({ id, trace: t }: { id: string; trace: Trace }) {
  const [stripe, setStripe] = useState("120");
  const change = useAsk(id, (body: Omit<Schemas["TracePatch"], "version">) =>
    sent(
      http.PATCH("/api/projects/{project_id}/traces/{trace_id}", {
        params: { path: { project_id: id, trace_id: t.id } },
        body: { ...body, version: t.version },
      }),
    ),
  );
  const refit = useAsk(
    id,
    (width: number | null) =>
      sent(
        http.POST("/api/projects/{project_id}/traces/{trace_id}/fit", {
          params: { path: { project_id: id, trace_id: t.id } },
          body: { version: t.version, stripe: width },
        }),
      ),
    (r) =>
      void tellUndoable(
        id,
        `It moved by ${fixed(r.moved_mm)} mm, and lies within ${fixed(r.rms_mm)} mm of its points.`,
      ),
  );
  const fit = t.fit as Record<string, number>;
  const layers = useLayers(id).data ?? [];
  const unit = useProject(id).data?.unit ?? "m";
  const long = fit["length"] ?? 0;
  const what =
    t.kind === "circle"
      ? `A circle of ${fixed(2000 * t.radius, 1)} mm diameter`
      : t.kind === "line" || long > 0
        ? `${WHAT[t.kind] ?? "A line"} of ${lengthIn(long, unit)} ${UNITS[unit].name}`
        : (WHAT[t.kind] ?? t.kind);
  const opening =
    fit["width_mm"] !== undefined
      ? `An opening ${lengthIn(fit["width_mm"] / 1000, unit)} ${UNITS[unit].name} wide and ${lengthIn(fit["height_mm"]! / 1000, unit)} high`
      : null;
  const hidden = (t.fit["hidden"] as string[] | undefined) ?? [];
  const stations = (t.fit["stations"] as string[] | undefined) ?? [];
  const steel = t.fit["section"] as string | undefined;
  const width = Number(stripe.replace(",", ".")) / 1000;
  return (
    <>
      <Sentence>
        {opening ?? (steel ? `A column of steel, ${steel}` : what)}
        {opening
          ? `; of its sides the one known least is within ${fixed(fit["error_mm"])} mm (one deviation).`
          : fit["rms_mm"] !== undefined
            ? `, found in ${grouped(fit["points"] ?? 0)} points that lie within ${fixed(fit["rms_mm"])} mm of it.`
            : ", drawn by hand."}
      </Sentence>
      {t.why_old && <Quiet>It is out of date: {t.why_old}. Fit it anew, or find lines again.</Quiet>}
      {hidden.length > 0 && (
        <Quiet>
          {`Not seen: its ${hidden.join(" and ")}. There it ends where what stands before it let no ray through.`}
        </Quiet>
      )}
      {fit["thickness_mm"] !== undefined && (
        <Row name="thickness of the wall" value={fixed(fit["thickness_mm"])} unit="mm" />
      )}
      {fit["rise_mm"] !== undefined && (
        <>
          <Row name={`rise of the flight of ${fit["treads"]} treads, mean`} value={fixed(fit["rise_mm"])} unit="mm" />
          <Row name="going, mean" value={fixed(fit["going_mm"])} unit="mm" />
          <Row name="rise that differs most from the mean, by" value={fixed(fit["uneven_mm"])} unit="mm" />
        </>
      )}
      {fit["nominal_mm"] !== undefined && <Row name="standard diameter" value={fixed(fit["nominal_mm"])} unit="mm" />}
      {fit["seen"] !== undefined && (
        <Row name="seen of its length" value={lengthIn(fit["seen"], unit)} unit={UNITS[unit].name} />
      )}
      {fit["bridged"] !== undefined && fit["bridged"] > 0.01 && (
        <Row name="bridged" value={lengthIn(fit["bridged"], unit)} unit={UNITS[unit].name} />
      )}
      {fit["lean_mm_m"] !== undefined && (
        <Row name="leans to the room, per metre" value={fixed(fit["lean_mm_m"])} unit="mm" />
      )}
      {fit["out_of_plumb_mm"] !== undefined && (
        <Row name="out of plumb over its length" value={fixed(fit["out_of_plumb_mm"])} unit="mm" />
      )}
      {fit["out_of_level_mm"] !== undefined && (
        <Row name="out of level over its length" value={fixed(fit["out_of_level_mm"])} unit="mm" />
      )}
      {fit["share"] !== undefined && (
        <Row name="share of the circle seen" value={fixed(100 * fit["share"], 0)} unit="%" />
      )}
      {fit["error_mm"] !== undefined && (
        <Row name="expected to be off by" value={`±${fixed(fit["error_mm"])}`} unit="mm" />
      )}
      {fit["moved_mm"] !== undefined && (
        <Row name="moved from where it was found" value={fixed(fit["moved_mm"])} unit="mm" />
      )}
      {stations.length > 0 && <Quiet>Seen from {stations.join(", ")}.</Quiet>}
      <Pick
        label="Layer"
        value={t.layer}
        onChange={(e) => change.mutate({ layer: e.target.value })}
        options={[...new Set([...layers.map((l) => l.name), t.layer])].map((l) => [l, l])}
      />
      <label className="flex items-center gap-2 py-0.5 text-[13.5px]">
        <input type="checkbox" checked={t.dashed} onChange={() => change.mutate({ shape: { dashed: !t.dashed } })} />{" "}
        drawn dashed, as a guess
      </label>
      <Actions>
        {t.state === "found" && (
          <Button main onClick={() => change.mutate({ state: "accepted" })}>
            Accept it
          </Button>
        )}
        <Button onClick={() => change.mutate({ state: "rejected" })}>
          {t.state === "found" ? "Reject it" : "Remove it"}
        </Button>
        {["line", "polyline", "arc", "circle"].includes(t.kind) && (
          <Button busy={refit.isPending} onClick={() => refit.mutate(null)}>
            Fit it to the points
          </Button>
        )}
      </Actions>
      {["line", "polyline"].includes(t.kind) && (
        <details className="text-[13.5px]">
          <summary className="cursor-pointer text-action">It is a painted stripe or a joint</summary>
          <Field label="Width of the stripe" unit="mm" value={stripe} onChange={(e) => setStripe(e.target.value)} />
          <Actions>
            <Button
              busy={refit.isPending}
              why={width >= 0.01 && width <= 1 ? "" : "10 to 1000 mm"}
              onClick={() => refit.mutate(width)}
            >
              Lay it on the middle of the stripe
            </Button>
          </Actions>
        </details>
      )}
    </>
  );
}
