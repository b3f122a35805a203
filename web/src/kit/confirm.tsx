/** Asks before something large goes, and names it. */
import { AlertDialog } from "radix-ui";
import { create } from "zustand";
import { Button } from ".";

interface Question {
  title: string;
  text: string;
  yes: string;
  no: string;
  then: () => void;
}
const useQuestion = create<{ question: Question | null }>(() => ({ question: null }));
export const confirm = (question: Question) => useQuestion.setState({ question });

export function Confirm() {
  const { question } = useQuestion();
  const close = () => useQuestion.setState({ question: null });
  return (
    <AlertDialog.Root open={question !== null} onOpenChange={(o) => !o && close()}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-40 bg-ink/40" />
        <AlertDialog.Content className="fixed top-1/3 left-1/2 z-50 w-96 -translate-x-1/2 rounded border border-rule bg-card p-5 shadow-lg">
          <AlertDialog.Title className="text-[17px] font-medium">{question?.title}</AlertDialog.Title>
          <AlertDialog.Description className="my-2 text-[14px] text-quiet">{question?.text}</AlertDialog.Description>
          <div className="flex gap-2">
            <AlertDialog.Action asChild>
              <span>
                <Button main onClick={() => (question?.then(), close())}>
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
