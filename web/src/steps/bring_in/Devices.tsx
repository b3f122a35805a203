/** Instruments beside the job: what they hold and see, scans and measurements made with them, control fetched from them. */
import { Dialog } from "radix-ui";
import { useEffect, useRef, useState, type KeyboardEvent } from "react";
import { useQuery } from "@tanstack/react-query";
import { create } from "zustand";
import { http, sent } from "../../api/client";
import { tellUndoable, useAsk, useJobs, useStations } from "../../api/queries";
import { Actions, Button, Field, fixed, grouped, Heading, megabytes, Pick, Quiet } from "../../kit";
import { Await } from "../../kit/await";
import { metresOf } from "../../kit/length";
import { JobLine } from "../../parts/JobLine";
import { path, type Device } from "./device";
import { TotalStation } from "./TotalStation";

const useDrawer = create<{ open: boolean }>(() => ({ open: false }));
export const openDevices = (open: boolean) => useDrawer.setState({ open });

export function DeviceDrawer({ id }: { id: string }) {
  const open = useDrawer((s) => s.open);
  return (
    <Dialog.Root open={open} onOpenChange={openDevices}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/30" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed inset-y-0 right-0 z-50 w-[min(600px,96vw)] overflow-auto border-l border-rule bg-card px-5 py-4"
        >
          <div className="flex items-baseline">
            <Dialog.Title className="flex-1 text-[18px] leading-snug font-medium">Instruments</Dialog.Title>
            <Dialog.Close asChild>
              <button type="button" className="cursor-pointer text-[13.5px] text-action underline">
                Close the drawer
              </button>
            </Dialog.Close>
          </div>
          {open && <Devices id={id} />}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

const EVERY = 1500; // ms between two looks at the instruments while the drawer is open

function Devices({ id }: { id: string }) {
  const asked = useQuery({
    queryKey: ["devices"],
    refetchInterval: EVERY,
    queryFn: () => sent(http.GET("/api/devices")),
  });
  const devices = asked.data ?? [];
  const [name, setName] = useState("");
  const chosen = devices.find((d) => d.name === name) ?? devices[0];
  return (
    <Await of={[asked]} what="the instruments">
      {devices.length === 0 && (
        <Quiet>
          This server is connected with no instrument. Which there are stands in its setting LANTERN_DEVICES; the demo
          brings two simulated ones.
        </Quiet>
      )}
      <div role="radiogroup" aria-label="Instruments" className="my-2 grid grid-cols-2 gap-2">
        {devices.map((d) => (
          <button
            key={d.name}
            type="button"
            role="radio"
            aria-checked={d === chosen}
            onClick={() => setName(d.name)}
            className={`cursor-pointer rounded border px-3 py-2 text-left ${d === chosen ? "border-lamp bg-halo" : "border-rule"}`}
          >
            <span className="block text-[14px] font-medium">{d.name}</span>
            <span className="block text-[12.5px] text-quiet">{d.problem || told(d)}</span>
          </button>
        ))}
      </div>
      {chosen?.kind === "scanner" && <Scanner key={chosen.name} id={id} device={chosen} />}
      {chosen?.kind === "total-station" && <TotalStation key={chosen.name} id={id} device={chosen} />}
    </Await>
  );
}

function told(d: Device): string {
  const state = d.state === "busy" ? "at work" : d.state;
  const low = (d.battery ?? 100) < 15 ? ", low" : "";
  return `${state} · battery ${d.battery ?? "–"} %${low}`;
}

function Scanner({ id, device }: { id: string; device: Device }) {
  const jobs = (useJobs(id).data ?? []).filter(
    (j) => j.kind === "device" && (j.state === "running" || j.state === "waiting"),
  );
  const stations = useStations(id).data ?? [];
  const [name, setName] = useState("");
  const [points, setPoints] = useState("0.8");
  const million = Number(points.replace(",", "."));
  const scan = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/devices/{name}/scan", {
          ...path(id, device),
          body: { name: name.trim(), points: Math.round(1e6 * million) },
        }),
      ),
    () => setName(""),
  );
  const fetch = useAsk(id, (made: string) =>
    sent(http.POST("/api/projects/{project_id}/devices/{name}/fetch", { ...path(id, device), body: { scan: made } })),
  );
  const busy = device.state === "busy" ? "it is at work" : jobs.length ? "a scan is under way" : "";
  const held = device.scans.filter((s) => s.state === "done");
  return (
    <>
      <Heading>Scan from where it stands</Heading>
      <Field
        label="Name of the station"
        type="text"
        maxLength={120}
        value={name}
        placeholder="ST-13"
        onChange={(e) => setName(e.target.value)}
      />
      <Field label="Points of a full turn" unit="M" value={points} onChange={(e) => setPoints(e.target.value)} />
      <Actions>
        <Button
          main
          busy={scan.isPending}
          onClick={() => scan.mutate(undefined)}
          why={
            busy ||
            (name.trim()
              ? million >= 0.02 && million <= 50
                ? ""
                : "from 0.02 to 50 million points"
              : "name the station")
          }
        >
          Scan and bring it in
        </Button>
      </Actions>
      {jobs.map((j) => (
        <JobLine key={j.id} id={id} job={j} />
      ))}
      <View id={id} device={device} busy={busy} />
      <Heading>Scans that it holds</Heading>
      {held.length === 0 && <Quiet>None yet.</Quiet>}
      {held.map((s) => {
        const here = stations.some((x) => x.name === s.name);
        return (
          <div
            key={s.id}
            className="flex items-baseline gap-3 border-b border-rule/60 py-1 text-[13.5px] last:border-0"
          >
            <span className="flex-1 font-mono">{s.name}</span>
            <span className="figure text-quiet">{grouped(s.points)} rays</span>
            <span className="figure text-quiet">{megabytes(s.size)}</span>
            {here ? (
              <span className="text-quiet">is here</span>
            ) : (
              <button
                type="button"
                className="cursor-pointer text-action underline"
                onClick={() => fetch.mutate(s.id)}
                aria-label={`fetch ${s.name}`}
              >
                fetch
              </button>
            )}
          </div>
        );
      })}
    </>
  );
}

