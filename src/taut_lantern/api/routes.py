"""The HTTP API: thin over the use cases, one group of routes per step of the job."""

from __future__ import annotations

import asyncio
from typing import Annotated, Any

import numpy as np
from fastapi import APIRouter, Path, Query, Request, Response
from fastapi.responses import StreamingResponse
from sqlalchemy import func, select

from ..core.errors import BadInput, NotFound
from ..steps import projects
from ..steps.bring_in import stations, uploads
from ..steps.clean import edits
from ..steps.common import frames, get_project, matrix, owned, stations_of
from ..steps.draw import sections
from ..steps.hand_over import deliver
from ..steps.place import control
from ..steps.tie import links, targets
from ..store import db
from ..store.models import CropBox, Edit, EditDelta, Job, Link, Original, Section, Sighting, SolutionRow, Station, TileRow
from ..store.tiles import for_browser, tiles_of
from . import schemas as x
from .events import hub

ID = Path(pattern=r"^[0-9a-f]{32}$")
P = Annotated[str, ID]
ERRORS: dict[int | str, dict[str, Any]] = {
    k: {"model": x.Problem, "description": d}
    for k, d in ((404, "no such thing"), (409, "changed meanwhile"), (422, "cannot be used as it is"))
}
api = APIRouter(prefix="/api", responses=ERRORS)
BINARY: dict[int | str, dict[str, Any]] = {200: {"content": {"application/octet-stream": {}}}}


# ---- projects --------------------------------------------------------------------------------------
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


# ---- jobs ------------------------------------------------------------------------------------------
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
    from ..store.queue import enqueue

    with db.session() as s:
        job = owned(s, Job, project_id, job_id, "job")
        if job.state not in ("failed", "cancelled"):
            raise BadInput("only a failed or cancelled job can be started again", subject=job.title, remedy="wait until it has ended")
        return x.Started(jobs=[enqueue(s, project_id, job.kind, job.title, **job.params).id])


# ---- bring in --------------------------------------------------------------------------------------
@api.post("/projects/{project_id}/uploads", operation_id="begin_upload", status_code=201)
def begin_upload(project_id: P, body: x.UploadIn) -> x.UploadOut:
    original = uploads.begin(project_id, body.name, body.size)
    with db.session() as s:
        return x.UploadOut.model_validate(s.get_one(Original, original))


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
    return x.Said(message="discarded")


@api.post("/projects/{project_id}/bring-in", operation_id="bring_in", status_code=202)
def bring_in(project_id: P, body: x.BringIn) -> x.Started:
    return x.Started(jobs=stations.start(project_id, body.originals, body.min_range, body.max_range, body.unit))


# ---- stations and points ---------------------------------------------------------------------------
@api.get("/projects/{project_id}/stations", operation_id="list_stations")
def list_stations(project_id: P) -> list[x.StationOut]:
    with db.session() as s:
        get_project(s, project_id)
        row = s.get(SolutionRow, project_id)
        known = row.data.get("stations", {}) if row else {}
        marked: dict[str, int] = {
            k: int(n)
            for k, n in s.execute(
                select(EditDelta.station_id, func.sum(EditDelta.count))
                .join(Edit, Edit.id == EditDelta.edit_id)
                .where(Edit.project_id == project_id, Edit.active)
                .group_by(EditDelta.station_id)
            )
        }
        out = []
        for st in stations_of(s, project_id):
            own = known.get(st.id, {"status": "loose", "part": 0, "sigma_position_mm": None, "links": 0})
            out.append(
                x.StationOut(
                    id=st.id,
                    version=st.version,
                    name=st.name,
                    points=st.points,
                    has_rgb=st.has_rgb,
                    has_intensity=st.has_intensity,
                    low=st.low,
                    high=st.high,
                    hue=st.hue,
                    pose=st.pose,
                    report=st.report,
                    status=own["status"],
                    part=own["part"],
                    sigma_position_mm=own["sigma_position_mm"],
                    links=own["links"],
                    marked=marked.get(st.id, 0),
                )
            )
        return out


@api.patch("/projects/{project_id}/stations/{station_id}", operation_id="change_station")
def change_station(project_id: P, station_id: P, body: x.StationPatch) -> x.Said:
    stations.change_station(project_id, station_id, body.version, body.name, body.deleted)
    return x.Said(message="changed")


