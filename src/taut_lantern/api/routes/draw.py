"""Sections, traces, layers and sheets."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import Query, Request, Response
from fastapi.concurrency import run_in_threadpool

from ...steps import drawing
from ...steps.draw import cuts, finding, looks, sheets, templates, tracing
from ...store import db
from .. import schemas as x
from .base import BINARY, BYTES, P, Part, V, bytes_in, picture_in, router

api = router()
KEPT = 50_000  # traces whose words are kept, some 25 MB
_told: dict[cuts.TraceKey, bytes] = {}
SECTION = "/projects/{project_id}/sections/{section_id}"


@api.get("/projects/{project_id}/sections", operation_id="list_sections", response_model=list[x.SectionOut])
def list_sections(project_id: P) -> Response:
    """Traces that were told before are not told anew: after a stroke among thousands of lines one is."""
    known = dict(_told)  # of a moment: other threads forget what is too much
    with db.session() as s:
        rows = cuts.list_sections(s, project_id, known)
    new = {key: x.TraceOut(**t).model_dump_json().encode() for r in rows for key, t in r["traces"] if t is not None}
    if len(_told) + len(new) > KEPT:
        _told.clear()
    _told.update(new)
    out = []
    for r in rows:
        head = x.SectionOut(**{**r, "traces": []}).model_dump_json().encode()
        bodies = b",".join(known[key] if t is None else new[key] for key, t in r["traces"])
        out.append(head.removesuffix(b"[]}") + b"[" + bodies + b"]}")  # traces are what a section ends with
    return Response(b"[" + b",".join(out) + b"]", media_type="application/json")


@api.post("/projects/{project_id}/sections", operation_id="make_section", status_code=201)
def make_section(project_id: P, body: x.SectionIn) -> x.Made:
    params: dict[str, Any] = {
        "before": body.before,
        "behind": body.behind,
        "a": body.a,
        "b": body.b,
        "height": body.height,
        "turn": body.turn,
        "line": body.line,
        "bent": body.bent or None,
        "of": body.of and body.of.model_dump(),
    }
    name = body.name
    if body.kind in ("plan", "ceiling") and body.height is None:
        params["turn"] = cuts.direction(project_id, body.part) if body.turn is None else body.turn
        above = 1.2 if body.above_floor is None else body.above_floor
        params["height"] = (cuts.floor_height(project_id, body.part) if body.floor is None else body.floor) + above
        name = name or (f"Plan {above:.2f} m above floor" if body.kind == "plan" else f"Ceiling from {above:.2f} m above floor")
    return x.Made(id=cuts.make_section(project_id, body.kind, {k: v for k, v in params.items() if v is not None}, name, body.part))


@api.get("/projects/{project_id}/floors", operation_id="list_floors")
def list_floors(project_id: P, part: Part = None) -> list[x.FloorOut]:
    """The floors that instruments stood on, the one with most of them first; heights in the part, metres."""
    return [x.FloorOut(height=f.height, stations=f.stations) for f in cuts.floors(project_id, part)]


@api.post("/projects/{project_id}/sections/series", operation_id="make_series", status_code=201)
def make_series(project_id: P, body: x.SeriesIn) -> x.MadeTraces:
    """Upright sections square to a line or an arc, at equal spacing. Returns their ids."""
    return x.MadeTraces(ids=cuts.make_series(project_id, body.line, body.spacing, body.width, body.depth, body.part, body.arc))


@api.get("/projects/{project_id}/cuts", operation_id="get_cuts")
def get_cuts(project_id: P) -> x.CutsIn:
    """The cuts of a project as a template for another one."""
    return x.CutsIn(**templates.as_template(project_id))


@api.post("/projects/{project_id}/cuts", operation_id="use_cuts", status_code=201)
def use_cuts(project_id: P, body: x.CutsIn) -> x.MadeTraces:
    """Cut as a template says. Returns the ids of the sections."""
    return x.MadeTraces(ids=templates.by_template(project_id, body.model_dump()))


@api.post("/projects/{project_id}/draft", operation_id="draw_usual", status_code=202)
def draw_usual(project_id: P) -> x.Started:
    """Draw the usual set in the background: a plan 1.2 m above the floor, two sections through the middle, the elevations round it, and a sheet."""
    return x.Started(jobs=[drawing.start(project_id)])


@api.patch(SECTION, operation_id="change_section")
def change_section(project_id: P, section_id: P, body: x.SectionPatch) -> x.Said:
    params = body.model_dump(exclude={"version", "name"}, exclude_none=True)
    cuts.change_section(project_id, section_id, body.version, body.name, params)
    return x.Said(message="changed")


@api.put(f"{SECTION}/marks/{{cut_id}}", operation_id="pull_cut")
def pull_cut(project_id: P, section_id: P, cut_id: P, body: x.PullIn) -> x.Said:
    """Move or turn an upright cut by its line in a plan."""
    cuts.pull_cut(project_id, section_id, cut_id, body.version, body.a, body.b)
    return x.Said(message="moved")


@api.delete(SECTION, operation_id="delete_section")
def delete_section(project_id: P, section_id: P, version: V) -> x.Said:
    cuts.delete_section(project_id, section_id, version)
    return x.Said(message="deleted")


@api.get(f"{SECTION}/picture", operation_id="get_section_picture", response_class=Response)
def get_section_picture(project_id: P, section_id: P) -> Response:
    """A small PNG of the section: its points, and what is drawn on it. Whoever shows it puts what it hangs on into the address."""
    headers = {"Cache-Control": "private, max-age=600"}
    return Response(looks.picture(project_id, section_id), media_type="image/png", headers=headers)


@api.get(f"{SECTION}/points", operation_id="get_slab", response_class=Response, responses=BINARY)
def get_slab(project_id: P, section_id: P) -> Response:
    """12 bytes a point: float32 along, across of all points, then rgb and intensity bytes of all."""
    body, counts = cuts.slab_bytes(project_id, section_id)
    return Response(
        body,
        media_type="application/octet-stream",
        headers={"Cache-Control": "no-store", "X-Points": str(counts["points"]), "X-Tiles": f"{counts['tiles_read']} of {counts['tiles']}"},
    )


@api.post(f"{SECTION}/fit", operation_id="fit_section", status_code=202)
def fit_section(project_id: P, section_id: P) -> x.Started:
    return x.Started(jobs=[finding.start(project_id, section_id)])


@api.post(f"{SECTION}/accept", operation_id="accept_found")
def accept_found(project_id: P, section_id: P, body: x.AcceptFoundIn | None = None) -> x.Said:
    """Accept what was found, all of it or what a rule takes."""
    count = finding.accept(project_id, section_id, **(body.model_dump() if body else {}))
    return x.Said(message=f"Accepted {count} found lines and circles.")


@api.post(f"{SECTION}/regularise", operation_id="regularise")
def regularise(project_id: P, section_id: P, body: x.RegulariseIn) -> x.RegularisedOut:
    """Lay lines parallel and square where that moves no end by more than the limit."""
    return x.RegularisedOut(**finding.regularise(project_id, section_id, body.limit_mm, body.ids))  # type: ignore[arg-type]


@api.post(f"{SECTION}/traces", operation_id="draw_trace", status_code=201)
def draw_trace(project_id: P, section_id: P, body: x.TraceIn) -> x.Made:
    more = body.shape.model_dump(exclude_none=True)
    return x.Made(id=tracing.draw(project_id, section_id, body.kind, body.layer, body.points, body.radius, more))


@api.post("/projects/{project_id}/pinned", operation_id="bring_pinned", status_code=201, openapi_extra=BYTES)
async def bring_pinned(project_id: P, request: Request, page: Annotated[int, Query(ge=1, le=10_000)] = 1) -> x.PinnedOut:
    """A PNG or JPEG, or a page of a PDF, that drawings can have pinned to them: as traces of the kind picture."""
    data = await picture_in(request)
    return x.PinnedOut(**await run_in_threadpool(tracing.bring_picture, project_id, data, page))


@api.patch("/projects/{project_id}/traces/{trace_id}", operation_id="change_trace")
def change_trace(project_id: P, trace_id: P, body: x.TracePatch) -> x.Said:
    more = None if body.shape is None else body.shape.model_dump(exclude_none=True)
    tracing.change(project_id, trace_id, body.version, body.state, body.layer, body.points, body.radius, more)
    return x.Said(message="changed")


@api.post("/projects/{project_id}/traces/{trace_id}/fit", operation_id="refit_trace")
def refit_trace(project_id: P, trace_id: P, body: x.RefitIn) -> x.FittedOut:
    """Lay a drawn line on the points beneath it, or on the painted stripe."""
    if body.stripe is not None:
        note = finding.refine(project_id, trace_id, body.version, body.stripe)
    else:
        note = finding.refit(project_id, trace_id, body.version)
    return x.FittedOut(**{k: note[k] for k in ("rms_mm", "points", "length", "moved_mm")})


@api.post("/projects/{project_id}/traces/edit", operation_id="edit_traces")
def edit_traces(project_id: P, body: x.EditTracesIn) -> x.MadeTraces:
    """Move, copy, trim and so on, as one change. Returns the ids of what is new."""
    return x.MadeTraces(ids=tracing.edit(project_id, body.do, body.ids, body.at, body.value, body.count))


@api.post("/projects/{project_id}/traces/remove", operation_id="remove_traces")
def remove_traces(project_id: P, body: x.TracesIn) -> x.Said:
    count = tracing.remove(project_id, body.ids)
    return x.Said(message=f"Removed {count} {'line or shape' if count == 1 else 'lines and shapes'}.")


@api.get("/projects/{project_id}/layers", operation_id="list_layers")
def list_layers(project_id: P) -> list[x.LayerOut]:
    return [x.LayerOut(**r) for r in tracing.layers(project_id)]


@api.put("/projects/{project_id}/layers", operation_id="set_layers")
def set_layers(project_id: P, body: x.LayersIn) -> list[x.LayerOut]:
    if body.template is not None:
        tracing.layers_from(project_id, body.template)
    if body.layers is not None:
        tracing.set_layers(project_id, [r.model_dump() for r in body.layers])
    if body.rename is not None:
        tracing.rename_layer(project_id, *body.rename)
    return list_layers(project_id)


@api.post("/projects/{project_id}/layers/dxf", operation_id="bring_layers", openapi_extra=BYTES)
async def bring_layers(project_id: P, request: Request) -> x.Said:
    """The layers of a DXF file, beside those that are there."""
    data = await bytes_in(request, "drawing")
    count = await run_in_threadpool(tracing.layers_of_file, project_id, data)
    return x.Said(message=f"Took {count} layers.")


@api.get("/projects/{project_id}/title-blocks", operation_id="list_title_blocks")
def list_title_blocks(project_id: P) -> list[x.TitleBlockOut]:
    with db.session() as s:
        return [x.TitleBlockOut(**r) for r in sheets.list_blocks(s, project_id)]


@api.post("/projects/{project_id}/title-blocks", operation_id="bring_title_block", status_code=201, openapi_extra=BYTES)
async def bring_title_block(
    project_id: P,
    request: Request,
    name: Annotated[str, Query(min_length=1, max_length=300)],
    block: Annotated[str, Query(max_length=120)] = "",
) -> x.Made:
    """The bytes of a DXF with the customer's title block. block: its name there; none: the one with most fields, or all of the drawing."""
    data = await bytes_in(request, "drawing")
    return x.Made(id=await run_in_threadpool(sheets.bring_block, project_id, name, data, block))


