/** Asks before something large goes, and names it. */
import { AlertDialog } from "radix-ui";
import { useEffect, useState } from "react";
import { create } from "zustand";
import { Button, Line } from ".";

interface Question {
  title: string;
  text: string;
  yes: string;
  no: string;
  then: (answer: string) => void;
  ask?: string; // a line that has to be filled in first
}
const useQuestion = create<{ question: Question | null }>(() => ({ question: null }));
export const confirm = (question: Question) => useQuestion.setState({ question });

/** Asks why the bytes of a file are let go of. stays: what is kept all the same; lost: what cannot be done any more. */
export const askToLetGo = (name: string, stays: string, lost: string, then: (reason: string) => void) =>
  confirm({
    title: `Let go of ${name}?`,
    text: `${stays} The file itself is gone for good${lost}.`,
    ask: "Why (kept beside its line)",
    yes: "Let go of the file",
    no: "Keep it",
    then,
  });

export function Confirm() {
  const { question } = useQuestion();
  const [answer, setAnswer] = useState("");
  useEffect(() => setAnswer(""), [question]);
  const close = () => useQuestion.setState({ question: null });
  return (
    <AlertDialog.Root open={question !== null} onOpenChange={(o) => !o && close()}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-ink/40" />
        <AlertDialog.Content className="fixed top-1/3 left-1/2 z-50 w-96 -translate-x-1/2 rounded border border-rule bg-card p-5 shadow-lg">
          <AlertDialog.Title className="text-[17px] font-medium">{question?.title}</AlertDialog.Title>
          <AlertDialog.Description className="my-2 text-[14px] text-quiet">{question?.text}</AlertDialog.Description>
          {question?.ask && <Line label={question.ask} value={answer} onChange={setAnswer} />}
          <div className="flex gap-2">
            <AlertDialog.Action asChild>
              <span>
                <Button
                  main
                  why={question?.ask && answer.trim().length < 3 ? "say why first" : ""}
                  onClick={() => (question?.then(answer.trim()), close())}
                >
                  {question?.yes}
                </Button>
              </span>
            </AlertDialog.Action>
            <AlertDialog.Cancel asChild>
              <span>
                <Button onClick={close}>{question?.no}</Button>
              </span>
            </AlertDialog.Cancel>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
