/** Another project brought in as a group: with its links, targets and deletions, held as it is tied there or free. */
import { useState } from "react";
import { http, Refusal, sent } from "../../api/client";
import { cache, tellError, useProjects } from "../../api/queries";
import { Actions, Button, Heading, Pick, Quiet } from "../../kit";
import { confirm } from "../../kit/confirm";

export function AnotherProject({ id, busy }: { id: string; busy: boolean }) {
  const others = (useProjects().data ?? []).filter((p) => p.id !== id && p.stations > 0);
  const [source, setSource] = useState("");
  const [held, setHeld] = useState(true);
  const [asking, setAsking] = useState(false);
  const chosen = others.find((p) => p.id === source);
  async function bring(again: boolean) {
    setAsking(true);
    try {
      await sent(
        http.POST("/api/projects/{project_id}/bring-project", {
          params: { path: { project_id: id } },
          body: { source, held, again },
        }),
      );
      setSource("");
      void cache.invalidateQueries({ queryKey: [id, "jobs"] });
    } catch (problem) {
      if (problem instanceof Refusal && problem.code === "here_already" && chosen)
        confirm({
          title: `${chosen.name} is here already`,
          text: `${problem.message} A second copy comes in as a group of its own, its stations told apart by their names.`,
          yes: "Bring in a second copy",
          no: "Leave it",
          then: () => void bring(true),
        });
      else tellError(problem);
    } finally {
      setAsking(false);
    }
  }
  if (!others.length) return null;
  return (
    <>
      <Heading>Another project</Heading>
      <Pick
        label="Project"
        value={source}
        className="max-w-48"
        options={[
          ["", "choose a project"],
          ...others.map((p): [string, string] => [p.id, `${p.name}, ${p.stations} stations`]),
        ]}
        onChange={(e) => setSource(e.target.value)}
      />
      <label className="flex items-center gap-2 py-0.5 text-[13.5px]">
        <input type="checkbox" checked={held} onChange={(e) => setHeld(e.target.checked)} />
        Keep it as it is tied there (held as one)
      </label>
      <Actions>
        <Button
          busy={asking}
          onClick={() => void bring(false)}
          why={chosen ? (busy ? "another one is coming in" : "") : "choose the project first"}
        >
          Bring it in as a group
        </Button>
      </Actions>
      <Quiet>
        Its stations come with their links, targets and deleted points. Control, grids, sections and notes stay where
        they are.
      </Quiet>
    </>
  );
}
