"""Background work: a job row of ours for people, a procrastinate job for the machine, in one transaction.

Terms: a *run* is one attempt at a job, named by the job and its number; the *lease* is how long a run may stay silent;
*claiming* begins a run; the *fence* is that only the run that began last may commit. The job row is the truth: queue rows
only say to workers that there is something to claim, and are made anew when they were lost.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import procrastinate
from sqlalchemy import text, update
from sqlalchemy.orm import Session

from ..core.errors import Cancelled, LanternError
from ..settings import settings
from .db import actor, engine, notify, session
from .models import Checkpoint, Job, now

app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=settings().database), import_paths=["taut_lantern.work.worker"])
# In a worker the connector of ``app`` is open for its event loop and takes no connection of a session: jobs are handed out by this one.
_handing = procrastinate.App(connector=procrastinate.SyncPsycopgConnector(conninfo=settings().database))
LIVE = ("waiting", "running")
LEASE = 10.0  # seconds a run may be silent; it is heard of every second
AT_ONCE = 5  # seconds that bringing jobs and queue together may stand still
ATTEMPTS = 5  # runs that may be lost (killed, cut off) before the job fails


class Superseded(LanternError):
    """This run is no longer the job's: its lease ran out and another took over, or the job has ended."""

    code = "superseded"


@dataclass(frozen=True)
class Run:
    """One attempt at a job."""

    job_id: str
    number: int
    project_id: str
    kind: str
    params: dict[str, Any]
    actor: str = "you"


def apply_schema() -> None:
    """Create the task queue's tables once."""
    with engine().connect() as c:
        if c.execute(text("SELECT to_regclass('procrastinate_jobs')")).scalar() is not None:
            return
    with app.open():
        app.schema_manager.apply_schema()


def enqueue(s: Session, project_id: str, kind: str, title: str, **params: Any) -> Job:
    """Add a job in the caller's transaction: if that fails neither row exists."""
    job = Job(project_id=project_id, kind=kind, title=title[:400], params=params, actor=actor.get())
    s.add(job)
    s.flush()
    defer(s, job.id)
    notify(s, project_id, "jobs")
    return job


def defer(s: Session, job_id: str) -> None:
    """Hand the job to the task queue on the session's own connection."""
    _handing.configure_task("run_job", connection=s.connection().connection.driver_connection).defer(job_id=job_id)


def claim(job_id: str, worker: str) -> Run | None:
    """Begin a run of a waiting job. None when there is nothing to begin: it has ended, or another run has it.

    A failure here leaves the job waiting; reconciling hands it out again.
    """
    with session() as s:
        job = s.get(Job, job_id, with_for_update=True)
        if job is None or job.state != "waiting":
            return None
        if job.cancel:
            job.state, job.ended_at = "cancelled", now()
            notify(s, job.project_id, "jobs")
            return None
        job.state, job.started_at, job.beat_at, job.attempts, job.worker = "running", now(), now(), job.attempts + 1, worker[:120]
        job.done, job.total, job.stage, job.stage_at = 0, 0, "", None
        notify(s, job.project_id, "jobs")
        return Run(job.id, job.attempts, job.project_id, job.kind, dict(job.params), job.actor)


def stands(s: Session, run: Run) -> None:
    """The fence: Superseded unless this run is the job's last and not ended by others. Holds the row until the commit."""
    q = text("SELECT 1 FROM job WHERE id = :id AND attempts = :n AND state IN ('running', 'done') FOR SHARE")
    if s.execute(q, {"id": run.job_id, "n": run.number}).first() is None:
        raise Superseded("another run has taken this job over", subject=run.job_id)


def conclude(s: Session, run: Run, result: dict[str, Any]) -> None:
    """End the job as done in the transaction that commits its result: either both are there or neither.

    Cancelled when somebody asked for that before; Superseded when the run lost its lease.
    """
    q = update(Job).where(Job.id == run.job_id, Job.attempts == run.number, Job.state == "running")
    found = s.execute(q.values(state="done", result=result, ended_at=now(), error=None).returning(Job.cancel)).first()
    if found is None:
        raise Superseded("another run has taken this job over", subject=run.job_id)
    if found[0]:
        raise Cancelled("cancelled; nothing was changed")
    s.execute(text("DELETE FROM checkpoint WHERE job_id = :id"), {"id": run.job_id})
    notify(s, run.project_id, "jobs")


def finish(run: Run, state: str, error: dict[str, Any] | None = None, result: dict[str, Any] | None = None) -> None:
    """End a job otherwise than by its result; does nothing when the run is no longer the job's."""
    with session() as s:
        q = update(Job).where(Job.id == run.job_id, Job.attempts == run.number, Job.state == "running")
        if s.execute(q.values(state=state, error=error, result=result, ended_at=now()).returning(Job.id)).first():
            s.execute(text("DELETE FROM checkpoint WHERE job_id = :id"), {"id": run.job_id})
            notify(s, run.project_id, "jobs")


