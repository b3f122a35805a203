"""The real server and worker: killed, cancelled, crashed, and listened to."""

from __future__ import annotations

import json
import os
import signal
import threading
from pathlib import Path
from typing import Any

import httpx
import pytest

from tests.served import Served, processes_below
from tests.support import room, write_scan


@pytest.fixture(scope="module")
def large(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return write_scan(tmp_path_factory.mktemp("large") / "large.e57", room(2_500_000, (30, 20, 6)))


def importing(served: Served, name: str, path: Path) -> str:
    """A project whose import of this file has just begun."""
    project = str(served.post("/projects", name=name)["id"])
    upload = served.send(project, path)
    served.wait(lambda: served.get(f"/projects/{project}/originals")[0]["scans"])
    served.post(f"/projects/{project}/bring-in", originals=[upload])
    served.wait(lambda: served.job(project, "import", "running"))
    return project


def test_after_sigkill_nothing_accepted_is_lost_and_unfinished_work_is_taken_up(served: Served, large: Path, tmp_path: Path) -> None:
    project = importing(served, "killed", large)
    other = write_scan(tmp_path / "half.e57", room(200_000))
    half = other.stat().st_size // 2
    upload = served.send(project, other, until=half)
    served.http.patch(f"/projects/{project}", json={"name": "killed at work", "version": 1}).raise_for_status()
    served.kill()
    with pytest.raises(httpx.HTTPError):
        served.get("/projects")
    served.start()
    assert served.get(f"/projects/{project}")["name"] == "killed at work"
    job = served.wait(lambda: served.job(project, "import", "done", "failed"))
    assert job["state"] == "done", job
    (station,) = served.get(f"/projects/{project}/stations")
    assert station["points"] == 2_500_000 == served.stored_points(project)
    assert served.send(project, other) == upload
    served.wait(lambda: any(f["name"] == "half.e57" and f["scans"] for f in served.get(f"/projects/{project}/originals")))


def test_a_cancelled_job_stops_soon_and_leaves_nothing(served: Served, large: Path) -> None:
    project = importing(served, "cancelled", large)
    job = served.job(project, "import", "running", "done")
    served.post(f"/projects/{project}/jobs/{job['id']}/cancel")
    served.wait(lambda: served.job(project, "import", "cancelled"), seconds=15)
    assert served.get(f"/projects/{project}/stations") == []
    again = served.post(f"/projects/{project}/jobs/{job['id']}/retry")["jobs"]
    served.wait(lambda: any(j["id"] in again and j["state"] == "done" for j in served.get(f"/projects/{project}/jobs")))
    assert len(served.get(f"/projects/{project}/stations")) == 1


def job_processes(root: int) -> list[int]:
    """One process per running job: what the process that jobs are forked from has forked."""
    return [c for fork in processes_below(root, "forkserver") for c in processes_below(fork)]


def test_a_job_that_crashes_is_an_error_of_that_job_and_the_worker_lives_on(served: Served, large: Path) -> None:
    project = importing(served, "crashed", large)
    assert served.process is not None
    child, *_ = served.wait(lambda: job_processes(served.process.pid))  # type: ignore[union-attr]
    os.kill(child, signal.SIGKILL)
    job = served.wait(lambda: served.job(project, "import", "failed"), seconds=20)
    assert job["error"]["code"] == "crashed" and "export it again" in job["error"]["remedy"]
    assert served.get(f"/projects/{project}/stations") == []


def test_whoever_listens_hears_of_changes(served: Served) -> None:
    project = served.post("/projects", name="events")["id"]
    heard: list[dict[str, Any]] = []
    listening = threading.Event()

    def listen() -> None:
        with httpx.stream("GET", f"{served.url}/api/projects/{project}/events", timeout=30) as r:
            for line in r.iter_lines():
                listening.set()
                if line.startswith("data:") and "topic" in line:
                    heard.append(json.loads(line[5:]))
                    return

    thread = threading.Thread(target=listen, daemon=True)
    thread.start()
    assert listening.wait(15)
    served.http.patch(f"/projects/{project}", json={"unit": "mm", "version": 1}).raise_for_status()
    thread.join(15)
    assert heard and heard[0]["topic"] == "project"
