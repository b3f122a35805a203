"""Measures that are kept as notes, and saved views."""

from __future__ import annotations

from fastapi import Response

from ...site.notes import notes_of
from ...steps import following, notes, views
from ...store import db
from .. import schemas as x
from .base import P, router

api = router()


@api.get("/projects/{project_id}/notes", operation_id="list_notes")
def list_notes(project_id: P) -> list[x.NoteOut]:
    with db.session() as s:
        return [x.NoteOut(**n) for n in notes_of(s, project_id)]


@api.post("/projects/{project_id}/notes", operation_id="make_note", status_code=201)
def make_note(project_id: P, body: x.NoteIn) -> x.Made:
    return x.Made(id=notes.make(project_id, body.kind, body.points, body.name, body.remark, body.part))


@api.post("/projects/{project_id}/pipes", operation_id="follow_pipe", status_code=202)
def follow_pipe(project_id: P, body: x.PipeIn) -> x.Started:
    """Follow a pipe from a pick over its bends, in the background; it is kept as a note."""
    return x.Started(jobs=[following.start(project_id, body.at, body.name, body.part)])


@api.post("/projects/{project_id}/members", operation_id="follow_member", status_code=202)
def follow_member(project_id: P, body: x.PipeIn) -> x.Started:
    """Follow a steel member from a pick, in the background, and tell which standard section it is of; it is kept as a note."""
    return x.Started(jobs=[following.start(project_id, body.at, body.name, body.part, "profile")])


@api.get("/projects/{project_id}/notes.csv", operation_id="get_notes_table", response_class=Response)
def get_notes_table(project_id: P) -> Response:
    headers = {"Content-Disposition": 'attachment; filename="notes.csv"', "Cache-Control": "no-store"}
    return Response(notes.table(project_id), media_type="text/csv; charset=utf-8", headers=headers)


@api.patch("/projects/{project_id}/notes/{note_id}", operation_id="change_note")
def change_note(project_id: P, note_id: P, body: x.NotePatch) -> x.Said:
    notes.change(project_id, note_id, body.version, body.name, body.remark, body.deleted)
    return x.Said(message="changed")


@api.post("/projects/{project_id}/notes/{note_id}/pipe", operation_id="edit_pipe")
def edit_pipe(project_id: P, note_id: P, body: x.PipeEdit) -> x.MadeTraces:
    """Cut a pipe in two, lead an end of it on or back, or join it with another. Returns the ids of the notes that are there then."""
    return x.MadeTraces(ids=notes.edit_pipe(project_id, note_id, body.version, body.do, body.at, body.other))


@api.post("/projects/{project_id}/plane", operation_id="fit_plane")
def fit_plane(project_id: P, body: x.PlaneIn) -> x.PlaneOut:
    """The plane of the surface round a pick; nothing is kept."""
    return x.PlaneOut(**notes.plane_as_told(project_id, body.at, body.part))


@api.post("/projects/{project_id}/catch", operation_id="catch_shape")
def catch_shape(project_id: P, body: x.CatchIn) -> x.CatchOut:
    """What surface a point lies on that the cursor has caught: a plane, an edge, a pipe, a sphere or none; nothing is kept."""
    return x.CatchOut(**notes.caught(project_id, body.at, body.station))


@api.get("/projects/{project_id}/views", operation_id="list_views", response_model_exclude_none=True)
def list_views(project_id: P) -> list[x.ViewOut]:
    with db.session() as s:
        return [x.ViewOut(**v) for v in views.list_views(s, project_id)]


@api.post("/projects/{project_id}/views", operation_id="keep_view", status_code=201)
def keep_view(project_id: P, body: x.ViewIn) -> x.Made:
    return x.Made(id=views.make(project_id, body.name, body.shows.model_dump(exclude_none=True), body.part))


@api.patch("/projects/{project_id}/views/{view_id}", operation_id="change_view")
def change_view(project_id: P, view_id: P, body: x.ViewPatch) -> x.Said:
    views.change(project_id, view_id, body.version, body.name, body.deleted)
    return x.Said(message="changed")
