/** The thread: the steps as knots on one line, work under way, coordinates, undo and redo. */
import { Menu, Redo2, Undo2 } from "lucide-react";
import { Popover } from "radix-ui";
import { http, sent, type Job, type Project } from "../api/client";
import { unwind, useAsk, useJobs, useProject } from "../api/queries";
import { Button, Field, grouped, Hint, Pick } from "../kit";
import { UNIT_CHOICES, UNITS, type Unit } from "../kit/units";
import { useView } from "../kit/view";
import { JobLine } from "../parts/JobLine";
import { STEPS } from "./steps";

function KnotMark({ state, here }: { state: string; here: boolean }) {
  return (
    <svg width="24" height="24" viewBox="0 0 24 24" aria-hidden>
      {here && <circle cx="12" cy="12" r="10" fill="none" stroke="var(--color-lamp)" strokeWidth="2.5" />}
      <circle
        cx="12"
        cy="12"
        r="6"
        fill={state === "done" ? "var(--taut)" : "var(--card)"}
        stroke={state === "empty" ? "var(--quiet)" : "var(--taut)"}
        strokeWidth="1.6"
      />
      {state === "begun" && <path d="M12 6a6 6 0 0 0 0 12z" fill="var(--taut)" />}
      {state === "out of date" && <path d="M7.8 16.2l8.4-8.4" stroke="var(--slack)" strokeWidth="2.2" />}
    </svg>
  );
}

export function Thread({ id, leave }: { id: string; leave: () => void }) {
  const project = useProject(id).data;
  const { step, go, set } = useView();
  return (
    <header className="flex h-[58px] items-center gap-3 border-b border-rule px-3">
      <h1 className="contents">
        <button type="button" className="w-52 cursor-pointer text-left" onClick={leave} title="All projects">
          <span className="block truncate text-[14.5px] leading-5 font-semibold">{project?.name ?? "…"}</span>
          <span className="block text-[12px] text-quiet">
            {project ? `${project.stations} stations · ${(project.points / 1e6).toFixed(1)} M points` : ""}
          </span>
        </button>
      </h1>
      <nav aria-label="Steps of the job" className="relative flex flex-1 justify-between">
        <div className="absolute top-[12px] right-8 left-8 border-t border-quiet" />
        {STEPS.map((s, k) => {
          const knot = project?.thread.find((t) => t.step === s.id);
          return (
            <Hint key={s.id} text={`${k + 1} · ${s.title}${knot?.question ? `: ${knot.question}` : ""}`}>
              <button
                type="button"
                aria-current={step === s.id ? "step" : undefined}
                data-step={s.id}
                data-state={knot?.state}
                onClick={() => go(s.id)}
                className="relative flex w-[68px] cursor-pointer flex-col items-center text-[12.5px] leading-4"
              >
                <KnotMark state={knot?.state ?? "empty"} here={step === s.id} />
                <span className={step === s.id ? "font-semibold" : ""}>{s.title}</span>
              </button>
            </Hint>
          );
        })}
      </nav>
      <div className="flex items-center gap-1.5">
        <JobsChip id={id} />
        {project && <Coordinates project={project} />}
        <Hint text={project?.undo ? `Undo: ${project.undo.title}` : "nothing to undo"}>
          <button
            type="button"
            aria-label="Undo"
            disabled={!project?.undo}
            onClick={() => void unwind(id, "undo")}
            className="cursor-pointer rounded border border-rule bg-card p-1.5 disabled:opacity-40"
          >
            <Undo2 size={15} />
          </button>
        </Hint>
        <Hint text={project?.redo ? `Redo: ${project.redo.title}` : "nothing to redo"}>
          <button
            type="button"
            aria-label="Redo"
            disabled={!project?.redo}
            onClick={() => void unwind(id, "redo")}
            className="cursor-pointer rounded border border-rule bg-card p-1.5 disabled:opacity-40"
          >
            <Redo2 size={15} />
          </button>
        </Hint>
        <button
          type="button"
          aria-label="All commands"
          title="All commands (Ctrl+K)"
          onClick={() => set({ palette: true })}
          className="cursor-pointer rounded border border-rule bg-card p-1.5"
        >
          <Menu size={15} />
        </button>
      </div>
    </header>
  );
}

function JobsChip({ id }: { id: string }) {
  const jobs = useJobs(id).data ?? [];
  const live = jobs.filter((j) => j.state === "running" || j.state === "waiting");
  const left = Math.max(0, ...live.map((j: Job) => j.seconds_left ?? 0));
  if (!live.length) return null;
  return (
    <Popover.Root>
      <Popover.Trigger
        className="figure cursor-pointer rounded border border-rule bg-card px-2 py-1 text-[12px]"
        data-jobs={live.length}
      >
        {live.length} {live.length === 1 ? "job" : "jobs"}
        {left > 0 ? ` · ${Math.floor(left / 60)}:${String(Math.round(left % 60)).padStart(2, "0")}` : ""}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          aria-label="Work under way"
          align="end"
          sideOffset={6}
          className="z-40 max-h-96 w-96 overflow-auto rounded border border-rule bg-card p-3 shadow-lg"
        >
          {live.map((j) => (
            <JobLine key={j.id} id={id} job={j} />
          ))}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

function Coordinates({ project }: { project: Project }) {
  const change = useAsk(project.id, (body: { frame?: string; unit?: Unit; name?: string }) =>
    sent(
      http.PATCH("/api/projects/{project_id}", {
        params: { path: { project_id: project.id } },
        body: { ...body, version: project.version },
      }),
    ),
  );
  return (
    <Popover.Root>
      <Popover.Trigger className="max-w-28 cursor-pointer truncate rounded border border-rule bg-card px-2 py-1 font-mono text-[12px]">
        <span className="sr-only">Coordinates and unit: </span>
        {project.frame_name} · {UNITS[project.unit].name}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          aria-label="Coordinates and unit of the project"
          align="end"
          sideOffset={6}
          className="z-40 w-80 rounded border border-rule bg-card p-4 shadow-lg"
        >
          <Pick
            label="Coordinates"
            value={project.frame}
            onChange={(e) => change.mutate({ frame: e.target.value })}
            options={project.frames
              .filter((f) => f.kind === "project" || f.part === project.part)
              .map((f) => [f.id, (f.kind === "grid" ? `grid ${f.name}` : f.name) + (f.old ? ", out of date" : "")])}
          />
          <Pick
            label="Lengths in"
            value={project.unit}
            onChange={(e) => change.mutate({ unit: e.target.value as Unit })}
            options={UNIT_CHOICES}
          />
          <Field
            label="Name"
            type="text"
            className="!w-44"
            defaultValue={project.name}
            maxLength={300}
            onBlur={(e) =>
              e.target.value.trim() && e.target.value !== project.name && change.mutate({ name: e.target.value })
            }
          />
          <p className="mt-2 text-[12.5px] text-quiet">
            {grouped(project.points)} points in {project.stations} stations. Turning coordinates never moves the
            network.
          </p>
          <Popover.Close asChild>
            <span className="mt-2 inline-block">
              <Button>Close</Button>
            </span>
          </Popover.Close>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
