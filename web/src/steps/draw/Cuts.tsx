/** Cut: plans and ceilings at a height, elevations, sections, rows of them, and the cuts of another project. */
import { useRef, useState } from "react";
import { http, sent, type Schemas } from "../../api/client";
import {
  tell,
  tellError,
  useAsk,
  useBoxes,
  useFloors,
  useJobs,
  useProject,
  useStations,
  useZones,
} from "../../api/queries";
import { Actions, Button, Heading, Pick, Quiet, Sentence } from "../../kit";
import { JobLine } from "../../parts/JobLine";
import { TakeFile } from "../../kit/file";
import { LengthField, useLengths } from "../../kit/fields";
import { into, lengthIn, UNITS, type Unit } from "../../kit/units";
import { pickMany, pickSome, pickTwo, useView } from "../../kit/view";

type Kind = Schemas["SectionIn"]["kind"] | "series" | "arc" | "stepped" | "bent";
const OPEN: Kind[] = ["stepped", "unrolled"]; // of any number of picks, until it is cut
const THREE: Kind[] = ["arc", "bent"];
const of = (id: string) => ({ params: { path: { project_id: id } } });

export function CutCard({ id, count }: { id: string; count: number }) {
  const stations = useStations(id).data ?? [];
  const { picks, tool, set, letGo } = useView();
  const [kind, setKind] = useState<Kind>("plan");
  const [only, setOnly] = useState("");
  const depth = { least: 0, most: 100 };
  const project = useProject(id).data;
  const part = project?.part ?? null;
  const floors = useFloors(id, part).data ?? [];
  const [floor, setFloor] = useState(0);
  const form = useLengths(
    { above: 1.2, before: 0, behind: 0.05, width: 0.1, deep: 3, spacing: 2, across: 10 },
    project?.unit ?? "m",
    {
      before: depth,
      behind: depth,
      width: { above: 0, most: 100 },
      deep: { above: 0, most: 100 },
      spacing: { above: 0, most: 1000 },
      across: { above: 0, most: 1000 },
    },
  );
  const done = (section: string) => {
    letGo();
    set({ section, traces: [] });
  };
  const cut = useAsk(
    id,
    (body: Schemas["SectionIn"]) => sent(http.POST("/api/projects/{project_id}/sections", { ...of(id), body })),
    (r) => done(r.id),
  );
  const row = useAsk(
    id,
    (body: Schemas["SeriesIn"]) => sent(http.POST("/api/projects/{project_id}/sections/series", { ...of(id), body })),
    (r) => {
      tell(`Cut ${r.ids.length} sections.`);
      done(r.ids[0]!);
    },
  );
  const v = form.values;
  const of_ = only ? { of: ofOf(only) } : {};
  const level = kind === "plan" || kind === "ceiling";
  const inSteps = () => {
    const half = v!.width / 2;
    const line = picks.map((p) => p.slice(0, 2) as [number, number]);
    const wall = kind === "unrolled" ? "unrolled" : "upright";
    cut.mutate({ kind: wall, name: "", part, line, before: half, behind: half, bent: false, ...of_ });
  };
  const pick = () =>
    pickTwo((from, to) => {
      const [a, b] = [from.slice(0, 2), to.slice(0, 2)];
      if (kind === "series")
        row.mutate({ part, line: [a, b], arc: false, spacing: v!.spacing, width: v!.across, depth: v!.width });
      else {
        const half = v!.width / 2;
        const depths = kind === "elevation" ? { before: 0, behind: v!.deep } : { before: half, behind: half };
        if (kind !== "stepped" && kind !== "arc" && kind !== "bent")
          cut.mutate({ kind: kind, name: "", part, a, b, ...depths, bent: false, ...of_ });
      }
    });
  const pickArc = () =>
    pickSome(3, (at) => {
      const line = at.map((p) => p.slice(0, 2) as [number, number]);
      const half = v!.width / 2;
      if (kind === "bent")
        return cut.mutate({ kind: "unrolled", name: "", part, line, before: half, behind: half, bent: true, ...of_ });
      row.mutate({ part, line, arc: true, spacing: v!.spacing, width: v!.across, depth: v!.width });
    });
  const picking = tool === "planPick";
  const bad = form.why || (level && v && v.before + v.behind <= 0 ? "the slab needs some depth" : "");
  const why = stations.length === 0 ? "there are no stations yet" : bad;
  return (
    <>
      <Sentence>
        {picking
          ? kind === "stepped"
            ? `Pick both ends of each leg in plan, one leg after the other: ${picks.length} picked.`
            : kind === "unrolled"
              ? `Pick along the wall in plan, corner by corner: ${picks.length} picked.`
              : picks.length
                ? THREE.includes(kind) && picks.length === 1
                  ? "Now pick a place on the arc."
                  : "Now pick where it ends."
                : "Pick in plan where it begins."
          : count
            ? `${count} ${count === 1 ? "section is" : "sections are"} cut. Choose one below, or cut another.`
            : "Cut a plan, or a section through two picks."}
      </Sentence>
      {picking ? (
        <>
          <Quiet>
            {kind === "unrolled" || kind === "bent"
              ? "The wall is laid out flat from the first pick on. One looks at it from the right of the way."
              : kind === "series" || kind === "arc"
                ? "Sections stand square to the way between the picks, and look along it."
                : kind === "stepped"
                  ? "Legs are laid parallel; the cut steps over midway between the end of one and the beginning of the next. One looks to the left."
                  : "One looks to the left of the way from the first pick to the second."}
          </Quiet>
          <Actions>
            {OPEN.includes(kind) && (
              <Button
                main
                busy={cut.isPending}
                why={
                  kind === "unrolled"
                    ? picks.length < 2
                      ? "the wall needs two picks at least"
                      : ""
                    : picks.length < 4 || picks.length % 2
                      ? "every leg needs both its ends, and there are two legs at least"
                      : ""
                }
                onClick={inSteps}
              >
                Cut it
              </Button>
            )}
            {OPEN.includes(kind) && (
              <Button
                why={picks.length ? "" : "nothing is picked yet"}
                onClick={() => set({ picks: picks.slice(0, -1) })}
              >
                Take back the last pick
              </Button>
            )}
            <Button onClick={letGo}>Leave it</Button>
          </Actions>
        </>
      ) : (
        <>
          <Pick
            label="Cut"
            value={kind}
            onChange={(e) => setKind(e.target.value as Kind)}
            options={[
              ["plan", "a plan, looking down"],
              ["ceiling", "a ceiling, as in a mirror on the floor"],
              ["upright", "a section through two picks"],
              ["stepped", "a section in steps"],
              ["elevation", "an elevation in front of two picks"],
              ["unrolled", "a wall unrolled, corner by corner"],
              ["bent", "a curved wall unrolled"],
              ["series", "a row of sections along two picks"],
              ["arc", "a row of sections along an arc"],
            ]}
          />
          {level && (
            <>
              {floors.length > 1 && project && (
                <Pick
                  label="Floor"
                  value={String(floor)}
                  onChange={(e) => setFloor(Number(e.target.value))}
                  options={floors.map((f, k) => [
                    String(k),
                    floorWords(f, into(project.T_frame_part, [0, 0, f.height])[2], project.unit),
                  ])}
                />
              )}
              <LengthField of={form} name="above" label="Above the floor" />
              <LengthField
                of={form}
                name="before"
                label={kind === "plan" ? "Depth above the cut" : "Depth below the cut"}
              />
              <LengthField
                of={form}
                name="behind"
                label={kind === "plan" ? "Depth below the cut" : "Depth above the cut"}
              />
            </>
          )}
          {!level && kind !== "elevation" && <LengthField of={form} name="width" label="Depth of the slab" />}
          {kind === "elevation" && <LengthField of={form} name="deep" label="Depth behind the picks" />}
          {(kind === "series" || kind === "arc") && (
            <>
              <LengthField of={form} name="spacing" label="One every" />
              <LengthField of={form} name="across" label="Width of each" />
            </>
          )}
          {kind !== "series" && kind !== "arc" && <OfWhat id={id} part={part} value={only} onChange={setOnly} />}
          <Actions>
            {level ? (
              <Button
                main
                busy={cut.isPending}
                why={why}
                onClick={() =>
                  cut.mutate({
                    kind: kind,
                    name: "",
                    part,
                    above_floor: v!.above,
                    floor: floors[floor]?.height ?? null,
                    before: v!.before,
                    behind: v!.behind,
                    bent: false,
                    ...of_,
                  })
                }
              >
                {kind === "plan" ? "Cut the plan" : "Cut the ceiling"}
              </Button>
            ) : (
              <Button
                main
                busy={cut.isPending || row.isPending}
                onClick={OPEN.includes(kind) ? pickMany : THREE.includes(kind) ? pickArc : pick}
                why={why}
              >
                {kind === "stepped"
                  ? "Pick its legs in plan"
                  : kind === "unrolled"
                    ? "Pick along the wall in plan"
                    : THREE.includes(kind)
                      ? "Pick three points of the arc"
                      : "Pick two points in plan"}
              </Button>
            )}
          </Actions>
          <Quiet>Only tiles that the slab meets are read. Crop boxes and deletions hold for sections too.</Quiet>
          <Usual id={id} why={why} />
          <Templates id={id} count={count} />
        </>
      )}
    </>
  );
}

