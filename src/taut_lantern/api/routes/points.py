"""Stations, tiles and marks."""

from __future__ import annotations

import json
from typing import Annotated

from fastapi import Path, Query, Response

from ...core.errors import NotFound
from ...site.common import get_project, stations_of
from ...steps.bring_in import stations
from ...steps.clean import edits
from ...store import db
from ...store.tiles import for_browser, tile_of, tiles_of
from .. import schemas as x
from ..schemas.base import Id
from .base import BINARY, P, router

api = router()
Revision = Annotated[int, Query(ge=0, le=2**31 - 1, description="of the layers, as the station tells it; part of the address")]


@api.get("/projects/{project_id}/stations", operation_id="list_stations")
def list_stations(project_id: P) -> list[x.StationOut]:
    with db.session() as s:
        return [x.StationOut(**row) for row in stations.list_stations(s, project_id)]


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
def get_tile(project_id: P, station_id: P, first: Annotated[int, Path(ge=0, le=2**62)], revision: Revision = 0) -> Response:
    """16 bytes a point: float32 x, y, z of all points (station frame), then rgb and intensity bytes of all. A tile is named
    by its station, its first point and the revision of its layers: nothing else is ever found at its address."""
    with db.session() as s:
        row = tile_of(s, project_id, station_id, first)
    if row is None:
        raise NotFound("this tile does not exist", subject=str(first), remedy="reload the project")
    return Response(
        for_browser(*row),
        media_type="application/octet-stream",
        headers={"Cache-Control": "private, max-age=31536000, immutable", "ETag": f'"{station_id}-{first}-{revision}"'},
    )


@api.get("/projects/{project_id}/stations/{station_id}/marks", operation_id="get_marks", response_class=Response, responses=BINARY)
def get_marks(project_id: P, station_id: P, changed: Annotated[list[Id] | None, Query(max_length=200)] = None) -> Response:
    """Deleted points tile by tile: all tiles that have some, or those that the edits ``changed`` touch. Each tile is its
    first point (int64), its number of points (uint32), then one bit per point, the first in the lowest: 1 = deleted."""
    return Response(
        edits.marks(project_id, station_id, changed), media_type="application/octet-stream", headers={"Cache-Control": "no-store"}
    )
