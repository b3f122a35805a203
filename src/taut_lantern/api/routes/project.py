"""Projects, their jobs, journal and undo."""

from __future__ import annotations

from fastapi.responses import StreamingResponse
from sqlalchemy import func, select

from ...core.errors import BadInput, NotFound
from ...formats import sealed
from ...steps import projects
from ...steps.common import get_project, owned
from ...store import db, journal, queue
from ...store.models import Job
from .. import schemas as x
from ..events import hub
from .base import P, router

api = router()


@api.get("/projects", operation_id="list_projects")
def list_projects() -> list[x.ProjectCard]:
    return [x.ProjectCard(**p) for p in projects.list_projects()]


@api.post("/projects", operation_id="make_project", status_code=201)
def make_project(body: x.ProjectIn) -> x.Made:
    return x.Made(id=projects.make_project(body.name, body.unit))


@api.get("/projects/{project_id}", operation_id="get_project")
def get_one_project(project_id: P) -> x.ProjectOut:
    with db.session() as s:
        return x.ProjectOut(**projects.describe(s, project_id))


@api.patch("/projects/{project_id}", operation_id="change_project")
def change_project(project_id: P, body: x.ProjectPatch) -> x.ProjectOut:
    projects.change_project(project_id, body.version, body.name, body.unit, body.profile, body.frame)
    return get_one_project(project_id)


@api.delete("/projects/{project_id}", operation_id="delete_project")
def delete_project(project_id: P) -> x.Said:
    """Put it into the bin, from which it comes back whole for 30 days."""
    projects.delete_project(project_id)
    return x.Said(message="put into the bin")


@api.get("/bin", operation_id="list_bin")
def list_bin() -> list[x.Binned]:
    return [x.Binned(**p) for p in projects.list_bin()]


@api.post("/bin/{project_id}/restore", operation_id="restore_project")
def restore_project(project_id: P) -> x.Said:
    projects.bring_back(project_id)
    return x.Said(message="brought back")


@api.delete("/bin/{project_id}", operation_id="delete_for_good")
def delete_for_good(project_id: P) -> x.Said:
    """Delete a project in the bin with everything of it. This cannot be taken back."""
    projects.delete_for_good(project_id)
    return x.Said(message="deleted for good")


@api.get("/health", operation_id="get_health")
def get_health() -> x.HealthOut:
    with db.session() as s:
        waiting = s.scalar(select(func.count(Job.id)).where(Job.state == "waiting")) or 0
    return x.HealthOut(database=True, workers=queue.workers(), waiting=waiting, sealed=list(sealed.measures()))


@api.post("/projects/{project_id}/undo", operation_id="undo")
def undo(project_id: P, body: x.Entry) -> x.Said:
    """Take back the entry that is named; 409 when it is no longer the last."""
    return x.Said(message=projects.undo(project_id, entry=body.entry))


@api.post("/projects/{project_id}/redo", operation_id="redo")
def redo(project_id: P, body: x.Entry) -> x.Said:
    return x.Said(message=projects.undo(project_id, redo=True, entry=body.entry))


@api.get("/projects/{project_id}/journal", operation_id="list_journal")
def list_journal(project_id: P) -> list[x.JournalOut]:
    return [x.JournalOut.model_validate(j) for j in projects.journal_of(project_id)]


@api.get("/projects/{project_id}/events", operation_id="listen", response_class=StreamingResponse, include_in_schema=False)
async def listen(project_id: P) -> StreamingResponse:
    return StreamingResponse(hub.stream(project_id), media_type="text/event-stream", headers={"Cache-Control": "no-store"})


@api.get("/projects/{project_id}/jobs", operation_id="list_jobs")
def list_jobs(project_id: P) -> list[x.JobOut]:
    with db.session() as s:
        get_project(s, project_id)
        return [
            x.JobOut.model_validate(j)
            for j in s.scalars(select(Job).where(Job.project_id == project_id).order_by(Job.created_at.desc()).limit(200))
        ]


@api.post("/projects/{project_id}/jobs/{job_id}/cancel", operation_id="cancel_job")
def cancel_job(project_id: P, job_id: P) -> x.JobOut:
    with db.session() as s:
        job = s.scalar(select(Job).where(Job.id == job_id, Job.project_id == project_id).with_for_update())
        if job is None:
            raise NotFound("this job does not exist", subject=job_id, remedy="reload the project")
        if job.state in queue.LIVE:
            queue.cancel(s, job)
        return x.JobOut.model_validate(job)


@api.post("/projects/{project_id}/jobs/{job_id}/retry", operation_id="retry_job", status_code=202)
def retry_job(project_id: P, job_id: P) -> x.Started:
    with db.session() as s:
        journal.locked_project(s, project_id)  # two who ask at once start it once
        job = owned(s, Job, project_id, job_id, "job")
        if job.state not in ("failed", "cancelled"):
            raise BadInput("only a failed or cancelled job can be started again", subject=job.title, remedy="wait until it has ended")
        q = select(Job.id).where(Job.project_id == project_id, Job.kind == job.kind, Job.state.in_(queue.LIVE), Job.params == job.params)
        if (running := s.scalar(q.limit(1))) is not None:
            return x.Started(jobs=[running])
        return x.Started(jobs=[queue.enqueue(s, project_id, job.kind, job.title, **job.params).id])