@api.get("/projects/{project_id}/tiles", operation_id="list_tiles")
def list_tiles(project_id: P) -> list[x.TileOut]:
    """All tiles of the project's stations without their points, coarse first."""
    with db.session() as s:
        get_project(s, project_id)
        ids = [st.id for st in stations_of(s, project_id)]
        return [
            x.TileOut(id=r.id, station=r.station_id, level=r.level, first=r.first, count=r.count, low=r.low, high=r.high, spacing=r.spacing)
            for r in tiles_of(s, ids)
        ]


@api.get("/tiles/{tile_id}", operation_id="get_tile", response_class=Response, responses=BINARY)
def get_tile(tile_id: Annotated[int, Path(ge=1, le=2**62)]) -> Response:
    """16 bytes a point: float32 x, y, z of all points (station frame), then rgb and intensity bytes of all."""
    with db.session() as s:
        row = s.execute(select(TileRow.first, TileRow.count, TileRow.data).where(TileRow.id == tile_id)).first()
    if row is None:
        raise NotFound("this tile does not exist", subject=str(tile_id), remedy="reload the project")
    return Response(
        for_browser(*row),
        media_type="application/octet-stream",
        headers={"Cache-Control": "public, max-age=31536000, immutable", "ETag": f'"{tile_id}"'},
    )


@api.get("/projects/{project_id}/stations/{station_id}/marks", operation_id="get_marks", response_class=Response, responses=BINARY)
def get_marks(project_id: P, station_id: P) -> Response:
    """One bit per point: 1 = deleted."""
    return Response(edits.marks(project_id, station_id), media_type="application/octet-stream", headers={"Cache-Control": "no-store"})


# ---- tie -------------------------------------------------------------------------------------------
@api.post("/projects/{project_id}/tie", operation_id="tie", status_code=202)
def tie(project_id: P) -> x.Started:
    return x.Started(jobs=[links.start_tie(project_id)])


@api.post("/projects/{project_id}/links", operation_id="link_by_hand", status_code=202)
def link_by_hand(project_id: P, body: x.PairIn) -> x.Started:
    return x.Started(jobs=[links.start_pair(project_id, body.a, body.b, body.T_a_b)])


@api.patch("/projects/{project_id}/links/{link_id}", operation_id="switch_link")
def switch_link(project_id: P, link_id: P, body: x.Used) -> x.NetworkOut:
    links.switch_link(project_id, link_id, body.used, body.version)
    return get_network(project_id)


@api.get("/projects/{project_id}/network", operation_id="get_network")
def get_network(project_id: P) -> x.NetworkOut:
    from ..steps.tie.network import empty

    with db.session() as s:
        project = get_project(s, project_id)
        row = s.get(SolutionRow, project_id)
        data = row.data if row else empty()
        names = {st.id: st.name for st in stations_of(s, project_id)}
        out = [
            link_out(k, names, data["links"].get(k.id))
            for k in s.scalars(select(Link).where(Link.project_id == project_id))
            if k.a in names and k.b in names
        ]
        rank = {"parted": 0, "slack": 1, "loose": 2, "taut": 3}
        out.sort(key=lambda k: (rank[k.status], k.name_a, k.name_b))
        return x.NetworkOut(
            revision=row.network_revision if row else 0,
            out_of_date=row is not None and row.network_revision != project.network_revision,
            links=out,
            **{k: data[k] for k in ("sentence", "sigma0", "degrees_of_freedom", "global_test", "parts", "findings")},
        )


def link_out(k: Link, names: dict[str, str], own: dict[str, Any] | None) -> x.LinkOut:
    own = own or {
        "status": "loose",
        "sentence": "Not computed yet.",
        "residual_mm": None,
        "residual_mdeg": None,
        "redundancy": None,
        "reasons": [],
    }
    e = k.evidence
    return x.LinkOut(
        id=k.id,
        version=k.version,
        a=k.a,
        b=k.b,
        name_a=names[k.a],
        name_b=names[k.b],
        kind=k.kind,
        used=k.used,
        status=own["status"],
        sentence=own["sentence"],
        fit_median_mm=1000 * e["fit_median"],
        fit_rms_mm=1000 * e["fit_rms"],
        fit_p90_mm=1000 * e["fit_p90"],
        histogram=e["histogram"],
        overlap=e["overlap"],
        see_through=e["see_through"],
        weak_sigma_mm=1000 * e["weak_sigma"],
        weak_direction=e["weak_direction"],
        residual_mm=own["residual_mm"],
        residual_mdeg=own["residual_mdeg"],
        redundancy=own["redundancy"],
        reasons=own["reasons"],
    )


@api.post("/projects/{project_id}/targets/find", operation_id="find_targets", status_code=202)
def find_targets(project_id: P, body: x.SpheresIn) -> x.Started:
    return x.Started(jobs=[targets.start_find(project_id, [r / 1000 for r in body.radii_mm])])


