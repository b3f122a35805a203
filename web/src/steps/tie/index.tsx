/** Tie: one button, then evidence: links with status, reasons and residuals; spheres; a pair put by hand. */
import { http, sent, type Body, type Link, type Sighting, type Station } from "../../api/client";
import { useAsk, useBodies, useJobs, useNetwork, useProject, useSightings, useStations } from "../../api/queries";
import { Actions, Button, fixed, Heading, Quiet, Row, Sentence, StatusWord, type Column } from "../../kit";
import { Await } from "../../kit/await";
import { LengthField, useLengths } from "../../kit/fields";
import { Table } from "../../kit/table";
import { EYE, inverse, product } from "../../kit/units";
import { useView } from "../../kit/view";
import { JobLine } from "../../parts/JobLine";

export function TieCard({ id }: { id: string }) {
  const asked = [useNetwork(id), useStations(id), useSightings(id), useJobs(id)] as const;
  return (
    <Await of={[...asked]} what="the network">
      <Loaded id={id} />
    </Await>
  );
}

function Loaded({ id }: { id: string }) {
  const network = useNetwork(id).data;
  const stations = useStations(id).data ?? [];
  const { link, stations: chosen, target, placing } = useView();
  const selected = network?.links.find((k) => k.id === link);
  if (placing) return <Placing id={id} stations={stations} />;
  if (selected) return <LinkCard id={id} link={selected} />;
  const two = stations.filter((s) => chosen.includes(s.id));
  if (two.length > 2) return <HeldCard id={id} stations={two} />;
  if (two.length === 2) return <PairCard id={id} a={two[0]!} b={two[1]!} />;
  if (target) return <TargetCard id={id} target={target} />;
  return <WholeCard id={id} stations={stations} />;
}

function WholeCard({ id, stations }: { id: string; stations: Station[] }) {
  const network = useNetwork(id).data;
  const jobs = useJobs(id).data ?? [];
  const sightings = useSightings(id).data ?? [];
  const bodies = useBodies(id).data ?? [];
  const radius = useLengths({ radius: 0.1 }, "mm", { radius: { least: 0.01, most: 1 } });
  const live = jobs.filter(
    (j) => (j.state === "running" || j.state === "waiting") && ["tie", "pair", "targets"].includes(j.kind),
  );
  const coming = jobs.some(
    (j) => (j.state === "running" || j.state === "waiting") && (j.kind === "import" || j.kind === "demo"),
  );
  const tie = useAsk(id, () =>
    sent(http.POST("/api/projects/{project_id}/tie", { params: { path: { project_id: id } } })),
  );
  const find = useAsk(id, () =>
    sent(
      http.POST("/api/projects/{project_id}/targets/find", {
        params: { path: { project_id: id } },
        body: { radii_mm: [1000 * radius.values!.radius] },
      }),
    ),
  );
  const busy = live[0] ? "this is under way already" : "";
  const targets = new Set(sightings.map((g) => g.target).filter(Boolean)).size;
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
        Overlapping pairs are found without a first guess (the scanners stood level), aligned, and adjusted together.
        Undo takes the result back.
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
          {bodies.length > 0 && <Row name="held groups" value={bodies.length} />}
          {network.findings.length > 6 && <Quiet>{network.findings.length - 6} more stand in the step Prove.</Quiet>}
        </>
      )}
      <Heading>Sphere targets</Heading>
      <Quiet>
        {targets
          ? `${targets} spheres, seen ${sightings.filter((g) => g.target).length} times.`
          : "Spheres tie stations to control. They are found by their radius."}
      </Quiet>
      <LengthField of={radius} name="radius" label="Radius" />
      <Actions>
        <Button
          busy={find.isPending}
          onClick={() => find.mutate(undefined)}
          why={busy || (radius.why && "a radius from 10 to 1000 mm is needed")}
        >
          Find spheres
        </Button>
      </Actions>
      <Quiet>Choose two stations in the roster (with Ctrl) to link them by hand.</Quiet>
    </>
  );
}

function Histogram({ counts, median }: { counts: number[]; median: number }) {
  const most = Math.max(1, ...counts);
  const w = 284 / counts.length;
  return (
    <svg
      viewBox="0 0 288 76"
      className="my-2 w-full"
      role="img"
      aria-label={`Distances between the surfaces, median ${median.toFixed(1)} mm`}
    >
      {counts.map((c, k) => (
        <rect
          key={k}
          x={2 + k * w}
          y={58 - (54 * c) / most}
          width={w - 1}
          height={(54 * c) / most}
          fill="var(--action)"
          opacity={0.75}
        />
      ))}
      <line x1="0" x2="288" y1="58.5" y2="58.5" stroke="var(--rule)" />
      <line x1={2 + median * 2 * w} x2={2 + median * 2 * w} y1="2" y2="58" stroke="var(--ink)" strokeDasharray="2 2" />
      {[0, 5, 10].map((mm) => (
        <text key={mm} x={2 + mm * 2 * w} y="72" fontSize="11" fill="var(--quiet)" fontFamily="monospace">
          {mm}
          {mm === 10 ? " mm" : ""}
        </text>
      ))}
    </svg>
  );
}

