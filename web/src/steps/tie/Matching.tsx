/** The same places picked in two panoramas: where the second scan then stands, and how well the picks hold it. */
import { useQuery } from "@tanstack/react-query";
import { useEffect } from "react";
import { http, sent, type Station } from "../../api/client";
import { useAsk } from "../../api/queries";
import { Actions, Button, fixed, Heading, Quiet, Sentence } from "../../kit";
import { stateOf, Trouble } from "../../kit/await";
import { EYE } from "../../kit/units";
import { useView } from "../../kit/view";

/** Begin to pick the same places in two scans, side by side. */
export function startMatching(a: Station, b: Station) {
  const v = useView.getState();
  if (v.step !== "tie") v.go("tie");
  v.set({
    part: a.part,
    matching: { a: a.id, b: b.id, rows: [], T: null },
    stations: [a.id, b.id],
    tool: "pick",
    stand: a.id,
    stand2: b.id,
    panes: ["panorama", "panorama2"],
    split: null,
    ...(v.colourBy === "station" && { colourBy: a.has_rgb && b.has_rgb ? "colour" : "intensity" }), // who is looked at is known
  });
}

const HOLDS = { point: "point", line: "edge or axis", plane: "surface", none: "nothing" };

export function Matching({ id, stations }: { id: string; stations: Station[] }) {
  const { matching, set, letGo } = useView();
  const { a, b, rows } = matching!;
  const [one, other] = [a, b].map((x) => stations.find((s) => s.id === x));
  const whole = rows.filter((r) => r.a && r.b);
  const asked = useQuery({
    queryKey: [id, "matches", a, b, JSON.stringify(whole)],
    enabled: whole.length > 0,
    queryFn: () =>
      sent(
        http.POST("/api/projects/{project_id}/matches", {
          params: { path: { project_id: id } },
          body: { a, b, matches: whole.map((r) => ({ a: r.a!, b: r.b! })) },
        }),
      ),
  });
  const found = whole.length ? asked.data : undefined;
  const T = found && !found.why ? found.T_a_b : null;
  useEffect(() => {
    const now = useView.getState().matching;
    if (now && JSON.stringify(now.T) !== JSON.stringify(T)) set({ matching: { ...now, T } });
  }, [T, set]);
  const link = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/links", {
          params: { path: { project_id: id } },
          body: { a, b, T_a_b: T ?? EYE },
        }),
      ),
    () => letGo(),
  );
  const drop = (k: number) => set({ matching: { ...matching!, rows: rows.filter((_, j) => j !== k) } });
  const open = rows.findIndex((r) => !r.a || !r.b);
  const wants = open < 0 ? "" : `Pick ${open + 1} in ${(rows[open]!.a ? other : one)?.name} now.`;
  let at = -1;
  return (
    <>
      <Sentence>
        Pick the same places in {one?.name} and {other?.name}.
      </Sentence>
      <Quiet>
        Left is {one?.name}, right {other?.name}. Three places at least: corners, edges, pipes, or surfaces that face
        different ways. A surface may be picked anywhere on it. Once they hold, the two turn together.
      </Quiet>
      <Heading>Matches</Heading>
      {!rows.length && <Quiet>None yet: click in either picture.</Quiet>}
      {rows.map((r, k) => {
        const row = r.a && r.b ? found?.matches[++at] : undefined;
        return (
          <div
            key={k}
            className="flex items-baseline gap-2 border-b border-rule/60 py-1 text-[13.5px]"
            data-match={k + 1}
          >
            <span className="w-5 font-mono">{k + 1}</span>
            <span className="flex-1">
              {!r.a || !r.b ? `picked in ${(r.a ? one : other)?.name}` : row ? HOLDS[row.kind] : "…"}
              {row?.said && <span className="block text-[12px] text-slack">{row.said}</span>}
            </span>
            <span className="figure">{row?.residual_mm == null ? "" : `${fixed(row.residual_mm, 0)} mm`}</span>
            <Button aria-label={`Take match ${k + 1} out`} onClick={() => drop(k)}>
              Take out
            </Button>
          </div>
        );
      })}
      {wants && <Quiet>{wants}</Quiet>}
      {stateOf([asked]) === "failed" && whole.length > 0 && <Trouble asked={[asked]} what="the matches" />}
      {found && (
        <p role="status" className="my-2 text-[13.5px]">
          {found.why
            ? `Not yet: ${found.why}.`
            : `They hold ${other?.name} to ±${fixed(found.wide_mm, 0)} mm at 10 m: near enough for the fine alignment.`}
        </p>
      )}
      <Actions>
        <Button
          main
          busy={link.isPending}
          why={T ? "" : found?.why || (whole.length ? "the matches are being looked at" : "three matches are needed")}
          onClick={() => link.mutate(undefined)}
        >
          Link these two
        </Button>
        <Button onClick={letGo}>Leave it</Button>
      </Actions>
    </>
  );
}