@api.delete("/projects/{project_id}/title-blocks/{block_id}", operation_id="delete_title_block")
def delete_title_block(project_id: P, block_id: P, version: V) -> x.Said:
    sheets.delete_block(project_id, block_id, version)
    return x.Said(message="deleted")


@api.get("/projects/{project_id}/sheets", operation_id="list_sheets")
def list_sheets(project_id: P) -> list[x.SheetOut]:
    with db.session() as s:
        return [x.SheetOut(**r) for r in sheets.list_sheets(s, project_id)]


@api.post("/projects/{project_id}/sheets", operation_id="make_sheet", status_code=201)
def make_sheet(project_id: P, body: x.SheetIn) -> x.Made:
    return x.Made(id=sheets.make(project_id, body.name, body.model_dump(exclude={"name"}, exclude_none=True)))


@api.patch("/projects/{project_id}/sheets/{sheet_id}", operation_id="change_sheet")
def change_sheet(project_id: P, sheet_id: P, body: x.SheetPatch) -> x.Said:
    params = body.model_dump(exclude={"version", "name"}, exclude_unset=True)
    params = {k: v for k, v in params.items() if v is not None or k in ("scale", "title")}
    sheets.change(project_id, sheet_id, body.version, body.name, params)
    return x.Said(message="changed")


@api.delete("/projects/{project_id}/sheets/{sheet_id}", operation_id="delete_sheet")
def delete_sheet(project_id: P, sheet_id: P, version: V) -> x.Said:
    sheets.delete(project_id, sheet_id, version)
    return x.Said(message="deleted")
