/** Colour: what the points are coloured by, and which stations have true colour. */
import type { Station } from "../../api/client";
import { useStations } from "../../api/queries";
import { Actions, Button, Heading, Quiet, Row, Sentence } from "../../kit";
import { Await } from "../../kit/await";
import { useView } from "../../kit/view";

export function ColourCard({ id }: { id: string }) {
  const asked = useStations(id);
  return (
    <Await of={[asked]} what="stations">
      <Loaded stations={asked.data ?? []} />
    </Await>
  );
}

function Loaded({ stations }: { stations: Station[] }) {
  const { colourBy, set } = useView();
  const bare = stations.filter((s) => !s.has_rgb);
  return (
    <>
      <Sentence>
        {stations.length === 0
          ? "There are no stations yet."
          : bare.length === 0
            ? `All ${stations.length} stations came with true colour.`
            : `${bare.length} of ${stations.length} stations came without true colour.`}
      </Sentence>
      <Heading>Show points by</Heading>
      <Actions>
        {(["station", "intensity", "height", "colour"] as const).map((c) => (
          <Button key={c} pressed={colourBy === c} onClick={() => set({ colourBy: c })}>
            {c === "colour" ? "true colour" : c}
          </Button>
        ))}
      </Actions>
      <Quiet>
        Intensity and height use one perceptual scale, dark to light. True colour is what the scanner recorded; it goes
        out with E57 and LAZ.
      </Quiet>
      {bare.length > 0 && <Heading>Without true colour</Heading>}
      {bare.map((s) => (
        <Row key={s.id} name={s.name} value="none" />
      ))}
    </>
  );
}