function LinkCard({ id, link: k }: { id: string; link: Link }) {
  const stations = useStations(id).data;
  const profile = useProject(id).data?.profile as Record<string, number> | undefined;
  const toggle = useAsk(id, () =>
    sent(
      http.PATCH("/api/projects/{project_id}/links/{link_id}", {
        params: { path: { project_id: id, link_id: k.id } },
        body: { used: !k.used, version: k.version },
      }),
    ),
  );
  const limit = (key: string) => (profile?.[key] ?? 0) * 1000;
  const codes = new Set(k.reasons.map((r) => r.code));
  return (
    <>
      <p className="mb-1 flex items-center gap-2 text-[13.5px]">
        <StatusWord status={k.status} off={!k.used} />
        <span className="font-mono">
          {k.name_a} · {k.name_b}
        </span>
      </p>
      <Sentence>{k.sentence}</Sentence>
      {k.histogram.length > 0 && <Histogram counts={k.histogram} median={k.fit_median_mm} />}
      <Heading>Evidence, and what the profile asks</Heading>
      <Row
        name="fit, RMS"
        value={fixed(k.fit_rms_mm)}
        unit="mm"
        limit={`≤ ${fixed(limit("fit"))}`}
        doubt={codes.has("fit")}
      />
      <Row
        name="overlap"
        value={fixed(100 * k.overlap, 0)}
        unit="%"
        limit={`≥ ${fixed(limit("overlap_taut") / 10, 0)}`}
        doubt={codes.has("overlap")}
      />
      <Row
        name="seen through"
        value={fixed(100 * k.see_through)}
        unit="%"
        limit={`≤ ${fixed(limit("see_through") / 10)}`}
        doubt={codes.has("seen_through")}
      />
      <Row
        name="weakest direction"
        value={`±${fixed(k.weak_sigma_mm)}`}
        unit="mm"
        limit={`≤ ${fixed(limit("weak"))}`}
        doubt={codes.has("weak")}
      />
      <Row
        name="after adjustment"
        value={fixed(k.residual_mm)}
        unit="mm"
        limit={`≤ ${fixed(limit("fit"))}`}
        doubt={codes.has("network")}
      />
      <Row name="turned by" value={fixed(k.residual_mdeg)} unit="mdeg" limit="" />
      <Actions>
        <Button main busy={toggle.isPending} onClick={() => toggle.mutate(undefined)}>
          {k.used ? "Switch this link off" : "Switch this link on"}
        </Button>
        <Button
          onClick={() =>
            startPlacing(
              stations?.find((s) => s.id === k.a),
              stations?.find((s) => s.id === k.b),
            )
          }
        >
          Put {k.name_b} by hand
        </Button>
        <Button onClick={() => useView.getState().set({ link: null })}>Back to the whole</Button>
      </Actions>
    </>
  );
}

/** Begin to carry station b over station a in plan. */
function startPlacing(a: Station | undefined, b: Station | undefined) {
  if (!a || !b) return;
  const v = useView.getState();
  v.set({
    part: a.part,
    placing: { a: a.id, station: b.id, pose: b.part === a.part ? b.pose : a.pose },
    tool: "place",
    panes: ["plan"],
    slab: { ...v.slab, cutPlan: true },
  });
}

function PairCard({ id, a, b }: { id: string; a: Station; b: Station }) {
  const link = useNetwork(id).data?.links.find((k) => (k.a === a.id && k.b === b.id) || (k.a === b.id && k.b === a.id));
  return (
    <>
      <Sentence>
        {a.name} and {b.name} {link ? "are linked." : "are not linked."}
      </Sentence>
      <Quiet>Put one over the other roughly in plan; the fine alignment does the rest and shows the evidence.</Quiet>
      <Actions>
        {link && <Button onClick={() => useView.getState().set({ link: link.id, stations: [] })}>Show the link</Button>}
        <Button main={!link} onClick={() => startPlacing(a, b)}>
          Put {b.name} by hand
        </Button>
      </Actions>
      <Hold id={id} stations={[a, b]} />
    </>
  );
}