/** What a cut is of, as a choice: "" for all, z:id of a zone, b:id of a box, s:id of a station. */
export const ofOf = (only: string) => ({
  stations: only.startsWith("s:") ? [only.slice(2)] : [],
  zones: only.startsWith("z:") ? [only.slice(2)] : [],
  boxes: only.startsWith("b:") ? [only.slice(2)] : [],
});

/** Choose whether a cut is of all that is seen, or of one zone, one box or one station of a part. */
export function OfWhat(p: { id: string; part: string | null; value: string; onChange: (only: string) => void }) {
  const zones = (useZones(p.id).data ?? []).filter((z) => z.kind === "zone");
  const stations = (useStations(p.id).data ?? []).filter((s) => s.part === p.part);
  const boxes = (useBoxes(p.id).data ?? []).filter((b) => b.part === p.part);
  return (
    <Pick
      label="Of"
      value={p.value}
      onChange={(e) => p.onChange(e.target.value)}
      options={[
        ["", "all that is seen"],
        ...zones.map((z): [string, string] => [`z:${z.id}`, `the zone ${z.name}`]),
        ...boxes.map((b): [string, string] => [`b:${b.id}`, `the box ${b.name}`]),
        ...stations.map((s): [string, string] => [`s:${s.id}`, `what ${s.name} saw`]),
      ]}
    />
  );
}

