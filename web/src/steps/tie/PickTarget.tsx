/** A natural point as a target: a corner of three planes, or the place that was picked, in every station that saw it. */
import { useEffect, useState } from "react";
import { http, sent } from "../../api/client";
import { tellUndoable, useAsk, useProject } from "../../api/queries";
import { Actions, Button, Field, Heading, Quiet, Row, Sentence } from "../../kit";
import { EYE, into, lengthIn, UNITS } from "../../kit/units";
import { useView } from "../../kit/view";

export function PickTarget({ id }: { id: string }) {
  const { picks, set, letGo } = useView();
  const project = useProject(id).data;
  const unit = project?.unit ?? "m";
  const [kind, setKind] = useState<"corner" | "point">("corner");
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
          body: { kind, at: at!, name, part: project?.part ?? null },
        }),
      ),
    (r) => {
      void tellUndoable(id, `${r.name} is a target, seen from ${r.sightings} station${r.sightings === 1 ? "" : "s"}.`);
      set({ picks: [] });
      setName("");
    },
  );
  return (
    <>
      <Sentence>
        {at ? "Keep this place as a target." : "Pick the place in space, in the plan or in a panorama."}
      </Sentence>
      <Quiet>
        {kind === "corner"
          ? "Three planes are fitted round the pick in every station that sees them; the target is where they meet."
          : "The target is the place itself, as exact as the points lie close there."}
      </Quiet>
      <div className="my-1 flex gap-1.5">
        <Button pressed={kind === "corner"} onClick={() => setKind("corner")}>
          Corner of three planes
        </Button>
        <Button pressed={kind === "point"} onClick={() => setKind("point")}>
          The place itself
        </Button>
      </div>
      <Heading>Picked</Heading>
      <Row
        name="place"
        value={
          at
            ? into(project?.T_frame_part ?? EYE, at)
                .map((v) => lengthIn(v, unit))
                .join("  ")
            : "–"
        }
        unit={UNITS[unit].name}
      />
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
          busy={keep.isPending}
          onClick={() => keep.mutate(undefined)}
          why={at ? "" : "nothing is picked yet"}
        >
          Keep it
        </Button>
        <Button onClick={done}>That is all</Button>
      </Actions>
    </>
  );
}