@api.post("/projects/{project_id}/targets/regroup", operation_id="regroup_targets")
def regroup_targets(project_id: P) -> x.Said:
    targets.regroup(project_id)
    return x.Said(message="matched by place")


@api.get("/projects/{project_id}/sightings", operation_id="list_sightings")
def list_sightings(project_id: P) -> list[x.SightingOut]:
    with db.session() as s:
        get_project(s, project_id)
        row = s.get(SolutionRow, project_id)
        found = row.data.get("targets", {}) if row else {}
        stations_by = {st.id: st for st in stations_of(s, project_id)}
        out = []
        for g in s.scalars(select(Sighting).where(Sighting.project_id == project_id)):
            if g.station_id not in stations_by:
                continue
            st, own = stations_by[g.station_id], found.get(g.target)
            position = None if st.pose is None else frames.apply(matrix(st.pose), np.array([g.centre]))[0].tolist()
            out.append(
                x.SightingOut(
                    id=g.id,
                    version=g.version,
                    station=st.id,
                    station_name=st.name,
                    target=g.target,
                    radius_mm=1000 * g.radius,
                    rms_mm=1000 * g.rms,
                    points=g.points,
                    sigma_mm=1000 * float(np.sqrt(np.trace(np.array(g.covariance).reshape(3, 3)))),
                    remark=g.remark,
                    used=g.used,
                    position=position,
                    spread_mm=own["spread_mm"] if own and own["sightings"] > 1 else None,
                )
            )
        return sorted(out, key=lambda g: (g.target == "", len(g.target), g.target, g.station_name))


@api.patch("/projects/{project_id}/sightings/{sighting_id}", operation_id="change_sighting")
def change_sighting(project_id: P, sighting_id: P, body: x.SightingPatch) -> x.Said:
    targets.change_sighting(project_id, sighting_id, body.version, body.used, body.target)
    return x.Said(message="changed")


# ---- place -----------------------------------------------------------------------------------------
@api.post("/projects/{project_id}/control/preview", operation_id="preview_control")
def preview_control(project_id: P, body: x.ControlText) -> x.ControlPreview:
    with db.session() as s:
        get_project(s, project_id)
    r = control.preview(body.text, body.file, list(body.columns) if body.columns else None, body.unit)
    return x.ControlPreview(
        separator=r.separator,
        decimal_comma=r.decimal_comma,
        columns=list(r.columns),
        header=list(r.header),
        usable=r.usable,
        points=[x.ControlPreviewPoint(name=p.name, enh=list(p.enh), remark=p.remark, role=p.role) for p in r.points[:500]],
        findings=[x.FindingOut(**f.as_dict()) for f in r.findings[:100]],
    )


@api.put("/projects/{project_id}/control", operation_id="take_control")
def take_control(project_id: P, body: x.ControlText) -> x.ControlOut:
    control.take_in(project_id, body.text, body.file, list(body.columns) if body.columns else None, body.unit)
    return get_control(project_id)


@api.get("/projects/{project_id}/control", operation_id="get_control")
def get_control(project_id: P) -> x.ControlOut:
    return x.ControlOut(**control.residuals_of(project_id))


@api.post("/projects/{project_id}/control/match", operation_id="match_control")
def match_control(project_id: P) -> x.ControlOut:
    problem = control.match_again(project_id)
    out = get_control(project_id)
    return out.model_copy(update={"problem": problem or out.problem})


@api.patch("/projects/{project_id}/control/{control_id}", operation_id="change_control")
def change_control(project_id: P, control_id: P, body: x.ControlPatch) -> x.ControlOut:
    control.change_control(project_id, control_id, body.version, body.role, body.target)
    return get_control(project_id)


@api.post("/projects/{project_id}/control/apply", operation_id="apply_control")
def apply_control(project_id: P) -> x.ProjectOut:
    control.apply(project_id)
    return get_one_project(project_id)


@api.post("/projects/{project_id}/square", operation_id="square_to_wall")
def square_to_wall(project_id: P, body: x.SquareIn) -> x.SquareOut:
    return x.SquareOut(**control.square(project_id, body.wall, body.point, body.given, body.flip, body.name))


# ---- clean -----------------------------------------------------------------------------------------
@api.post("/projects/{project_id}/lasso", operation_id="delete_in_lasso")
def delete_in_lasso(project_id: P, body: x.LassoIn) -> x.LassoOut:
    act = edits.count_in_lasso if body.only_count else edits.delete_in_lasso
    return x.LassoOut(**act(project_id, body.view, body.outline, body.stations))  # type: ignore[arg-type]