def release(run: Run) -> None:
    """Give a run up whose worker stops: the job waits again and is handed out again. Its checkpoints stay."""
    with session() as s:
        q = update(Job).where(Job.id == run.job_id, Job.attempts == run.number, Job.state == "running")
        if s.execute(q.values(state="waiting", attempts=Job.attempts, beat_at=None).returning(Job.id)).first():
            defer(s, run.job_id)
            notify(s, run.project_id, "jobs")


def cancel(s: Session, job: Job) -> None:
    """Ask a job to stop. One that nobody runs ends here and now."""
    job.cancel = True
    silent = job.beat_at is None or (now() - job.beat_at).total_seconds() > LEASE
    if job.state == "waiting" or (job.state == "running" and silent):
        job.state, job.ended_at = "cancelled", now()
        job.error = {"code": "cancelled", "message": "cancelled; nothing was changed", "remedy": ""}
    s.flush()
    notify(s, job.project_id, "jobs")


GAVE_UP = {
    "code": "gave_up",
    "message": f"the work broke off {ATTEMPTS} times before it was done",
    "remedy": "look at the worker's log for the reason, then start it again",
}


def reconcile() -> int:
    """Bring job rows and queue rows together; returns how many jobs it touched. Safe to call from everywhere at any time.

    A run that fell silent is over: its job is cancelled if somebody asked for that, fails after ATTEMPTS, else waits again.
    A waiting job that no queue row will bring to a worker is handed out anew. Who stands still in the middle of it is cut off:
    nobody else can do it meanwhile.
    """
    with session() as s:
        s.execute(text(f"SET LOCAL idle_in_transaction_session_timeout = '{AT_ONCE}s'"))
        if not s.execute(text("SELECT pg_try_advisory_xact_lock(7240117)")).scalar():
            return 0  # somebody else is at it
        touched = 0
        gone = "state = 'running' AND coalesce(beat_at, started_at, created_at) < now() - make_interval(secs => :lease)"
        ends = (
            (f"cancel AND (state = 'waiting' OR ({gone}))", "cancelled", {"code": "cancelled", "message": "cancelled; nothing was changed", "remedy": ""}),
            (f"{gone} AND attempts >= :most", "failed", GAVE_UP),
        )  # fmt: skip
        projects = set()
        for where, state, error in ends:
            q = update(Job).where(
                text(where).bindparams(lease=LEASE) if "most" not in where else text(where).bindparams(lease=LEASE, most=ATTEMPTS)
            )
            rows = s.execute(q.values(state=state, ended_at=now(), error=error).returning(Job.id, Job.project_id)).all()
            for job_id, project in rows:
                s.execute(text("DELETE FROM checkpoint WHERE job_id = :id"), {"id": job_id})
                projects.add(project)
            touched += len(rows)
        q = update(Job).where(text(gone).bindparams(lease=LEASE)).values(state="waiting", beat_at=None).returning(Job.id, Job.project_id)
        again = s.execute(q).all()
        unheard = text(
            """SELECT j.id, j.project_id FROM job j WHERE j.state = 'waiting' AND j.created_at < now() - interval '3 seconds'
            AND NOT EXISTS (SELECT 1 FROM procrastinate_jobs q WHERE q.args->>'job_id' = j.id AND (q.status = 'todo' OR (q.status = 'doing'
            AND EXISTS (SELECT 1 FROM procrastinate_workers w WHERE w.id = q.worker_id AND w.last_heartbeat > now() - interval '10 seconds'))))"""
        )
        lost = s.execute(unheard).all()
        for job_id, project in {*map(tuple, again), *map(tuple, lost)}:
            defer(s, job_id)
            projects.add(project)
            touched += 1
        s.execute(
            text("DELETE FROM procrastinate_jobs q WHERE status = 'doing' AND NOT EXISTS (SELECT 1 FROM job j WHERE j.id = q.args->>'job_id'"
                 " AND j.state IN ('waiting', 'running')) AND NOT EXISTS (SELECT 1 FROM procrastinate_workers w WHERE w.id = q.worker_id)")
        )  # fmt: skip
        for project in projects:
            notify(s, project, "jobs")
        return touched


def workers() -> int:
    """How many workers were heard of within the last ten seconds."""
    with session() as s:
        q = text("SELECT count(*) FROM procrastinate_workers WHERE last_heartbeat > now() - interval '10 seconds'")
        return int(s.execute(q).scalar() or 0)


def reached(run: Run | None, key: str) -> bytes | None:
    """What an earlier run of this job kept under a key."""
    if run is None:
        return None
    with session() as s:
        row = s.get(Checkpoint, (run.job_id, key))
        return None if row is None else row.data


def keep(run: Run | None, key: str, data: bytes) -> None:
    """Keep what this run has reached, for a later run of the job."""
    if run is not None:
        with session() as s:
            s.merge(Checkpoint(job_id=run.job_id, key=key, data=data))


__all__ = ["ATTEMPTS", "LEASE", "LIVE", "Run", "Superseded", "app", "apply_schema", "cancel", "claim", "conclude", "defer", "enqueue", "finish", "keep", "reached", "reconcile", "release", "stands", "workers"]  # fmt: skip
