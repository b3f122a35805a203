/** One project: thread, roster, bench, card, ledger; its commands and keys; files dropped anywhere on the page. */
import { Tabs } from "radix-ui";
import { Suspense, useEffect, useRef, useState } from "react";
import { Group, Panel, Separator } from "react-resizable-panels";
import { Refusal } from "../api/client";
import { listen, tell, tellError, unwind, useHealth, useJobs, useLine, useProject, useSections } from "../api/queries";
import { filesOf, upload } from "../api/uploads";
import { Button, Quiet, words } from "../kit";
import { Boundary } from "../kit/boundary";
import { onKey, provide } from "../kit/commands";
import { useView } from "../kit/view";
import { BenchHost, toggle } from "./BenchHost";
import { Roster } from "./Roster";
import { ALWAYS, fetchTheRest, Palette, SheetPane, STEPS } from "./steps";
import { Thread } from "./Thread";

export function Workplace({ id, leave }: { id: string; leave: () => void }) {
  const { data: project, error } = useProject(id);
  const { step, ledger, section, set } = useView();
  const asked = useView((s) => s.palette || s.keys);
  useEffect(fetchTheRest, []);
  const sections = useSections(id).data;
  const [over, setOver] = useState(false);
  const hovering = useRef<ReturnType<typeof setTimeout>>(undefined);
  useEffect(() => listen(id), [id]);
  useFailures(id);
  useEffect(() => {
    if (project) document.title = `${project.name} · Taut Lantern`;
  }, [project]);
  useEffect(() => {
    window.addEventListener("keydown", onKey);
    const forget = provide(commandsOf(id));
    return () => {
      window.removeEventListener("keydown", onKey);
      forget();
    };
  }, [id]);
  if (error instanceof Refusal && error.status === 404)
    return (
      <div className="grid h-full place-items-center">
        <div>
          <Quiet>This project does not exist, or was deleted.</Quiet>
          <Button main onClick={leave}>
            Show all projects
          </Button>
        </div>
      </div>
    );
  const here = STEPS.find((s) => s.id === step)!;
  const tabs = [...here.ledgers, ...ALWAYS];
  const tab = tabs.find((t) => t.id === ledger) ?? tabs[0]!;
  const sheet = step === "draw" && sections?.some((s) => s.id === section);
  return (
    <div
      className="flex h-full flex-col"
      onDragOver={(e) => {
        if (!e.dataTransfer.types.includes("Files")) return;
        e.preventDefault();
        setOver(true);
        clearTimeout(hovering.current);
        hovering.current = setTimeout(() => setOver(false), 250); // told every few milliseconds while files hover here
      }}
      onDrop={(e) => {
        e.preventDefault();
        clearTimeout(hovering.current);
        setOver(false);
        useView.getState().go("bring_in");
        filesOf(e.dataTransfer)
          .then((files) => (files.length ? upload(id, files) : undefined))
          .catch(tellError);
      }}
    >
      <Thread id={id} leave={leave} />
      <Standing />
      <main className="flex min-h-0 flex-1 flex-col">
        <Group orientation="vertical" className="min-h-0 flex-1">
          <Panel defaultSize="70%" minSize="30%">
            <div className="flex h-full min-h-0">
              <Roster id={id} />
              <Boundary key={sheet ? "sheet" : "bench"} what="The bench">
                <Suspense fallback={null}>{sheet ? <SheetPane id={id} /> : <BenchHost id={id} />}</Suspense>
              </Boundary>
              <aside
                aria-label="Card"
                className="h-full w-[320px] shrink-0 overflow-auto border-l border-rule bg-card p-4"
              >
                <Boundary key={step} what="This card">
                  <Suspense fallback={null}>
                    <here.Card id={id} />
                  </Suspense>
                </Boundary>
              </aside>
            </div>
          </Panel>
          <Separator className="h-[5px] bg-rule/50 hover:bg-action/40" aria-label="Height of the ledger" />
          <Panel defaultSize="30%" minSize="8%">
            <Tabs.Root
              value={tab.id}
              onValueChange={(v) => set({ ledger: v })}
              className="flex h-full flex-col bg-card"
            >
              <Tabs.List aria-label="Ledger" className="flex gap-5 border-b border-rule px-4">
                {tabs.map((t) => (
                  <Tabs.Trigger
                    key={t.id}
                    value={t.id}
                    className="cursor-pointer py-1.5 text-[13px] text-quiet data-[state=active]:border-b-2 data-[state=active]:border-action data-[state=active]:font-semibold data-[state=active]:text-ink"
                  >
                    {t.title}
                  </Tabs.Trigger>
                ))}
              </Tabs.List>
              <Tabs.Content value={tab.id} className="min-h-0 flex-1 overflow-auto" tabIndex={-1}>
                <Boundary key={tab.id} what="This ledger">
                  <Suspense fallback={null}>
                    <tab.Body id={id} />
                  </Suspense>
                </Boundary>
              </Tabs.Content>
            </Tabs.Root>
          </Panel>
        </Group>
      </main>
      {over && (
        <div className="pointer-events-none fixed inset-2 z-40 grid place-items-center rounded border-2 border-dashed border-action bg-card/80 text-[18px]">
          Let go to read what is in these files
        </div>
      )}
      {asked && (
        <Suspense fallback={null}>
          <Palette id={id} />
        </Suspense>
      )}
    </div>
  );
}

