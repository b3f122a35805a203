/** The card of what is chosen or being done in every step: a measure, a note, a station, a link, a target. Else the step's own. */
import { lazy, type ReactNode } from "react";
import { useNetwork, useNotes, useStations } from "../api/queries";
import { useView } from "../kit/view";
import { StationCard } from "./StationCard";

const MeasureCard = lazy(async () => ({ default: (await import("./Notes")).MeasureCard }));
const NoteCard = lazy(async () => ({ default: (await import("./Notes")).NoteCard }));

const LinkCard = lazy(async () => ({ default: (await import("../steps/tie/LinkCard")).LinkCard }));
const TargetCard = lazy(async () => ({ default: (await import("../steps/tie/TargetCard")).TargetCard }));

export function ChosenCard({ id, children }: { id: string; children: ReactNode }) {
  const { note, measuring, about, stations: selected, step, link, target, placing } = useView();
  const station = useStations(id).data?.find((s) => s.id === about);
  const own = selected.length === 1 && selected[0] === about && !link && !target && !placing; // nothing else is chosen
  const chosen = useNotes(id).data?.find((n) => n.id === note);
  const tied = useNetwork(id).data?.links.find((k) => k.id === link);
  if (measuring) return <MeasureCard id={id} kind={measuring} />;
  if (chosen) return <NoteCard id={id} note={chosen} />;
  if (station && own && step !== "bring_in") return <StationCard id={id} station={station} />;
  if (step !== "tie" && tied) return <LinkCard id={id} link={tied} />; // Tie shows them itself
  if (step !== "tie" && target) return <TargetCard id={id} target={target} />;
  return children;
}