@api.get("/projects/{project_id}/edits", operation_id="list_edits")
def list_edits(project_id: P) -> list[x.EditOut]:
    with db.session() as s:
        get_project(s, project_id)
        return [
            x.EditOut.model_validate(e) for e in s.scalars(select(Edit).where(Edit.project_id == project_id).order_by(Edit.place.desc()))
        ]


@api.patch("/projects/{project_id}/edits/{edit_id}", operation_id="switch_edit")
def switch_edit(project_id: P, edit_id: P, body: x.EditPatch) -> x.Said:
    edits.switch_edit(project_id, edit_id, body.active, body.version)
    return x.Said(message="changed")


@api.get("/projects/{project_id}/boxes", operation_id="list_boxes")
def list_boxes(project_id: P) -> list[x.BoxOut]:
    with db.session() as s:
        get_project(s, project_id)
        return [
            x.BoxOut.model_validate(b) for b in s.scalars(select(CropBox).where(CropBox.project_id == project_id).order_by(CropBox.name))
        ]


@api.get("/projects/{project_id}/boxes/proposal", operation_id="propose_box")
def propose_box(project_id: P) -> x.BoxProposal:
    return x.BoxProposal(**edits.propose_box(project_id))  # type: ignore[arg-type]


@api.post("/projects/{project_id}/boxes", operation_id="make_box", status_code=201)
def make_box(project_id: P, body: x.BoxIn) -> x.Made:
    return x.Made(id=edits.set_box(project_id, body.name, body.centre, body.half, body.yaw, active=body.active))


@api.put("/projects/{project_id}/boxes/{box_id}", operation_id="change_box")
def change_box(project_id: P, box_id: P, body: x.BoxIn) -> x.Made:
    return x.Made(id=edits.set_box(project_id, body.name, body.centre, body.half, body.yaw, box_id, body.version, body.active))


@api.delete("/projects/{project_id}/boxes/{box_id}", operation_id="remove_box")
def remove_box(project_id: P, box_id: P) -> x.Said:
    edits.remove_box(project_id, box_id)
    return x.Said(message="removed")


# ---- draw ------------------------------------------------------------------------------------------
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
            params["height"] = sections.floor_height(project_id) + above
            name = name or f"Plan {above:.2f} m above floor"
    return x.Made(id=sections.make_section(project_id, body.kind, params, name))


@api.delete("/projects/{project_id}/sections/{section_id}", operation_id="delete_section")
def delete_section(project_id: P, section_id: P) -> x.Said:
    sections.delete_section(project_id, section_id)
    return x.Said(message="deleted")


@api.get("/projects/{project_id}/sections/{section_id}/points", operation_id="get_slab", response_class=Response, responses=BINARY)
def get_slab(project_id: P, section_id: P) -> Response:
    """12 bytes a point: float32 along, across of all points, then rgb and intensity bytes of all."""
    with db.session() as s:
        section = owned(s, Section, project_id, section_id, "section")
        points, colour, counts = sections.slab_points(s, project_id, section)
    body = np.ascontiguousarray(points[:, :2].astype(np.float32)).tobytes() + colour.tobytes()
    return Response(
        body,
        media_type="application/octet-stream",
        headers={"Cache-Control": "no-store", "X-Points": str(counts["points"]), "X-Tiles": f"{counts['tiles_read']} of {counts['tiles']}"},
    )


@api.post("/projects/{project_id}/sections/{section_id}/fit", operation_id="fit_section")
def fit_section(project_id: P, section_id: P) -> x.FitOut:
    return x.FitOut(**sections.fit(project_id, section_id))


@api.post("/projects/{project_id}/sections/{section_id}/traces", operation_id="draw_trace", status_code=201)
def draw_trace(project_id: P, section_id: P, body: x.TraceIn) -> x.Made:
    return x.Made(id=sections.draw_trace(project_id, section_id, body.kind, body.layer, body.points, body.radius))


@api.patch("/projects/{project_id}/traces/{trace_id}", operation_id="change_trace")
def change_trace(project_id: P, trace_id: P, body: x.TracePatch) -> x.Said:
    sections.change_trace(project_id, trace_id, body.version, body.state, body.layer)
    return x.Said(message="changed")


# ---- hand over -------------------------------------------------------------------------------------
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
    return StreamingResponse(
        db.file_chunks(row.id),
        media_type="application/octet-stream",
        headers={"Content-Disposition": f"attachment; filename*=UTF-8''{quote(row.name)}", "Content-Length": str(row.size)},
    )


__all__ = ["Station", "api"]
