"""Projects, their jobs, journal and undo."""

from __future__ import annotations

from fastapi.responses import StreamingResponse
from sqlalchemy import select

from ...core.errors import BadInput
from ...steps import projects
from ...steps.common import get_project, owned
from ...store import db
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
    projects.delete_project(project_id)
    return x.Said(message="deleted")


@api.post("/projects/{project_id}/undo", operation_id="undo")
def undo(project_id: P) -> x.Said:
    return x.Said(message=projects.undo(project_id))


@api.post("/projects/{project_id}/redo", operation_id="redo")
def redo(project_id: P) -> x.Said:
    return x.Said(message=projects.undo(project_id, redo=True))


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
        job = owned(s, Job, project_id, job_id, "job")
        job.cancel = True
        s.flush()
        db.notify(s, project_id, "jobs")
        return x.JobOut.model_validate(job)


@api.post("/projects/{project_id}/jobs/{job_id}/retry", operation_id="retry_job")
def retry_job(project_id: P, job_id: P) -> x.Started:
    from ...store.queue import enqueue

    with db.session() as s:
        job = owned(s, Job, project_id, job_id, "job")
        if job.state not in ("failed", "cancelled"):
            raise BadInput("only a failed or cancelled job can be started again", subject=job.title, remedy="wait until it has ended")
        return x.Started(jobs=[enqueue(s, project_id, job.kind, job.title, **job.params).id])
