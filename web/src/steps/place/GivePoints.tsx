/** Control points by hand, one by one, and many matched by a list of names that differ. What they leave is seen before it is applied. */
import { useState } from "react";
import { http, sent, type Control } from "../../api/client";
import { tellUndoable, useAsk, useProject } from "../../api/queries";
import { Actions, Button, Field, fixed, Heading, Pick, Quiet, Row, Sentence } from "../../kit";
import { metresOf } from "../../kit/length";
import { UNITS } from "../../kit/units";
import { useView } from "../../kit/view";

/** Metres of a coordinate as typed in a unit: null for nothing, undefined for what is no length. */
function metres(text: string, unit: keyof typeof UNITS): number | null | undefined {
  if (!text.trim()) return null;
  return metresOf(text.trim(), unit) ?? undefined;
}

export function GivePoints({ id, control, done }: { id: string; control: Control; done: () => void }) {
  const unit = useProject(id).data?.unit ?? "m";
  const [name, setName] = useState("");
  const [target, setTarget] = useState("");
  const [enh, setEnh] = useState(["", "", ""]);
  const [sigma, setSigma] = useState("");
  const [list, setList] = useState("");
  const values = enh.map((t) => metres(t, unit));
  const deviation = metres(sigma, "mm");
  const add = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/control/points", {
          params: { path: { project_id: id } },
          body: {
            ...{ name, e: values[0] ?? null, n: values[1] ?? null, h: values[2] ?? null },
            ...{ sigma_mm: deviation ? 1000 * deviation : null, target: target || null },
          },
        }),
      ),
    () => {
      void tellUndoable(id, `Gave the control point ${name}.`);
      setName("");
      setTarget("");
      setEnh(["", "", ""]);
    },
  );
  const match = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/control/pairs", {
          params: { path: { project_id: id } },
          body: { text: list },
        }),
      ),
    () => {
      void tellUndoable(id, "Matched control by the list.");
      setList("");
    },
  );
  const wrong = values.some((v) => v === undefined) || deviation === undefined ? "a length is no number" : "";
  const none = values.every((v) => v === null) ? "give at least one coordinate" : "";
  const used = control.points.filter((p) => p.residual_mm);
  return (
    <>
      <Sentence>{control.sentence}</Sentence>
      <Quiet>
        Say where a target, or a place that you pick as one, is to lie. Four of them move any cloud as a whole; what
        they leave is seen here before it is applied. A coordinate that is not known stays empty: two points of a wall
        on a grid line have E, or N, alone.
      </Quiet>
      <Field
        label="Name of the point"
        type="text"
        maxLength={120}
        value={name}
        onChange={(e) => setName(e.target.value)}
      />
      <Pick
        label="Is the target"
        value={target}
        onChange={(e) => {
          setTarget(e.target.value);
          if (!name) setName(control.targets.find((t) => t.id === e.target.value)?.name ?? "");
        }}
        options={[["", "not matched"], ...control.targets.map((t): [string, string] => [t.id, t.name])]}
      />
      {["E", "N", "H"].map((axis, k) => (
        <Field
          key={axis}
          label={axis}
          unit={UNITS[unit].name}
          value={enh[k]}
          placeholder="not known"
          onChange={(e) => setEnh(enh.map((v, i) => (i === k ? e.target.value : v)))}
        />
      ))}
      <Field label="Deviation" unit="mm" value={sigma} placeholder="usual" onChange={(e) => setSigma(e.target.value)} />
      <Actions>
        <Button
          main
          busy={add.isPending}
          onClick={() => add.mutate(undefined)}
          why={name.trim() ? wrong || none : "name it"}
        >
          Give this point
        </Button>
        <Button
          onClick={() => {
            useView.getState().go("tie");
            useView.getState().set({ picking: true });
          }}
        >
          Pick a place as a target
        </Button>
        <Button onClick={done}>That is all</Button>
      </Actions>
      {used.length > 0 && <Heading>What they leave, limit {fixed(control.tolerance_mm)} mm</Heading>}
      {used.map((p) => (
        <Row key={p.id} name={p.name} value={fixed(p.residual_mm?.["d3"])} unit="mm" doubt={p.status !== "taut"} />
      ))}
      <Heading>Match by a list</Heading>
      <Quiet>A line for each pair: the target, then the control point. All of them are matched, or none.</Quiet>
      <textarea
        aria-label="Pairs of target and control point"
        rows={4}
        value={list}
        placeholder={"T1; 401\nT2; 402"}
        onChange={(e) => setList(e.target.value)}
        className="w-full rounded border border-rule bg-card p-1.5 font-mono text-[13px]"
      />
      <Actions>
        <Button
          busy={match.isPending}
          onClick={() => match.mutate(undefined)}
          why={list.trim() ? (control.points.length ? "" : "there is no control yet") : "write the pairs first"}
        >
          Match these
        </Button>
      </Actions>
    </>
  );
}
