/** A total station: set up on known marks, targets measured, control taken from it. */
import { useState } from "react";
import { http, sent, type Schemas } from "../../api/client";
import { tell, tellUndoable, useAsk } from "../../api/queries";
import { Actions, Button, fixed, Heading, Pick, Row, Sentence } from "../../kit";
import { path, type Device } from "./device";

export function TotalStation({ id, device }: { id: string; device: Device }) {
  const [marks, setMarks] = useState<Record<string, string[]>>(() =>
    Object.fromEntries(Object.entries(device.marks).map(([k, v]) => [k, v.map((x) => x.toFixed(4))])),
  );
  const [off, setOff] = useState<string[]>([]);
  const [fit, setFit] = useState<Schemas["SetUpOut"] | null>(null);
  const [target, setTarget] = useState("");
  const used = Object.entries(marks).filter(([k]) => !off.includes(k));
  const read = used.map(([k, v]) => [k, v.map((t) => Number(t.replace(",", ".")))] as const);
  const wrong = read.find(([, v]) => v.some((x) => !Number.isFinite(x)))?.[0];
  const setUp = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/devices/{name}/set-up", {
          ...path(id, device),
          body: { marks: Object.fromEntries(read.map(([k, v]) => [k, [...v]])) },
        }),
      ),
    setFit,
  );
  const measure = useAsk(
    id,
    (of: string) =>
      sent(
        http.POST("/api/projects/{project_id}/devices/{name}/measure", { ...path(id, device), body: { target: of } }),
      ),
    (r) => tell(`${r.name} is measured, ±${fixed(1000 * r.sigma)} mm in each coordinate.`),
  );
  const take = useAsk(
    id,
    () => sent(http.POST("/api/projects/{project_id}/devices/{name}/control", path(id, device))),
    (r) => void tellUndoable(id, `${r.message}.`),
  );
  const done = new Map(device.measured.map((m) => [m.name, m]));
  const next = target || device.targets.find((t) => !done.has(t)) || "";
  return (
    <>
      <Sentence>
        {device.set_up
          ? `It is set up to ±${fixed(1000 * (device.sigma ?? 0))} mm, and has measured ${device.measured.length} ${device.measured.length === 1 ? "target" : "targets"}.`
          : "Set it up on the marks whose coordinates are known."}
      </Sentence>
      <Heading>Known marks, metres</Heading>
      <div className="grid grid-cols-[auto_3.5rem_1fr_1fr_1fr_5.5rem] items-center gap-x-2 gap-y-0.5 text-[12.5px] text-quiet">
        <span />
        <span>mark</span>
        <span className="text-right">E</span>
        <span className="text-right">N</span>
        <span className="text-right">H</span>
        <span className="text-right">left mm</span>
        {Object.entries(marks).map(([k, v]) => (
          <Mark
            key={k}
            name={k}
            values={v}
            on={!off.includes(k)}
            left={
              fit?.hidden.includes(k) ? "hidden" : fit?.residuals[k] !== undefined ? fixed(1000 * fit.residuals[k]) : ""
            }
            turn={() => setOff(off.includes(k) ? off.filter((x) => x !== k) : [...off, k])}
            set={(next) => setMarks({ ...marks, [k]: next })}
          />
        ))}
      </div>
      <Actions>
        <Button
          main={!device.set_up}
          busy={setUp.isPending}
          onClick={() => setUp.mutate(undefined)}
          why={wrong ? `${wrong}: a coordinate is no number` : used.length < 2 ? "it takes two marks at least" : ""}
        >
          {device.set_up ? "Set it up anew" : "Set it up"}
        </Button>
      </Actions>
      {fit && <Row name="stands at" value={fit.position.map((v) => v.toFixed(4)).join("  ")} unit="m" />}
      <Heading>Targets</Heading>
      <Pick
        label="Aim at"
        value={next}
        onChange={(e) => setTarget(e.target.value)}
        options={device.targets.map((t): [string, string] => [t, done.has(t) ? `${t}, measured` : t])}
      />
      <Actions>
        <Button
          main={device.set_up}
          busy={measure.isPending}
          onClick={() => {
            measure.mutate(next);
            setTarget("");
          }}
          why={device.set_up ? (next ? "" : "all are measured") : "set it up first"}
        >
          Measure it
        </Button>
        <Button
          busy={take.isPending}
          onClick={() => take.mutate(undefined)}
          why={device.measured.length ? "" : "nothing has been measured yet"}
        >
          Take what it measured as control
        </Button>
      </Actions>
      {device.measured.map((m) => (
        <Row
          key={m.name}
          name={m.name}
          value={m.enh.map((v) => v.toFixed(4)).join("  ")}
          unit="m"
          limit={`±${fixed(1000 * m.sigma)} mm`}
        />
      ))}
    </>
  );
}

function Mark({
  name,
  values,
  on,
  left,
  turn,
  set,
}: {
  name: string;
  values: string[];
  on: boolean;
  left: string;
  turn: () => void;
  set: (values: string[]) => void;
}) {
  return (
    <>
      <input type="checkbox" aria-label={`Use ${name}`} checked={on} onChange={turn} />
      <span className="font-mono text-[13px] text-ink">{name}</span>
      {values.map((v, k) => (
        <input
          key={k}
          aria-label={`${"ENH"[k]} of ${name}`}
          value={v}
          onChange={(e) => set(values.map((x, i) => (i === k ? e.target.value : x)))}
          className="w-full min-w-0 rounded border border-rule bg-card px-1 py-0.5 text-right font-mono text-[12.5px] text-ink"
        />
      ))}
      <span className="figure text-[12.5px] text-ink">{left}</span>
    </>
  );
}
