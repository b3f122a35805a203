/** A site grid along a wall that is picked in the cloud, with given coordinates for one point. */
import { useEffect, useState } from "react";
import { http, sent } from "../../api/client";
import { tell, useAsk, useProject } from "../../api/queries";
import { Actions, Button, Field, Heading, Quiet, Row, Sentence } from "../../kit";
import { LengthField, useLengths } from "../../kit/fields";
import { EYE, into, lengthIn, UNITS } from "../../kit/units";
import { useView } from "../../kit/view";

export function Square({ id, done }: { id: string; done: () => void }) {
  const { picks, set, letGo } = useView();
  const project = useProject(id).data;
  const unit = project?.unit ?? "m";
  const given = useLengths({ e: 0, n: 0, h: 0 }, unit);
  const shown = (p: number[]) =>
    into(project?.T_frame_part ?? EYE, p)
      .map((v) => lengthIn(v, unit))
      .join("  ");
  const [flip, setFlip] = useState(false);
  const [corner, setCorner] = useState(false);
  const [name, setName] = useState("site");
  useEffect(() => {
    set({ tool: "pick", picks: [], onPick: (at) => set({ picks: [...useView.getState().picks, at].slice(-2) }) });
    return letGo;
  }, [set, letGo]);
  const [wall, point] = picks;
  const ask = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/square", {
          params: { path: { project_id: id } },
          body: {
            ...{ wall: wall!, point: point!, flip, corner, name, part: project?.part ?? null },
            given: [given.values!.e, given.values!.n, given.values!.h],
          },
        }),
      ),
    (r) => {
      const c = r.corner;
      tell(
        `The grid ${name} lies along the wall; ${r.points} points of it are flat within ${r.wall_rms_mm?.toFixed(1)} mm.` +
          (c
            ? ` Its corner is held to ±${c.sigma_mm.toFixed(1)} mm by planes of ${c.points.join(", ")} points; they miss right angles by ${c.off_square.toFixed(2)}° and plumb by ${c.off_plumb.toFixed(2)}° at most.`
            : ""),
      );
      done();
    },
  );
  return (
    <>
      <Sentence>
        {!wall
          ? "Pick a bare part of the wall in the cloud."
          : !point
            ? "Now pick the point whose coordinates you know."
            : "Give the coordinates of that point."}
      </Sentence>
      <Quiet>
        A click takes the nearest point in front. As one stands before the wall, E will run to the right along it and N
        into it; the height stays plumb.
      </Quiet>
      <Heading>Picked</Heading>
      <Row name="wall" value={wall ? shown(wall) : "–"} unit={UNITS[unit].name} />
      <Row name="point" value={point ? shown(point) : "–"} unit={UNITS[unit].name} />
      <Heading>Coordinates of the point</Heading>
      <LengthField of={given} name="e" label="E" />
      <LengthField of={given} name="n" label="N" />
      <LengthField of={given} name="h" label="H" />
      <Field
        label="Name of the grid"
        type="text"
        maxLength={60}
        value={name}
        onChange={(e) => setName(e.target.value)}
      />
      <label className="flex items-center gap-2 py-1 text-[13.5px]">
        <input type="checkbox" checked={corner} onChange={(e) => setCorner(e.target.checked)} /> the point is a corner
        of three planes: fit them
      </label>
      <label className="flex items-center gap-2 py-1 text-[13.5px]">
        <input type="checkbox" checked={flip} onChange={(e) => setFlip(e.target.checked)} /> E runs the other way
      </label>
      <Actions>
        <Button
          main
          busy={ask.isPending}
          onClick={() => ask.mutate(undefined)}
          why={!point ? "pick the wall and the point first" : given.why}
        >
          Square to this wall
        </Button>
        <Button onClick={() => set({ picks: [] })} why={picks.length ? "" : "nothing is picked"}>
          Pick again
        </Button>
        <Button onClick={done}>Leave it</Button>
      </Actions>
    </>
  );
}