const WIDE = [0.05, 0.15, 0.4, 1.0]; // radians across the live view

/** Through the scanner: a fine cross that is moved onto a target, which is then measured with close rays. */
function View({ id, device, busy }: { id: string; device: Device; busy: string }) {
  const [aim, setAim] = useState({ azimuth: 0, elevation: 0 });
  const [zoom, setZoom] = useState(2);
  const [shown, setShown] = useState("");
  const [problem, setProblem] = useState("");
  const [kind, setKind] = useState<"sphere" | "board">("sphere");
  const [size, setSize] = useState("100");
  const [name, setName] = useState("");
  const stations = useStations(id).data ?? [];
  const station = stations.find((s) => s.name === device.here);
  const millimetres = 1000 * (metresOf(size, "mm") ?? NaN);
  const wide = WIDE[zoom]!;
  const ask = `/api/devices/${encodeURIComponent(device.name)}/view?azimuth=${aim.azimuth}&elevation=${aim.elevation}&wide=${wide}`;
  const latest = useRef("");
  useEffect(() => {
    if (busy) return; // it turns, and sees nothing
    latest.current = ask;
    const soon = setTimeout(() => {
      void globalThis
        .fetch(ask)
        .then(async (r) => {
          if (latest.current !== ask) return;
          if (!r.ok) return setProblem(((await r.json()) as { detail?: string }).detail ?? "there is no view");
          setProblem("");
          setShown(URL.createObjectURL(await r.blob()));
        })
        .catch(() => setProblem("the line to it is lost"));
    }, 120);
    return () => clearTimeout(soon);
  }, [ask, busy]);
  useEffect(() => () => URL.revokeObjectURL(shown), [shown]);
  const turn = (across: number, up: number) =>
    setAim((a) => ({
      azimuth: a.azimuth - across / Math.max(Math.cos(a.elevation), 0.2),
      elevation: Math.min(1.4, Math.max(-1.1, a.elevation + up)),
    }));
  const onKey = (e: KeyboardEvent) => {
    const step = wide / (e.shiftKey ? 4 : 40);
    const way = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[e.key];
    if (way) {
      e.preventDefault();
      turn(step * way[0]!, step * way[1]!);
    }
    if (e.key === "+" || e.key === "-")
      setZoom((z) => Math.min(WIDE.length - 1, Math.max(0, z + (e.key === "+" ? -1 : 1))));
  };
  const measure = useAsk(
    id,
    () =>
      sent(
        http.POST("/api/projects/{project_id}/devices/{name}/aim", {
          ...path(id, device),
          body: { station: station!.id, ...aim, kind, size_mm: millimetres, target: name.trim() },
        }),
      ),
    (r) => {
      void tellUndoable(id, `${r.target} is measured with ${grouped(r.points)} rays, to ±${fixed(r.sigma_mm, 2)} mm.`);
      setName("");
    },
  );
  const sized = millimetres >= 10 && millimetres <= 2000;
  return (
    <>
      <Heading>Through the scanner</Heading>
      <button
        type="button"
        aria-label="Live view: arrows turn it, plus and minus change how much is seen, a click turns it there"
        onKeyDown={onKey}
        onClick={(e) => {
          const r = e.currentTarget.getBoundingClientRect();
          turn(((e.clientX - r.left) / r.width - 0.5) * wide, -((e.clientY - r.top) / r.height - 0.5) * wide);
        }}
        className="relative mx-auto block aspect-square w-[340px] cursor-crosshair overflow-hidden bg-[#12161d]"
      >
        {shown && (
          <img
            src={shown}
            alt="what is seen through the scanner"
            className={`h-full w-full ${busy || problem ? "opacity-30" : ""}`}
          />
        )}
        <svg viewBox="0 0 100 100" className="pointer-events-none absolute inset-0" aria-hidden>
          <g stroke="#e8a700" strokeWidth="0.4" fill="none">
            <path d="M0 50H46M54 50H100M50 0V46M50 54V100" />
            <circle cx="50" cy="50" r="8" strokeWidth="0.25" />
          </g>
        </svg>
        {(busy || problem) && (
          <span role="status" className="absolute inset-x-0 bottom-2 text-center text-[12.5px] text-[#f2efe6]">
            {busy ? "no view while it works" : problem}
          </span>
        )}
      </button>
      <div className="mx-auto my-1 flex w-[340px] items-baseline gap-2 text-[12.5px] text-quiet">
        <span className="flex-1 font-mono">
          {fixed((aim.azimuth * 180) / Math.PI, 2)}° · {fixed((aim.elevation * 180) / Math.PI, 2)}°
        </span>
        {(["wider", "closer"] as const).map((way) => (
          <button
            key={way}
            type="button"
            className="cursor-pointer text-action underline disabled:text-quiet"
            disabled={way === "wider" ? zoom === WIDE.length - 1 : zoom === 0}
            onClick={() => setZoom(zoom + (way === "wider" ? 1 : -1))}
          >
            {way}
          </button>
        ))}
        {[
          ["left", -0.5, 0],
          ["right", 0.5, 0],
          ["up", 0, 0.5],
          ["down", 0, -0.5],
        ].map(([way, across, up]) => (
          <button
            key={way as string}
            type="button"
            className="cursor-pointer text-action underline"
            onClick={() => turn(wide * (across as number), wide * (up as number))}
          >
            {way}
          </button>
        ))}
      </div>
      <Pick
        label="Under the cross is"
        value={kind}
        onChange={(e) => {
          setKind(e.target.value as "sphere");
          setSize(e.target.value === "sphere" ? "100" : "300");
        }}
        options={[
          ["sphere", "a sphere"],
          ["board", "a quadrant board"],
        ]}
      />
      <Field
        label={kind === "sphere" ? "Radius" : "Edge"}
        unit="mm"
        value={size}
        onChange={(e) => setSize(e.target.value)}
      />
      <Field
        label="Name of the target"
        type="text"
        maxLength={120}
        value={name}
        placeholder="as it is"
        onChange={(e) => setName(e.target.value)}
      />
      <Actions>
        <Button
          busy={measure.isPending}
          onClick={() => measure.mutate(undefined)}
          why={
            busy ||
            (device.here === null
              ? "make a scan from here first: the target is measured in its frame"
              : station
                ? sized
                  ? ""
                  : "from 10 to 2000 mm"
                : `fetch ${device.here} first: the target is measured in its frame`)
          }
        >
          Measure it finely
        </Button>
      </Actions>
    </>
  );
}
