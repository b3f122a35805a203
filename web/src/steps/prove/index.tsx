/** Prove: does the network hold as a whole, and how well is every station known? */
import { http, sent, type Network, type Project, type Station } from "../../api/client";
import { useAsk, useNetwork, useProject, useStations } from "../../api/queries";
import { fixed, Heading, Pick, Quiet, Row, Sentence, StatusWord, type Column } from "../../kit";
import { Await } from "../../kit/await";
import { Table } from "../../kit/table";
import { Accept } from "../../parts/Accept";
import { useView } from "../../kit/view";
import { ReportMaking } from "./ReportMaking";

export function ProveCard({ id }: { id: string }) {
  const asked = [useProject(id), useNetwork(id)] as const;
  return (
    <Await of={[...asked]} what="the network">
      {asked[0].data && asked[1].data && <Loaded id={id} project={asked[0].data} network={asked[1].data} />}
    </Await>
  );
}

function Loaded({ id, project, network }: { id: string; project: Project; network: Network }) {
  const change = useAsk(id, (profile: string) =>
    sent(
      http.PATCH("/api/projects/{project_id}", {
        params: { path: { project_id: id } },
        body: { profile, version: project.version },
      }),
    ),
  );
  const test = network.global_test as { statistic: number; limit: number; passed: boolean };
  const profile = project.profile as Record<string, number>;
  return (
    <>
      <Sentence>{network.sentence}</Sentence>
      {network.out_of_date && <Quiet>The network changed since this was computed.</Quiet>}
      {network.degrees_of_freedom > 0 && (
        <>
          <Heading>Does it fit together as well as each link claims?</Heading>
          <Row name="sigma 0" value={fixed(network.sigma0, 2)} limit="≈ 1" />
          <Row
            name="global test"
            value={fixed(test.statistic, 0)}
            limit={`≤ ${fixed(test.limit, 0)}`}
            doubt={!test.passed}
          />
          <Quiet>
            {test.passed
              ? "Passed: residuals are as large as the links say of themselves."
              : `Not passed: residuals are ${fixed(network.sigma0, 1)} times what the links claim. Standard deviations below are already enlarged by that factor. Surfaces that scan with an offset of their own do this; a parted link does it too.`}
          </Quiet>
        </>
      )}
      <Accept
        id={id}
        link={null}
        what="the network"
        why={
          network.links.length
            ? network.out_of_date
              ? "the network is being adjusted"
              : ""
            : "there is no network yet"
        }
      />
      {network.findings.length > 0 && <Heading>Findings</Heading>}
      {network.findings.map((f) => (
        <p
          key={f.code + f.message}
          className={`my-1 text-[13px] ${f.severity === "fault" ? "text-parted" : "text-slack"}`}
        >
          {f.message}
        </p>
      ))}
      <Heading>Tolerances</Heading>
      <Pick
        label="Profile"
        value={String(project.profile["name"])}
        onChange={(e) => change.mutate(e.target.value)}
        options={["as-built", "plant steelwork", "topographic"].map((p) => [p, p])}
      />
      <Row name="fit, RMS" value={fixed(1000 * (profile["fit"] ?? 0))} unit="mm" />
      <Row name="overlap for taut" value={fixed(100 * (profile["overlap_taut"] ?? 0), 0)} unit="%" />
      <Row name="seen through" value={fixed(100 * (profile["see_through"] ?? 0))} unit="%" />
      <Row name="weakest direction" value={fixed(1000 * (profile["weak"] ?? 0))} unit="mm" />
      <Row name="control, distance" value={fixed(1000 * (profile["control"] ?? 0))} unit="mm" />
      <ReportMaking id={id} project={project} nothing={network.links.length === 0} />
    </>
  );
}

function DeviationsLedger({ id }: { id: string }) {
  const asked = useStations(id);
  const rows = asked.data ?? [];
  const parts = useProject(id).data?.parts ?? [];
  const partName = (part: string | null) =>
    parts.find((p) => p.id === part && p.stations.length > 1)?.name ?? "not tied";
  const { stations: selected, selectStation } = useView();
  const columns: Column<Station>[] = [
    { head: "status", cell: (s) => <StatusWord status={s.status} />, value: (s) => s.status, width: "96px" },
    { head: "station", cell: (s) => <span className="font-mono">{s.name}</span>, value: (s) => s.name },
    { head: "part", cell: (s) => partName(s.part), value: (s) => partName(s.part) },
    { head: "links", cell: (s) => s.links, value: (s) => s.links, figure: true },
    ...["E", "N", "H"].map((axis, k) => ({
      head: `σ ${axis} mm`,
      figure: true,
      value: (s: Station) => s.sigma_position_mm?.[k] ?? null,
      cell: (s: Station) => (s.tied ? fixed(s.sigma_position_mm?.[k], 1) : "–"),
    })),
  ];
  return (
    <Table
      what="stations"
      from={[asked]}
      rows={rows}
      columns={columns}
      id={(s) => s.id}
      selected={(s) => selected.includes(s.id)}
      onSelect={(s) => selectStation(s.id, false)}
      empty="Standard deviations of every station are listed here once they are tied."
    />
  );
}

type Finding = Network["findings"][number];
function FindingsLedger({ id }: { id: string }) {
  const asked = useNetwork(id);
  const rows = asked.data?.findings ?? [];
  const links = asked.data?.links.length ?? 0;
  const columns: Column<Finding>[] = [
    { head: "weight", cell: (f) => f.severity, value: (f) => f.severity, width: "90px" },
    {
      head: "about",
      cell: (f) => <span className="font-mono">{f.subject}</span>,
      value: (f) => f.subject,
      width: "170px",
    },
    { head: "finding", cell: (f) => f.message, value: (f) => f.message },
  ];
  return (
    <Table
      what="findings"
      from={[asked]}
      rows={rows}
      columns={columns}
      id={(f) => f.subject + f.code + f.message}
      empty={
        links
          ? "Nothing speaks against the network."
          : "There is no network yet: tie the stations first. What speaks against it is listed here."
      }
    />
  );
}

export const proveLedgers = [
  { id: "deviations", title: "Stations", Body: DeviationsLedger },
  { id: "findings", title: "Findings", Body: FindingsLedger },
];
