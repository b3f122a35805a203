/** How letters and dimensions of a project look, on the screen and in all that is handed over. */
import { useState } from "react";
import { http, type Project, type Schemas, sent } from "../../api/client";
import { tellUndoable, useAsk, useProject } from "../../api/queries";
import { Actions, Button, Pick } from "../../kit";
import { LengthField, useLengths } from "../../kit/fields";

type Dimensions = Schemas["Dimensions"];
const ENDS: [Dimensions["ends"], string][] = [
  ["tick", "ticks"],
  ["arrow", "arrows"],
  ["dot", "dots"],
];
const UNITS: [string, string][] = [
  ["", "the grid's unit"],
  ["m", "metres"],
  ["cm", "centimetres"],
  ["mm", "millimetres"],
  ["ft", "international feet"],
  ["us_ft", "US survey feet"],
];
const PLACES: [string, string][] = [
  ["", "to the millimetre"],
  ...["0", "1", "2", "3", "4"].map((k): [string, string] => [k, k]),
];

export function Style({ id }: { id: string }) {
  const project = useProject(id).data;
  return project ? <Form id={id} project={project} /> : null;
}

function Form({ id, project }: { id: string; project: Project }) {
  const form = useLengths({ height: project.letters }, project.unit, { height: { least: 0.001, most: 10 } });
  const [chosen, setChosen] = useState<Partial<Dimensions>>({});
  const now: Dimensions = { ...project.dimensions, ...chosen };
  const same =
    form.values?.height === project.letters &&
    (Object.keys(chosen) as (keyof Dimensions)[]).every((k) => chosen[k] === project.dimensions[k]);
  const use = useAsk(
    id,
    () =>
      sent(
        http.PATCH("/api/projects/{project_id}", {
          params: { path: { project_id: id } },
          body: { version: project.version, letters: form.values!.height, dimensions: now },
        }),
      ),
    () => {
      setChosen({});
      form.form.reset();
      void tellUndoable(id, "Letters and dimensions look so from now on");
    },
  );
  return (
    <details className="mt-1 text-[13.5px]">
      <summary className="cursor-pointer text-action">Letters and dimensions</summary>
      <LengthField of={form} name="height" label="Height of new letters" />
      <Pick
        label="Dimensions end in"
        value={now.ends}
        onChange={(e) => setChosen({ ...chosen, ends: e.target.value as Dimensions["ends"] })}
        options={ENDS}
      />
      <Pick
        label="Figures in"
        value={now.unit ?? ""}
        onChange={(e) => setChosen({ ...chosen, unit: (e.target.value || null) as Dimensions["unit"] })}
        options={UNITS}
      />
      <Pick
        label="Places behind the point"
        value={String(now.places ?? "")}
        onChange={(e) => setChosen({ ...chosen, places: e.target.value ? Number(e.target.value) : null })}
        options={PLACES}
      />
      <Actions>
        <Button
          busy={use.isPending}
          why={form.why || (same ? "nothing is changed yet" : "")}
          onClick={() => use.mutate(undefined)}
        >
          Use this in the project
        </Button>
      </Actions>
    </details>
  );
}
