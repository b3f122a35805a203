/** What is asked of the server, and what is told of it: changes, the way back, refusals. */
import { useMutation } from "@tanstack/react-query";
import { create } from "zustand";
import { cache } from "./cache";
import { http, type Project, Refusal, sent } from "./client";
import { HEAVY, keyed } from "./line";

export interface Notice {
  id: number;
  message: string;
  remedy: string;
  good: boolean;
  then?: { words: string; alt: string; run: () => void }; // what can be done about it: taken back, or looked at
}
/** What is worth telling, in the order in which it happened; errors stay until they are dismissed. */
export const useNotices = create<{ notices: Notice[] }>(() => ({ notices: [] }));
let told = 0;
export function tell(message: string, remedy = "", good = true, then?: Notice["then"]) {
  useNotices.setState(({ notices }) => {
    const others = notices.filter((n) => n.message !== message || n.remedy !== remedy); // said again, it moves to the end
    const done = others.filter((n) => n.good).slice(good ? -1 : -2); // what went well gives way to what is new
    const kept = others.filter((n) => !n.good || done.includes(n));
    return { notices: [...kept, { id: ++told, message, remedy, good, then }].slice(-5) };
  });
}
export const dismiss = (id: number) =>
  useNotices.setState(({ notices }) => ({ notices: notices.filter((n) => n.id !== id) }));
export function tellError(error: unknown) {
  const r = error instanceof Refusal ? error : new Refusal("unexpected", String(error), "reload the page", 0);
  tell(r.message.charAt(0).toUpperCase() + r.message.slice(1), r.remedy, false);
  if (r.status === 409) void cache.invalidateQueries();
}

let before: Promise<unknown> = Promise.resolve();

/**
 * Take back the last change, or bring the next one back: the one that the page shows once it is up to date. The one way
 * this is done; asked for again and again it goes step by step.
 */
export function unwind(project: string, way: "undo" | "redo"): Promise<void> {
  const step = before.then(() => unwindNow(project, way));
  before = step.catch(() => undefined);
  return step;
}

async function unwindNow(project: string, way: "undo" | "redo") {
  const key = [project, "project"];
  const state = cache.getQueryState(key);
  if (state?.isInvalidated || state?.fetchStatus === "fetching") await cache.refetchQueries({ queryKey: key });
  const known = cache.getQueryData<Project>(key)?.[way];
  if (!known) {
    tell(way === "undo" ? "There is nothing to take back." : "There is nothing to bring back.");
    return;
  }
  try {
    const path = { params: { path: { project_id: project } }, body: { entry: known.entry } };
    const r = await sent(
      way === "undo"
        ? http.POST("/api/projects/{project_id}/undo", path)
        : http.POST("/api/projects/{project_id}/redo", path),
    );
    tell(`${way === "undo" ? "Took back" : "Brought back"}: ${r.message}`);
  } catch (e) {
    tellError(e);
  }
  await cache.invalidateQueries({ queryKey: [project], predicate: keyed });
}

/** Tell what was done, with the way back. */
export async function tellUndoable(project: string, message: string) {
  await cache.invalidateQueries({ queryKey: [project, "project"] });
  const entry = cache.getQueryData<Project>([project, "project"])?.undo?.entry;
  const back = () => {
    if (cache.getQueryData<Project>([project, "project"])?.undo?.entry === entry) void unwind(project, "undo");
    else tell("Something else was changed since.", "take the changes back one by one in the journal's order", false);
  };
  tell(message, "", true, { words: "Undo", alt: "Undo with Ctrl+Z", run: back });
}

/** A change asked of the server: refusals are told, everything it touches is read again. */
export function useAsk<A, R>(project: string, call: (argument: A) => Promise<R>, done?: (result: R) => void) {
  return useMutation({
    mutationFn: call,
    onError: tellError,
    onSuccess: (result: R) => {
      void cache.invalidateQueries({ queryKey: [project], predicate: (q) => !HEAVY.includes(String(q.queryKey[1])) });
      done?.(result);
    },
  });
}
