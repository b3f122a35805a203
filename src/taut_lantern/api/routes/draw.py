"""Sections and traces."""

from __future__ import annotations

from typing import Any

from fastapi import Response

from ...steps.draw import sections
from ...store import db
from .. import schemas as x
from .base import BINARY, P, V, router

api = router()


@api.get("/projects/{project_id}/sections", operation_id="list_sections")
def list_sections(project_id: P) -> list[x.SectionOut]:
    with db.session() as s:
        return [x.SectionOut(**r) for r in sections.list_sections(s, project_id)]


@api.post("/projects/{project_id}/sections", operation_id="make_section", status_code=201)
def make_section(project_id: P, body: x.SectionIn) -> x.Made:
    params: dict[str, Any] = {"before": body.before, "behind": body.behind, "a": body.a, "b": body.b}
    name = body.name
    if body.kind == "plan":
        if body.height is not None:
            params["height"] = body.height
        else:
            above = 1.2 if body.above_floor is None else body.above_floor
            params["height"] = sections.floor_height(project_id, body.part) + above
            name = name or f"Plan {above:.2f} m above floor"
    return x.Made(id=sections.make_section(project_id, body.kind, params, name, body.part))


@api.delete("/projects/{project_id}/sections/{section_id}", operation_id="delete_section")
def delete_section(project_id: P, section_id: P, version: V) -> x.Said:
    sections.delete_section(project_id, section_id, version)
    return x.Said(message="deleted")


@api.get("/projects/{project_id}/sections/{section_id}/points", operation_id="get_slab", response_class=Response, responses=BINARY)
def get_slab(project_id: P, section_id: P) -> Response:
    """12 bytes a point: float32 along, across of all points, then rgb and intensity bytes of all."""
    body, counts = sections.slab_bytes(project_id, section_id)
    return Response(
        body,
        media_type="application/octet-stream",
        headers={"Cache-Control": "no-store", "X-Points": str(counts["points"]), "X-Tiles": f"{counts['tiles_read']} of {counts['tiles']}"},
    )


@api.post("/projects/{project_id}/sections/{section_id}/fit", operation_id="fit_section", status_code=202)
def fit_section(project_id: P, section_id: P) -> x.Started:
    return x.Started(jobs=[sections.start_fit(project_id, section_id)])


@api.post("/projects/{project_id}/sections/{section_id}/traces", operation_id="draw_trace", status_code=201)
def draw_trace(project_id: P, section_id: P, body: x.TraceIn) -> x.Made:
    return x.Made(id=sections.draw_trace(project_id, section_id, body.kind, body.layer, body.points, body.radius))


@api.post("/projects/{project_id}/sections/{section_id}/accept", operation_id="accept_found")
def accept_found(project_id: P, section_id: P) -> x.Said:
    return x.Said(message=f"Accepted {sections.accept_all(project_id, section_id)} found lines and circles.")


@api.patch("/projects/{project_id}/traces/{trace_id}", operation_id="change_trace")
def change_trace(project_id: P, trace_id: P, body: x.TracePatch) -> x.Said:
    sections.change_trace(project_id, trace_id, body.version, body.state, body.layer)
    return x.Said(message="changed")
