/** What is asked of the server is loading, has failed, or is here: three states, and none reads as another. */
import type { ReactNode } from "react";
import { Button } from ".";

export interface Asked {
  data: unknown;
  isError: boolean;
  error: unknown;
  refetch: () => unknown;
}

/** The worst state of several questions. */
export function stateOf(asked: Asked[]): "loading" | "failed" | "old" | "here" {
  if (asked.some((a) => a.isError && a.data === undefined)) return "failed";
  if (asked.some((a) => a.data === undefined)) return "loading";
  return asked.some((a) => a.isError) ? "old" : "here";
}

export function Trouble({ asked, what, old }: { asked: Asked[]; what: string; old?: boolean }) {
  const error = asked.find((a) => a.isError)?.error;
  return (
    <div role="alert" className="my-2 rounded border border-rule bg-card p-2.5 text-[13.5px]">
      <p className="font-semibold text-parted">
        {old
          ? `What is shown of ${what} may be old: it could not be read again.`
          : `${what.charAt(0).toUpperCase()}${what.slice(1)} could not be read.`}
      </p>
      <p className="mb-2 text-quiet">{error instanceof Error ? error.message : String(error)}</p>
      <Button onClick={() => asked.forEach((a) => a.isError && a.refetch())}>Try again</Button>
    </div>
  );
}

/** Shows what depends on answers when they are here; says so while they are not. */
export function Await({ of, what, children }: { of: Asked[]; what: string; children: ReactNode }) {
  const state = stateOf(of);
  if (state === "failed") return <Trouble asked={of} what={what} />;
  if (state === "loading")
    return (
      <p role="status" className="p-1 text-[13.5px] text-quiet">
        Reading {what} …
      </p>
    );
  return (
    <>
      {state === "old" && <Trouble asked={of} what={what} old />}
      {children}
    </>
  );
}
