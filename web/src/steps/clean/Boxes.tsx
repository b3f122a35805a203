/** Crop boxes: several of a part, round the site, round a room, by corners in plan; taken hold of in the panes, or set by numbers. */
import { useEffect, useRef } from "react";
import { http, sent, type Box, type Project, type Schemas } from "../../api/client";
import { tell, tellUndoable, useAsk, useBoxes, useProject } from "../../api/queries";
import { Actions, Button, fixed, Heading, Quiet, type Column } from "../../kit";
import { provide } from "../../kit/commands";
import { LengthField, useLengths } from "../../kit/fields";
import { Table } from "../../kit/table";
import { into, inverse, lengthIn, UNITS } from "../../kit/units";
import { useView } from "../../kit/view";

type Change = Partial<Schemas["BoxIn"]>;
const path = (id: string) => ({ params: { path: { project_id: id } } });
const at = (id: string, b: Box) => ({ params: { path: { project_id: id, box_id: b.id } } });

export function BoxPart({ id, boxes, project }: { id: string; boxes: Box[]; project: Project }) {
  const { boxed, tool, picks, onPick, set, letGo } = useView();
  const on = boxes.filter((b) => b.active);
  const worked = boxes.find((b) => b.id === boxed) ?? (boxed === null && on.length === 1 ? on[0] : undefined);
  const make = useAsk(
    id,
    (box: Pick<Schemas["BoxIn"], "centre" | "half" | "yaw" | "name"> & Change) =>
      sent(
        http.POST("/api/projects/{project_id}/boxes", {
          ...path(id),
          body: { active: true, outside: false, alone: false, part: project.part, ...box },
        }),
      ),
    (r) => set({ boxed: r.id }),
  );
  const change = useAsk(id, ({ b, to }: { b: Box; to: Change }) => {
    const { name, centre, half, yaw, version, active, outside, outline } = b;
    return sent(
      http.PUT("/api/projects/{project_id}/boxes/{box_id}", {
        ...at(id, b),
        body: { name, centre, half, yaw, active, outside, outline, alone: false, version, ...to },
      }),
    );
  });
  const remove = useAsk(
    id,
    (b: Box) =>
      sent(
        http.DELETE("/api/projects/{project_id}/boxes/{box_id}", {
          params: { ...at(id, b).params, query: { version: b.version } },
        }),
      ),
    () => {
      set({ boxed: null });
      void tellUndoable(id, `Removed the crop box ${worked?.name ?? ""}.`);
    },
  );
  const ceiling = useAsk(
    id,
    ({ b, off }: { b: Box; off: boolean }) =>
      sent(
        http.POST("/api/projects/{project_id}/boxes/{box_id}/ceiling", {
          ...at(id, b),
          body: { off, version: b.version },
        }),
      ),
    (r) => void tellUndoable(id, `${r.message.charAt(0).toUpperCase()}${r.message.slice(1)}.`),
  );
  const free = (name: string) => {
    const taken = new Set(boxes.map((b) => b.name));
    for (let k = 1; ; k++) if (!taken.has(k === 1 ? name : `${name} ${k}`)) return k === 1 ? name : `${name} ${k}`;
  };
  const site = useAsk(id, async () => {
    const query = project.part ? { part: project.part } : {};
    const p = await sent(
      http.GET("/api/projects/{project_id}/boxes/proposal", { params: { ...path(id).params, query } }),
    );
    make.mutate({ ...p, name: free("site") });
  });
  const room = useAsk(
    id,
    (place: number[]) =>
      sent(
        http.POST("/api/projects/{project_id}/boxes/room", { ...path(id), body: { at: place, part: project.part } }),
      ),
    ({ centre, half, yaw, sides, ceiling: above }) => {
      make.mutate({ centre, half, yaw, name: free("room") });
      if (sides < 4)
        tell(`${4 - sides} of its sides ${sides === 3 ? "is" : "are"} no wall.`, "draw the handles where it ends");
      else if (!above)
        tell(
          "No ceiling was found above it.",
          "the box ends 2.8 m above the floor: set its height where the room ends",
        );
    },
  );
  const pickRoom = () =>
    set({
      tool: "pick",
      picks: [],
      onPick: (place) => {
        letGo();
        room.mutate(place);
      },
    });
  const cornering = useRef(false);
  const close = () => {
    const corners = useView.getState().picks.map((p) => [p[0]!, p[1]!]);
    const high = boxes.find((b) => b.active) ?? null;
    cornering.current = false;
    letGo();
    if (corners.length > 2)
      make.mutate({
        ...{ name: free("prism"), yaw: 0, outline: corners },
        ...{ centre: [0, 0, high?.centre[2] ?? 0], half: [1, 1, high?.half[2] ?? 20] },
      });
  };
  const byCorners = () => {
    cornering.current = true;
    set({
      tool: "planPick",
      panes: ["plan"],
      picks: [],
      onPick: (place) => set({ picks: [...useView.getState().picks, place].slice(0, 24) }),
    });
  };
  const taking = cornering.current && tool === "planPick" && onPick !== null;
  useEffect(() =>
    provide([
      { id: "clean.room", title: "Crop to a room: pick its floor", run: pickRoom },
      {
        id: "clean.ceiling",
        title: "Take the ceiling off the crop box, or into it",
        keys: "o",
        run: () => {
          const b = worked ?? boxes.find((x) => x.active);
          if (b) ceiling.mutate({ b, off: !off.current });
          off.current = !off.current;
        },
      },
    ]),
  );
  const off = useRef(false);
  return (
    <>
      <Heading>Crop boxes</Heading>
      {boxes.length === 0 && (
        <Quiet>Hides what lies outside, on the screen and in everything handed over. Several may be on at once.</Quiet>
      )}
      <ul>
        {boxes.map((b) => (
          <li key={b.id} className="flex items-center gap-2 py-0.5 text-[13.5px]">
            <input
              type="checkbox"
              aria-label={`${b.name} is on`}
              checked={b.active}
              onChange={(e) => change.mutate({ b, to: { active: e.target.checked } })}
            />
            <button
              type="button"
              aria-pressed={boxed === b.id}
              className={`flex-1 cursor-pointer truncate text-left ${boxed === b.id ? "font-semibold" : "text-action"}`}
              onClick={() => set({ boxed: boxed === b.id ? null : b.id })}
            >
              {b.name}
            </button>
            <span className="text-[12px] text-quiet">{b.outside ? "takes away" : "keeps"}</span>
          </li>
        ))}
      </ul>
      {taking ? (
        <>
          <Quiet>
            Click its corners in the plan, one after the other: {picks.length} {picks.length === 1 ? "is" : "are"} set.
          </Quiet>
          <Actions>
            <Button main onClick={close} why={picks.length < 3 ? "it needs three corners" : ""}>
              Close it
            </Button>
            <Button onClick={() => ((cornering.current = false), letGo())}>Leave it</Button>
          </Actions>
        </>
      ) : (
        <Actions>
          <Button busy={room.isPending} onClick={pickRoom}>
            Round a room: pick its floor
          </Button>
          <Button busy={site.isPending || make.isPending} onClick={() => site.mutate(undefined)}>
            {boxes.length ? "Round the site" : "Set a box round the site"}
          </Button>
          <Button onClick={byCorners}>By corners in plan</Button>
        </Actions>
      )}
      {worked && (
        <BoxForm
          key={`${worked.id}${worked.version}${project.frame}`}
          box={worked}
          project={project}
          busy={change.isPending || remove.isPending || ceiling.isPending}
          change={(to) => change.mutate({ b: worked, to })}
          ceiling={(away) => ceiling.mutate({ b: worked, off: away })}
          remove={() => remove.mutate(worked)}
        />
      )}
    </>
  );
}

