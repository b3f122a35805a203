/** How stations are looked for in each other: lean, order, a field sketch. Holds from the next time they are tied. */
import { useState } from "react";
import { useSearch } from "../../api/queries";
import { Actions, Button, Field, Heading, Quiet } from "../../kit";
import { Await } from "../../kit/await";
import { useView } from "../../kit/view";
import { useSetSearch, type SearchChange } from "./search";
import { drawSketch } from "./Sketch";

/** How good the levels of the scanners are, which are observations of the network. */
function LevelField({ mrad, set }: { mrad: number; set: (mrad: number) => void }) {
  const [text, setText] = useState(String(mrad));
  const value = Number(text.replace(",", "."));
  const good = Number.isFinite(value) && value >= 0.001 && value <= 50;
  return (
    <Field
      label="Their levels are good to ±"
      unit="mrad"
      value={text}
      aria-invalid={!good}
      onChange={(e) => setText(e.target.value)}
      onBlur={() => (good ? value !== mrad && set(value) : setText(String(mrad)))}
    />
  );
}

export function Searching({ id }: { id: string }) {
  return (
    <>
      <Heading>How they are looked for</Heading>
      <Await of={[useSearch(id)]} what="how stations are looked for">
        <Choices id={id} />
      </Await>
    </>
  );
}

function Choices({ id }: { id: string }) {
  const search = useSearch(id).data!;
  const set = useSetSearch(id);
  const spots = search.spots.length;
  const underPlan = useView((s) => s.underPlan);
  const show = useView((s) => s.set);
  const choice = (label: string, on: boolean, change: SearchChange, why: string) => (
    <label className="flex items-start gap-2 py-0.5 text-[13.5px]">
      <input
        type="checkbox"
        className="mt-1"
        checked={on}
        disabled={set.isPending}
        onChange={() => set.mutate(change)}
      />
      <span>
        {label}
        <span className="block text-[12.5px] text-quiet">{why}</span>
      </span>
    </label>
  );
  return (
    <>
      {choice(
        "Scanners may lean",
        !search.level,
        { level: !search.level },
        "By up to 15°. Each scan is stood upright by its floors and walls first.",
      )}
      {search.level && (
        <LevelField
          key={search.level_sigma_mrad}
          mrad={search.level_sigma_mrad}
          set={(v) => set.mutate({ level_sigma_mrad: v })}
        />
      )}
      {choice(
        "Only neighbours in the roster",
        search.in_order,
        { in_order: !search.in_order },
        "A station is looked for in the three before and after it.",
      )}
      <Quiet>
        {spots
          ? `${spots} ${spots === 1 ? "station stands" : "stations stand"} on a field sketch. A placement that is not where it was drawn is not used.`
          : "A field sketch says roughly where the stations stood. It settles which of two alike rooms is which."}
      </Quiet>
      {search.laid.length > 0 && search.picture && (
        <label className="flex items-center gap-2 py-0.5 text-[13.5px]">
          <input type="checkbox" checked={underPlan} onChange={() => show({ underPlan: !underPlan })} />
          Its picture under the plan
        </label>
      )}
      <Actions>
        <Button onClick={() => drawSketch(true)}>{spots ? "Change the sketch" : "Put stations on a sketch"}</Button>
        {spots > 0 && (
          <Button busy={set.isPending} onClick={() => set.mutate({ sketch: "" })}>
            Take it away
          </Button>
        )}
      </Actions>
    </>
  );
}
