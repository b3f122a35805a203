/** Two or more chosen stations: link two by hand, or hold them as one. */
import { http, sent, type Body, type Station } from "../../api/client";
import { useAsk, useBodies, useNetwork } from "../../api/queries";
import { Actions, Button, Heading, Quiet, Sentence } from "../../kit";
import { useView } from "../../kit/view";
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
      <Hold id={id} stations={[a, b]} />
    </>
  );
}

/** Several stations: hold them as one body. */
export function HeldCard({ id, stations }: { id: string; stations: Station[] }) {
  return (
    <>
      <Sentence>{stations.length} stations are chosen.</Sentence>
      <Hold id={id} stations={stations} />
    </>
  );
}

function Hold({ id, stations }: { id: string; stations: Station[] }) {
  const bodies = useBodies(id).data ?? [];
  const held = bodies.filter((b) => b.stations.some((x) => stations.some((s) => s.id === x)));
  const one = new Set(stations.map((s) => s.part)).size === 1;
  const hold = useAsk(id, () =>
    sent(
      http.POST("/api/projects/{project_id}/bodies", {
        params: { path: { project_id: id } },
        body: { stations: stations.map((s) => s.id), name: "" },
      }),
    ),
  );
  return (
    <>
      <Heading>Held as one</Heading>
      <Quiet>
        A held group keeps its shape as it stands now, and moves as one: use it for what was proved before, or came in
        already registered.
      </Quiet>
      {held.map((b) => (
        <Release key={b.id} id={id} body={b} />
      ))}
      <Actions>
        <Button
          busy={hold.isPending}
          onClick={() => hold.mutate(undefined)}
          why={held.length ? "release the group first" : one ? "" : "they are of several parts: tie them first"}
        >
          Hold these {stations.length} as one
        </Button>
      </Actions>
    </>
  );
}

function Release({ id, body }: { id: string; body: Body }) {
  const release = useAsk(id, () =>
    sent(
      http.DELETE("/api/projects/{project_id}/bodies/{body_id}", {
        params: { path: { project_id: id, body_id: body.id }, query: { version: body.version } },
      }),
    ),
  );
  return (
    <p className="my-1 flex items-center gap-2 text-[13.5px]">
      <span className="flex-1">
        {body.name}, {body.stations.length} stations
      </span>
      <Button busy={release.isPending} onClick={() => release.mutate(undefined)}>
        Release
      </Button>
    </p>
  );
}
