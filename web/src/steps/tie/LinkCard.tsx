/** A link: what a colleague would say of it, its evidence beside what the profile asks, and what can be done. */
import { http, type Schemas, sent, type Link } from "../../api/client";
import { useAsk, useBoxes, useLink, useProject, useStations } from "../../api/queries";
import { Await } from "../../kit/await";
import { Actions, Button, fixed, Heading, Quiet, Row, Sentence, StatusWord } from "../../kit";
import { inverse, product } from "../../kit/units";
import { pickTwo, useView } from "../../kit/view";
import { Accept } from "../../parts/Accept";
import { startPlacing } from "./Placing";

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

/** What only the link itself holds: its sentence and its histogram. */
function Whole({ id, link }: { id: string; link: Link }) {
  const asked = useLink(id, link);
  const k = asked.data;
  return (
    <Await of={[asked]} what="this link">
      {k && <Sentence>{k.sentence}</Sentence>}
      {k?.carried && <Quiet>{k.carried}</Quiet>}
      {k && k.histogram.length > 0 && <Histogram counts={k.histogram} median={k.fit_median_mm} />}
      {k && (
        <>
          <Heading>Could it be another place?</Heading>
          <Row
            name="contradicted things"
            value={fixed(k.contradicted_m2, 2)}
            unit="m²"
            limit={`≤ ${fixed(k.allowed_m2, 2)}`}
            doubt={k.reasons.some((r) => r.code === "contradicted")}
          />
          <Row
            name="more than bare walls"
            value={fixed(k.distinct_m2)}
            unit="m²"
            limit={`≥ ${fixed(k.bare_m2)}`}
            doubt={k.reasons.some((r) => r.code === "bare")}
          />
        </>
      )}
    </Await>
  );
}

const HIGH = 50; // metres up and down of a rectangle in plan: it is meant whatever the height

/** Whether it is compared everywhere or in a box alone, and changing that. */
function Where({ id, link: k }: { id: string; link: Link }) {
  const stations = useStations(id).data ?? [];
  const boxes = useBoxes(id).data ?? [];
  const whole = useLink(id, k).data;
  const a = stations.find((s) => s.id === k.a);
  const b = stations.find((s) => s.id === k.b);
  const box = boxes.find((x) => x.active && x.part === a?.part);
  const letGo = useView((s) => s.letGo);
  const drawing = useView((s) => s.tool === "planPick");
  const begun = useView((s) => s.picks.length > 0);
  const again = useAsk(id, (only: Pick<Schemas["PairIn"], "box" | "region">) =>
    sent(
      http.POST("/api/projects/{project_id}/links", {
        params: { path: { project_id: id } },
        body: { a: k.a, b: k.b, T_a_b: product(inverse(a!.pose), b!.pose), ...only },
      }),
    ),
  );
  const draw = () =>
    pickTwo((p, q) => {
      letGo();
      const [wide, deep] = [0, 1].map((k) => Math.max(Math.abs(p[k]! - q[k]!) / 2, 0.1)) as [number, number];
      const centre = [(p[0]! + q[0]!) / 2, (p[1]! + q[1]!) / 2, p[2]!];
      again.mutate({ region: { centre, half: [wide, deep, HIGH], yaw: 0 } });
    });
  const why = !a || !b || a.part !== b.part ? "the two share no coordinates" : "";
  return (
    <>
      <Heading>Where they are compared</Heading>
      <p className="text-[13.5px]">
        {whole?.region
          ? `Only in a box of ${whole.region.half.map((v) => fixed(2 * v)).join(" × ")} m.`
          : "In all that both saw."}
      </p>
      {drawing && <Quiet>{begun ? "Now click the corner opposite." : "Click one corner of it in plan."}</Quiet>}
      <Actions>
        <Button
          busy={again.isPending}
          onClick={() => again.mutate({ box: box!.id })}
          why={why || (box ? "" : "draw a crop box in Clean and switch it on first")}
        >
          {box ? `Compare only in ${box.name}` : "Compare only in a crop box"}
        </Button>
        <Button busy={again.isPending} pressed={drawing} onClick={drawing ? letGo : draw} why={why}>
          {drawing ? "Leave it" : "Compare only in a rectangle of the plan"}
        </Button>
        {whole?.region && (
          <Button busy={again.isPending} onClick={() => again.mutate({})} why={why}>
            Compare everywhere
          </Button>
        )}
      </Actions>
    </>
  );
}

export function LinkCard({ id, link: k }: { id: string; link: Link }) {
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
      <Whole id={id} link={k} />
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
      <Where id={id} link={k} />
      <Accept id={id} link={k.id} what="this link" why={k.status === "loose" ? "it is not computed yet" : ""} />
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
