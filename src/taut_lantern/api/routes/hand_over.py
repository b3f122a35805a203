"""Deliveries."""

from __future__ import annotations

from fastapi.responses import StreamingResponse

from ...steps.hand_over import deliver
from ...store import db
from .. import schemas as x
from .base import BINARY, P, router

api = router()


@api.get("/projects/{project_id}/deliveries", operation_id="list_deliveries")
def list_deliveries(project_id: P) -> list[x.DeliveryOut]:
    return [x.DeliveryOut(**d) for d in deliver.list_deliveries(project_id)]


@api.post("/projects/{project_id}/deliveries", operation_id="make_delivery", status_code=202)
def make_delivery(project_id: P, body: x.DeliveryIn) -> x.Started:
    params = body.model_dump(exclude={"kind"}, exclude_none=True)
    return x.Started(jobs=[deliver.start(project_id, body.kind, params)])


@api.get(
    "/projects/{project_id}/deliveries/{delivery_id}/file",
    operation_id="get_delivery_file",
    response_class=StreamingResponse,
    responses=BINARY,
)
def get_delivery_file(project_id: P, delivery_id: P) -> StreamingResponse:
    from urllib.parse import quote

    row = deliver.get_delivery(project_id, delivery_id)
    db.offsets_of(row.id, row.size)  # before a byte is sent: what is not whole is an error, not a short file
    return StreamingResponse(
        db.file_chunks(row.id, row.size),
        media_type="application/octet-stream",
        headers={"Content-Disposition": f"attachment; filename*=UTF-8''{quote(row.name)}", "Content-Length": str(row.size)},
    )


@api.post("/projects/{project_id}/deliveries/{delivery_id}/let-go", operation_id="let_go_of_delivery")
def let_go_of_delivery(project_id: P, delivery_id: P, body: x.LetGo) -> x.Said:
    """Give up the file of a delivery; its line and its checksum stay. This cannot be taken back."""
    deliver.let_go(project_id, delivery_id, body.reason)
    return x.Said(message="let go of")
