/** One project: thread, roster, bench, card, ledger; its commands and keys; files dropped anywhere on the page. */
import { Tabs } from "radix-ui";
import { Suspense, useEffect, useRef, useState } from "react";
import { Group, Panel, Separator, useDefaultLayout } from "react-resizable-panels";
import { http, sent } from "../api/client";
import { listen, tell, tellError, unwind, useGone, useHealth, useLine, useProject, useSections } from "../api/queries";
import { filesOf, upload } from "../api/uploads";
import { Button, Quiet } from "../kit";
import { Boundary } from "../kit/boundary";
import { onKey, provide } from "../kit/commands";
import { useView } from "../kit/view";
import { BenchHost } from "./BenchHost";
import { toggle } from "./PaneHead";
import { Roster } from "./Roster";
import { confirm } from "../kit/confirm";
import { useEnded } from "./ended";
import { ChosenCard } from "./ChosenCard";
import { ALWAYS, fetchTheRest, Palette, SheetPane, STEPS } from "./steps";
import { go, keepView } from "./views";
import { Thread } from "./Thread";

const BAR = "w-px bg-rule outline-offset-[-1px] hover:bg-action/40 data-[separator=active]:bg-action";
const beside = (folded: { roster: boolean; card: boolean }) => [
  ...(folded.roster ? [] : ["roster"]),
  "bench",
  ...(folded.card ? [] : ["card"]),
];