/** Several stations: hold them as one body. */
function HeldCard({ id, stations }: { id: string; stations: Station[] }) {
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

function Placing({ id, stations }: { id: string; stations: Station[] }) {
  const { placing, set, letGo } = useView();
  const project = useProject(id).data;
  const a = stations.find((s) => s.id === placing!.a);
  const b = stations.find((s) => s.id === placing!.station);
  const ask = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/links", {
          params: { path: { project_id: id } },
          body: { a: placing!.a, b: placing!.station, T_a_b: product(inverse(a?.pose ?? EYE), placing!.pose) },
        }),
      ),
    () => letGo(),
  );
  const frame = project?.T_frame_part ?? EYE;
  const pose = placing!.pose;
  const there = product(frame, pose); // as everything on the screen: in the active coordinates
  const turn = (Math.atan2(there[4]!, there[0]!) * 180) / Math.PI;
  const at = useLengths({ e: there[3]!, n: there[7]!, h: there[11]! }, project?.unit ?? "m");
  const by = (degrees: number) => {
    const [c, s] = [Math.cos((degrees * Math.PI) / 180), Math.sin((degrees * Math.PI) / 180)];
    const next = [...pose];
    for (let k = 0; k < 3; k++) {
      next[k] = c * pose[k]! - s * pose[4 + k]!;
      next[4 + k] = s * pose[k]! + c * pose[4 + k]!;
    }
    set({ placing: { ...placing!, pose: next } });
  };
  const put = () => {
    if (!at.values) return;
    const next = [...there];
    [next[3], next[7], next[11]] = [at.values.e, at.values.n, at.values.h];
    set({ placing: { ...placing!, pose: product(inverse(frame), next) } });
    at.form.reset({}, { keepValues: true });
  };
  return (
    <>
      <Sentence>
        Carry {b?.name} over {a?.name}.
      </Sentence>
      <Quiet>
        Drag in plan to shift it, drag with the right button (or Shift) to turn it about its instrument. Within a metre
        and a few degrees is near enough.
      </Quiet>
      <LengthField of={at} name="e" label="East" onCommit={put} />
      <LengthField of={at} name="n" label="North" onCommit={put} />
      <LengthField of={at} name="h" label="Height" onCommit={put} />
      <Row name="turned to" value={fixed(turn)} unit="°" />
      <Actions>
        {[-90, -5, -1, 1, 5, 90].map((d) => (
          <Button key={d} onClick={() => by(d)}>
            {d > 0 ? `+${d}°` : `−${-d}°`}
          </Button>
        ))}
      </Actions>
      <Actions>
        <Button main busy={ask.isPending} onClick={() => ask.mutate(undefined)}>
          Link these two
        </Button>
        <Button onClick={letGo}>Leave it</Button>
      </Actions>
    </>
  );
}

function TargetCard({ id, target }: { id: string; target: string }) {
  const part = useProject(id).data?.part ?? null;
  const own = (useSightings(id).data ?? []).filter((g) => g.target === target && g.part === part);
  const spread = own.find((g) => g.spread_mm !== null)?.spread_mm;
  return (
    <>
      <Sentence>
        {own[0]?.target_name ?? "This target"} was seen {own.length} times
        {spread !== undefined && spread !== null ? ` and its places agree within ${fixed(spread)} mm.` : "."}
      </Sentence>
      {own.map((g) => (
        <Row
          key={g.id}
          name={g.station_name}
          value={fixed(g.rms_mm)}
          unit="mm"
          limit={`${g.points} pts`}
          doubt={!g.used}
        />
      ))}
      <Actions>
        <Button onClick={() => useView.getState().set({ target: null })}>Back to the whole</Button>
      </Actions>
    </>
  );
}

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
    { head: "radius mm", cell: (g) => fixed(g.radius_mm), value: (g) => g.radius_mm, figure: true },
    { head: "points", cell: (g) => g.points, value: (g) => g.points, figure: true },
    { head: "fit mm", cell: (g) => fixed(g.rms_mm), value: (g) => g.rms_mm, figure: true },
    { head: "centre ± mm", cell: (g) => fixed(g.sigma_mm), value: (g) => g.sigma_mm, figure: true },
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
  ];
  return (
    <Table
      what="sightings"
      from={[asked]}
      rows={rows}
      columns={columns}
      id={(g) => g.id}
      selected={(g) => g.target !== null && g.target === target}
      onSelect={(g) => set({ target: g.target, part: g.part, stations: [g.station], link: null })}
      empty="No spheres yet. “Find spheres” looks for them by their radius in every station."
    />
  );
}

export const tieLedgers = [
  { id: "links", title: "Links", Body: LinksLedger },
  { id: "sightings", title: "Targets", Body: SightingsLedger },
];
