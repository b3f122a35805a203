/** Tie: one button, then evidence: links with status, reasons and residuals; spheres; a pair put by hand. */
import { http, sent, type Station } from "../../api/client";
import { useAsk, useGroups, useJobs, useNetwork, useQuestions, useSightings, useStations } from "../../api/queries";
import { Actions, Button, fixed, Heading, Quiet, Row, Sentence } from "../../kit";
import { Await } from "../../kit/await";
import { useView } from "../../kit/view";
import { JobLine } from "../../parts/JobLine";
import { SeveralCard, PairCard } from "./Chosen";
import { Advice } from "./Advice";
import { FindTargets } from "./FindTargets";
import { GroupCard, useChosenGroup } from "./Groups";
import { Beside, GiveKnown } from "./Known";
import { LinkCard } from "./LinkCard";
import { Matching } from "./Matching";
import { PickTarget } from "./PickTarget";
import { Placing } from "./Placing";
import { Asked, QuestionsDialog } from "./Questions";
import { Searching } from "./HowToSearch";
import { SketchDialog } from "./Sketch";
import { TargetCard } from "./TargetCard";

export { tieLedgers } from "./ledgers";

export function TieCard({ id }: { id: string }) {
  const asked = [useNetwork(id), useStations(id), useSightings(id), useJobs(id), useQuestions(id)] as const;
  return (
    <>
      <Await of={[...asked]} what="the network">
        <Loaded id={id} />
      </Await>
      <QuestionsDialog id={id} />
      <SketchDialog id={id} />
    </>
  );
}

function Loaded({ id }: { id: string }) {
  const network = useNetwork(id).data;
  const stations = useStations(id).data ?? [];
  const { link, stations: chosen, target, placing, matching, picking, knowing } = useView();
  const selected = network?.links.find((k) => k.id === link);
  const group = useChosenGroup(id);
  if (matching) return <Matching id={id} stations={stations} />;
  if (placing) return <Placing id={id} stations={stations} />;
  if (picking) return <PickTarget id={id} />;
  if (knowing) return <GiveKnown id={id} kind={knowing} />;
  if (selected) return <LinkCard id={id} link={selected} />;
  const two = stations.filter((s) => chosen.includes(s.id));
  if (group) return <GroupCard id={id} group={group} stations={stations} />;
  if (two.length > 2) return <SeveralCard id={id} stations={two} />;
  if (two.length === 2) return <PairCard id={id} a={two[0]!} b={two[1]!} />;
  if (target) return <TargetCard id={id} target={target} />;
  return <WholeCard id={id} stations={stations} />;
}

function WholeCard({ id, stations }: { id: string; stations: Station[] }) {
  const network = useNetwork(id).data;
  const jobs = useJobs(id).data ?? [];
  const held = (useGroups(id).data ?? []).filter((g) => g.held);
  const live = jobs.filter(
    (j) => (j.state === "running" || j.state === "waiting") && ["tie", "pair", "targets"].includes(j.kind),
  );
  const coming = jobs.some(
    (j) => (j.state === "running" || j.state === "waiting") && ["import", "merge", "demo"].includes(j.kind),
  );
  const tie = useAsk(id, () =>
    sent(http.POST("/api/projects/{project_id}/tie", { params: { path: { project_id: id } } })),
  );
  const busy = live[0] ? "this is under way already" : "";
  return (
    <>
      <Sentence>{stations.length < 2 ? "Tying needs at least two stations." : (network?.sentence ?? "…")}</Sentence>
      {network && !network.converged && (
        <p role="alert" className="my-2 border-l-4 border-parted pl-2 text-[13.5px] text-parted">
          The adjustment did not converge. No residual or deviation here is to be relied on: switch off the links that
          contradict.
        </p>
      )}
      {network?.out_of_date && <Quiet>The network changed since this was computed.</Quiet>}
      <Asked id={id} />
      <Actions>
        <Button
          main={!network?.links.length}
          busy={tie.isPending}
          onClick={() => tie.mutate(undefined)}
          why={busy || (coming ? "scans are still coming in" : stations.length < 2 ? "tying needs two stations" : "")}
        >
          {network?.links.length ? "Tie all again" : "Tie all stations"}
        </Button>
      </Actions>
      {live.map((j) => (
        <JobLine key={j.id} id={id} job={j} />
      ))}
      <Quiet>
        Overlapping pairs are found without a first guess, aligned, and adjusted together. Undo takes the result back.
      </Quiet>
      {network && network.links.length > 0 && (
        <>
          <Heading>Adjusted network</Heading>
          <Row name="links in use" value={network.links.filter((k) => k.used).length} />
          <Row name="degrees of freedom" value={network.degrees_of_freedom} />
          <Row name="sigma 0" value={fixed(network.sigma0, 2)} />
          <Row name="connected parts" value={network.parts.length} doubt={network.parts.length > 1} />
          {network.findings.slice(0, 6).map((f) => (
            <Quiet key={f.code + f.message}>{f.message}</Quiet>
          ))}
          {held.length > 0 && <Row name="held groups" value={held.length} />}
          {network.findings.length > 6 && <Quiet>{network.findings.length - 6} more stand in the step Prove.</Quiet>}
        </>
      )}
      {network && network.links.length > 0 && <Advice id={id} />}
      <Searching id={id} />
      <FindTargets id={id} busy={busy} />
      <Beside id={id} />
      <Quiet>Choose two stations in the roster (with Ctrl) to link them by hand.</Quiet>
    </>
  );
}
