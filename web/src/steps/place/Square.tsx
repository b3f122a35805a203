/** A site grid along a wall, or from one place towards another, with given coordinates for one point; seen as it would lie. */
import { useEffect, useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { http, sent, type Schemas } from "../../api/client";
import { tell, useAsk, useProject } from "../../api/queries";
import { Actions, Button, Field, fixed, Heading, Pick, Quiet, Row, Sentence } from "../../kit";
import { provide } from "../../kit/commands";
import { LengthField, useLengths } from "../../kit/fields";
import { useView } from "../../kit/view";
import { PlaceRow } from "../../parts/PlaceRow";
import { closeGrid, useGrid } from "./grid";

type Preview = Schemas["GridPreview"];

export function Square({ id }: { id: string }) {
  const { picks, set, letGo } = useView();
  const old = useGrid((g) => g.old);
  const kept = old?.picks ?? null;
  const project = useProject(id).data;
  const unit = project?.unit ?? "m";
  const [e0, n0, h0] = kept?.given ?? [0, 0, 0];
  const given = useLengths({ e: e0!, n: n0!, h: h0! }, unit);
  const [flip, setFlip] = useState(kept?.flip ?? false);
  const [corner, setCorner] = useState(kept?.corner ?? false);
  const [byPoints, setByPoints] = useState(kept?.by_points ?? false);
  const [name, setName] = useState(old?.name ?? "site");
  useEffect(() => {
    set({
      tool: "pick",
      picks: kept ? [kept.wall, kept.point] : [],
      onPick: (at) => set({ picks: [...useView.getState().picks, at].slice(-2) }),
    });
    const forget = provide([
      { id: "grid.flip", title: "Turn the grid that is laid the other way", keys: "g", run: () => setFlip((f) => !f) },
    ]);
    return () => {
      forget();
      letGo();
      closeGrid();
    };
  }, [set, letGo, kept]);
  const [wall, point] = picks;
  const body = {
    ...{
      wall: wall ?? [],
      point: point ?? wall ?? [],
      flip,
      corner: corner && point !== undefined,
      by_points: byPoints,
    },
    ...{ name: name.trim() || "site", part: project?.part ?? null },
    given: given.values ? [given.values.e, given.values.n, given.values.h] : [0, 0, 0],
  };
  const ready = byPoints ? point !== undefined : wall !== undefined;
  const look = useQuery({
    queryKey: [id, "grid", body],
    enabled: ready,
    retry: false,
    queryFn: () =>
      sent(http.POST("/api/projects/{project_id}/square/preview", { params: { path: { project_id: id } }, body })),
  });
  const laid = ready ? look.data : undefined;
  const from = point ?? wall;
  useEffect(() => set({ axes: laid && from ? [...laid.T_frame_part, ...from] : null }), [set, laid, from]);
  const ask = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/square", {
          params: { path: { project_id: id } },
          body: { ...body, frame: old?.id ?? null, version: old?.version ?? null },
        }),
      ),
    (r) => {
      tell(
        byPoints
          ? `The grid ${body.name} runs from the one place towards the other.`
          : `The grid ${body.name} lies along the wall; ${r.points} points of it are flat within ${r.wall_rms_mm?.toFixed(1)} mm.`,
      );
      closeGrid();
    },
  );
  return (
    <>
      <Sentence>
        {!wall
          ? byPoints
            ? "Pick the place that E runs towards."
            : "Pick a bare part of the wall in the cloud."
          : !point
            ? "Now pick the point whose coordinates you know."
            : "Give the coordinates of that point."}
      </Sentence>
      <Pick
        label="E runs"
        value={byPoints ? "points" : "wall"}
        onChange={(e) => setByPoints(e.target.value === "points")}
        options={[
          ["wall", "along a wall, to the right"],
          ["points", "from the point to a place"],
        ]}
      />
      <Heading>Picked</Heading>
      <PlaceRow id={id} name={byPoints ? "place" : "wall"} at={wall} />
      <PlaceRow id={id} name="point" at={point} />
      {look.isError && <Quiet>{String(look.error.message)}.</Quiet>}
      {laid && (laid.points !== null || laid.corner) && <Fit laid={laid} />}
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
        <input type="checkbox" checked={flip} onChange={(e) => setFlip(e.target.checked)} /> E runs the other way (key
        G)
      </label>
      <Actions>
        <Button
          main
          busy={ask.isPending}
          onClick={() => ask.mutate(undefined)}
          why={!point ? "pick both places first" : given.why || (look.isError ? "what was picked holds no grid" : "")}
        >
          {old ? `Lay ${old.name} anew` : byPoints ? "Lay the grid" : "Square to this wall"}
        </Button>
        <Button onClick={() => set({ picks: [] })} why={picks.length ? "" : "nothing is picked"}>
          Pick again
        </Button>
        <Button onClick={closeGrid}>Leave it</Button>
      </Actions>
    </>
  );
}

/** How well what was picked holds the grid. */
function Fit({ laid }: { laid: Preview }) {
  const c = laid.corner;
  return (
    <>
      <Heading>How it fits</Heading>
      {laid.points !== null && (
        <>
          <Row name={`wall, ${laid.points} points, RMS`} value={fixed(laid.wall_rms_mm)} unit="mm" />
          <Row
            name="its top leans away by"
            value={fixed(laid.off_plumb, 2)}
            unit="°"
            doubt={Math.abs(laid.off_plumb ?? 0) > 0.5}
          />
        </>
      )}
      {c && (
        <>
          <Row name={`corner, ${c.points.join(" + ")} points`} value={`±${fixed(c.sigma_mm)}`} unit="mm" />
          <Row name="its planes, RMS at most" value={fixed(Math.max(...c.rms_mm))} unit="mm" />
          <Row name="off a right angle" value={fixed(c.off_square, 2)} unit="°" doubt={c.off_square > 0.5} />
          <Row name="off plumb or level" value={fixed(c.off_plumb, 2)} unit="°" doubt={c.off_plumb > 0.5} />
        </>
      )}
    </>
  );
}
