/** What would hold the network better: links to try, places for one more set-up (marked on the bench), who is not connected and why. */
import { http, sent, type Schemas } from "../../api/client";
import { useAdvice, useAsk } from "../../api/queries";
import { Actions, Button, Heading, Quiet } from "../../kit";
import { Await } from "../../kit/await";
import { useView } from "../../kit/view";

export function Advice({ id }: { id: string }) {
  const { advising, set } = useView();
  return (
    <>
      <Heading>What would hold it better</Heading>
      {advising ? (
        <Given id={id} />
      ) : (
        <Quiet>The next link to try, and where the field crew should set up once more.</Quiet>
      )}
      <Actions>
        <Button pressed={advising} onClick={() => set({ advising: !advising })}>
          {advising ? "Put the advice away" : "Ask for advice"}
        </Button>
      </Actions>
    </>
  );
}

function Given({ id }: { id: string }) {
  const asked = useAdvice(id, true);
  const told = asked.data;
  const link = useAsk(id, ({ a, b, T_a_b }: Schemas["AdvisedLink"]) =>
    sent(
      http.POST("/api/projects/{project_id}/links", { params: { path: { project_id: id } }, body: { a, b, T_a_b } }),
    ),
  );
  return (
    <Await of={[asked]} what="the advice">
      <p className="my-1 text-[13.5px]">{told?.sentence}</p>
      {told?.links.map((k) => (
        <div key={k.a + k.b} className="my-2 border-l-4 border-rule pl-2 text-[13.5px]">
          <p>{k.says}</p>
          <Actions>
            <Button busy={link.isPending} onClick={() => link.mutate(k)}>
              Link these two
            </Button>
          </Actions>
        </div>
      ))}
      {told?.places.map((p, k) => (
        <div key={p.at.join()} className="my-2 border-l-4 border-rule pl-2 text-[13.5px]">
          <p>
            Set-up {k + 1}: {p.says}
          </p>
          <Actions>
            <Button onClick={() => useView.getState().camera?.lookAt(p.at)}>Show the place</Button>
          </Actions>
        </div>
      ))}
      {told?.apart.map((reason) => (
        <Quiet key={reason}>{reason}.</Quiet>
      ))}
    </Await>
  );
}
