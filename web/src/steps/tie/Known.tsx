/** What is known beside the scans: tapes between targets, plumb walls, the scanners' levels; given here, checked in the ledger. */
import { useEffect, useState } from "react";
import { http, sent, type Schemas } from "../../api/client";
import { tellUndoable, useAsk, useKnown, useProject, useSightings } from "../../api/queries";
import { Actions, Button, Field, fixed, Heading, Pick, Quiet, Row, Sentence, StatusWord, type Column } from "../../kit";
import { LengthField, useLengths } from "../../kit/fields";
import { Table } from "../../kit/table";
import { lengthIn, UNITS } from "../../kit/units";
import { useView } from "../../kit/view";
import { PlaceRow } from "../../parts/PlaceRow";

type Known = Schemas["KnownOut"];

export function Beside({ id }: { id: string }) {
  const set = useView((s) => s.set);
  const targets = new Set((useSightings(id).data ?? []).map((g) => g.target).filter(Boolean)).size;
  return (
    <>
      <Heading>Known beside the scans</Heading>
      <Quiet>A distance by tape, or a wall that is plumb, takes part in the adjustment by its deviation.</Quiet>
      <Actions>
        <Button onClick={() => set({ knowing: "tape" })} why={targets > 1 ? "" : "a tape needs two targets"}>
          Give a tape
        </Button>
        <Button onClick={() => set({ knowing: "plumb" })}>Say that a wall is plumb</Button>
      </Actions>
    </>
  );
}

export const GiveKnown = ({ id, kind }: { id: string; kind: "tape" | "plumb" }) =>
  kind === "tape" ? <Tape id={id} /> : <Plumb id={id} />;

function Tape({ id }: { id: string }) {
  const { set } = useView();
  const project = useProject(id).data;
  const sightings = useSightings(id).data ?? [];
  const at = new Map(sightings.filter((g) => g.target).map((g) => [g.target!, g] as const));
  const options: [string, string][] = [
    ["", "choose"],
    ...[...at].map(([k, g]): [string, string] => [k, g.target_name]),
  ];
  const [a, setA] = useState(useView.getState().target ?? "");
  const [b, setB] = useState("");
  const lengths = useLengths({ length: 1, sigma: 0.002 }, project?.unit ?? "m", {
    length: { least: 0.01, most: 1000 },
    sigma: { least: 0.00001, most: 1 },
  });
  const [from, to] = [at.get(a), at.get(b)];
  const now =
    from && to && from.part === to.part ? Math.hypot(...from.position.map((v, k) => v - to.position[k]!)) : null;
  const done = () => set({ knowing: null });
  const add = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/known/tape", {
          params: { path: { project_id: id } },
          body: { a, b, metres: lengths.values!.length, sigma_mm: 1000 * lengths.values!.sigma },
        }),
      ),
    () => {
      void tellUndoable(id, "The tape takes part in the adjustment.");
      set({ knowing: null, ledger: "known" });
    },
  );
  return (
    <>
      <Sentence>A distance between two targets, as it was measured by tape.</Sentence>
      <Pick label="From" value={a} onChange={(e) => setA(e.target.value)} options={options} />
      <Pick label="To" value={b} onChange={(e) => setB(e.target.value)} options={options} />
      <LengthField of={lengths} name="length" label="Length" />
      <LengthField of={lengths} name="sigma" label="Deviation" />
      {now !== null && (
        <Row
          name="in the network now"
          value={lengthIn(now, project?.unit ?? "m")}
          unit={UNITS[project?.unit ?? "m"].name}
        />
      )}
      <Actions>
        <Button
          main
          busy={add.isPending}
          onClick={() => add.mutate(undefined)}
          why={!a || !b ? "choose both targets" : a === b ? "choose two different targets" : lengths.why}
        >
          Let it take part
        </Button>
        <Button onClick={done}>Leave it</Button>
      </Actions>
    </>
  );
}

