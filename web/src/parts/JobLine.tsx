/** One piece of work under way: its progress, what it does now, time left, cancel. */
import { http, sent, type Job } from "../api/client";
import { useAsk } from "../api/queries";
import { Button } from "../kit";

export function useCancel(id: string) {
  return useAsk(id, (j: Job) =>
    sent(
      http.POST("/api/projects/{project_id}/jobs/{job_id}/cancel", {
        params: { path: { project_id: id, job_id: j.id } },
      }),
    ),
  );
}

export function JobLine({ id, job }: { id: string; job: Job }) {
  const cancel = useCancel(id);
  const left = job.seconds_left;
  const share = job.total ? Math.min(1, job.done / job.total) : 0;
  return (
    <div className="mb-2 border-b border-rule/60 pb-2 last:mb-0 last:border-0 last:pb-0">
      <div className="flex items-center gap-2 text-[13.5px]">
        <span className="flex-1">{job.title}</span>
        <Button onClick={() => cancel.mutate(job)}>Cancel</Button>
      </div>
      <div className="mt-1 h-1.5 rounded bg-rule" role="progressbar" aria-valuenow={Math.round(share * 100)}>
        <div className="h-full rounded bg-action" style={{ width: `${100 * share}%` }} />
      </div>
      <p className="mt-0.5 text-[12px] text-quiet">
        {job.state === "waiting"
          ? "waits for a free worker"
          : `${job.stage}${left === null ? "" : `, about ${left < 90 ? `${Math.ceil(left)} s` : `${Math.ceil(left / 60)} min`} left`}`}
      </p>
    </div>
  );
}
