"""Background work: a job row of ours for people, a procrastinate job for the machine, in one transaction."""

from __future__ import annotations

from typing import Any

import procrastinate
from sqlalchemy import text
from sqlalchemy.orm import Session

from ..settings import settings
from .db import engine, notify
from .models import Job

app = procrastinate.App(connector=procrastinate.PsycopgConnector(conninfo=settings().database), import_paths=["taut_lantern.work.worker"])
LIVE = ("waiting", "running")


def apply_schema() -> None:
    """Create the task queue's tables once."""
    with engine().connect() as c:
        if c.execute(text("SELECT to_regclass('procrastinate_jobs')")).scalar() is not None:
            return
    with app.open():
        app.schema_manager.apply_schema()


def enqueue(s: Session, project_id: str, kind: str, title: str, **params: Any) -> Job:
    """Add a job in the caller's transaction: if that fails neither row exists."""
    job = Job(project_id=project_id, kind=kind, title=title[:400], params=params)
    s.add(job)
    s.flush()
    defer(s, job.id)
    notify(s, project_id, "jobs")
    return job


def defer(s: Session, job_id: str) -> None:
    """Hand the job to the task queue on the session's own connection."""
    app.configure_task("run_job", connection=s.connection().connection.driver_connection).defer(job_id=job_id)
