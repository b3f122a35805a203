/** Work under way and work that ended: progress, time left, cancel, try again. */
import { words } from "../kit";
import { http, sent, type Job } from "../api/client";
import { useAsk, useJobs, useJournal } from "../api/queries";
import { type Column } from "../kit";
import { Table } from "../kit/table";
import { useCancel } from "../parts/JobLine";

export function JobsLedger({ id }: { id: string }) {
  const asked = useJobs(id);
  const jobs = asked.data ?? [];
  const cancel = useCancel(id);
  const retry = useAsk(id, (j: Job) =>
    sent(
      http.POST("/api/projects/{project_id}/jobs/{job_id}/retry", {
        params: { path: { project_id: id, job_id: j.id } },
      }),
    ),
  );
  const columns: Column<Job>[] = [
    {
      head: "state",
      cell: (j) => <span className={j.state === "failed" ? "text-parted" : ""}>{j.state}</span>,
      value: (j) => j.state,
      width: "80px",
    },
    { head: "work", cell: (j) => j.title, value: (j) => j.title },
    {
      head: "done",
      cell: (j) => (j.state === "running" && j.total ? `${Math.round((100 * j.done) / j.total)} %` : ""),
      figure: true,
      width: "70px",
    },
    {
      head: "took s",
      figure: true,
      width: "80px",
      value: (j) => seconds(j),
      cell: (j) => seconds(j)?.toFixed(1) ?? "–",
    },
    {
      head: "says",
      cell: (j) =>
        j.error
          ? `${words(j.error["message"])}. What to do: ${words(j.error["remedy"]) || "try again"}.`
          : j.state === "running"
            ? j.stage
            : "",
    },
    {
      head: "can be",
      width: "110px",
      cell: (j) =>
        j.state === "running" || j.state === "waiting" ? (
          <button type="button" className="cursor-pointer text-action underline" onClick={() => cancel.mutate(j)}>
            cancelled
          </button>
        ) : j.state === "failed" || j.state === "cancelled" ? (
          <button type="button" className="cursor-pointer text-action underline" onClick={() => retry.mutate(j)}>
            tried again
          </button>
        ) : null,
    },
  ];
  return (
    <Table
      what="jobs"
      from={[asked]}
      rows={jobs}
      columns={columns}
      id={(j) => j.id}
      empty="No work was asked for yet. Long work is listed here with its progress, and can be cancelled and tried again."
    />
  );
}

function seconds(j: Job): number | null {
  return j.started_at && j.ended_at ? (Date.parse(j.ended_at) - Date.parse(j.started_at)) / 1000 : null;
}

export function JournalLedger({ id }: { id: string }) {
  const asked = useJournal(id);
  const rows = (asked.data?.pages ?? []).flat();
  type Row = (typeof rows)[number];
  const columns: Column<Row>[] = [
    {
      head: "when",
      cell: (r) => <span className="font-mono">{r.at.slice(0, 19).replace("T", " ")}</span>,
      value: (r) => r.at,
      width: "170px",
    },
    {
      head: "change",
      cell: (r) => <span className={r.undone ? "text-quiet line-through" : ""}>{r.title}</span>,
      value: (r) => r.title,
    },
    { head: "by", cell: (r) => r.actor, value: (r) => r.actor, width: "120px" },
    {
      head: "state",
      cell: (r) => (r.undone ? "taken back" : ""),
      value: (r) => (r.undone ? "taken back" : ""),
      width: "100px",
    },
  ];
  return (
    <>
      <Table
        what="the journal"
        from={[asked]}
        rows={rows}
        columns={columns}
        id={(r) => String(r.id)}
        empty="Every change is written here and can be taken back."
      />
      {asked.hasNextPage && (
        <button
          type="button"
          className="m-3 cursor-pointer text-[13px] text-action underline"
          onClick={() => void asked.fetchNextPage()}
        >
          {asked.isFetchingNextPage ? "Reading …" : "Show earlier changes"}
        </button>
      )}
    </>
  );
}