export function Workplace({ id, leave }: { id: string; leave: () => void }) {
  const { data: project } = useProject(id);
  const gone = useGone((s) => s.id === id);
  useEffect(() => useGone.setState({ id: null }), [id]); // a project that came back is asked for anew
  const { step, ledger, section, set, folded } = useView();
  const asked = useView((s) => s.palette || s.keys);
  useEffect(fetchTheRest, []);
  const sections = useSections(id).data;
  const [over, setOver] = useState(false);
  const hovering = useRef<ReturnType<typeof setTimeout>>(undefined);
  const across = useDefaultLayout({ id: "lantern.across", panelIds: beside(folded) });
  const down = useDefaultLayout({ id: "lantern.down", panelIds: folded.ledger ? ["upper"] : ["upper", "ledger"] });
  useEffect(() => listen(id), [id]);
  useEnded(id);
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
  if (gone)
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
        <Group orientation="vertical" className="min-h-0 flex-1" {...down}>
          <Panel id="upper" defaultSize="70%" minSize="30%">
            <Group orientation="horizontal" className="h-full min-h-0" {...across}>
              {!folded.roster && (
                <>
                  <Panel
                    id="roster"
                    defaultSize={248}
                    minSize={160}
                    maxSize={480}
                    groupResizeBehavior="preserve-pixel-size"
                  >
                    <Roster id={id} />
                  </Panel>
                  <Separator className={BAR} aria-label="Edge of the roster" />
                </>
              )}
              <Panel id="bench" minSize={240}>
                <Boundary key={sheet ? "sheet" : "bench"} what="The bench">
                  <Suspense fallback={null}>{sheet ? <SheetPane id={id} /> : <BenchHost id={id} />}</Suspense>
                </Boundary>
              </Panel>
              {!folded.card && (
                <>
                  <Separator className={BAR} aria-label="Edge of the card" />
                  <Panel
                    id="card"
                    defaultSize={320}
                    minSize={220}
                    maxSize={560}
                    groupResizeBehavior="preserve-pixel-size"
                  >
                    <aside aria-label="Card" className="h-full overflow-auto bg-card p-4">
                      <Boundary key={step} what="This card">
                        <Suspense fallback={null}>
                          <ChosenCard id={id}>
                            <here.Card id={id} />
                          </ChosenCard>
                        </Suspense>
                      </Boundary>
                    </aside>
                  </Panel>
                </>
              )}
            </Group>
          </Panel>
          {!folded.ledger && (
            <>
              <Separator className="h-[5px] bg-rule/50 hover:bg-action/40" aria-label="Height of the ledger" />
              <Panel id="ledger" defaultSize="30%" minSize="8%">
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
            </>
          )}
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

/** Fold all that stands round the bench; when nothing is left to fold, bring all back. */
function foldAll() {
  const { folded, set } = useView.getState();
  const all = !(folded.roster && folded.card && folded.ledger);
  set({ folded: { roster: all, card: all, ledger: all } });
}

/** Put the slice through a pick, square to the surface there. */
async function sliceAcross(id: string, at: number[]) {
  const v = useView.getState();
  v.letGo();
  const body = { at, part: v.part };
  const plane = await sent(
    http.POST("/api/projects/{project_id}/plane", { params: { path: { project_id: id } }, body }),
  );
  const [x, y, z] = plane.normal as [number, number, number];
  if (Math.abs(z) > 0.7) return tell("That is a floor or a ceiling.", "pick an upright surface", false);
  v.moveSlab({ origin: [at[0]!, at[1]!], azimuth: Math.atan2(y, x) });
  if (!v.panes.includes("slice")) toggle("slice");
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
    { id: "slab.back.fine", title: "Move the slab back by 1 mm", keys: "<", run: () => slice(-0.001) },
    { id: "slab.on.fine", title: "Move the slab on by 1 mm", keys: ">", run: () => slice(0.001) },
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
    {
      id: "slice.wall",
      title: "Slice square to a wall that is picked",
      keys: "n",
      run: () => {
        tell("Pick the wall that the slice is to cross squarely.");
        v().set({ tool: "pick", picks: [], onPick: (at) => void sliceAcross(id, at).catch(tellError) });
      },
    },
    { id: "view.back", title: "Back to the view before", keys: "z", run: () => go(-1) },
    { id: "view.forward", title: "Forward to the view after", keys: "x", run: () => go(1) },
    { id: "measure", title: "Measure", keys: "m", run: () => void import("./Notes").then((m) => m.startMeasuring()) },
    {
      id: "view.keep",
      title: "Keep this view",
      keys: "v",
      run: () =>
        confirm({
          title: "Keep this view",
          text: "Cameras, cut, colours and open eyes, for everybody who works on the project.",
          ask: "Its name (a view of the same name is replaced)",
          yes: "Keep the view",
          no: "Leave it",
          then: (name) => void keepView(id, name).catch(tellError),
        }),
    },
    {
      id: "catch",
      title: "Picks take points, or the middle, edge or plane they lie on",
      keys: "c",
      run: () => {
        const catching = v().catching === "point" ? "shape" : "point";
        v().set({ catching });
        tell(
          catching === "point"
            ? "Picks take the point itself."
            : "Picks take what the point lies on: the plane, the edge, the middle of a pipe or a sphere.",
        );
      },
    },
    { id: "fold.all", title: "The bench takes the whole window, or gives it back", keys: "w", run: foldAll },
    ...(["roster", "card", "ledger"] as const).map((part) => ({
      id: `fold.${part}`,
      title: `Fold the ${part}, or unfold it`,
      run: () => v().set({ folded: { ...v().folded, [part]: !v().folded[part] } }),
    })),
    { id: "pane.panorama", title: "Panorama pane on or off", keys: "p", run: () => toggle("panorama") },
    {
      id: "blink",
      title: "Blink between two selected stations",
      keys: "b",
      run: () => {
        const [a, b] = v().stations;
        if (!a || !b) return tell("Blinking takes two selected stations.", "choose two in the roster, with Ctrl");
        const first = v().eyes[a] ?? true;
        v().set({ eyes: { ...v().eyes, [a]: !first, [b]: first } });
      },
    },
    {
      id: "split",
      title: "Compare two selected stations on both sides of a line",
      keys: "d",
      run: () => {
        if (v().stations.length !== 2 && !v().link)
          return tell("Comparing takes two selected stations, or a link.", "choose two in the roster, with Ctrl");
        v().set({ split: v().split === null ? 0.5 : null });
      },
    },
    {
      id: "walk",
      title: "Walk at eye height, or stop walking",
      keys: "e",
      run: () => v().set({ walking: !v().walking, panes: v().panes.includes("space") ? v().panes : ["space"] }),
    },
    { id: "let.go", title: "Put the tool down", keys: "Escape", run: () => v().letGo() },
  ];
}