/** A floor by its height in the coordinates in use, and who stood on it. */
function floorWords(f: Schemas["FloorOut"], height: number, unit: Unit): string {
  const who = f.stations.length === 1 ? f.stations[0] : `${f.stations.length} stations`;
  return `${lengthIn(height, unit)} ${UNITS[unit].name}, under ${who}`;
}

/** A plan, two sections, the elevations and a sheet of them, by themselves. */
function Usual({ id, why }: { id: string; why: string }) {
  const draw = useAsk(id, () => sent(http.POST("/api/projects/{project_id}/draft", of(id))));
  const live = (useJobs(id).data ?? []).filter(
    (j) => j.kind === "draft" && (j.state === "running" || j.state === "waiting"),
  );
  return (
    <>
      <Heading>The usual set</Heading>
      <Quiet>
        A plan 1.2 m above the floor, two sections through the middle, the elevations round it, with what is found in
        them accepted as far as the profile allows, on a sheet.
      </Quiet>
      <Actions>
        <Button why={why} busy={draw.isPending || live.length > 0} onClick={() => draw.mutate(undefined)}>
          Draw the usual set
        </Button>
      </Actions>
      {live.map((j) => (
        <JobLine key={j.id} id={id} job={j} />
      ))}
    </>
  );
}

/** The cuts of this project for another one, and the other way. */
function Templates({ id, count }: { id: string; count: number }) {
  const file = useRef<HTMLInputElement>(null);
  const use = useAsk(
    id,
    async (chosen: File) => {
      let body: unknown;
      try {
        body = JSON.parse(await chosen.text());
      } catch {
        body = { format: "", cuts: [] };
      }
      return sent(http.POST("/api/projects/{project_id}/cuts", { ...of(id), body: body as Schemas["CutsIn"] }));
    },
    (r) => tell(`Cut ${r.ids.length} sections.`),
  );
  const save = async () => {
    try {
      const cuts = await sent(http.GET("/api/projects/{project_id}/cuts", of(id)));
      download("cuts.json", JSON.stringify(cuts, null, 1));
    } catch (error) {
      tellError(error);
    }
  };
  return (
    <>
      <Heading>The same cuts elsewhere</Heading>
      <Actions>
        <Button onClick={() => void save()} why={count ? "" : "there are no cuts yet"}>
          Save these cuts
        </Button>
        <Button busy={use.isPending} onClick={() => file.current?.click()}>
          Cut as in a file
        </Button>
      </Actions>
      <TakeFile input={file} label="A file of cuts" accept=".json" take={(own) => use.mutate(own)} />
    </>
  );
}

export function download(name: string, text: string) {
  const url = URL.createObjectURL(new Blob([text], { type: "application/json" }));
  const a = Object.assign(document.createElement("a"), { href: url, download: name });
  a.click();
  URL.revokeObjectURL(url);
}
