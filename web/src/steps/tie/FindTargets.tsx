/** Look for targets in all stations: spheres by their radius, quadrant boards by their edge, several of each. */
import { useRef, useState } from "react";
import { http, sent } from "../../api/client";
import { tellUndoable, useAsk, useSightings, useStations } from "../../api/queries";
import { Actions, Button, Field, Heading, Pick, Quiet } from "../../kit";
import { useView } from "../../kit/view";
import { lengthsOf } from "../../kit/length";

const SPHERE = [0.01, 1] as const; // metres
const BOARD = [0.05, 2] as const;

export function FindTargets({ id, busy }: { id: string; busy: string }) {
  const sightings = useSightings(id).data ?? [];
  const [spheres, setSpheres] = useState("100");
  const [boards, setBoards] = useState("");
  const radii = lengthsOf(spheres, "mm");
  const edges = lengthsOf(boards, "mm");
  const find = useAsk(id, () =>
    sent(
      http.POST("/api/projects/{project_id}/targets/find", {
        params: { path: { project_id: id } },
        body: { radii_mm: radii!.map((v) => 1000 * v), edges_mm: edges!.map((v) => 1000 * v) },
      }),
    ),
  );
  const inside = (values: number[] | null, [least, most]: readonly [number, number]) =>
    values !== null && values.length <= 8 && values.every((v) => v >= least && v <= most);
  const wrongRadii = inside(radii, SPHERE) ? "" : "radii from 10 to 1000 mm, as 72.5; 100";
  const wrongEdges = inside(edges, BOARD) ? "" : "edges from 50 to 2000 mm, as 150; 300";
  const none = radii?.length === 0 && edges?.length === 0 ? "give the radius of spheres or the edge of boards" : "";
  return (
    <>
      <Heading>Targets</Heading>
      <Quiet>{told(sightings)}</Quiet>
      <Sizes label="Radii of spheres" text={spheres} set={setSpheres} wrong={wrongRadii} />
      <Sizes label="Edges of boards" text={boards} set={setBoards} wrong={wrongEdges} />
      <Actions>
        <Button
          busy={find.isPending}
          onClick={() => find.mutate(undefined)}
          why={busy || wrongRadii || wrongEdges || none}
        >
          Find targets
        </Button>
        <Button onClick={() => useView.getState().set({ picking: true })}>Pick a target by hand</Button>
      </Actions>
      <Stops id={id} />
    </>
  );
}

/** Reference stops of a mobile scan, from its own log, become targets of its station. */
function Stops({ id }: { id: string }) {
  const stations = useStations(id).data ?? [];
  const chosen = useView((s) => s.stations[0]);
  const [station, setStation] = useState("");
  const input = useRef<HTMLInputElement>(null);
  const of = stations.find((s) => s.id === (station || chosen)) ?? stations[0];
  const take = useAsk(
    id,
    (file: { name: string; text: string }) =>
      sent(
        http.POST("/api/projects/{project_id}/targets/stops", {
          params: { path: { project_id: id } },
          body: { station: of!.id, text: file.text, file: file.name, sigma_mm: 5 },
        }),
      ),
    (r) => void tellUndoable(id, `${r.message}.`),
  );
  if (!of) return null;
  return (
    <details className="mt-1">
      <summary className="cursor-pointer text-[13.5px] text-action">Reference stops of a mobile scan</summary>
      <Quiet>
        A text file with a line for each stop: name, x, y, z in the scan&apos;s own frame, and seconds. Who stood less
        than 3 s is left out until somebody says otherwise.
      </Quiet>
      <Pick
        label="Of the scan"
        value={of.id}
        onChange={(e) => setStation(e.target.value)}
        options={stations.map((s): [string, string] => [s.id, s.name])}
      />
      <Actions>
        <Button busy={take.isPending} onClick={() => input.current?.click()}>
          Read its stops
        </Button>
      </Actions>
      <input
        ref={input}
        type="file"
        accept=".csv,.txt"
        className="hidden"
        aria-label="File of reference stops"
        onChange={(e) => {
          const file = e.target.files?.[0];
          e.target.value = "";
          void file?.text().then((text) => take.mutate({ name: file.name, text }));
        }}
      />
    </details>
  );
}

/** How many there are of each kind, and how many of them are doubtful. */
function told(sightings: { kind: string; target: string | null; used: boolean }[]): string {
  if (!sightings.length) return "Targets tie stations to control. They are found by their size.";
  const of = (kind: string, name: string) => {
    const own = sightings.filter((g) => g.kind === kind && g.target);
    const count = new Set(own.map((g) => g.target)).size;
    return count ? `${count} ${name}${count === 1 ? "" : "s"}, seen ${own.length} times` : "";
  };
  const doubtful = sightings.filter((g) => !g.used).length;
  const parts = [of("sphere", "sphere"), of("board", "board"), doubtful ? `${doubtful} sightings left out` : ""];
  return `${parts.filter(Boolean).join("; ")}.`;
}

function Sizes({ label, text, set, wrong }: { label: string; text: string; set: (v: string) => void; wrong: string }) {
  return (
    <>
      <Field
        label={label}
        unit="mm"
        autoComplete="off"
        value={text}
        placeholder="none"
        aria-invalid={Boolean(wrong)}
        onChange={(e) => set(e.target.value)}
      />
      {wrong && <p className="text-right text-[12.5px] text-parted">{wrong}</p>}
    </>
  );
}