export function BoxForm({
  box,
  project,
  busy,
  change,
  ceiling,
  remove,
}: {
  box: Box;
  project: Project;
  busy: boolean;
  change: (part: Change) => void;
  ceiling: (off: boolean) => void;
  remove: () => void;
}) {
  const frame = project.T_frame_part;
  const turned = (Math.atan2(frame[4]!, frame[0]!) * 180) / Math.PI; // of the active coordinates
  const middle = into(frame, box.centre);
  const size = { above: 0 };
  const form = useLengths(
    {
      e: middle[0],
      n: middle[1],
      h: middle[2],
      length: 2 * box.half[0]!,
      width: 2 * box.half[1]!,
      height: 2 * box.half[2]!,
      yaw: (box.yaw * 180) / Math.PI + turned,
    },
    project.unit,
    { length: size, width: size, height: size, yaw: { angle: true } },
  );
  const apply = () => {
    const v = form.values;
    if (!v || busy) return;
    const moved = v.e !== middle[0] || v.n !== middle[1] || v.h !== middle[2];
    change({
      centre: moved ? into(inverse(frame), [v.e, v.n, v.h]) : box.centre,
      half: [v.length / 2, v.width / 2, v.height / 2],
      yaw: ((v.yaw - turned) * Math.PI) / 180,
    });
  };
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        apply();
      }}
    >
      <LengthField of={form} name="e" label="Middle E" />
      <LengthField of={form} name="n" label="Middle N" />
      <LengthField of={form} name="h" label="Middle H" />
      <LengthField of={form} name="length" label="Length" />
      <LengthField of={form} name="width" label="Width" />
      <LengthField of={form} name="height" label="Height" />
      <LengthField of={form} name="yaw" label="Turned by" />
      <Actions>
        <Button main type="submit" busy={busy} why={form.why}>
          Set the box
        </Button>
        <Button busy={busy} onClick={() => ceiling(true)}>
          Ceiling off
        </Button>
        <Button busy={busy} onClick={() => ceiling(false)}>
          Ceiling in
        </Button>
        <Button busy={busy} onClick={() => change({ outside: !box.outside })}>
          {box.outside ? "Keep what lies within" : "Take away what lies within"}
        </Button>
        <Button busy={busy} onClick={() => change({ active: !box.active })}>
          {box.active ? "Switch it off" : "Switch it on"}
        </Button>
        <Button busy={busy} onClick={remove}>
          Remove it
        </Button>
      </Actions>
    </form>
  );
}

export function BoxesLedger({ id }: { id: string }) {
  const asked = useBoxes(id);
  const boxes = asked.data ?? [];
  const unit = useProject(id).data?.unit ?? "m";
  const columns: Column<Box>[] = [
    { head: "crop box", cell: (b) => b.name, value: (b) => b.name },
    { head: "state", cell: (b) => (b.active ? "on" : "off"), value: (b) => (b.active ? "on" : "off"), width: "70px" },
    {
      head: `size ${UNITS[unit].name}`,
      figure: true,
      cell: (b) => b.half.map((v) => lengthIn(2 * v, unit)).join(" x "),
    },
    { head: "turned °", figure: true, cell: (b) => fixed((b.yaw * 180) / Math.PI, 1) },
  ];
  return (
    <Table what="crop boxes" from={[asked]} rows={boxes} columns={columns} id={(b) => b.id} empty="No crop box yet." />
  );
}
