/** One scan carried over another in plan, before the fine alignment links them. */
import { http, sent, type Station } from "../../api/client";
import { useAsk, useProject } from "../../api/queries";
import { Actions, Button, fixed, Quiet, Row, Sentence } from "../../kit";
import { LengthField, useLengths } from "../../kit/fields";
import { EYE, inverse, product } from "../../kit/units";
import { useView } from "../../kit/view";

/** Begin to carry station b over station a in plan. */
export function startPlacing(a: Station | undefined, b: Station | undefined) {
  if (!a || !b) return;
  const v = useView.getState();
  if (v.step !== "tie") v.go("tie");
  v.set({
    part: a.part,
    placing: { a: a.id, station: b.id, pose: b.part === a.part ? b.pose : a.pose, reach: 1.2 },
    tool: "place",
    panes: ["plan"],
    slab: { ...v.slab, cutPlan: true },
  });
}

export function Placing({ id, stations }: { id: string; stations: Station[] }) {
  const { placing, set, letGo } = useView();
  const project = useProject(id).data;
  const a = stations.find((s) => s.id === placing!.a);
  const b = stations.find((s) => s.id === placing!.station);
  const ask = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/links", {
          params: { path: { project_id: id } },
          body: {
            a: placing!.a,
            b: placing!.station,
            T_a_b: product(inverse(a?.pose ?? EYE), placing!.pose),
            reach: placing!.reach,
          },
        }),
      ),
    () => letGo(),
  );
  const frame = project?.T_frame_part ?? EYE;
  const pose = placing!.pose;
  const there = product(frame, pose); // as everything on the screen: in the active coordinates
  const turn = (Math.atan2(there[4]!, there[0]!) * 180) / Math.PI;
  const at = useLengths({ e: there[3]!, n: there[7]!, h: there[11]! }, project?.unit ?? "m");
  const far = useLengths({ reach: placing!.reach }, project?.unit ?? "m", { reach: { least: 0.1, most: 5 } });
  const farther = () => far.values && set({ placing: { ...placing!, reach: far.values.reach } });
  const by = (degrees: number) => {
    const [c, s] = [Math.cos((degrees * Math.PI) / 180), Math.sin((degrees * Math.PI) / 180)];
    const next = [...pose];
    for (let k = 0; k < 3; k++) {
      next[k] = c * pose[k]! - s * pose[4 + k]!;
      next[4 + k] = s * pose[k]! + c * pose[4 + k]!;
    }
    set({ placing: { ...placing!, pose: next } });
  };
  const put = () => {
    if (!at.values) return;
    const next = [...there];
    [next[3], next[7], next[11]] = [at.values.e, at.values.n, at.values.h];
    set({ placing: { ...placing!, pose: product(inverse(frame), next) } });
    at.form.reset({}, { keepValues: true });
  };
  return (
    <>
      <Sentence>
        Carry {b?.name} over {a?.name}.
      </Sentence>
      <Quiet>
        Drag in plan to shift it, drag with the right button (or Shift) to turn it about its instrument; in the slice a
        drag also lifts it. It is looked for within the circle round its lamp.
      </Quiet>
      <LengthField of={at} name="e" label="East" onCommit={put} />
      <LengthField of={at} name="n" label="North" onCommit={put} />
      <LengthField of={at} name="h" label="Height" onCommit={put} />
      <LengthField of={far} name="reach" label="Look within" onCommit={farther} />
      <Row name="turned to" value={fixed(turn)} unit="°" />
      <Actions>
        {[-90, -5, -1, 1, 5, 90].map((d) => (
          <Button key={d} onClick={() => by(d)}>
            {d > 0 ? `+${d}°` : `−${-d}°`}
          </Button>
        ))}
      </Actions>
      <Actions>
        <Button main busy={ask.isPending} why={far.why} onClick={() => ask.mutate(undefined)}>
          Link these two
        </Button>
        <Button onClick={letGo}>Leave it</Button>
      </Actions>
    </>
  );
}
