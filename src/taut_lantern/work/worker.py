"""The worker: takes jobs from the queue and runs each in a process of its own, so that a parser's crash is an
import error and a cancel is prompt. Runs that fell silent are taken up again, by this worker or another."""

from __future__ import annotations

import asyncio
import logging
import multiprocessing as mp
import os
import signal
import socket
import time
from collections.abc import Callable
from typing import Any

import psycopg
from procrastinate.exceptions import ProcrastinateException
from sqlalchemy import text

from ..settings import settings
from ..store import bin, queue, scratch
from ..store.db import session
from ..store.queue import Run, app

log = logging.getLogger("taut_lantern.work")
PATIENCE = 4.0  # seconds a cancelled job may take to stop by itself
NAME = f"{socket.gethostname()} {os.getpid()}"
_context: Any = None


def concurrency() -> int:
    return max(2, min(4, os.cpu_count() or 2))


def processes() -> Any:
    """A process starter that has everything imported already: a job begins in milliseconds."""
    global _context
    if _context is None:
        _context = mp.get_context("forkserver")
        _context.set_forkserver_preload(["taut_lantern.work.ready"])
    return _context


@app.task(name="run_job")
async def run_job_task(job_id: str) -> None:
    run = await asyncio.to_thread(queue.claim, job_id, NAME)
    if run is None:
        return
    try:
        code, asked = await _watched(run)
    except asyncio.CancelledError:  # this worker stops: the job goes on elsewhere
        _told(lambda: queue.release(run))
        raise
    if asked:
        error = {"code": "cancelled", "message": "cancelled; nothing was changed", "remedy": ""}
        await asyncio.to_thread(_told, lambda: queue.finish(run, "cancelled", error))
    elif code in (255, -signal.SIGTERM, -signal.SIGINT):  # what runs are forked from is gone, or somebody stopped it
        await asyncio.to_thread(_told, lambda: queue.release(run))
    elif code < 0 or code == 1:
        error = {
            "code": "crashed",
            "message": f"the job broke down (exit {code}) while it worked on this",
            "remedy": "the file may be damaged: export it again; nothing half-done was kept",
        }
        await asyncio.to_thread(_told, lambda: queue.finish(run, "failed", error))


async def _watched(run: Run) -> tuple[int, bool]:
    """Run in a process of its own until it ends; returns its exit code and whether it was stopped because somebody asked."""
    from . import jobs

    process = processes().Process(target=jobs.child, args=(run, settings().memory // concurrency()), daemon=True)
    try:
        await asyncio.to_thread(process.start)
        asked, looked = 0.0, time.monotonic()
        while process.is_alive():
            await asyncio.sleep(0.1)
            if not asked and time.monotonic() - looked > 0.7:
                looked = time.monotonic()
                if await asyncio.to_thread(_cancel_asked, run):
                    asked = time.monotonic()
            if asked and time.monotonic() - asked > PATIENCE:
                process.kill()
                break
        process.join()
        return process.exitcode or 0, bool(asked)
    except (OSError, EOFError):  # it could not be started: try again later
        return 255, False
    finally:
        if process.pid is not None and process.is_alive():
            process.kill()
            process.join()


def _cancel_asked(run: Run) -> bool:
    try:
        with session() as s:
            return bool(s.execute(text("SELECT cancel FROM job WHERE id = :id"), {"id": run.job_id}).scalar())
    except Exception:  # the database is away for a moment: ask again later
        return False


def _told(write: Callable[[], None]) -> None:
    try:
        write()
    except Exception as problem:  # reconciling finds it
        log.warning("an outcome was not written: %s", str(problem).splitlines()[0])


async def _housekeeping() -> None:
    """Bring jobs and queue together every two seconds, clear temporary files every minute, empty the bin every hour."""
    turn = 0
    while True:
        try:
            await asyncio.to_thread(queue.reconcile)
            if turn % 30 == 0:
                await asyncio.to_thread(scratch.clear)
            if turn % 1800 == 900:
                await asyncio.to_thread(bin.empty)
        except Exception as problem:
            log.warning("housekeeping waits: %s", str(problem).splitlines()[0])
        turn += 1
        await asyncio.sleep(2)


async def work(at_once: int = 0) -> bool:
    """Run until stopped. False when the queue could not be reached any more and the worker should begin anew."""
    house: asyncio.Task[None] | None = None
    try:
        async with app.open_async():
            house = asyncio.create_task(_housekeeping())
            await app.run_worker_async(
                concurrency=at_once or concurrency(),
                install_signal_handlers=True,
                fetch_job_polling_interval=1.0,
                update_heartbeat_interval=2.0,
                stalled_worker_timeout=8.0,
                delete_jobs="always",
                shutdown_graceful_timeout=1.0,
            )
        return True
    except (ProcrastinateException, psycopg.Error, OSError) as problem:
        log.warning("the queue is out of reach: %s", str(problem).splitlines()[0] if str(problem) else type(problem).__name__)
        return False
    finally:
        if house is not None:
            house.cancel()
