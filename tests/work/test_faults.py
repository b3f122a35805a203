"""Faults at any moment: every job ends, nothing accepted is lost, nothing is there twice. A short form of ./lantern measure faults."""

from __future__ import annotations

import asyncio
import os
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import httpx
import numpy as np
import psycopg
import pytest
from sqlalchemy import text
from sqlalchemy.orm import Session

from taut_lantern.core.errors import Cancelled
from taut_lantern.store import queue
from taut_lantern.store.db import fence, session
from taut_lantern.store.models import Job, Project
from taut_lantern.work.jobs import passing
from tests.databases import SERVER, fresh_database
from tests.served import Served, processes_below
from tests.support import make_project, room, write_scan


@pytest.fixture(scope="module")
def own(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    server = Served(fresh_database("lantern_faults"), tmp_path_factory.mktemp("faults") / "log")
    server.start()
    yield server
    server.stop()


@pytest.fixture(scope="module")
def large(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return write_scan(tmp_path_factory.mktemp("large") / "large.e57", room(1_500_000, (30, 20, 6)))


def waiting(served: Served, name: str, path: Path) -> tuple[str, str]:
    """A project with a file that has been read and waits to be brought in."""
    project = str(served.post("/projects", name=name)["id"])
    upload = served.send(project, path)
    served.wait(lambda: served.get(f"/projects/{project}/originals")[0]["scans"])
    return project, upload


def whole(served: Served, project: str) -> bool:
    """One station, all of its points, once."""
    (station,) = served.get(f"/projects/{project}/stations")
    return station["points"] == 1_500_000 == served.stored_points(project)


def end_connections(database: str) -> None:
    """What a restart of the database does to everybody at work."""
    with psycopg.connect(f"{SERVER}/postgres", autocommit=True) as c:
        c.execute("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = %s", (database,))


FAULTS = {
    "the database goes": lambda own: end_connections("lantern_faults"),
    "the worker is killed": lambda own: [os.kill(p, signal.SIGKILL) for p in processes_below(own.pid, " work")],
    "the worker is asked to stop": lambda own: [os.kill(p, signal.SIGTERM) for p in processes_below(own.pid, " work")],
    "what jobs are forked from is killed": lambda own: [os.kill(p, signal.SIGKILL) for p in processes_below(own.pid, "forkserver")],
}


@pytest.mark.parametrize("fault", FAULTS)
def test_a_job_that_is_cut_off_is_taken_up_again_and_done_once(own: Served, large: Path, fault: str) -> None:
    project, upload = waiting(own, fault, large)
    own.post(f"/projects/{project}/bring-in", originals=[upload])
    own.wait(lambda: own.job(project, "import", "running"))
    time.sleep(0.4)
    FAULTS[fault](own)
    job = own.wait(lambda: own.job(project, "import", "done", "failed", "cancelled"))
    assert job["state"] == "done", job
    assert whole(own, project)
    own.wait(lambda: own.get("/health")["workers"] > 0)
    assert sum(j["title"].startswith("Brought in") for j in own.get(f"/projects/{project}/journal")) == 1


def test_a_suspended_run_that_wakes_up_commits_nothing(own: Served, large: Path) -> None:
    """Everything of one worker stands still for longer than its lease; another takes over; then the first goes on."""
    other = subprocess.Popen(
        [sys.executable, "-m", "taut_lantern.cli", "work"], env={**os.environ, "LANTERN_DATABASE": own.database}, start_new_session=True
    )
    try:
        own.wait(lambda: own.get("/health")["workers"] == 2)
        project, upload = waiting(own, "suspended", large)
        own.post(f"/projects/{project}/bring-in", originals=[upload])
        own.wait(lambda: own.job(project, "import", "running"))
        with psycopg.connect(own.database) as c:
            (worker,) = c.execute("SELECT worker FROM job WHERE kind = 'import' AND project_id = %s", (project,)).fetchone()  # type: ignore[misc]
        first = int(worker.split()[-1])
        still = [first, *processes_below(first)]
        for p in still:
            os.kill(p, signal.SIGSTOP)
        try:
            own.wait(lambda: own.job(project, "import", "done"))
        finally:
            for p in still:
                os.kill(p, signal.SIGCONT)
        time.sleep(3)
        assert whole(own, project) and len(own.get(f"/projects/{project}/stations")) == 1
        assert sum(j["title"].startswith("Brought in") for j in own.get(f"/projects/{project}/journal")) == 1
    finally:
        other.terminate()
        other.wait(20)


def test_two_who_ask_at_once_start_it_once(own: Served, tmp_path: Path) -> None:
    project = str(own.post("/projects", name="two at once")["id"])
    paths = [write_scan(tmp_path / f"ST-{k}.e57", room(4000, seed=k), name=f"ST-{k}") for k in (1, 2)]
    uploads = [own.send(project, p) for p in paths]
    own.wait(lambda: all(o["scans"] for o in own.get(f"/projects/{project}/originals")))
    with ThreadPoolExecutor(6) as pool:
        asked = list(pool.map(lambda _: own.post(f"/projects/{project}/bring-in", originals=uploads)["jobs"], range(6)))
    assert sum(len(x) for x in asked) == 2
    own.wait(lambda: len(own.get(f"/projects/{project}/stations")) == 2)
    own.wait(lambda: not [j for j in own.get(f"/projects/{project}/jobs") if j["state"] in ("waiting", "running")])
    with ThreadPoolExecutor(6) as pool:
        answers = list(pool.map(lambda _: own.http.post(f"/projects/{project}/tie").status_code, range(6)))
    assert sorted(answers) == [202, *[422] * 5]


def test_a_job_that_nobody_runs_is_cancelled_and_ends_at_once(own: Served) -> None:
    project = str(own.post("/projects", name="nobody")["id"])
    with psycopg.connect(own.database) as c:
        for k, (state, beat) in enumerate((("running", "now() - interval '1 minute'"), ("waiting", "NULL"))):
            c.execute(
                f"""INSERT INTO job (id, project_id, kind, title, params, state, stage, done, total, attempts, cancel, created_at, beat_at,
                worker, actor) VALUES (%s, %s, 'tie', 'x', '{{}}', %s, '', 0, 0, 5, false, now(), {beat}, 'gone', 'you')""",
                (f"{k:032x}", project, state),
            )
    for k in range(2):
        assert own.post(f"/projects/{project}/jobs/{k:032x}/cancel")["state"] == "cancelled"


def test_a_worker_hands_out_by_itself_what_was_lost(database: str) -> None:
    """With its queue open for its own event loop, as a worker has it, and no server beside it."""
    with session() as s:
        job = queue.enqueue(s, make_project("lost"), "nothing", "Lost").id
        s.execute(text("DELETE FROM procrastinate_jobs WHERE args->>'job_id' = :id"), {"id": job})
        s.execute(text("UPDATE job SET created_at = now() - interval '1 minute' WHERE id = :id"), {"id": job})

    async def as_a_worker() -> None:
        async with queue.app.open_async():
            await asyncio.to_thread(queue.reconcile)

    asyncio.run(as_a_worker())
    with session() as s:
        assert s.execute(text("SELECT count(*) FROM procrastinate_jobs WHERE args->>'job_id' = :id"), {"id": job}).scalar() == 1
        s.execute(text("UPDATE job SET state = 'cancelled' WHERE id = :id"), {"id": job})


def test_who_stands_still_while_handing_out_holds_nobody_up(database: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """A worker whose machine is put to sleep in the middle of it has the lock that all others ask for."""
    with session() as s:
        job = queue.enqueue(s, make_project("asleep"), "nothing", "Lost").id
        s.execute(text("DELETE FROM procrastinate_jobs WHERE args->>'job_id' = :id"), {"id": job})
        s.execute(text("UPDATE job SET created_at = now() - interval '1 minute' WHERE id = :id"), {"id": job})
    hand, asleep, awake = queue.defer, threading.Event(), threading.Event()
    sleeper: list[BaseException | None] = []

    def sleep(s: Session, job_id: str) -> None:
        if threading.current_thread().name == "sleeper" and not asleep.is_set():
            asleep.set()
            assert awake.wait(60)
        hand(s, job_id)

    def reconcile() -> None:
        try:
            queue.reconcile()
        except BaseException as problem:
            sleeper.append(problem)

    monkeypatch.setattr(queue, "defer", sleep)
    thread = threading.Thread(target=reconcile, name="sleeper")
    thread.start()
    try:
        assert asleep.wait(30)
        assert queue.reconcile() == 0
        end = time.monotonic() + 30
        while not queue.reconcile() and time.monotonic() < end:
            time.sleep(0.5)
    finally:
        awake.set()
        thread.join()
    assert len(sleeper) == 1 and sleeper[0] is not None and passing(sleeper[0])
    with session() as s:
        assert s.execute(text("SELECT count(*) FROM procrastinate_jobs WHERE args->>'job_id' = :id"), {"id": job}).scalar() == 1
        s.execute(text("UPDATE job SET state = 'cancelled' WHERE id = :id"), {"id": job})


def test_the_fence_stands_in_the_transaction_that_commits(database: str) -> None:
    """A run that lost its job to another cannot change a row, and a result is there with the job's end or not at all."""
    project = make_project("fenced")
    with session() as s:
        s.add(Job(id="f" * 32, project_id=project, kind="tie", title="x", state="waiting"))
    first = queue.claim("f" * 32, "one")
    assert first is not None and queue.claim("f" * 32, "two") is None
    with session() as s:
        s.get_one(Job, "f" * 32).state = "waiting"
    second = queue.claim("f" * 32, "two")
    assert second is not None and second.number == first.number + 1

    def rename(run: queue.Run, name: str) -> None:
        guard = fence.set(lambda s: queue.stands(s, run))
        try:
            with session() as s:
                s.get_one(Project, project).name = name
        finally:
            fence.reset(guard)

    with pytest.raises(queue.Superseded):
        rename(first, "by the first")
    rename(second, "by the second")
    with session() as s:
        assert s.get_one(Project, project).name == "by the second"
        s.get_one(Job, "f" * 32).cancel = True
    with pytest.raises(Cancelled), session() as s:
        s.get_one(Project, project).name = "although cancelled"
        queue.conclude(s, second, {})
    with session() as s:
        assert (s.get_one(Project, project).name, s.get_one(Job, "f" * 32).state) == ("by the second", "running")


def test_slow_downloads_hold_no_connections_and_an_exhausted_pool_is_said_so(own: Served, large: Path) -> None:
    project, upload = waiting(own, "downloads", large)
    own.post(f"/projects/{project}/bring-in", originals=[upload])
    own.wait(lambda: own.job(project, "import", "done"))
    own.post(f"/projects/{project}/deliveries", kind="e57")
    own.wait(lambda: own.job(project, "deliver", "done"))
    (made,) = own.get(f"/projects/{project}/deliveries")
    url, stop = f"{own.url}/api/projects/{project}/deliveries/{made['id']}/file", threading.Event()

    def slowly() -> None:
        with httpx.stream("GET", url, timeout=60) as r:
            for _ in r.iter_raw(1024):
                if stop.wait(0.5):
                    return

    readers = [threading.Thread(target=slowly) for _ in range(100)]
    for t in readers:
        t.start()
    time.sleep(3)
    begun = time.monotonic()
    for _ in range(20):
        own.get(f"/projects/{project}")
    assert time.monotonic() - begun < 10
    with psycopg.connect(own.database) as c:
        (busy,) = c.execute("SELECT count(*) FROM pg_stat_activity WHERE datname = 'lantern_faults' AND state <> 'idle'").fetchone()  # type: ignore[misc]
    assert busy < 12
    stop.set()
    for t in readers:
        t.join()


def test_a_run_takes_up_what_an_earlier_run_of_the_job_had_reached(database: str) -> None:
    from taut_lantern.core.align import believe
    from taut_lantern.core.align.prepared import prepare

    scans = {n: prepare(room(30_000, seed=k)) for k, n in enumerate(("a", "b", "c"))}
    kept: dict[str, Any] = {}
    first = believe.tie(scans, load=kept.get, keep=kept.__setitem__)
    assert set(kept) == {"a|b", "a|c", "b|c"}
    again: list[str] = []
    second = believe.tie(scans, load=lambda key: kept[key], keep=lambda key, found: again.append(key))
    assert again == [] and [(p.a, p.b) for p in second.pairs] == [(p.a, p.b) for p in first.pairs]
    for one, other in zip(first.pairs, second.pairs, strict=True):
        np.testing.assert_array_equal(one.result.T_a_b, other.result.T_a_b)
