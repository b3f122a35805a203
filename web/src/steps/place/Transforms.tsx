/** How the coordinates in use become those of every other frame of the part, both ways, and a place in all of them. */
import { useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { http, sent } from "../../api/client";
import { useProject } from "../../api/queries";
import { fixed, Heading, Quiet, Row } from "../../kit";
import { LengthField, useLengths } from "../../kit/fields";
import { lengthIn, UNITS } from "../../kit/units";

export function Transforms({ id }: { id: string }) {
  const project = useProject(id).data;
  const unit = project?.unit ?? "m";
  const typed = useLengths({ e: 0, n: 0, h: 0 }, unit);
  const [open, setOpen] = useState(false);
  const others = (project?.frames.length ?? 0) > 1;
  const at = typed.values ? [typed.values.e, typed.values.n, typed.values.h] : [0, 0, 0];
  const asked = useQuery({
    queryKey: [id, "project", "transforms", project?.frame, project?.part, at, project?.frames.map((f) => f.version)],
    enabled: open && others && project !== undefined,
    queryFn: () =>
      sent(
        http.POST("/api/projects/{project_id}/frames/{frame_id}/transforms", {
          params: { path: { project_id: id, frame_id: project!.frame } },
          body: { at, part: project!.part },
        }),
      ),
  });
  if (!others) return null;
  return (
    <details open={open} onToggle={(e) => setOpen(e.currentTarget.open)} className="mt-3">
      <summary className="cursor-pointer text-[13.5px] text-action">A place in all coordinates</summary>
      <Quiet>In {project?.frame_name === "project" ? "the coordinates as tied" : project?.frame_name}:</Quiet>
      <LengthField of={typed} name="e" label="E" />
      <LengthField of={typed} name="n" label="N" />
      <LengthField of={typed} name="h" label="H" />
      {asked.data?.map((t) => (
        <div key={t.id}>
          <Heading>{t.name === "project" ? "as tied" : t.name}</Heading>
          <p className="figure text-left text-[13.5px] whitespace-pre-wrap" aria-label={`Place in ${t.name}`}>
            {t.at.map((v) => lengthIn(v, t.unit)).join("  ")} {UNITS[t.unit].name}
          </p>
          <Row name="turned to it by" value={fixed(t.turn_deg, 5)} unit="°" />
          <Row name="tilted to it by" value={fixed(t.tilt_mrad, 3)} unit="mrad" />
          <Row name="shift E" value={lengthIn(t.T[3]!, t.unit)} unit={UNITS[t.unit].name} />
          <Row name="shift N" value={lengthIn(t.T[7]!, t.unit)} unit={UNITS[t.unit].name} />
          <Row name="shift H" value={lengthIn(t.T[11]!, t.unit)} unit={UNITS[t.unit].name} />
        </div>
      ))}
    </details>
  );
}
