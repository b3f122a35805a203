/** A station, in every step: how it is held, what was brought in of it, and what can be done with it. */
import type { Station } from "../api/client";
import { useNetwork } from "../api/queries";
import { Actions, Button, fixed, grouped, Heading, Row, Sentence, StatusWord } from "../kit";
import { commands } from "../kit/commands";
import { useView } from "../kit/view";

export function StationCard({ id, station: s }: { id: string; station: Station }) {
  const links = (useNetwork(id).data?.links ?? []).filter((k) => k.a === s.id || k.b === s.id);
  const { set, panes, eyes } = useView();
  const open = eyes[s.id] ?? true;
  const sigma = s.sigma_position_mm;
  const held = s.tied
    ? `${s.name} is held by ${s.links} ${s.links === 1 ? "link" : "links"}${sigma ? ` to \u00b1${fixed(Math.hypot(...sigma))} mm` : ""}.`
    : `${s.name} is tied to nothing yet: its coordinates are its own.`;
  return (
    <>
      <Sentence>{held}</Sentence>
      {sigma && s.tied && (
        <>
          <Row name="deviation E" value={fixed(sigma[0] ?? null)} unit="mm" limit="" />
          <Row name="deviation N" value={fixed(sigma[1] ?? null)} unit="mm" limit="" />
          <Row name="deviation H" value={fixed(sigma[2] ?? null)} unit="mm" limit="" />
        </>
      )}
      <Row name="points" value={grouped(s.points)} unit="" limit="" />
      {s.marked > 0 && <Row name="of these deleted" value={grouped(s.marked)} unit="" limit="" />}
      {links.length > 0 && <Heading>Its links, what wants looking at first</Heading>}
      <ul>
        {links.map((k) => (
          <li key={k.id}>
            <button
              type="button"
              className="flex w-full cursor-pointer items-center gap-2 py-0.5 text-left text-[13.5px] hover:bg-paper"
              onClick={() => (useView.getState().go("tie"), set({ link: k.id, stations: [] }))}
            >
              <StatusWord status={k.status} off={!k.used} />
              <span className="font-mono">{k.a === s.id ? k.name_b : k.name_a}</span>
            </button>
          </li>
        ))}
      </ul>
      <Actions>
        <Button
          onClick={() =>
            commands()
              .find((c) => c.id === "view.frame")
              ?.run()
          }
        >
          Look at it
        </Button>
        <Button
          onClick={() =>
            set({
              stand: s.id,
              part: s.part,
              panes: panes.includes("panorama") ? panes : [...panes.slice(-2), "panorama"],
            })
          }
        >
          Look round from it
        </Button>
        <Button onClick={() => set({ eyes: { ...eyes, [s.id]: !open } })}>{open ? "Hide it" : "Show it"}</Button>
        <Button onClick={() => set({ about: null })}>Back to the step</Button>
      </Actions>
    </>
  );
}
