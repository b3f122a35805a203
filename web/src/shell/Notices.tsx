/** What just happened or went wrong, one below the other; errors stay until they are dismissed. */
import { X } from "lucide-react";
import { Toast } from "radix-ui";
import { dismiss, useNotices } from "../api/queries";

export function Notices() {
  const { notices } = useNotices();
  return (
    <Toast.Provider duration={6000} swipeDirection="down" label="Notices">
      {notices.map((n) => (
        <Toast.Root
          key={n.id}
          type={n.good ? "background" : "foreground"}
          duration={n.good ? (n.then ? 10_000 : 6000) : Infinity}
          onOpenChange={(open) => !open && dismiss(n.id)}
          data-notice={n.good ? "good" : "bad"}
          className="flex gap-3 rounded border border-rule bg-card px-4 py-2.5 shadow-lg"
        >
          <div className="flex-1">
            <Toast.Title className={`text-[14px] ${n.good ? "" : "font-semibold text-parted"}`}>
              {n.message}
            </Toast.Title>
            {n.remedy && (
              <Toast.Description className="text-[13px] text-quiet">What to do: {n.remedy}.</Toast.Description>
            )}
          </div>
          {n.then && (
            <Toast.Action altText={n.then.alt} asChild>
              <button
                type="button"
                className="cursor-pointer self-start rounded border border-rule px-2 py-0.5 text-[13px] text-action"
                onClick={n.then.run}
              >
                {n.then.words}
              </button>
            </Toast.Action>
          )}
          <Toast.Close aria-label="Dismiss" className="cursor-pointer self-start p-0.5 text-quiet">
            <X size={16} />
          </Toast.Close>
        </Toast.Root>
      ))}
      <Toast.Viewport className="fixed bottom-4 left-1/2 z-50 flex w-[36rem] max-w-[92vw] -translate-x-1/2 flex-col gap-2" />
    </Toast.Provider>
  );
}