/** What stands between this page and the truth: a line that is lost, or work that nobody does. */
function Standing() {
  const open = useLine((s) => s.open);
  const health = useHealth().data;
  const idle = health && health.workers === 0 && health.waiting > 0;
  if (open && !idle) return null;
  return (
    <p role="alert" data-standing className="border-b border-rule bg-halo px-4 py-1 text-[13px]">
      {!open
        ? "The connection to the server is lost: what is shown may be old. It is tried again by itself."
        : `No worker runs: ${health!.waiting} ${health!.waiting === 1 ? "job waits" : "jobs wait"}. The server starts one by itself within half a minute; more can be started with ./lantern work.`}
    </p>
  );
}

/** Work that fails while one looks is told at once, wherever one is. */
function useFailures(id: string) {
  const jobs = useJobs(id).data;
  const known = useRef<Set<string> | null>(null);
  useEffect(() => {
    if (!jobs) return;
    const ended = jobs.filter((j) => j.state === "failed" || (j.state === "done" && j.kind === "fit"));
    const fresh = ended.find((j) => known.current && !known.current.has(j.id));
    known.current = new Set(ended.map((j) => j.id));
    if (fresh?.state === "done") {
      const { lines, circles } = fresh.result as { lines: number; circles: number };
      tell(`Found ${lines} ${lines === 1 ? "line" : "lines"} and ${circles} ${circles === 1 ? "circle" : "circles"}.`);
    } else if (fresh?.error)
      tell(
        `${fresh.title} failed: ${words(fresh.error["message"])}`,
        words(fresh.error["remedy"]) || "try it again",
        false,
      );
  }, [jobs]);
}

function commandsOf(id: string) {
  const v = useView.getState;
  const slice = (metres: number) => {
    const { slab, moveSlab, panes } = v();
    if (!panes.includes("slice") && !panes.includes("plan")) moveSlab({ lid: slab.lid + 2 * metres });
    else if (panes.includes("slice"))
      moveSlab({
        origin: [slab.origin[0] - Math.sin(slab.azimuth) * metres, slab.origin[1] + Math.cos(slab.azimuth) * metres],
      });
    else moveSlab({ height: slab.height + metres });
  };
  const thick = (factor: number) => {
    const { slab, moveSlab, panes } = v();
    moveSlab(
      panes.includes("slice")
        ? { sliceDepth: Math.min(20, Math.max(0.005, slab.sliceDepth * factor)) }
        : { planDepth: Math.min(20, Math.max(0.005, slab.planDepth * factor)) },
    );
  };
  return [
    ...STEPS.map((s, k) => ({
      id: `step.${s.id}`,
      title: `Go to ${s.title}`,
      keys: String(k + 1),
      run: () => v().go(s.id),
    })),
    { id: "undo", title: "Undo", keys: "ctrl+z", run: () => void unwind(id, "undo") },
    { id: "redo", title: "Redo", keys: "ctrl+shift+z", run: () => void unwind(id, "redo") },
    { id: "palette", title: "All commands", keys: "ctrl+k", run: () => v().set({ palette: true }) },
    { id: "keys", title: "Sheet of keys", keys: "?", run: () => v().set({ keys: true }) },
    { id: "slab.thinner", title: "Thinner slab", keys: "[", run: () => thick(1 / 1.25) },
    { id: "slab.thicker", title: "Thicker slab", keys: "]", run: () => thick(1.25) },
    { id: "slab.back", title: "Move the slab back", keys: ",", run: () => slice(-0.1) },
    { id: "slab.on", title: "Move the slab on", keys: ".", run: () => slice(0.1) },
    {
      id: "lid",
      title: "Take the roof off, or put it on",
      keys: "r",
      run: () => v().moveSlab({ cutLid: !v().slab.cutLid }),
    },
    { id: "pane.space", title: "Space pane on or off", run: () => toggle("space") },
    { id: "pane.plan", title: "Plan pane on or off", run: () => toggle("plan") },
    { id: "pane.slice", title: "Slice pane on or off", keys: "q", run: () => toggle("slice") },
    {
      id: "hide",
      title: "Hide the selected stations",
      keys: "h",
      run: () =>
        v().set({ eyes: { ...v().eyes, ...Object.fromEntries(v().stations.map((s) => [s, v().eyes[s] === false])) } }),
    },
    { id: "let.go", title: "Put the tool down", keys: "Escape", run: () => v().letGo() },
  ];
}
