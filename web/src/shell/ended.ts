/** Long work that ends while one looks is told at once, wherever one is, and leads to its result. */
import { useEffect, useRef } from "react";
import type { Job } from "../api/client";
import { tell, useJobs } from "../api/queries";
import { words } from "../kit";
import { useView, type StepId } from "../kit/view";

const LONG = 3000; // ms from which on work is told of in the step that shows its result too
const count = (n: unknown, one: string, many: string) => `${Number(n)} ${Number(n) === 1 ? one : many}`;

/** What a job that is done says, the step that shows its result, and the ledger there; null: nothing to be told. */
export function said(j: Job): [string, StepId, string] | null {
  const r = j.result ?? {};
  if (j.kind === "tie") return ["The stations are tied as far as they can be.", "tie", "links"];
  if (j.kind === "merge") return [`${count(r["stations"], "station", "stations")} came in as a group.`, "tie", "links"];
  if (j.kind === "pair") return [`${j.title.replace(/^Linking/, "Linked")}.`, "tie", "links"];
  if (j.kind === "target")
    return [
      `${words(r["name"])} is a target, seen from ${count(r["sightings"], "station", "stations")}.`,
      "tie",
      "sightings",
    ];
  if (j.kind === "targets")
    return [
      `Found ${count(r["targets"], "target", "targets")}, seen ${count(r["sightings"], "time", "times")}.`,
      "tie",
      "sightings",
    ];
  if (j.kind === "fit")
    return [
      `Found ${count(r["lines"], "line", "lines")} and ${count(r["circles"], "circle", "circles")}.`,
      "draw",
      "traces",
    ];
  if (j.kind === "lasso") return [`${Number(r["count"]).toLocaleString("en")} points are deleted.`, "clean", "edits"];
  if (j.kind === "device") return [`${words(r["name"])} is fetched and comes in.`, "bring_in", "report"];
  if (j.kind === "filter") {
    const things = Number(r["objects"]) ? `${count(r["objects"], "thing", "things")} that moved, ` : "";
    return [`Found ${things}${Number(r["points"]).toLocaleString("en")} points in all.`, "clean", "edits"];
  }
  if (j.kind === "select") return [`${Number(r["count"]).toLocaleString("en")} points are selected.`, "clean", "edits"];
  if (j.kind === "even")
    return [`${Number(r["kept"]).toLocaleString("en")} points stay at one spacing.`, "clean", "zones"];
  if (j.kind === "pipe" && r["section"]) {
    const alike = (r["alike"] as string[]).length ? ", not told apart from others" : "";
    return [`${words(r["name"])} is measured${alike}.`, "draw", "notes"];
  }
  if (j.kind === "pipe") {
    const bends = Number(r["bends"]) ? ` over ${count(r["bends"], "bend", "bends")}` : "";
    const size = `${(1000 * Number(r["diameter"])).toFixed(1)} mm`;
    return [`${words(r["name"])}, ${size}, is followed${bends}.`, "draw", "notes"];
  }
  if (j.kind === "model") {
    if (r["faces"] !== undefined)
      return [`${words(r["name"])} is here: ${count(r["elements"], "element", "elements")}.`, "draw", "sections"];
    if (r["tolerance"] === undefined)
      return [`${words(r["name"])} lies on the cloud, within ${mm(r["rms"])} of it.`, "draw", "sections"];
    const share = Number(r["points"]) ? Math.round((100 * Number(r["within"])) / Number(r["points"])) : 0;
    return [
      `${share} % of the points near ${words(r["name"])} are within ${mm(r["tolerance"])} of it.`,
      "draw",
      "sections",
    ];
  }
  if (j.kind === "draft") {
    const left = (r["left_out"] as string[]).length;
    const without = left
      ? ` ${count(left, "cut shows", "cuts show")} nothing and ${left > 1 ? "are" : "is"} left out.`
      : "";
    return [
      `${count(r["sections"], "section is", "sections are")} drawn${r["sheet"] ? " and laid out on a sheet" : ""}.${without}`,
      "draw",
      r["sheet"] ? "sheets" : "sections",
    ];
  }
  if (j.kind === "deliver") return [`${words(r["name"])} is made.`, "hand_over", "deliveries"];
  return null;
}

const mm = (v: unknown) => `${(1000 * Number(v)).toFixed(1)} mm`;
const took = (j: Job) => (j.started_at && j.ended_at ? Date.parse(j.ended_at) - Date.parse(j.started_at) : 0);
const LIVE = ["running", "waiting"];

export function useEnded(id: string) {
  const jobs = useJobs(id).data;
  const known = useRef<Set<string> | null>(null);
  const came = useRef(0); // stations that came in since work on scans began
  useEffect(() => {
    if (!jobs) return;
    const ended = jobs.filter((j) => !LIVE.includes(j.state));
    const fresh = ended.filter((j) => known.current && !known.current.has(j.id));
    known.current = new Set(ended.map((j) => j.id));
    came.current += fresh.filter((j) => j.kind === "import" && j.state === "done").length;
    const coming = jobs.some((j) => LIVE.includes(j.state) && ["import", "merge", "demo"].includes(j.kind));
    if (came.current && !coming) {
      announce(`${count(came.current, "station", "stations")} came in.`, "bring_in", "report", true);
      came.current = 0;
    }
    for (const j of fresh) {
      const done = j.state === "done" ? said(j) : null;
      if (done) announce(...done, took(j) >= LONG || ["fit", "pipe", "model"].includes(j.kind));
      else if (j.error)
        tell(`${j.title} failed: ${words(j.error["message"])}`, words(j.error["remedy"]) || "try it again", false);
    }
  }, [jobs]);
}

function announce(text: string, step: StepId, ledger: string, long: boolean) {
  const here = useView.getState().step === step;
  if (here && !long) return;
  const show = () => {
    useView.getState().go(step);
    useView.getState().set({ ledger });
  };
  tell(text, "", true, here ? undefined : { words: "Show it", alt: `Shown in the step ${step}`, run: show });
}
