/** What is handed over of the drawing: DXF, sheets, pictures of sections, measured values. */
import { useState } from "react";
import { http, sent, type Project, type Schemas } from "../../api/client";
import { useAsk, useNotes, useSections, useSheets } from "../../api/queries";
import { Actions, Button, Field, Heading, Pick, Quiet } from "../../kit";
import { UNIT_CHOICES, type Unit } from "../../kit/units";

type Body = Schemas["DeliveryIn"];

export function DrawnOut({ id, project, busy }: { id: string; project: Project; busy: (kind: string) => boolean }) {
  const [chosen, setUnit] = useState<Unit | null>(null);
  const unit = chosen ?? project.unit; // follows the coordinates until somebody chooses
  const [coordinates, setCoordinates] = useState<"grid" | "section">("grid");
  const [version, setVersion] = useState<"R2018" | "R12">("R2018");
  const sections = (useSections(id).data ?? []).filter((s) => s.part === project.part);
  const sheets = useSheets(id).data ?? [];
  const [one, setOne] = useState("");
  const section = sections.find((s) => s.id === one) ?? sections[0];
  const [pixel, setPixel] = useState("5");
  const [picture, setPicture] = useState<NonNullable<Body["picture"]>>("density");
  const mm = Number(pixel.replace(",", "."));
  const make = useAsk(id, (body: Partial<Body> & { kind: Body["kind"] }) =>
    sent(
      http.POST("/api/projects/{project_id}/deliveries", {
        params: { path: { project_id: id } },
        body: { crop: true, coordinates, unit, part: project.part, sections: null, ...body },
      }),
    ),
  );
  const inSpace = (useNotes(id).data ?? []).filter((n) => n.part === project.part);
  const noSpace = inSpace.length ? "" : "nothing is measured in space yet";
  const none = sections.length ? "" : "no section is cut yet";
  return (
    <>
      <Heading>Drawing</Heading>
      <Pick label="Unit" value={unit} onChange={(e) => setUnit(e.target.value as Unit)} options={UNIT_CHOICES} />
      <Pick
        label="Coordinates"
        value={coordinates}
        onChange={(e) => setCoordinates(e.target.value as "grid")}
        options={[
          ["grid", `in space (${project.frame_name})`],
          ["section", "flat, each section's own"],
        ]}
      />
      <Pick
        label="DXF for"
        value={version}
        onChange={(e) => setVersion(e.target.value as "R12")}
        options={[
          ["R2018", "readers of today (R2018)"],
          ["R12", "old readers (R12)"],
        ]}
      />
      <Actions>
        <Button busy={busy("drawing, dxf")} onClick={() => make.mutate({ kind: "dxf", version })}>
          Make the DXF
        </Button>
        <Button busy={busy("csv")} onClick={() => make.mutate({ kind: "csv" })}>
          Make the table of values
        </Button>
      </Actions>
      <Heading>In space</Heading>
      <Quiet>
        {inSpace.length
          ? `${inSpace.length === 1 ? "The one measure" : `All ${inSpace.length} measures`} of this part in metres: pipes as solids, lines as lines.`
          : "Pipes that were followed and lines that were picked in space (M) go out as solids and lines."}
      </Quiet>
      <Actions>
        <Button busy={busy("ifc")} why={noSpace} onClick={() => make.mutate({ kind: "ifc" })}>
          Make the IFC
        </Button>
        <Button busy={busy("gltf")} why={noSpace} onClick={() => make.mutate({ kind: "glb" })}>
          Make the glTF
        </Button>
      </Actions>
      {section && (
        <>
          <Heading>One section</Heading>
          <Pick
            label="Section"
            value={section.id}
            onChange={(e) => setOne(e.target.value)}
            options={sections.map((s) => [s.id, s.name])}
          />
          <Pick
            label="Picture by"
            value={picture}
            onChange={(e) => setPicture(e.target.value as "density")}
            options={["density", "intensity", "colour", "depth", "relief", "x-ray"].map((v) => [v, v])}
          />
          <Field label="A pixel is" unit="mm" value={pixel} onChange={(e) => setPixel(e.target.value)} />
          <Actions>
            <Button
              busy={busy("geotiff")}
              why={none || (mm >= 0.2 && mm <= 1000 ? "" : "0.2 to 1000 mm")}
              onClick={() => make.mutate({ kind: "slab", sections: [section.id], pixel: mm / 1000, picture, version })}
            >
              Make the picture with its DXF
            </Button>
            <Button busy={busy("svg")} onClick={() => make.mutate({ kind: "svg", sections: [section.id] })}>
              Make the SVG
            </Button>
          </Actions>
        </>
      )}
      {sheets.length > 0 && <Heading>Sheets</Heading>}
      {sheets.map((s) => (
        <div key={s.id} className="flex items-center gap-2 py-0.5 text-[13.5px]">
          <span className="flex-1">
            {s.name}
            <Quiet>{s.problem || `${s.paper}, 1:${s.fits}`}</Quiet>
          </span>
          <Button busy={busy("sheet")} why={s.problem} onClick={() => make.mutate({ kind: "sheet", sheet: s.id })}>
            Make the PDF of {s.name}
          </Button>
        </div>
      ))}
    </>
  );
}
