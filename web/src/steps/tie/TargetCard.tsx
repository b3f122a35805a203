/** A target, in every step: how often it was seen, and how well those places agree. */
import { useProject, useSightings } from "../../api/queries";
import { Actions, Button, fixed, Row, Sentence } from "../../kit";
import { useView } from "../../kit/view";

export function TargetCard({ id, target }: { id: string; target: string }) {
  const part = useProject(id).data?.part ?? null;
  const own = (useSightings(id).data ?? []).filter((g) => g.target === target && g.part === part);
  const spread = own.find((g) => g.spread_mm !== null)?.spread_mm;
  return (
    <>
      <Sentence>
        {own[0]?.target_name ?? "This target"} was seen {own.length} times
        {spread !== undefined && spread !== null ? ` and its places agree within ${fixed(spread)} mm.` : "."}
      </Sentence>
      {own.map((g) => (
        <Row
          key={g.id}
          name={g.station_name}
          value={fixed(g.rms_mm)}
          unit="mm"
          limit={`${g.points} pts`}
          doubt={!g.used}
        />
      ))}
      <Actions>
        <Button
          why={own[0] ? "" : "it is not in the part in view"}
          onClick={() => own[0] && useView.getState().camera?.lookAt(own[0].position)}
        >
          Look at it
        </Button>
        <Button onClick={() => useView.getState().set({ target: null })}>Back to the whole</Button>
      </Actions>
    </>
  );
}
