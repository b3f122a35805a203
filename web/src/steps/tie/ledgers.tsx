/** The lists of the step: links, and sightings of targets. */
import { useEffect, useState } from "react";
import { http, sent, type Link, type Sighting } from "../../api/client";
import { tellUndoable, useAsk, useNetwork, useSightings, useStations } from "../../api/queries";
import { fixed, StatusWord, type Column } from "../../kit";
import { Table } from "../../kit/table";
import { useView } from "../../kit/view";
import { provide } from "../../kit/commands";
import { KnownLedger } from "./Known";
import { QuestionsLedger } from "./Questions";

function LinksLedger({ id }: { id: string }) {
  const asked = useNetwork(id);
  const links = asked.data?.links ?? [];
  const { link, set } = useView();
  const stations = useStations(id).data;
  const partOf = (station: string) => stations?.find((s) => s.id === station)?.part ?? null; // whose picture shows the link
  const columns: Column<Link>[] = [
    {
      head: "status",
      cell: (k) => <StatusWord status={k.status} off={!k.used} />,
      value: (k) => (k.used ? k.status : "off"),
      width: "96px",
    },
    {
      head: "stations",
      cell: (k) => <span className="font-mono whitespace-nowrap">{`${k.name_a} · ${k.name_b}`}</span>,
      value: (k) => `${k.name_a} ${k.name_b}`,
      width: "150px",
    },
    { head: "fit mm", cell: (k) => fixed(k.fit_rms_mm), value: (k) => k.fit_rms_mm, figure: true, width: "70px" },
    {
      head: "overlap %",
      cell: (k) => fixed(100 * k.overlap, 0),
      value: (k) => 100 * k.overlap,
      figure: true,
      width: "84px",
    },
    {
      head: "seen through %",
      cell: (k) => fixed(100 * k.see_through),
      value: (k) => 100 * k.see_through,
      figure: true,
      width: "112px",
    },
    {
      head: "weakest mm",
      cell: (k) => fixed(k.weak_sigma_mm),
      value: (k) => k.weak_sigma_mm,
      figure: true,
      width: "92px",
    },
    {
      head: "after adjustment mm",
      cell: (k) => fixed(k.residual_mm),
      value: (k) => k.residual_mm,
      figure: true,
      width: "144px",
    },
    { head: "what speaks against it", cell: (k) => k.reasons.map((r) => r.message).join(" · ") },
  ];
  return (
    <Table
      what="links"
      from={[asked]}
      rows={links}
      columns={columns}
      id={(k) => k.id}
      selected={(k) => k.id === link}
      onSelect={(k) => set({ link: k.id, stations: [], target: null, part: partOf(k.a) })}
      empty="No links yet. “Tie all stations” finds overlapping pairs by itself; every link is listed here with its evidence."
    />
  );
}

function SightingsLedger({ id }: { id: string }) {
  const asked = useSightings(id);
  const rows = asked.data ?? [];
  const { target, set } = useView();
  const change = useAsk(id, ({ g, ...body }: { g: Sighting; used?: boolean; target?: string }) =>
    sent(
      http.PATCH("/api/projects/{project_id}/sightings/{sighting_id}", {
        params: { path: { project_id: id, sighting_id: g.id } },
        body: { ...body, version: g.version },
      }),
    ),
  );
  const remove = useAsk(id, (g: Sighting) =>
    sent(
      http.DELETE("/api/projects/{project_id}/sightings/{sighting_id}", {
        params: { path: { project_id: id, sighting_id: g.id }, query: { version: g.version } },
      }),
    ),
  );
  const columns: Column<Sighting>[] = [
    {
      head: "target",
      cell: (g) => (
        <input
          aria-label="Name of the target"
          key={g.target_name}
          defaultValue={g.target_name}
          maxLength={120}
          placeholder="not matched"
          className="w-24 rounded border border-transparent bg-transparent px-1 font-mono hover:border-rule"
          onBlur={(e) => e.target.value !== g.target_name && change.mutate({ g, target: e.target.value })}
        />
      ),
      value: (g) => g.target_name,
      width: "120px",
    },
    {
      head: "seen from",
      cell: (g) => <span className="font-mono">{g.station_name}</span>,
      value: (g) => g.station_name,
    },
    { head: "kind", cell: (g) => g.kind, value: (g) => g.kind, width: "72px" },
    {
      head: "radius, edge mm",
      cell: (g) => (g.size_mm ? fixed(g.size_mm) : ""),
      value: (g) => g.size_mm,
      figure: true,
    },
    { head: "points", cell: (g) => g.points, value: (g) => g.points, figure: true },
    { head: "fit mm", cell: (g) => fixed(g.rms_mm), value: (g) => g.rms_mm, figure: true },
    { head: "centre ± mm", cell: (g) => fixed(g.sigma_mm), value: (g) => g.sigma_mm, figure: true },
    {
      head: "in deviations",
      cell: (g) => (
        <span className={(g.normalized ?? 0) > 3.5 ? "text-slack" : ""}>
          {g.normalized === null ? "" : fixed(g.normalized)}
        </span>
      ),
      value: (g) => g.normalized,
      figure: true,
    },
    { head: "places agree mm", cell: (g) => fixed(g.spread_mm), value: (g) => g.spread_mm, figure: true },
    {
      head: "used",
      cell: (g) => (
        <input
          type="checkbox"
          aria-label={`Use ${g.target_name} of ${g.station_name}`}
          checked={g.used}
          onChange={() => change.mutate({ g, used: !g.used })}
        />
      ),
    },
    { head: "remarks", cell: (g) => g.remark },
    {
      head: "can be",
      width: "110px",
      cell: (g) => (
        <button
          type="button"
          className="cursor-pointer text-action underline"
          aria-label={`taken away: ${g.target_name || "the sighting"} of ${g.station_name}`}
          onClick={() =>
            remove.mutate(g, {
              onSuccess: () => void tellUndoable(id, `Took a sighting of ${g.target_name || "no target"} away.`),
            })
          }
        >
          taken away
        </button>
      ),
    },
  ];
  const [row, setRow] = useState<string | null>(null);
  const chosen = rows.find((g) => g.id === row && g.target === target);
  useEffect(
    () =>
      provide([
        {
          id: "tie.switch",
          title: "Switch the chosen sighting off or on",
          keys: "s",
          run: () => chosen && change.mutate({ g: chosen, used: !chosen.used }),
        },
      ]),
    [chosen, change],
  );
  return (
    <Table
      what="sightings"
      from={[asked]}
      rows={rows}
      columns={columns}
      id={(g) => g.id}
      selected={(g) => g.target !== null && g.target === target && (chosen === undefined || g.id === chosen.id)}
      onSelect={(g) => {
        setRow(g.id);
        set({ target: g.target, part: g.part, stations: [g.station], link: null });
      }}
      empty="No targets yet. “Find targets” looks in every station for spheres by their radius and for boards by their edge."
    />
  );
}

export const tieLedgers = [
  { id: "links", title: "Links", Body: LinksLedger },
  { id: "sightings", title: "Targets", Body: SightingsLedger },
  { id: "known", title: "Known", Body: KnownLedger },
  { id: "questions", title: "Questions", Body: QuestionsLedger },
];
