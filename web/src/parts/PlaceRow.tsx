/** A picked place in the coordinates in use; they may be long. */
import { useProject } from "../api/queries";
import { EYE, into, lengthIn, UNITS } from "../kit/units";

export function PlaceRow({ id, name, at }: { id: string; name: string; at: number[] | undefined }) {
  const project = useProject(id).data;
  const unit = project?.unit ?? "m";
  const shown = at && into(project?.T_frame_part ?? EYE, at).map((v) => lengthIn(v, unit));
  return (
    <div className="border-b border-rule/60 py-1 text-[13.5px] last:border-0">
      {name}
      <span className="block text-right font-mono text-[12.5px]">
        {shown ? `${shown.join("  ")} ${UNITS[unit].name}` : "–"}
      </span>
    </div>
  );
}
