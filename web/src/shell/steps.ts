/** The eight steps of the job and what each puts on the card and into the ledger. */
import type { ComponentType } from "react";
import type { StepId } from "../kit/view";
import { BringInCard, bringInLedgers } from "../steps/bring_in";
import { CleanCard, cleanLedgers } from "../steps/clean";
import { ColourCard } from "../steps/colour";
import { DrawCard, drawLedgers } from "../steps/draw";
import { HandOverCard, handOverLedgers } from "../steps/hand_over";
import { PlaceCard, placeLedgers } from "../steps/place";
import { ProveCard, proveLedgers } from "../steps/prove";
import { TieCard, tieLedgers } from "../steps/tie";

type OfProject = ComponentType<{ id: string }>;
export interface LedgerTab {
  id: string;
  title: string;
  Body: OfProject;
}
export const STEPS: { id: StepId; title: string; Card: OfProject; ledgers: LedgerTab[] }[] = [
  { id: "bring_in", title: "Bring in", Card: BringInCard, ledgers: bringInLedgers },
  { id: "tie", title: "Tie", Card: TieCard, ledgers: tieLedgers },
  { id: "prove", title: "Prove", Card: ProveCard, ledgers: proveLedgers },
  { id: "place", title: "Place", Card: PlaceCard, ledgers: placeLedgers },
  { id: "clean", title: "Clean", Card: CleanCard, ledgers: cleanLedgers },
  { id: "colour", title: "Colour", Card: ColourCard, ledgers: [] },
  { id: "draw", title: "Draw", Card: DrawCard, ledgers: drawLedgers },
  { id: "hand_over", title: "Hand over", Card: HandOverCard, ledgers: handOverLedgers },
];
