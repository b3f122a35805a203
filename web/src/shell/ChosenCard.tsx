/** The card of what is chosen or being done in every step: a measure, a note. Else the step's own. */
import { lazy, type ReactNode } from "react";
import { useNotes, useStations } from "../api/queries";
import { useView } from "../kit/view";
import { StationCard } from "./StationCard";

const MeasureCard = lazy(async () => ({ default: (await import("./Notes")).MeasureCard }));
const NoteCard = lazy(async () => ({ default: (await import("./Notes")).NoteCard }));

export function ChosenCard({ id, children }: { id: string; children: ReactNode }) {
  const { note, measuring, about, stations: selected, step, link, target, placing } = useView();
  const station = useStations(id).data?.find((s) => s.id === about);
  const own = selected.length === 1 && selected[0] === about && !link && !target && !placing; // nothing else is chosen
  const chosen = useNotes(id).data?.find((n) => n.id === note);
  if (measuring) return <MeasureCard id={id} kind={measuring} />;
  if (chosen) return <NoteCard id={id} note={chosen} />;
  if (station && own && step !== "bring_in") return <StationCard id={id} station={station} />;
  return children;
}
