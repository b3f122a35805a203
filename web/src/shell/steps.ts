/**
 * The eight steps of the job and what each puts on the card and into the ledger. They arrive after the bench: what is not
 * needed for the first points does not make them wait.
 */
import { lazy, type ComponentType } from "react";
import { useView, type StepId } from "../kit/view";

type OfProject = ComponentType<{ id: string }>;
export interface LedgerTab {
  id: string;
  title: string;
  Body: OfProject;
}
const loads: (() => Promise<unknown>)[] = [];

/** One component of a part of the program that arrives when it is first shown. */
function late<M extends object>(load: () => Promise<M>, pick: (module: M) => OfProject): OfProject {
  loads.push(load);
  return lazy(async () => ({ default: pick(await load()) }));
}

/** Fetch what has not arrived once the first points are there, or soon: then every step opens at once. */
export function fetchTheRest() {
  const fetch = () => {
    clearTimeout(timer);
    stop();
    new Set(loads).forEach((load) => void load().catch(() => undefined));
  };
  const stop = useView.subscribe((s) => s.drawn.points > 0 && fetch());
  const timer = setTimeout(fetch, 4000);
}

function step<M extends object>(
  id: StepId,
  title: string,
  load: () => Promise<M>,
  card: (module: M) => OfProject,
  ledgers: (module: M) => LedgerTab[],
  tabs: [string, string][],
) {
  return {
    id,
    title,
    Card: late(load, card),
    ledgers: tabs.map(([tab, words]) => ({
      id: tab,
      title: words,
      Body: late(load, (m) => ledgers(m).find((l) => l.id === tab)!.Body),
    })),
  };
}

const none = () => [];
export const STEPS: { id: StepId; title: string; Card: OfProject; ledgers: LedgerTab[] }[] = [
  step(
    "bring_in",
    "Bring in",
    () => import("../steps/bring_in"),
    (m) => m.BringInCard,
    (m) => m.bringInLedgers,
    [
      ["files", "Files"],
      ["report", "Import report"],
    ],
  ),
  step(
    "tie",
    "Tie",
    () => import("../steps/tie"),
    (m) => m.TieCard,
    (m) => m.tieLedgers,
    [
      ["links", "Links"],
      ["sightings", "Targets"],
      ["known", "Known"],
      ["questions", "Questions"],
    ],
  ),
  step(
    "prove",
    "Prove",
    () => import("../steps/prove"),
    (m) => m.ProveCard,
    (m) => m.proveLedgers,
    [
      ["deviations", "Stations"],
      ["findings", "Findings"],
    ],
  ),
  step(
    "place",
    "Place",
    () => import("../steps/place"),
    (m) => m.PlaceCard,
    (m) => m.placeLedgers,
    [
      ["control", "Control"],
      ["frames", "Coordinates"],
    ],
  ),
  step(
    "clean",
    "Clean",
    () => import("../steps/clean"),
    (m) => m.CleanCard,
    (m) => m.cleanLedgers,
    [
      ["edits", "Deletions"],
      ["zones", "Zones"],
      ["boxes", "Crop boxes"],
    ],
  ),
  step(
    "colour",
    "Colour",
    () => import("../steps/colour"),
    (m) => m.ColourCard,
    none,
    [],
  ),
  step(
    "draw",
    "Draw",
    () => import("../steps/draw"),
    (m) => m.DrawCard,
    (m) => m.drawLedgers,
    [
      ["sections", "Sections"],
      ["traces", "Lines"],
      ["layers", "Layers"],
      ["sheets", "Sheets"],
    ],
  ),
  step(
    "hand_over",
    "Hand over",
    () => import("../steps/hand_over"),
    (m) => m.HandOverCard,
    (m) => m.handOverLedgers,
    [["deliveries", "Deliveries"]],
  ),
];

const jobs = () => import("./Jobs");
const notes = () => import("./Notes");
export const ALWAYS: LedgerTab[] = [
  { id: "notes", title: "Notes", Body: late(notes, (m) => m.NotesLedger) },
  { id: "jobs", title: "Jobs", Body: late(jobs, (m) => m.JobsLedger) },
  { id: "journal", title: "Journal", Body: late(jobs, (m) => m.JournalLedger) },
];
export const SheetPane = late(
  () => import("../steps/draw/SheetPane"),
  (m) => m.SheetPane,
);
export const Palette = late(
  () => import("./Palette"),
  (m) => m.Palettes,
);