function Plumb({ id }: { id: string }) {
  const { picks, set, letGo } = useView();
  const project = useProject(id).data;
  const [sigma, setSigma] = useState("1");
  const [name, setName] = useState("");
  useEffect(() => {
    set({ tool: "pick", picks: [], onPick: (at) => set({ picks: [at] }), panes: ["space", "plan"] });
    return letGo;
  }, [set, letGo]);
  const at = picks[0];
  const value = Number(sigma.replace(",", "."));
  const add = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/known/plumb", {
          params: { path: { project_id: id } },
          body: { at: at!, sigma_mm_m: value, name, part: project?.part ?? null },
        }),
      ),
    () => {
      void tellUndoable(id, "The wall takes part in the adjustment.");
      set({ knowing: null, ledger: "known" });
    },
  );
  return (
    <>
      <Sentence>{at ? "How plumb is that wall known to be?" : "Pick a bare part of the wall in the cloud."}</Sentence>
      <Quiet>
        Its plane is fitted in every station that saw it. It counts where the scanners' levels, or walls that face
        apart, say what is up.
      </Quiet>
      <PlaceRow id={id} name="wall" at={at} />
      <Field label="Plumb within ±" unit="mm/m" value={sigma} onChange={(e) => setSigma(e.target.value)} />
      <Field
        label="Name"
        type="text"
        maxLength={60}
        value={name}
        placeholder="Wall 1"
        onChange={(e) => setName(e.target.value)}
      />
      <Actions>
        <Button
          main
          busy={add.isPending}
          onClick={() => add.mutate(undefined)}
          why={at ? (value > 0 && value <= 50 ? "" : "from 0.001 to 50 mm a metre") : "nothing is picked yet"}
        >
          Let it take part
        </Button>
        <Button onClick={() => set({ knowing: null })}>Leave it</Button>
      </Actions>
    </>
  );
}

const KINDS = { tape: "tape", plumb: "plumb wall", level: "level" };

export function KnownLedger({ id }: { id: string }) {
  const asked = useKnown(id);
  const path = (k: Known) => ({ params: { path: { project_id: id, known_id: k.id } } });
  const change = useAsk(id, (k: Known) =>
    sent(
      http.PATCH("/api/projects/{project_id}/known/{known_id}", {
        ...path(k),
        body: { version: k.version, used: !k.used },
      }),
    ),
  );
  const remove = useAsk(id, (k: Known) =>
    sent(
      http.DELETE("/api/projects/{project_id}/known/{known_id}", {
        params: { ...path(k).params, query: { version: k.version } },
      }),
    ),
  );
  const columns: Column<Known>[] = [
    {
      head: "status",
      cell: (k) => <StatusWord status={k.status as "taut"} off={!k.used && k.kind !== "level"} />,
      value: (k) => k.status,
      width: "96px",
    },
    { head: "kind", cell: (k) => KINDS[k.kind], value: (k) => k.kind, width: "100px" },
    { head: "what", cell: (k) => <span className="font-mono">{k.name}</span>, value: (k) => k.name },
    {
      head: "metres",
      figure: true,
      cell: (k) => (k.metres === null ? "" : fixed(k.metres, 4)),
      value: (k) => k.metres,
    },
    { head: "given ±", figure: true, cell: (k) => (k.sigma === null ? "" : fixed(k.sigma, 2)), value: (k) => k.sigma },
    { head: "off by", figure: true, cell: (k) => fixed(k.off, 2), value: (k) => k.off },
    {
      head: "unit",
      cell: (k) => (k.kind === "tape" ? "mm" : "mm/m"),
      value: (k) => (k.kind === "tape" ? "mm" : "mm/m"),
    },
    { head: "in deviations", figure: true, cell: (k) => fixed(k.normalized), value: (k) => k.normalized },
    {
      head: "used",
      cell: (k) =>
        k.kind === "level" ? (
          k.used ? (
            "yes"
          ) : (
            "left out: it leans"
          )
        ) : (
          <input type="checkbox" aria-label={`Use ${k.name}`} checked={k.used} onChange={() => change.mutate(k)} />
        ),
    },
    {
      head: "can be",
      cell: (k) =>
        k.kind !== "level" && (
          <button
            type="button"
            className="cursor-pointer text-action underline"
            onClick={() => remove.mutate(k, { onSuccess: () => void tellUndoable(id, `Took ${k.name} away.`) })}
          >
            taken away
          </button>
        ),
    },
  ];
  return (
    <Table
      what="what is known"
      from={[asked]}
      rows={asked.data ?? []}
      columns={columns}
      id={(k) => k.id}
      empty="Nothing is known beside the scans: no tape, no plumb wall, and the scanners may lean."
    />
  );
}
