/** What the scans do not decide: asked in two pictures, answered by a key, kept with name and time, opened again. */
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { create } from "zustand";
import { http, sent, type Question } from "../../api/client";
import { tellUndoable, useAsk, useQuestions } from "../../api/queries";
import { Button, fixed, type Column } from "../../kit";
import { Table } from "../../kit/table";

type Word = Question["readings"][number]["word"];

/** Whether the dialog is open, and at which question. */
const useAsking = create<{ at: string | null }>(() => ({ at: null }));
export const lookAt = (question: string | null) => useAsking.setState({ at: question });

function useAnswer(id: string, done: (q: Question) => void) {
  return useAsk(id, async ({ q, word }: { q: Question; word: Word | null }) => {
    await sent(
      http.POST("/api/projects/{project_id}/questions/{question_id}/answer", {
        params: { path: { project_id: id, question_id: q.id } },
        body: { word: word as "one" | null, version: q.version },
      }),
    );
    done(q);
    void tellUndoable(id, word ? "Answered. The stations are tied again with it." : "The question is open again.");
  });
}

/** Above the actions of the step: how much is asked. */
export function Asked({ id }: { id: string }) {
  const open = (useQuestions(id).data ?? []).filter((q) => !q.answer);
  if (!open.length) return null;
  return (
    <div className="my-2 border-l-4 border-slack pl-2">
      <p className="text-[14px]">
        {open.length === 1 ? "One question is open: " : `${open.length} questions are open. The first: `}
        {open[0]!.message}
      </p>
      <div className="mt-1.5">
        <Button main onClick={() => lookAt(open[0]!.id)}>
          Look at {open.length === 1 ? "it" : "them"} and answer
        </Button>
      </div>
    </div>
  );
}

