"""The worker: takes jobs from the queue and runs each in a process of its own, so that a parser's crash is an
import error and a cancel is prompt. Jobs of a worker that died are taken up again."""

from __future__ import annotations

import asyncio
import logging
import multiprocessing as mp
import os
from typing import Any

from sqlalchemy import select, text

from ..store.db import session
from ..store.models import Job
from ..store.queue import app

log = logging.getLogger("taut_lantern.work")
ATTEMPTS = 3
PATIENCE = 4.0  # seconds a cancelled job may take to stop by itself
_context: Any = None


def processes() -> Any:
    """A process starter that has everything imported already: a job begins in milliseconds."""
    global _context
    if _context is None:
        _context = mp.get_context("forkserver")
        _context.set_forkserver_preload(["taut_lantern.work.ready"])
    return _context


@app.task(name="run_job")
async def run_job_task(job_id: str) -> None:
    from . import jobs

    process = processes().Process(target=jobs.child, args=(job_id,), daemon=True)
    process.start()
    asked: float | None = None
    while process.is_alive():
        await asyncio.sleep(0.1)
        if asked is None and await asyncio.to_thread(_cancel_asked, job_id):
            asked = asyncio.get_running_loop().time()
        if asked is not None and asyncio.get_running_loop().time() - asked > PATIENCE:
            process.kill()
            break
    process.join()
    if asked is not None:
        await asyncio.to_thread(
            jobs.finish, job_id, "cancelled", {"code": "cancelled", "message": "cancelled; nothing was changed", "remedy": ""}
        )
    elif process.exitcode != 0:
        await asyncio.to_thread(
            jobs.finish,
            job_id,
            "failed",
            {
                "code": "crashed",
                "message": f"the job broke down (exit {process.exitcode}) while it worked on this",
                "remedy": "the file may be damaged: export it again; nothing half-done was kept",
            },
        )


_last_look: dict[str, float] = {}


def _cancel_asked(job_id: str) -> bool:
    import time

    if time.monotonic() - _last_look.get(job_id, 0) < 0.7:
        return False
    _last_look[job_id] = time.monotonic()
    with session() as s:
        return bool(s.execute(text("SELECT cancel FROM job WHERE id = :id"), {"id": job_id}).scalar())


async def _reaper() -> None:
    """Jobs whose worker fell silent go back into the queue; after ATTEMPTS they say what to do."""
    from . import jobs

    while True:
        for stalled in await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=8):
            job_id = str(stalled.task_kwargs.get("job_id", ""))
            with session() as s:
                row = s.scalar(select(Job).where(Job.id == job_id))
                attempts = row.attempts if row else ATTEMPTS
            if attempts >= ATTEMPTS:
                jobs.finish(
                    job_id,
                    "failed",
                    {
                        "code": "gave_up",
                        "message": f"the worker died {ATTEMPTS} times over this",
                        "remedy": "look at the worker's log, then start it again",
                    },
                )
            log.warning("taking up job %s again", job_id)
            await app.job_manager.retry_job(stalled)
        await asyncio.sleep(2)


async def work(concurrency: int = 0) -> None:
    """Run until stopped."""
    async with app.open_async():
        reaper = asyncio.create_task(_reaper())
        try:
            await app.run_worker_async(
                concurrency=concurrency or max(2, min(4, os.cpu_count() or 2)),
                install_signal_handlers=True,
                fetch_job_polling_interval=1.0,
                update_heartbeat_interval=2.0,
                stalled_worker_timeout=8.0,
                delete_jobs="successful",
                shutdown_graceful_timeout=3.0,
            )
        finally:
            reaper.cancel()
