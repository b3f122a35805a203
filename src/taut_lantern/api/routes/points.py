"""Stations, tiles and marks."""

from __future__ import annotations

import json
from typing import Annotated

from fastapi import Path, Response
from sqlalchemy import func, select

from ...core.errors import NotFound
from ...steps.bring_in import stations
from ...steps.clean import edits
from ...steps.common import get_project, stations_of
from ...store import db
from ...store.models import Edit, EditDelta, Project, SolutionRow, Station, TileRow
from ...store.tiles import for_browser, tiles_of
from .. import schemas as x
from .base import BINARY, P, router

api = router()


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


@api.get("/projects/{project_id}/tiles", operation_id="list_tiles", response_model=list[x.TileOut])
def list_tiles(project_id: P) -> Response:
    """All tiles of the project's stations without their points, coarse first."""
    with db.session() as s:
        get_project(s, project_id)
        rows = tiles_of(s, [st.id for st in stations_of(s, project_id)])
    # thousands of rows on the way to the first points: written as they are, not checked one by one
    keys = ("station", "level", "first", "count", "low", "high", "spacing")
    return Response(json.dumps([dict(zip(keys, r[1:], strict=True)) for r in rows]), media_type="application/json")


@api.get("/projects/{project_id}/stations/{station_id}/tiles/{first}", operation_id="get_tile", response_class=Response, responses=BINARY)
def get_tile(project_id: P, station_id: P, first: Annotated[int, Path(ge=0, le=2**62)]) -> Response:
    """16 bytes a point: float32 x, y, z of all points (station frame), then rgb and intensity bytes of all. A tile is named
    by its station and its first point: nothing else is ever found at its address."""
    with db.session() as s:
        q = select(TileRow.first, TileRow.count, TileRow.data).join(Station, Station.id == TileRow.station_id)
        q = q.join(Project, Project.id == Station.project_id)
        row = s.execute(q.where(Project.id == project_id, Station.id == station_id, TileRow.first == first)).first()
    if row is None:
        raise NotFound("this tile does not exist", subject=str(first), remedy="reload the project")
    return Response(
        for_browser(*row),
        media_type="application/octet-stream",
        headers={"Cache-Control": "private, max-age=31536000, immutable", "ETag": f'"{station_id}-{first}"'},
    )


@api.get("/projects/{project_id}/stations/{station_id}/marks", operation_id="get_marks", response_class=Response, responses=BINARY)
def get_marks(project_id: P, station_id: P) -> Response:
    """One bit per point: 1 = deleted."""
    return Response(edits.marks(project_id, station_id), media_type="application/octet-stream", headers={"Cache-Control": "no-store"})
