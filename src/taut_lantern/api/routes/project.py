"""Projects, their jobs, journal and undo."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query
from fastapi.responses import StreamingResponse

from ...formats import sealed
from ...steps import jobs, projects
from ...store import db, queue
from .. import schemas as x
from ..events import hub
from .base import P, router

Limit = Annotated[int, Query(ge=1, le=300)]
Before = Annotated[int | None, Query(ge=1, le=2**62)]
api = router()


@api.get("/projects", operation_id="list_projects")
def list_projects() -> list[x.ProjectCard]:
    return [x.ProjectCard(**p) for p in projects.list_projects()]


@api.post("/projects", operation_id="make_project", status_code=201)
def make_project(body: x.ProjectIn) -> x.Made:
    return x.Made(id=projects.make_project(body.name, body.unit))


@api.get("/projects/{project_id}", operation_id="get_project")
def get_one_project(project_id: P) -> x.ProjectOut:
    with db.snapshot() as s:  # what is read of it belongs together, whatever changes meanwhile
        return x.ProjectOut(**projects.describe(s, project_id))


@api.patch("/projects/{project_id}", operation_id="change_project")
def change_project(project_id: P, body: x.ProjectPatch) -> x.ProjectOut:
    style = body.dimensions.model_dump() if body.dimensions else None
    projects.change_project(project_id, body.version, body.name, body.unit, body.profile, body.frame, body.company, body.letters, style)
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
    return x.HealthOut(database=True, workers=queue.workers(), waiting=jobs.waiting(), sealed=list(sealed.measures()))


@api.post("/projects/{project_id}/undo", operation_id="undo")
def undo(project_id: P, body: x.Entry) -> x.Said:
    """Take back the entry that is named; 409 when it is no longer the last."""
    return x.Said(message=projects.undo(project_id, entry=body.entry))


@api.post("/projects/{project_id}/redo", operation_id="redo")
def redo(project_id: P, body: x.Entry) -> x.Said:
    return x.Said(message=projects.undo(project_id, redo=True, entry=body.entry))


@api.get("/projects/{project_id}/journal", operation_id="list_journal")
def list_journal(project_id: P, before: Before = None, limit: Limit = 100) -> list[x.JournalOut]:
    """The latest lines first; ``before``: only those older than this line, for the next page."""
    return [x.JournalOut.model_validate(j) for j in projects.journal_of(project_id, before, limit)]


@api.get("/projects/{project_id}/events", operation_id="listen", response_class=StreamingResponse, include_in_schema=False)
async def listen(project_id: P) -> StreamingResponse:
    return StreamingResponse(hub.stream(project_id), media_type="text/event-stream", headers={"Cache-Control": "no-store"})


@api.get("/projects/{project_id}/jobs", operation_id="list_jobs")
def list_jobs(project_id: P, limit: Limit = 100) -> list[x.JobOut]:
    """What is under way or waits, all of it, then the latest that ended."""
    return [x.JobOut.model_validate(j) for j in jobs.list_jobs(project_id, limit)]


@api.post("/projects/{project_id}/jobs/{job_id}/cancel", operation_id="cancel_job")
def cancel_job(project_id: P, job_id: P) -> x.JobOut:
    return x.JobOut.model_validate(jobs.cancel(project_id, job_id))


@api.post("/projects/{project_id}/jobs/{job_id}/retry", operation_id="retry_job", status_code=202)
def retry_job(project_id: P, job_id: P) -> x.Started:
    return x.Started(jobs=[jobs.retry(project_id, job_id)])
