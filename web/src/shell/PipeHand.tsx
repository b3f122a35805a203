/** What is done with a pipe that was followed. */
import { useState } from "react";
import { http, sent, type Note, type Schemas } from "../api/client";
import { tellUndoable, useAsk, useNotes } from "../api/queries";
import { Actions, Button, Pick, Quiet } from "../kit";
import { pickSome, useView } from "../kit/view";

/** Cut a pipe in two, lead an end of it on or back, join it with another. */
export function PipeHand({ id, note: n }: { id: string; note: Note }) {
  const { tool, letGo } = useView();
  const [doing, setDoing] = useState<"cut" | "extend" | null>(null);
  const others = (useNotes(id).data ?? []).filter((o) => o.kind === "pipe" && o.id !== n.id && o.part === n.part);
  const [other, setOther] = useState("");
  const edit = useAsk(
    id,
    (body: Omit<Schemas["PipeEdit"], "version">) =>
      sent(
        http.POST("/api/projects/{project_id}/notes/{note_id}/pipe", {
          params: { path: { project_id: id, note_id: n.id } },
          body: { ...body, version: n.version },
        }),
      ),
    () => void tellUndoable(id, `${n.name} is changed.`),
  );
  const pick = (what: "cut" | "extend") => {
    setDoing(what);
    pickSome(1, ([at]) => {
      letGo();
      setDoing(null);
      edit.mutate({ do: what, at: at! });
    });
  };
  if (doing && tool === "planPick")
    return (
      <>
        <Quiet>
          {doing === "cut"
            ? "Pick in plan where it is parted."
            : "Pick in plan a point abreast of which its nearer end shall lie."}
        </Quiet>
        <Actions>
          <Button onClick={() => (letGo(), setDoing(null))}>Leave it</Button>
        </Actions>
      </>
    );
  return (
    <>
      <Actions>
        <Button busy={edit.isPending} onClick={() => pick("cut")}>
          Cut it in two
        </Button>
        <Button busy={edit.isPending} onClick={() => pick("extend")}>
          Lead an end on or back
        </Button>
      </Actions>
      {others.length > 0 && (
        <>
          <Pick
            label="Goes on into"
            value={other}
            onChange={(e) => setOther(e.target.value)}
            options={[["", "no other"], ...others.map((o): [string, string] => [o.id, o.name])]}
          />
          <Actions>
            <Button
              busy={edit.isPending}
              why={other ? "" : "choose the other pipe"}
              onClick={() => edit.mutate({ do: "join", other })}
            >
              Join both
            </Button>
          </Actions>
        </>
      )}
    </>
  );
}
