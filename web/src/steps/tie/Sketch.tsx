/** Stations dragged onto a field sketch: a picture or a page of a PDF may lie below, scaled by two places and what lies between them. */
import { Dialog } from "radix-ui";
import { useEffect, useRef, useState } from "react";
import { create } from "zustand";
import type { Station } from "../../api/client";
import { useSearch, useStations } from "../../api/queries";
import { Actions, Button, fixed } from "../../kit";
import { LengthField, useLengths } from "../../kit/fields";
import { type Below, useSetSearch, useSketchPicture } from "./search";
import { begin, bounds, corners, lines, metres, type Spots, type XY } from "./spots";

const useDrawing = create<{ open: boolean }>(() => ({ open: false }));
export const drawSketch = (open: boolean) => useDrawing.setState({ open });

export function SketchDialog({ id }: { id: string }) {
  const open = useDrawing((s) => s.open);
  return (
    <Dialog.Root open={open} onOpenChange={drawSketch}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-black/40" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed top-1/2 left-1/2 z-50 max-h-[94vh] w-[min(1120px,94vw)] -translate-x-1/2 -translate-y-1/2 overflow-auto border border-rule bg-card p-4"
        >
          <Dialog.Title className="text-[18px] leading-snug">Where did the stations stand?</Dialog.Title>
          {open && <Board id={id} />}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

const WIDE = 760; // px of the board
const HIGH = 470;

function Board({ id }: { id: string }) {
  const stations = useStations(id).data ?? [];
  const search = useSearch(id).data;
  const [spots, setSpots] = useState<Spots>(() => begin(search?.spots ?? []));
  const picture = search?.picture ?? null;
  const [place, setPlace] = useState<Below | null>(picture);
  const [view, setView] = useState(() => bounds(corners(spots, picture, picture), WIDE, HIGH));
  const [chosen, choose] = useState<string | null>(null);
  const [file, setFile] = useState<File | null>(null);
  const [page, setPage] = useState(1);
  const [ends, setEnds] = useState<XY[] | null>(null); // two places that say how large the picture is; null: not asked
  const [problem, setProblem] = useState("");
  const board = useRef<SVGSVGElement>(null);
  const between = useLengths({ between: 10 }, "m", { between: { least: 0.5, most: 2000 } });
  const save = useSetSearch(id, () => drawSketch(false));
  const brought = useRef(""); // the picture that was laid here: it wants to be scaled once it is seen
  const lay = useSketchPicture(id, (now) => {
    brought.current = now.picture?.id ?? "";
    if (!now.picture) setEnds(null);
  });
  const known = useRef(picture?.id);
  useEffect(() => {
    if (known.current === picture?.id) return; // another one lies below now
    known.current = picture?.id;
    if (picture && picture.id === brought.current) setEnds([]);
    setPlace(picture);
    setView(bounds(corners(spots, picture, picture), WIDE, HIGH));
  }, [picture, spots]);
  const open = stations.filter((s) => !spots[s.id]);
  const at = (e: React.PointerEvent): XY => {
    const box = board.current!.getBoundingClientRect();
    return [((e.clientX - box.left) * WIDE) / box.width, ((e.clientY - box.top) * HIGH) / box.height];
  };
  const put = (station: string, px: XY) => setSpots((now) => ({ ...now, [station]: metres(px, view) }));
  const down = (e: React.PointerEvent) => {
    if (ends) {
      if (ends.length < 2) setEnds([...ends, at(e)]);
      return;
    }
    const next = chosen ?? open[0]?.id;
    if (!next) return;
    put(next, at(e));
    choose(open.find((s) => s.id !== next)?.id ?? null);
  };
  const scale = () => {
    if (ends?.length !== 2 || !between.values || !place) return;
    const px = Math.hypot(ends[1]![0] - ends[0]![0], ends[1]![1] - ends[0]![1]);
    if (px < 4) return setProblem("The two places lie on each other: click two that lie apart.");
    const by = between.values.between / (px * view.size); // what was put already stays where it is on the picture
    const grown = (v: number, about: number) => about + by * (v - about);
    setSpots((now) =>
      Object.fromEntries(Object.entries(now).map(([k, [x, y]]) => [k, [grown(x, place.x), grown(y, place.y)] as XY])),
    );
    setPlace({ ...place, size: place.size * by });
    setView({ ...view, x: grown(view.x, place.x), y: grown(view.y, place.y), size: view.size * by });
    setEnds(null);
    setProblem("");
  };
  const widen = (by: number) =>
    setView({
      ...view,
      x: view.x + (WIDE * view.size * (1 - by)) / 2,
      y: view.y + (HIGH * view.size * (1 - by)) / 2,
      size: view.size * by,
    });
  const take = (chosenFile: File | null, at: number) => {
    if (!chosenFile) return;
    setFile(chosenFile);
    setPage(at);
    setProblem("");
    lay.mutate({ file: chosenFile, page: at });
  };
  const nudge = (e: React.KeyboardEvent, s: Station) => {
    const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, 1], ArrowDown: [0, -1] }[e.key];
    const [x, y] = spots[s.id]!;
    if (step) setSpots({ ...spots, [s.id]: [x + step[0]! * 0.25, y + step[1]! * 0.25] });
    else if (e.key === "Delete") setSpots(Object.fromEntries(Object.entries(spots).filter(([k]) => k !== s.id)));
    else return;
    e.preventDefault();
    e.stopPropagation();
  };
  const nothing = Object.keys(spots).length < 2;
  return (
    <>
      <p className="my-1 text-[13.5px] text-quiet">
        {ends
          ? `Click two places of the picture whose distance is known (${ends.length} of 2).`
          : open.length
            ? `Click where ${stations.find((s) => s.id === (chosen ?? open[0]!.id))?.name} stood. Roughly is enough: within 2.5 m, or 15 % of a distance.`
            : "All stations are on the sketch. Drag them, or move them with the arrow keys; Delete takes one off."}
      </p>
      <div className="flex gap-3">
        <svg
          ref={board}
          viewBox={`0 0 ${WIDE} ${HIGH}`}
          role="application"
          aria-label="field sketch"
          className="min-w-0 flex-1 touch-none border border-rule bg-paper"
          onPointerDown={down}
        >
          {picture && place ? (
            <image
              href={`/api/projects/${id}/pictures/${picture.id}/file`}
              x={(place.x - view.x) / view.size}
              y={HIGH - (place.y + picture.high * place.size - view.y) / view.size}
              width={(picture.wide * place.size) / view.size}
              height={(picture.high * place.size) / view.size}
              opacity={0.75}
            />
          ) : (
            <Paper size={view.size} />
          )}
          {ends?.map(([x, y], k) => (
            <path key={k} d={`M${x - 7} ${y}h14M${x} ${y - 7}v14`} stroke="currentColor" strokeWidth={1.5} />
          ))}
          {stations
            .filter((s) => spots[s.id])
            .map((s) => {
              const [x, y] = spots[s.id]!;
              return (
                <g
                  key={s.id}
                  role="button"
                  tabIndex={0}
                  aria-label={`${s.name} on the sketch`}
                  transform={`translate(${(x - view.x) / view.size} ${HIGH - (y - view.y) / view.size})`}
                  className="cursor-move"
                  onPointerDown={(e) => {
                    e.stopPropagation();
                    e.currentTarget.setPointerCapture(e.pointerId);
                  }}
                  onPointerMove={(e) => e.currentTarget.hasPointerCapture(e.pointerId) && put(s.id, at(e))}
                  onKeyDown={(e) => nudge(e, s)}
                >
                  <circle r={5} fill="#23407a" stroke="#fcfaf5" strokeWidth={1.5} />
                  <text
                    x={8}
                    y={4}
                    fontSize={12}
                    fill="currentColor"
                    stroke="var(--color-paper, #f5f1e8)"
                    strokeWidth={3}
                    paintOrder="stroke"
                  >
                    {s.name}
                  </text>
                </g>
              );
            })}
          <path d={`M16 ${HIGH - 14}h${5 / view.size}`} stroke="currentColor" strokeWidth={2} />
          <text x={16} y={HIGH - 20} fontSize={12} fill="currentColor">
            5 m
          </text>
        </svg>
        <div className="w-[220px] text-[13.5px]">
          <label className="block cursor-pointer text-[#23407a] underline dark:text-[#9db8ee]">
            {lay.isPending ? "Laying it below…" : picture ? "Another picture" : "Lay a picture or a PDF below"}
            <input
              type="file"
              accept="image/png,image/jpeg,application/pdf"
              className="sr-only"
              onChange={(e) => take(e.target.files?.[0] ?? null, 1)}
            />
          </label>
          {picture && file?.name.toLowerCase().endsWith(".pdf") && (
            <label className="mt-1 block">
              Page{" "}
              <input
                type="number"
                min={1}
                key={page}
                defaultValue={page}
                className="w-16 border border-rule bg-paper px-1 font-mono"
                onKeyDown={(e) => e.key === "Enter" && e.currentTarget.blur()}
                onBlur={(e) => {
                  const next = e.target.valueAsNumber;
                  if (next >= 1 && next !== page) take(file, next);
                }}
              />
            </label>
          )}
          {picture && !ends && (
            <Actions>
              <Button onClick={() => setEnds([])}>Scale it anew</Button>
              <Button busy={lay.isPending} onClick={() => lay.mutate(null)}>
                Take it away
              </Button>
            </Actions>
          )}
          {ends && (
            <>
              <LengthField of={between} name="between" label="Between them" onCommit={scale} />
              <Button main onClick={scale} why={ends.length < 2 ? "click two places first" : between.why}>
                Scale it
              </Button>
            </>
          )}
          {problem && (
            <p role="alert" className="mt-2 text-parted">
              {problem}
            </p>
          )}
          {open.length > 0 && <p className="mt-3 mb-1 text-quiet">Not on the sketch yet</p>}
          <ul className="max-h-[300px] overflow-auto">
            {open.map((s) => (
              <li key={s.id}>
                <button
                  className={`w-full px-1.5 py-0.5 text-left font-mono ${(chosen ?? open[0]!.id) === s.id ? "bg-lamp/30" : ""}`}
                  onClick={() => choose(s.id)}
                >
                  {s.name}
                </button>
              </li>
            ))}
          </ul>
        </div>
      </div>
      <p className="mt-3 flex items-center gap-3 text-[13px] text-quiet">
        <Button onClick={() => widen(1.5)}>Wider</Button>
        <Button onClick={() => widen(1 / 1.5)}>Narrower</Button>
        <span className="flex-1">
          The board is {fixed(WIDE * view.size, 0)} m wide.
          {picture && " Once two of its stations are tied, the picture is seen under the plan."}
        </span>
        <Button
          main
          busy={save.isPending}
          why={nothing ? "put two stations on it first" : ends ? "scale the picture first" : ""}
          onClick={() =>
            save.mutate({
              sketch: lines(spots, stations),
              ...(place && { picture: { x: place.x, y: place.y, size: place.size } }),
            })
          }
        >
          Use this sketch
        </Button>
        <Button onClick={() => drawSketch(false)}>Leave it as it was</Button>
      </p>
    </>
  );
}

function Paper({ size }: { size: number }) {
  const step = 5 / size;
  return (
    <g stroke="currentColor" opacity={0.12}>
      {Array.from({ length: Math.floor(WIDE / step) }, (_, k) => (
        <path key={`x${k}`} d={`M${(k + 1) * step} 0v${HIGH}`} />
      ))}
      {Array.from({ length: Math.floor(HIGH / step) }, (_, k) => (
        <path key={`y${k}`} d={`M0 ${HIGH - (k + 1) * step}h${WIDE}`} />
      ))}
    </g>
  );
}
