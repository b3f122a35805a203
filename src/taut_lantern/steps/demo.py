"""The demo project: Ottermere Pumping Station, simulated and brought in through the same door as any files."""

from __future__ import annotations

import time
from typing import Any

from sqlalchemy import select

from ..settings import settings
from ..site.common import Progress
from ..standins.scanner import Scanner
from ..standins.site import write_site
from ..store import scratch
from ..store.db import GONE, session
from ..store.models import Original, Project
from ..store.queue import enqueue
from .bring_in import stations, uploads
from .projects import make_project

NAME = "Ottermere Pumping Station"


def ensure() -> str | None:
    """Make the demo project and its filling job when there is none. Returns its id when it was made."""
    with session() as s:
        if s.scalar(select(Project.id).where(Project.demo).limit(1), execution_options=GONE) is not None:
            return None
    project_id = make_project(NAME, demo=True)
    with session() as s:
        enqueue(s, project_id, "demo", "Scanning the demo site")
    return project_id


def fill(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Scan the site with the simulated scanner and bring its files in. Taken up again it goes on."""
    points = params.get("points") or settings().demo_points
    with scratch.folder() as folder:
        write_site(
            folder,
            Scanner(points=points),
            names=params.get("stations"),
            report=lambda done, total: progress.report("scanning Ottermere", done, total),
        )
        control = (folder / "control.csv").read_text()
        files = sorted(folder.glob("*.e57"))
        for k, path in enumerate(files):
            progress.report(f"sending {path.name}", k, len(files))
            with session() as s:
                here = s.scalar(
                    select(Original.id)
                    .where(Original.project_id == project_id, Original.name == path.name, Original.state == "complete")
                    .limit(1)
                )
            if here is None:
                uploads.put_file(project_id, path)
    ids = wait_until_read(project_id, len(files), progress)
    stations.start(project_id, ids)
    return {"files": len(files), "control": control}


def wait_until_read(project_id: str, count: int, progress: Progress) -> list[str]:
    """Ids of the project's uploads once all have been read."""
    for _ in range(3000):
        progress.check()
        with session() as s:
            rows = list(
                s.scalars(select(Original).where(Original.project_id == project_id, Original.state == "complete").order_by(Original.name))
            )
        if len(rows) >= count and all(r.reading for r in rows):
            return [r.id for r in rows]
        time.sleep(0.1)
    raise TimeoutError("the files were not read within five minutes")