export function QuestionsDialog({ id }: { id: string }) {
  const all = useQuestions(id).data ?? [];
  const at = useAsking((s) => s.at);
  const open = all.filter((q) => !q.answer);
  const q = all.find((x) => x.id === at);
  const place = open.findIndex((x) => x.id === at);
  const next = open[(place + 1) % Math.max(open.length, 1)];
  const answer = useAnswer(id, (done) => lookAt(open.find((x) => x.id !== done.id)?.id ?? null));
  useEffect(() => {
    if (!q) return;
    const hear = (e: KeyboardEvent) => {
      if (e.ctrlKey || e.metaKey || e.altKey || answer.isPending) return;
      const word = q.words[Number(e.key) - 1];
      if (word) answer.mutate({ q, word });
      else if (e.key === "n" && next) lookAt(next.id);
      else return;
      e.preventDefault();
    };
    window.addEventListener("keydown", hear);
    return () => window.removeEventListener("keydown", hear);
  });
  return (
    <Dialog.Root open={Boolean(q)} onOpenChange={(o) => !o && lookAt(null)}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/40" />
        <Dialog.Content className="fixed top-1/2 left-1/2 z-50 max-h-[94vh] w-[min(1180px,96vw)] -translate-x-1/2 -translate-y-1/2 overflow-auto rounded border border-rule bg-card p-5 shadow-lg">
          {q && (
            <>
              <Dialog.Title className="text-[18px] font-medium">{q.message}</Dialog.Title>
              <Dialog.Description className="my-1.5 text-[13.5px] text-quiet">
                Both scans in plan, from 0.15 to 2.2 m above the floor. The dots are the instruments, pale is what
                others saw
                {q.places.length ? "; rings are round what one saw where the other looked freely." : "."}
              </Dialog.Description>
              <div className="grid grid-cols-2 gap-x-4 gap-y-2">
                {q.readings.map((r, k) => (
                  <Reading key={r.word} id={id} q={q} at={k}>
                    <Button
                      main={!q.answer}
                      pressed={q.answer === r.word}
                      busy={answer.isPending}
                      onClick={() => answer.mutate({ q, word: r.word })}
                    >
                      {k + 1} · {r.says.charAt(0).toUpperCase() + r.says.slice(1)}
                    </Button>
                  </Reading>
                ))}
              </div>
              <p className="mt-3 flex items-center gap-3 text-[13px] text-quiet">
                <span className="flex-1">
                  {q.answer
                    ? `Answered by ${q.answered_by}. Another answer takes its place.`
                    : `${place + 1} of ${open.length}. Keys: ${q.words.map((_, k) => k + 1).join(", ")} answer, N goes to the next, Escape leaves it open.`}
                </span>
                {q.words.includes("none") && (
                  <Button
                    pressed={q.answer === "none"}
                    busy={answer.isPending}
                    onClick={() => answer.mutate({ q, word: "none" })}
                  >
                    {q.words.length} · None of them
                  </Button>
                )}
                {q.answer && (
                  <Button busy={answer.isPending} onClick={() => answer.mutate({ q, word: null })}>
                    Open it again
                  </Button>
                )}
                {open.length > 1 && next && <Button onClick={() => lookAt(next.id)}>Next question</Button>}
                <Button onClick={() => lookAt(null)}>{q.answer ? "Close" : "Leave it open"}</Button>
              </p>
            </>
          )}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

function Reading(p: { id: string; q: Question; at: number; children: React.ReactNode }) {
  const r = p.q.readings[p.at]!;
  const [state, setState] = useState<"coming" | "here" | "failed">("coming");
  useEffect(() => setState("coming"), [p.q.id]);
  const partner = r.partner_name ?? p.q.other_name;
  const apart = r.T_partner_station === null;
  const alt = apart
    ? `${partner} and ${p.q.station_name} side by side`
    : `${p.q.station_name} over ${partner}, where this reading puts it`;
  return (
    <figure className="min-w-0">
      <div className="relative aspect-[620/420] border border-rule bg-paper">
        {state !== "here" && (
          <p className="absolute inset-0 grid place-items-center p-4 text-center text-[13px] text-quiet" role="status">
            {state === "coming"
              ? "The picture is being drawn."
              : "The picture could not be drawn: close this and look again."}
          </p>
        )}
        <img
          src={`/api/projects/${p.id}/questions/${p.q.id}/picture/${r.word}?v=${p.q.version}`}
          alt={alt}
          className="relative h-full w-full"
          hidden={state !== "here"}
          onLoad={() => setState("here")}
          onError={() => setState("failed")}
        />
      </div>
      <figcaption className="my-2 text-[13.5px] leading-snug">
        <span className="font-medium text-slack">● {p.q.station_name}</span>
        {apart ? " and " : " beside "}
        <span className="font-medium text-[#23407a] dark:text-[#9db8ee]">● {partner}</span>
        {apart
          ? " share nothing: each is a room of its own."
          : `: ${fixed(r.agree_m2, 0)} m² agree, ${r.contradicted_m2 < 0.005 ? "nothing" : `${fixed(r.contradicted_m2, 2)} m²`} contradicts.`}
      </figcaption>
      {p.children}
    </figure>
  );
}

/** All questions of the project, answered ones too. */
export function QuestionsLedger({ id }: { id: string }) {
  const asked = useQuestions(id);
  const columns: Column<Question>[] = [
    {
      head: "stations",
      cell: (q) => <span className="font-mono whitespace-nowrap">{`${q.other_name} · ${q.station_name}`}</span>,
      value: (q) => `${q.other_name} ${q.station_name}`,
      width: "150px",
    },
    { head: "question", cell: (q) => q.message, value: (q) => q.message },
    { head: "answer", cell: said, value: said, width: "170px" },
    {
      head: "answered by",
      cell: (q) => (q.answered_by ? `${q.answered_by}, ${when(q)}` : "–"),
      value: (q) => q.answered_at ?? "",
      width: "190px",
    },
  ];
  return (
    <Table
      what="questions"
      from={[asked]}
      rows={asked.data ?? []}
      columns={columns}
      id={(q) => q.id}
      selected={() => false}
      onSelect={(q) => lookAt(q.id)}
      empty="Nothing is asked. Where rooms look alike and the scans do not decide which is which, tying asks here in two pictures."
    />
  );
}

const said = (q: Question) =>
  q.answer === "none" ? "none of them" : (q.readings.find((r) => r.word === q.answer)?.says ?? "open");
const when = (q: Question) =>
  new Date(q.answered_at ?? 0).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "short" });
