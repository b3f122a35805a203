/** Two or more chosen stations: link two by hand, or make a group of them. */
import type { Station } from "../../api/client";
import { useNetwork } from "../../api/queries";
import { Actions, Button, Quiet, Sentence } from "../../kit";
import { useView } from "../../kit/view";
import { Grouping } from "./Groups";
import { startMatching } from "./Matching";
import { startPlacing } from "./Placing";

export function PairCard({ id, a, b }: { id: string; a: Station; b: Station }) {
  const link = useNetwork(id).data?.links.find((k) => (k.a === a.id && k.b === b.id) || (k.a === b.id && k.b === a.id));
  return (
    <>
      <Sentence>
        {a.name} and {b.name} {link ? "are linked." : "are not linked."}
      </Sentence>
      <Quiet>
        Put one over the other roughly in plan, or pick the same places in both panoramas; the fine alignment does the
        rest and shows the evidence.
      </Quiet>
      <Actions>
        {link && <Button onClick={() => useView.getState().set({ link: link.id, stations: [] })}>Show the link</Button>}
        <Button main={!link} onClick={() => startPlacing(a, b)}>
          Put {b.name} by hand
        </Button>
        <Button onClick={() => startMatching(a, b)}>Pick the same places</Button>
      </Actions>
      <Grouping id={id} stations={[a, b]} />
    </>
  );
}

export function SeveralCard({ id, stations }: { id: string; stations: Station[] }) {
  return (
    <>
      <Sentence>{stations.length} stations are chosen.</Sentence>
      <Grouping id={id} stations={stations} />
    </>
  );
}
