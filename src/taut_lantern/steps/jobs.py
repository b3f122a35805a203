"""Jobs as people see them: listed, cancelled, started again."""

from __future__ import annotations

from sqlalchemy import func, select

from ..core.errors import BadInput, NotFound
from ..site.common import get_project, owned
from ..store import journal, queue
from ..store.db import session
from ..store.models import Job


def waiting() -> int:
    """Jobs of all projects that no worker has begun."""
    with session() as s:
        return s.scalar(select(func.count(Job.id)).where(Job.state == "waiting")) or 0


def list_jobs(project_id: str, limit: int) -> list[Job]:
    """All that are under way or wait, then at most ``limit`` that ended, the latest first."""
    with session() as s:
        get_project(s, project_id)
        own = select(Job).where(Job.project_id == project_id)
        live = s.scalars(own.where(Job.state.in_(queue.LIVE)).order_by(Job.created_at.desc())).all()
        ended = s.scalars(own.where(Job.state.not_in(queue.LIVE)).order_by(Job.created_at.desc()).limit(limit)).all()
        return sorted([*live, *ended], key=lambda j: j.created_at, reverse=True)


def cancel(project_id: str, job_id: str) -> Job:
    with session() as s:
        job = s.scalar(select(Job).where(Job.id == job_id, Job.project_id == project_id).with_for_update())
        if job is None:
            raise NotFound("this job does not exist", subject=job_id, remedy="reload the project")
        if job.state in queue.LIVE:
            queue.cancel(s, job)
        return job


def retry(project_id: str, job_id: str) -> str:
    """Start a job again that failed or was cancelled; asking while the same is under way gives that one."""
    with session() as s:
        journal.locked_project(s, project_id)  # two who ask at once start it once
        job = owned(s, Job, project_id, job_id, "job")
        if job.state not in ("failed", "cancelled"):
            raise BadInput("only a failed or cancelled job can be started again", subject=job.title, remedy="wait until it has ended")
        q = select(Job.id).where(Job.project_id == project_id, Job.kind == job.kind, Job.state.in_(queue.LIVE), Job.params == job.params)
        if (running := s.scalar(q.limit(1))) is not None:
            return running
        return queue.enqueue(s, project_id, job.kind, job.title, **job.params).id
