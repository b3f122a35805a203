"""Files on their way in."""

from __future__ import annotations

import asyncio
from typing import Annotated

from fastapi import Query, Request

from ...core.errors import BadInput
from ...site.common import get_project
from ...steps.bring_in import merging, stations, uploads
from ...store import db
from .. import schemas as x
from .base import P, router

api = router()


@api.post("/projects/{project_id}/uploads", operation_id="begin_upload", status_code=201)
def begin_upload(project_id: P, body: x.UploadIn) -> x.UploadOut:
    return x.UploadOut.model_validate(uploads.get(uploads.begin(project_id, body.name, body.size, body.sha256)))


@api.get("/projects/{project_id}/uploads", operation_id="list_unfinished_uploads")
def list_unfinished(project_id: P, size: Annotated[int, Query(ge=0, le=2**50)]) -> list[x.Unfinished]:
    """Uploads of this size that broke off, with the checksums of what has arrived: whoever holds a file that begins with
    these bytes may go on with it."""
    return [x.Unfinished(**u) for u in uploads.unfinished(project_id, size)]


@api.put(
    "/projects/{project_id}/uploads/{upload_id}",
    operation_id="send_piece",
    openapi_extra={
        "requestBody": {"content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}, "required": True}
    },
)
async def send_piece(project_id: P, upload_id: P, request: Request, offset: Annotated[int, Query(ge=0, le=2**50)]) -> x.UploadOut:

    data = bytearray()
    async for piece in request.stream():
        data += piece
        if len(data) > 64 << 20:
            raise BadInput("a piece may hold at most 64 MiB", subject=upload_id, remedy="send smaller pieces", code="too_large")
    row = await asyncio.to_thread(uploads.append, project_id, upload_id, offset, bytes(data))
    return x.UploadOut.model_validate(row)


@api.get("/projects/{project_id}/originals", operation_id="list_originals")
def list_originals(project_id: P) -> list[x.OriginalOut]:
    with db.session() as s:
        get_project(s, project_id)
        return [x.OriginalOut(**o) for o in uploads.list_originals(s, project_id)]


@api.delete("/projects/{project_id}/originals/{upload_id}", operation_id="discard_original")
def discard_original(project_id: P, upload_id: P) -> x.Said:
    uploads.discard(project_id, upload_id)
    return x.Said(message="put into the bin")


@api.post("/projects/{project_id}/originals/{upload_id}/restore", operation_id="restore_original")
def restore_original(project_id: P, upload_id: P) -> x.Said:
    uploads.restore(project_id, upload_id)
    return x.Said(message="brought back")


@api.post("/projects/{project_id}/originals/{upload_id}/let-go", operation_id="let_go_of_original")
def let_go_of_original(project_id: P, upload_id: P, body: x.LetGo) -> x.Said:
    """Give up the bytes of a file whose scans are all here; their points stay. This cannot be taken back."""
    uploads.let_go(project_id, upload_id, body.reason)
    return x.Said(message="let go of")


@api.post("/projects/{project_id}/bring-in", operation_id="bring_in", status_code=202)
def bring_in(project_id: P, body: x.BringIn) -> x.Started:
    return x.Started(jobs=stations.start(project_id, body.originals, body.min_range, body.max_range, body.unit))


@api.post("/projects/{project_id}/bring-project", operation_id="bring_project", status_code=202)
def bring_project(project_id: P, body: x.MergeProjectIn) -> x.Started:
    """Another project as a group. 409 when it is here already, unless it is asked for again."""
    return x.Started(jobs=[merging.start(project_id, body.source, body.held, body.again)])
