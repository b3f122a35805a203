"""Stations, tiles and marks."""

from __future__ import annotations

import gzip
from typing import Annotated, Literal

from fastapi import Path, Query, Response

from ...core.errors import NotFound
from ...site.apart import apart
from ...steps.bring_in import stations
from ...steps.clean import edits
from ...store import db
from ...store.tiles import for_browser, layer_of, tile_of
from .. import schemas as x
from ..schemas.base import Id
from .base import BINARY, P, router

api = router()
FOR_GOOD = "private, max-age=31536000, immutable"
Revision = Annotated[int, Query(ge=0, le=2**31 - 1, description="of the layers, as the station tells it; part of the address")]


@api.get("/projects/{project_id}/stations", operation_id="list_stations")
def list_stations(project_id: P) -> list[x.StationOut]:
    with db.session() as s:
        return [x.StationOut(**row) for row in stations.list_stations(s, project_id)]


@api.patch("/projects/{project_id}/stations/{station_id}", operation_id="change_station")
def change_station(project_id: P, station_id: P, body: x.StationPatch) -> x.Said:
    stations.change_station(project_id, station_id, body.version, body.name, body.deleted)
    return x.Said(message="changed")


@api.get("/projects/{project_id}/stations/{station_id}/tiles", operation_id="list_tiles", response_class=Response, responses=BINARY)
def list_tiles(project_id: P, station_id: P) -> Response:
    """The tree of a station's tiles, for good: see `core/scan/hierarchy.py` for its bytes. Sent compressed (gzip)."""
    return Response(
        gzip.compress(stations.tiles(project_id, station_id), 6, mtime=0),
        media_type="application/octet-stream",
        headers={"Content-Encoding": "gzip", "Cache-Control": FOR_GOOD, "ETag": f'"{station_id}"'},
    )


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
        headers={"Cache-Control": FOR_GOOD, "ETag": f'"{station_id}-{first}-{revision}"'},
    )


@api.get(
    "/projects/{project_id}/stations/{station_id}/tiles/{first}/{kind}",
    operation_id="get_layer",
    response_class=Response,
    responses=BINARY,
)
def get_layer(
    project_id: P,
    station_id: P,
    first: Annotated[int, Path(ge=0, le=2**62)],
    kind: Literal["intensity", "colour", "class", "normal"],
    revision: Revision = 0,
) -> Response:
    """One attribute of a tile's points, as it was written: intensity uint16, colour three uint8, class uint8, normal three
    int8 (127 = 1, station frame)."""
    with db.session() as s:
        body = layer_of(s, project_id, station_id, first, kind)
    if body is None:
        raise NotFound(f"this tile has no {kind}", subject=kind, remedy="reload the project")
    return Response(
        body,
        media_type="application/octet-stream",
        headers={"Cache-Control": FOR_GOOD, "ETag": f'"{station_id}-{first}-{kind}-{revision}"'},
    )


@api.get(
    "/projects/{project_id}/stations/{station_id}/tiles/{first}/apart/{other_id}",
    operation_id="get_distances",
    response_class=Response,
    responses=BINARY,
)
def get_distances(project_id: P, station_id: P, first: Annotated[int, Path(ge=0, le=2**62)], other_id: P) -> Response:
    """int16 a point: the distance of its surface from those of another station in steps of 0.1 mm, positive on the other's side;
    -32768 where the other saw none within 60 mm."""
    with db.snapshot() as s:
        body = apart(s, project_id, station_id, first, other_id)
    return Response(body, media_type="application/octet-stream", headers={"Cache-Control": "no-store"})


@api.get("/projects/{project_id}/stations/{station_id}/marks", operation_id="get_marks", response_class=Response, responses=BINARY)
def get_marks(
    project_id: P,
    station_id: P,
    changed: Annotated[list[Id] | None, Query(max_length=200)] = None,
    of: Literal["deleted", "hidden", "selected"] = "deleted",
) -> Response:
    """Deleted points (or hidden ones, or those that whoever asks has selected) tile by tile: all tiles that have some, or those that the
    edits ``changed`` touch. Each tile is its first point (int64), its number of points (uint32), then one bit per point, the first in the
    lowest: 1 = deleted."""
    return Response(
        edits.marks(project_id, station_id, changed, of), media_type="application/octet-stream", headers={"Cache-Control": "no-store"}
    )


@api.get("/projects/{project_id}/stations/{station_id}/kinds", operation_id="get_kinds", response_class=Response, responses=BINARY)
def get_kinds(project_id: P, station_id: P, by: Literal["class", "zone"]) -> Response:
    """Class or zone of points, of the tiles that have some: first point (int64), number of points (uint32), then one byte per point."""
    return Response(edits.kinds(project_id, station_id, by), media_type="application/octet-stream", headers={"Cache-Control": "no-store"})
