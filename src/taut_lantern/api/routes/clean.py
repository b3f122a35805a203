"""Deletions and crop boxes."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Response

from ...site.common import get_project
from ...steps.clean import boxes, edits, filters, looks
from ...store import db
from .. import schemas as x
from .base import PNG, P, Part, V, router

api = router()


@api.post("/projects/{project_id}/lasso", operation_id="delete_in_lasso")
def delete_in_lasso(project_id: P, body: x.LassoIn) -> x.LassoOut:
    """Select by an outline and delete, in one."""
    return x.LassoOut(**edits.delete_in_lasso(project_id, body.view, body.outline, body.stations, body.expected, body.front))


@api.get("/projects/{project_id}/edits", operation_id="list_edits")
def list_edits(project_id: P) -> list[x.EditOut]:
    with db.session() as s:
        get_project(s, project_id)
        return [x.EditOut(**e) for e in edits.list_edits(s, project_id)]


@api.get("/projects/{project_id}/edits/{edit_id}/picture", operation_id="get_edit_picture", response_class=Response, responses=PNG)
def get_edit_picture(project_id: P, edit_id: P) -> Response:
    """What was found or deleted, as the instrument that saw most of it saw it: PNG."""
    return Response(looks.picture(project_id, edit_id), media_type="image/png", headers={"Cache-Control": "private, max-age=86400"})


@api.patch("/projects/{project_id}/edits/{edit_id}", operation_id="switch_edit")
def switch_edit(project_id: P, edit_id: P, body: x.EditPatch) -> x.Said:
    edits.switch_edit(project_id, edit_id, body.active, body.version)
    return x.Said(message="changed")


@api.post("/projects/{project_id}/filters", operation_id="look_for", status_code=202)
def look_for(project_id: P, body: x.FilterIn) -> x.Started:
    """Look for things that moved between scans, and for points on no surface. What is found is proposed."""
    return x.Started(
        jobs=[filters.start(project_id, list(body.kinds), body.strength, body.part, body.limits.model_dump(exclude_none=True))]
    )


@api.post("/projects/{project_id}/edits/{edit_id}/decide", operation_id="decide_find")
def decide_find(project_id: P, edit_id: P, body: x.DecideIn) -> x.Said:
    """Delete what was found, or keep it."""
    filters.decide(project_id, edit_id, body.version, body.delete, body.code)
    return x.Said(message="deleted" if body.delete else "kept" if body.code is None else "given a class")


@api.post("/projects/{project_id}/finds/decide", operation_id="decide_finds")
def decide_finds(project_id: P, body: x.DecideAllIn) -> x.Said:
    """The same of all of a kind."""
    count = filters.decide_all(project_id, body.kind, body.delete, body.code)
    return x.Said(message=f"{count} {'deleted' if body.delete else 'kept' if body.code is None else 'given a class'}")


@api.get("/projects/{project_id}/recipes", operation_id="list_recipes")
def list_recipes(project_id: P) -> list[x.RecipeOut]:
    return [x.RecipeOut(**r) for r in filters.recipes(project_id)]


@api.put("/projects/{project_id}/recipes", operation_id="keep_recipe")
def keep_recipe(project_id: P, body: x.RecipeIn) -> x.Said:
    """Keep filters with their settings under a name."""
    limits = body.limits.model_dump(exclude_none=True)
    filters.keep_recipe(project_id, body.name, list(body.kinds), body.strength, limits)
    return x.Said(message="kept")


@api.delete("/projects/{project_id}/recipes/{name}", operation_id="drop_recipe")
def drop_recipe(project_id: P, name: Annotated[str, Path(min_length=1, max_length=60)]) -> x.Said:
    filters.drop_recipe(project_id, name)
    return x.Said(message="given up")


@api.get("/projects/{project_id}/boxes", operation_id="list_boxes")
def list_boxes(project_id: P) -> list[x.BoxOut]:
    with db.session() as s:
        get_project(s, project_id)
        return [x.BoxOut(**b) for b in boxes.list_boxes(s, project_id)]


@api.get("/projects/{project_id}/boxes/proposal", operation_id="propose_box")
def propose_box(project_id: P, part: Part = None) -> x.BoxProposal:
    return x.BoxProposal(**boxes.propose_box(project_id, part))  # type: ignore[arg-type]


@api.post("/projects/{project_id}/boxes/room", operation_id="propose_room")
def propose_room(project_id: P, body: x.RoomIn) -> x.RoomOut:
    """A box round the room in whose floor a place lies."""
    return x.RoomOut(**boxes.room_box(project_id, body.at, body.part))


@api.post("/projects/{project_id}/boxes/{box_id}/ceiling", operation_id="set_ceiling")
def set_ceiling(project_id: P, box_id: P, body: x.CeilingIn) -> x.Said:
    """Lower a box below its ceiling and keep the floor, or take the ceiling in again."""
    off = boxes.ceiling_off(project_id, box_id, body.version, body.off)
    return x.Said(message="the ceiling is off" if off else "the ceiling is in the box")


@api.post("/projects/{project_id}/boxes", operation_id="make_box", status_code=201)
def make_box(project_id: P, body: x.BoxIn) -> x.Made:
    return x.Made(id=boxes.set_box(project_id, **body.model_dump(exclude={"part"}), part_id=body.part))


@api.put("/projects/{project_id}/boxes/{box_id}", operation_id="change_box")
def change_box(project_id: P, box_id: P, body: x.BoxPatch) -> x.Made:
    return x.Made(id=boxes.set_box(project_id, **body.model_dump(exclude={"part"}), box_id=box_id))


@api.delete("/projects/{project_id}/boxes/{box_id}", operation_id="remove_box")
def remove_box(project_id: P, box_id: P, version: V) -> x.Said:
    boxes.remove_box(project_id, box_id, version)
    return x.Said(message="removed")
