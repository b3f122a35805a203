"""What each kind of background job does, and how a run of it goes in a process of its own."""

from __future__ import annotations

import ctypes
import gc
import multiprocessing as mp
import os
import resource
import signal
import sys
import threading
import time
import traceback
from collections.abc import Callable
from multiprocessing.connection import wait
from typing import Any

import psycopg
from sqlalchemy import text
from sqlalchemy.exc import DBAPIError
from sqlalchemy.exc import TimeoutError as PoolTimeout

from ..core.errors import Cancelled, LanternError
from ..settings import settings
from ..site.common import Progress
from ..steps import drawing, following
from ..steps.bring_in import devices
from ..steps.bring_in.merging import merge
from ..steps.bring_in.stations import import_scan
from ..steps.bring_in.uploads import read_original
from ..steps.clean import density, filters, selecting
from ..steps.clean.edits import delete_job
from ..steps.draw import finding, models
from ..steps.hand_over.deliver import make
from ..steps.tie import natural
from ..steps.tie.links import pair, tie_all
from ..steps.tie.targets import find_targets
from ..store import queue
from ..store.db import actor, engine, fence, notify, session
from ..store.queue import Run, Superseded


def _demo(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    from ..steps import demo  # the simulator is loaded for the demo's own job only

    return demo.fill(project_id, params, progress)


HANDLERS: dict[str, Callable[[str, dict[str, Any], Progress], dict[str, Any]]] = {
    "read": lambda p, a, g: read_original(p, a["original_id"], g),
    "import": import_scan,
    "merge": merge,
    "tie": tie_all,
    "pair": pair,
    "targets": find_targets,
    "target": natural.fit,
    "fit": finding.job,
    "draft": drawing.job,
    "lasso": delete_job,
    "select": selecting.job,
    "deliver": make,
    "device": devices.run,
    "filter": filters.run,
    "even": density.run,
    "pipe": following.job,
    "model": models.job,
    "demo": _demo,
}
AGAIN = 75  # exit code of a run that was cut off by something passing, as the database's restart
LOST = 76  # exit code of a run that is no longer the job's


class JobProgress:
    """Writes progress at most four times a second in transactions of its own, and hears cancel there."""

    def __init__(self, run: Run) -> None:
        self.run = run
        self.last, self.cancelled = 0.0, False
        self.done, self.total = 0, -1

    def report(self, stage: str, done: int, total: int) -> None:
        if time.monotonic() - self.last < 0.25 and done != total:
            return
        self.last = time.monotonic()
        with session() as s:
            row = s.execute(
                text(
                    "UPDATE job SET stage = :stage, done = :done, total = :total, beat_at = now(),"
                    " stage_at = CASE WHEN :fresh THEN now() ELSE stage_at END"
                    " WHERE id = :id AND attempts = :n AND state = 'running' RETURNING cancel"
                ),
                {
                    "stage": stage[:200],
                    "done": done,
                    "total": total,
                    "id": self.run.job_id,
                    "n": self.run.number,
                    "fresh": total != self.total or done < self.done,
                },
            ).first()
            if row is None:
                raise Superseded("another run has taken this job over", subject=self.run.job_id)
            self.done, self.total = done, total
            self.cancelled = self.cancelled or bool(row[0])
            notify(s, self.run.project_id, "job")

    def should_stop(self) -> bool:
        if not self.cancelled and time.monotonic() - self.last > 1.0:
            self.last = time.monotonic()
            with session() as s:
                self.cancelled = bool(s.execute(text("SELECT cancel FROM job WHERE id = :id"), {"id": self.run.job_id}).scalar())
        return self.cancelled


def _of_the_moment(state: str) -> bool:
    """Of an SQLSTATE: connections, an operator, a conflict; too many connections; a change that stood still for too long."""
    return state[:2] in ("08", "57", "40") or state in ("53300", "25P03")


def passing(problem: BaseException) -> bool:
    """Whether trying again later may go well: the database went away, or had no connection to give."""
    if isinstance(problem, DBAPIError):
        state = getattr(problem.orig, "sqlstate", None)
        return problem.connection_invalidated or state is None or _of_the_moment(state)
    if isinstance(problem, psycopg.Error):
        return _of_the_moment(problem.sqlstate) if problem.sqlstate else isinstance(problem, psycopg.OperationalError)
    return isinstance(problem, PoolTimeout)


def told(problem: BaseException) -> dict[str, Any]:
    """What went wrong, for people: code, message, remedy."""
    if isinstance(problem, LanternError):
        return {"code": problem.code, "message": problem.message, "remedy": problem.remedy, "subject": problem.subject}
    if isinstance(problem, MemoryError):
        return {
            "code": "out_of_memory",
            "message": "the job needed more memory than it may take",
            "remedy": "close other jobs, bring the scan in with a narrower range, or raise LANTERN_MEMORY",
        }
    space = getattr(problem, "errno", None) == 28 or "No space left" in str(problem) or "DiskFull" in type(problem).__name__
    if space:
        return {
            "code": "disk_full",
            "message": "the disk is full",
            "remedy": "free some space and start it again; nothing half-done was kept",
        }
    if isinstance(problem, OSError):
        return {"code": "os_error", "message": str(problem)[:200], "remedy": "start it again"}
    return {
        "code": "unexpected",
        "message": f"{type(problem).__name__}: {str(problem)[:300]}",
        "remedy": "start it again; if it fails again, report this text",
    }


def run_job(job_id: str) -> None:
    """Claim a job and run it to its end in this process."""
    if (run := queue.claim(job_id, f"process {os.getpid()}")) is not None:
        ended = threading.Event()
        beat = threading.Thread(target=_beat, args=(run, ended, lambda code: ended.set()), daemon=True)  # the fence stops what lost its job
        beat.start()
        try:
            perform(run, settings().memory)
        finally:
            ended.set()
            beat.join()


def perform(run: Run, memory: int) -> int:
    """Run a claimed job; every outcome is written to its row. Returns 0, AGAIN (cut off, given back) or LOST."""
    progress = JobProgress(run)
    guard = fence.set(lambda s: queue.stands(s, run))
    actor.set(run.actor)
    try:
        result = HANDLERS[run.kind](run.project_id, run.params, Progress(progress.report, progress.should_stop, run, memory))
        queue.finish(run, "done", result=result)  # for work that has nothing to commit; else it is done already
        return 0
    except Superseded:
        return LOST
    except BaseException as problem:
        fence.reset(guard)
        guard = fence.set(None)
        said = told(problem)
        if isinstance(problem, Cancelled):
            queue.finish(run, "cancelled", error=said)
        elif passing(problem):
            _later(lambda: queue.release(run))
            return AGAIN
        else:
            if not isinstance(problem, LanternError):
                traceback.print_exc()
            _later(lambda: queue.finish(run, "failed", error=said))
        return 0
    finally:
        fence.reset(guard)


def _later(write: Callable[[], None], seconds: float = 8.0) -> None:
    """Write an outcome although the database may be away for a moment; if it stays away, reconciling finds the job."""
    end = time.monotonic() + seconds
    while True:
        try:
            write()
            return
        except (DBAPIError, psycopg.OperationalError, PoolTimeout):
            if time.monotonic() > end:
                return
            time.sleep(0.5)


def _beat(run: Run, ended: threading.Event, stop: Callable[[int], object]) -> None:
    """Renew the lease every second. A run that is no longer the job's is stopped, whatever it computes."""
    quiet = time.monotonic()
    while not ended.is_set():
        try:
            with psycopg.connect(settings().database, autocommit=True, connect_timeout=5) as c:
                while not ended.wait(1.0):
                    q = "UPDATE job SET beat_at = now() WHERE id = %s AND attempts = %s AND state = 'running'"
                    if c.execute(q, (run.job_id, run.number)).rowcount == 0:
                        q = "SELECT 1 FROM job WHERE id = %s AND attempts = %s AND state NOT IN ('waiting', 'running')"
                        if c.execute(q, (run.job_id, run.number)).fetchone():
                            return  # this very run has just ended
                        stop(LOST)
                        return
                    quiet = time.monotonic()
        except psycopg.Error:
            if time.monotonic() - quiet > 60:
                stop(AGAIN)  # a minute without a database: whoever finds it again takes the job up
                return
            ended.wait(1.0)


def _with_parent() -> None:
    """End at once when the worker that began this run is gone: nobody is left to hear of it."""
    parent = mp.parent_process()
    if parent is not None:
        wait([parent.sentinel])
        os._exit(AGAIN)


def child(run: Run, memory: int) -> None:
    """Entry of a run's own process: dies with its worker, keeps to its memory, then runs."""
    ctypes.CDLL("libc.so.6").prctl(1, signal.SIGKILL)  # PR_SET_PDEATHSIG: with the process all runs are forked from
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_DATA, (memory, memory))
    os.nice(5)
    engine.cache_clear()
    gc.freeze()
    ended = threading.Event()
    threading.Thread(target=_with_parent, daemon=True).start()
    threading.Thread(target=_beat, args=(run, ended, os._exit), daemon=True).start()
    code = perform(run, memory)
    ended.set()
    sys.stdout.flush()
    if code:
        sys.exit(code)
