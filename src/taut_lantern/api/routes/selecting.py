"""Selections, what is done with them, zones and classes."""

from __future__ import annotations

from ...steps.clean import acting, classes, density, selecting, zones
from .. import schemas as x
from .base import P, V, router

api = router()


@api.get("/projects/{project_id}/selection", operation_id="get_selection")
def get_selection(project_id: P) -> x.SelectionOut:
    """What whoever asks has selected."""
    return x.SelectionOut(**selecting.selection(project_id))


@api.post("/projects/{project_id}/selection", operation_id="select_points")
def select_points(project_id: P, body: x.SelectIn) -> x.SelectionOut:
    """Select by a shape: instead of what is selected, added to it, taken away from it, or what both have in common."""
    return x.SelectionOut(**selecting.choose(project_id, body.shape.model_dump(), body.stations, body.op, body.among, body.seen))


@api.delete("/projects/{project_id}/selection", operation_id="clear_selection")
def clear_selection(project_id: P) -> x.SelectionOut:
    return x.SelectionOut(**selecting.clear(project_id))


@api.post("/projects/{project_id}/selection/back", operation_id="selection_back")
def selection_back(project_id: P) -> x.SelectionOut:
    """Take back the last step of the selection."""
    return x.SelectionOut(**selecting.back(project_id))


@api.post("/projects/{project_id}/selection/act", operation_id="act_on_selection")
def act_on_selection(project_id: P, body: x.ActIn) -> x.ActOut:
    return x.ActOut(**acting.act(project_id, body.do, body.revision, body.model_dump(exclude={"do", "revision"})))


@api.get("/projects/{project_id}/zones", operation_id="list_zones")
def list_zones(project_id: P) -> list[x.ZoneOut]:
    return [x.ZoneOut(**z) for z in zones.listed(project_id)]


@api.patch("/projects/{project_id}/zones/{zone_id}", operation_id="change_zone")
def change_zone(project_id: P, zone_id: P, body: x.ZonePatch) -> x.Said:
    zones.change_zone(project_id, zone_id, body.version, body.values_given())
    return x.Said(message="changed")


@api.delete("/projects/{project_id}/zones/{zone_id}", operation_id="remove_zone")
def remove_zone(project_id: P, zone_id: P, version: V) -> x.Said:
    zones.remove_zone(project_id, zone_id, version)
    return x.Said(message="given up")


@api.post("/projects/{project_id}/hidden/show", operation_id="show_hidden")
def show_hidden(project_id: P) -> x.Said:
    """Show what was hidden by hand."""
    return x.Said(message=f"{zones.show_all(project_id):,} points shown")


@api.post("/projects/{project_id}/even", operation_id="even_out", status_code=202)
def even_out(project_id: P, body: x.EvenIn) -> x.Started:
    """Find which points stay at one spacing over all stations. What is left out becomes a zone that is not shown: it comes back by a
    switch, and clouds are handed over without it while it is so."""
    return x.Started(jobs=[density.start(project_id, body.spacing, body.part)])


@api.get("/projects/{project_id}/classes", operation_id="list_classes")
def list_classes(project_id: P) -> list[x.ClassOut]:
    return [x.ClassOut(**c) for c in classes.list_classes(project_id)]


@api.post("/projects/{project_id}/classes", operation_id="add_class", status_code=201)
def add_class(project_id: P, body: x.ClassIn) -> x.ClassOut:
    return x.ClassOut(code=classes.add(project_id, body.name), name=body.name, own=True)
