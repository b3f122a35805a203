"""What each kind of background job does, and how it runs in a process of its own."""

from __future__ import annotations

import ctypes
import os
import resource
import signal
import sys
import time
import traceback
from collections.abc import Callable
from typing import Any

from sqlalchemy import text, update

from ..core.errors import Cancelled, LanternError
from ..steps import demo
from ..steps.bring_in.stations import import_scan
from ..steps.bring_in.uploads import read_original
from ..steps.common import Progress
from ..steps.hand_over.deliver import make
from ..steps.tie.links import pair, tie_all
from ..steps.tie.targets import find_targets
from ..store.db import engine, notify, session
from ..store.models import Job, now

MEMORY = 12 << 30  # bytes a job may take before the system says no

HANDLERS: dict[str, Callable[[str, dict[str, Any], Progress], dict[str, Any]]] = {
    "read": lambda p, a, g: read_original(p, a["original_id"], g),
    "import": import_scan,
    "tie": tie_all,
    "pair": pair,
    "targets": find_targets,
    "deliver": make,
    "demo": demo.fill,
}


class JobProgress:
    """Writes progress at most four times a second in transactions of its own, and hears cancel there."""

    def __init__(self, job_id: str, project_id: str) -> None:
        self.job_id, self.project_id = job_id, project_id
        self.last, self.cancelled = 0.0, False
        self.done, self.total = 0, -1

    def report(self, stage: str, done: int, total: int) -> None:
        if time.monotonic() - self.last < 0.25 and done != total:
            return
        self.last = time.monotonic()
        with session() as s:
            row = s.execute(
                text(
                    "UPDATE job SET stage = :stage, done = :done, total = :total,"
                    " stage_at = CASE WHEN :fresh THEN now() ELSE stage_at END WHERE id = :id RETURNING cancel"
                ),
                {"stage": stage[:200], "done": done, "total": total, "id": self.job_id, "fresh": total != self.total or done < self.done},
            ).first()
            self.done, self.total = done, total
            self.cancelled = row is None or bool(row[0])
            notify(s, self.project_id, "job")

    def should_stop(self) -> bool:
        if not self.cancelled and time.monotonic() - self.last > 1.0:
            self.last = time.monotonic()
            with session() as s:
                self.cancelled = bool(s.execute(text("SELECT cancel FROM job WHERE id = :id"), {"id": self.job_id}).scalar())
        return self.cancelled


def finish(job_id: str, state: str, error: dict[str, Any] | None = None, result: dict[str, Any] | None = None) -> None:
    with session() as s:
        project = s.execute(
            update(Job)
            .where(Job.id == job_id, Job.state.in_(("waiting", "running")))
            .values(state=state, error=error, result=result, ended_at=now())
            .returning(Job.project_id)
        ).scalar()
        if project:
            notify(s, project, "jobs")


def run_job(job_id: str) -> None:
    """Run one job to its end in this process; every outcome is written to its row."""
    with session() as s:
        job = s.get(Job, job_id, with_for_update=True)
        if job is None or job.state not in ("waiting", "running"):
            return
        if job.cancel:
            job.state, job.ended_at = "cancelled", now()
            return
        job.state, job.started_at, job.attempts = "running", now(), job.attempts + 1
        job.done, job.total, job.stage_at = 0, 0, None
        kind, params, project_id = job.kind, dict(job.params), job.project_id
        notify(s, project_id, "jobs")
    progress = JobProgress(job_id, project_id)
    try:
        result = HANDLERS[kind](project_id, params, Progress(progress.report, progress.should_stop))
        finish(job_id, "done", result=result)
    except Cancelled as stop:
        finish(job_id, "cancelled", error={"code": stop.code, "message": stop.message, "remedy": ""})
    except LanternError as problem:
        finish(
            job_id, "failed", error={"code": problem.code, "message": problem.message, "remedy": problem.remedy, "subject": problem.subject}
        )
    except MemoryError:
        finish(
            job_id,
            "failed",
            error={
                "code": "out_of_memory",
                "message": "the job needed more memory than it may take",
                "remedy": "close other jobs, or bring the scan in with a narrower range",
            },
        )
    except OSError as problem:
        full = problem.errno == 28
        finish(
            job_id,
            "failed",
            error={
                "code": "disk_full" if full else "os_error",
                "message": "the disk is full" if full else str(problem)[:200],
                "remedy": "free some space and start it again; nothing half-done was kept" if full else "start it again",
            },
        )
    except Exception as problem:
        traceback.print_exc()
        space = "No space left" in str(problem) or "DiskFull" in type(problem).__name__
        finish(
            job_id,
            "failed",
            error={
                "code": "disk_full" if space else "unexpected",
                "message": "the disk of the database is full" if space else f"{type(problem).__name__}: {str(problem)[:300]}",
                "remedy": "free some space and start it again; nothing half-done was kept"
                if space
                else "start it again; if it fails again, report this text",
            },
        )


def child(job_id: str) -> None:
    """Entry of a job's own process: dies with its parent, keeps to its memory, then runs."""
    ctypes.CDLL("libc.so.6").prctl(1, signal.SIGKILL)  # PR_SET_PDEATHSIG
    resource.setrlimit(resource.RLIMIT_DATA, (MEMORY, MEMORY))
    os.nice(5)
    engine.cache_clear()
    run_job(job_id)
    sys.stdout.flush()
