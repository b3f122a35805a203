/** A natural point as a target: a corner of three planes, or the place that was picked, in every station that saw it. */
import { useEffect, useState } from "react";
import { http, sent } from "../../api/client";
import { tellUndoable, useAsk, useJobs, useProject } from "../../api/queries";
import { Actions, Button, Field, Heading, Quiet, Sentence } from "../../kit";
import { LengthField, useLengths } from "../../kit/fields";
import { useView } from "../../kit/view";
import { PlaceRow } from "../../parts/PlaceRow";
import { JobLine } from "../../parts/JobLine";

type Kind = "corner" | "edge" | "mark" | "point" | "sphere" | "board";
const KINDS: [Kind, string, string][] = [
  [
    "corner",
    "Corner",
    "Three planes are fitted round the pick in every station that sees them; the target is where they meet.",
  ],
  [
    "edge",
    "Edge",
    "Two planes are fitted round the pick in every station that sees them; the target is exact across the edge, and along it as good as the pick.",
  ],
  [
    "mark",
    "Mark",
    "A painted cross or disc, or a nail head, that is brighter or darker than the surface round it; the target is its middle.",
  ],
  ["point", "The place itself", "The target is the place that is picked, as exact as the points lie close there."],
  ["sphere", "Sphere", "Pick on the sphere: its fit is finished in every station that saw it."],
  ["board", "Board", "Pick near the middle of the board: its fit is finished in every station that saw it."],
];

export function PickTarget({ id }: { id: string }) {
  const { picks, set, letGo } = useView();
  const project = useProject(id).data;
  const [kind, setKind] = useState<Kind>("corner");
  const sizes = useLengths({ radius: 0.1, edge: 0.3 }, "mm", {
    radius: { least: 0.01, most: 1 },
    edge: { least: 0.05, most: 2 },
  });
  const [name, setName] = useState("");
  useEffect(() => {
    const { panes } = useView.getState(); // corners are seen in space, where a plan shows a slab alone
    set({
      tool: "pick",
      picks: [],
      panes: panes.includes("space") || panes.includes("panorama") ? panes : ["space", "plan"],
      onPick: (at) => set({ picks: [at] }),
    });
    return letGo;
  }, [set, letGo]);
  const at = picks[0];
  const done = () => set({ picking: false });
  const keep = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/targets/pick", {
          params: { path: { project_id: id } },
          body: { kind: kind as "corner", at: at!, name, part: project?.part ?? null },
        }),
      ),
    (r) => {
      void tellUndoable(id, `${r.name} is a target, seen from ${r.sightings} station${r.sightings === 1 ? "" : "s"}.`);
      set({ picks: [] });
      setName("");
    },
  );
  const fit = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/targets/fit", {
          params: { path: { project_id: id } },
          body: {
            kind: kind as "sphere",
            size_mm: 1000 * (kind === "sphere" ? sizes.values!.radius : sizes.values!.edge),
            at: at!,
            name,
            part: project?.part ?? null,
          },
        }),
      ),
    () => {
      set({ picks: [] });
      setName("");
    },
  );
  const fitted = kind === "sphere" || kind === "board";
  const live = (useJobs(id).data ?? []).filter(
    (j) => j.kind === "target" && (j.state === "running" || j.state === "waiting"),
  );
  return (
    <>
      <Sentence>
        {at ? "Keep this place as a target." : "Pick the place in space, in the plan or in a panorama."}
      </Sentence>
      <Quiet>{KINDS.find(([k]) => k === kind)![2]}</Quiet>
      <div className="my-1 flex flex-wrap gap-1.5">
        {KINDS.map(([k, words]) => (
          <Button key={k} pressed={kind === k} onClick={() => setKind(k)}>
            {words}
          </Button>
        ))}
      </div>
      {kind === "sphere" && <LengthField of={sizes} name="radius" label="Radius" />}
      {kind === "board" && <LengthField of={sizes} name="edge" label="Edge" />}
      <Heading>Picked</Heading>
      <PlaceRow id={id} name="place" at={at} />
      <Field
        label="Name, as control has it"
        type="text"
        maxLength={60}
        value={name}
        placeholder="P1, P2 …"
        onChange={(e) => setName(e.target.value)}
      />
      <Actions>
        <Button
          main
          busy={keep.isPending || fit.isPending}
          onClick={() => (fitted ? fit : keep).mutate(undefined)}
          why={at ? (fitted ? sizes.why : "") : "nothing is picked yet"}
        >
          {fitted ? "Fit it" : "Keep it"}
        </Button>
        <Button onClick={done}>That is all</Button>
      </Actions>
      {live.map((j) => (
        <JobLine key={j.id} id={id} job={j} />
      ))}
    </>
  );
}
