"""Deletions and crop boxes."""

from __future__ import annotations

from ...site.common import get_project
from ...steps.clean import edits, filters
from ...store import db
from .. import schemas as x
from .base import P, Part, V, router

api = router()


@api.post("/projects/{project_id}/lasso", operation_id="delete_in_lasso")
def delete_in_lasso(project_id: P, body: x.LassoIn) -> x.LassoOut:
    if body.only_count:
        return x.LassoOut(**edits.count_in_lasso(project_id, body.view, body.outline, body.stations, body.front))
    return x.LassoOut(**edits.delete_in_lasso(project_id, body.view, body.outline, body.stations, body.expected, body.front))


@api.get("/projects/{project_id}/edits", operation_id="list_edits")
def list_edits(project_id: P) -> list[x.EditOut]:
    with db.session() as s:
        get_project(s, project_id)
        return [x.EditOut(**e) for e in edits.list_edits(s, project_id)]


@api.patch("/projects/{project_id}/edits/{edit_id}", operation_id="switch_edit")
def switch_edit(project_id: P, edit_id: P, body: x.EditPatch) -> x.Said:
    edits.switch_edit(project_id, edit_id, body.active, body.version)
    return x.Said(message="changed")


@api.post("/projects/{project_id}/filters", operation_id="look_for", status_code=202)
def look_for(project_id: P, body: x.FilterIn) -> x.Started:
    """Look for things that moved between scans, and for points on no surface. What is found is proposed."""
    return x.Started(jobs=[filters.start(project_id, list(body.kinds), body.strength, body.part)])


@api.post("/projects/{project_id}/edits/{edit_id}/decide", operation_id="decide_find")
def decide_find(project_id: P, edit_id: P, body: x.DecideIn) -> x.Said:
    """Delete what was found, or keep it."""
    filters.decide(project_id, edit_id, body.version, body.delete)
    return x.Said(message="deleted" if body.delete else "kept")


@api.post("/projects/{project_id}/finds/decide", operation_id="decide_finds")
def decide_finds(project_id: P, body: x.DecideAllIn) -> x.Said:
    """The same of all of a kind."""
    count = filters.decide_all(project_id, body.kind, body.delete)
    return x.Said(message=f"{count} {'deleted' if body.delete else 'kept'}")


@api.get("/projects/{project_id}/boxes", operation_id="list_boxes")
def list_boxes(project_id: P) -> list[x.BoxOut]:
    with db.session() as s:
        get_project(s, project_id)
        return [x.BoxOut(**b) for b in edits.list_boxes(s, project_id)]


@api.get("/projects/{project_id}/boxes/proposal", operation_id="propose_box")
def propose_box(project_id: P, part: Part = None) -> x.BoxProposal:
    return x.BoxProposal(**edits.propose_box(project_id, part))  # type: ignore[arg-type]


@api.post("/projects/{project_id}/boxes", operation_id="make_box", status_code=201)
def make_box(project_id: P, body: x.BoxIn) -> x.Made:
    return x.Made(id=edits.set_box(project_id, body.name, body.centre, body.half, body.yaw, active=body.active, part_id=body.part))


@api.put("/projects/{project_id}/boxes/{box_id}", operation_id="change_box")
def change_box(project_id: P, box_id: P, body: x.BoxPatch) -> x.Made:
    return x.Made(id=edits.set_box(project_id, body.name, body.centre, body.half, body.yaw, box_id, body.version, body.active))


@api.delete("/projects/{project_id}/boxes/{box_id}", operation_id="remove_box")
def remove_box(project_id: P, box_id: P, version: V) -> x.Said:
    edits.remove_box(project_id, box_id, version)
    return x.Said(message="removed")
