"""Points in and out of the database: tiles (slices of the one order of points), grids and marks.

A stored tile is geometry: the float32 of x, y and z in planes of equal significance (see core/kernels/planes.py), compressed.
Everything else about its points is a layer beside it with a revision: intensity uint16, colour uint8. What the browser gets is
16 bytes a point, uncompressed, with intensity cut to a byte.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from typing import Any

import numpy as np
import psycopg
import zstandard
from numpy.typing import NDArray
from psycopg.types.json import Jsonb
from sqlalchemy import and_, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session, aliased

from ..core.kernels import planes
from ..core.kernels.order import bounds
from ..core.scan.octree import Tile, arrange
from ..core.scan.scan import Scan
from ..settings import settings
from .db import Damaged
from .models import Edit, EditDelta, GridRow, LayerRow, Project, Station, TileRow

BYTES = 17  # a point, before compression: 12 geometry, 2 intensity, 3 colour
PLANES = b"\x01"  # before the compressed bytes: x, y, z are in planes; tiles without it hold them plainly
GEOMETRY = b"\x02"  # the same, and nothing but geometry; tiles of earlier versions hold intensity and colour too
LAYERS = {"intensity": 2, "colour": 3}  # bytes a point


@dataclass(frozen=True)
class TilePoints:
    """The points first .. first + len of a station: xyz (n, 3) float32, intensity (n,) uint16, rgb (n, 3) uint8."""

    first: int
    xyz: NDArray[np.float32]
    intensity: NDArray[np.uint16]
    rgb: NDArray[np.uint8]


@dataclass(frozen=True)
class _Packed:
    """body: geometry; layers: what else the scan has, by kind."""

    low: list[float]
    high: list[float]
    body: bytes
    layers: dict[str, bytes]


class _Columns:
    """A scan as tiles are cut from it."""

    def __init__(self, scan: Scan, order: NDArray[np.int32]) -> None:
        self.order = order
        self.points = np.ascontiguousarray(scan.xyz, np.float32)
        self.intensity = np.empty(0, np.float32) if scan.intensity is None else np.ascontiguousarray(scan.intensity, np.float32)
        self.rgb = np.empty((0, 3), np.uint8) if scan.rgb is None else np.ascontiguousarray(scan.rgb)

    def pack(self, tile: Tile) -> _Packed:
        body = np.zeros(BYTES * tile.count, np.uint8)
        index = self.order[tile.first : tile.first + tile.count]
        low, high = planes.split(self.points, self.intensity, self.rgb, index, body).astype(float).tolist()
        pack, n = zstandard.ZstdCompressor(level=-1), tile.count
        layers = {}
        if len(self.intensity):
            layers["intensity"] = pack.compress(body[12 * n : 14 * n].data)
        if len(self.rgb):
            layers["colour"] = pack.compress(body[14 * n :].data)
        return _Packed(low, high, GEOMETRY + pack.compress(body[: 12 * n].data), layers)


def _packed(tiles: list[Tile], columns: _Columns) -> Iterator[_Packed]:
    """Each tile packed, a few ahead in two more threads while the database takes the one before."""
    with ThreadPoolExecutor(2) as pool:
        ahead = deque(pool.submit(columns.pack, t) for t in tiles[:8])
        for k in range(len(tiles)):
            if k + 8 < len(tiles):
                ahead.append(pool.submit(columns.pack, tiles[k + 8]))
            yield ahead.popleft().result()


def _pack_grid(row: NDArray[np.int32], column: NDArray[np.int32], order: NDArray[np.int32]) -> bytes:
    """Row and column of each point in planes, of two bytes each when they fit, else of four."""
    wide = 2 if max(int(row.max(initial=0)), int(column.max(initial=0))) < 1 << 16 else 4
    body = np.empty((2, wide * len(order)), np.uint8)
    for values, part in ((row, body[0]), (column, body[1])):
        planes.split_whole(np.ascontiguousarray(values, np.int32), order, part)
    return PLANES + zstandard.ZstdCompressor(level=1).compress(body.data)


def _unpack_grid(data: bytes, n: int) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    in_planes = data[:1] == PLANES
    body = zstandard.ZstdDecompressor().decompress(memoryview(data)[1:] if in_planes else data, max_output_size=8 * n + 64)
    if not in_planes:
        both = np.frombuffer(body, np.uint16 if len(body) == 4 * n else np.int32).astype(np.int32, copy=False)
        return both[:n], both[n:]
    row, column = np.empty(n, np.int32), np.empty(n, np.int32)
    for values, part in ((row, body[: len(body) // 2]), (column, body[len(body) // 2 :])):
        planes.join_whole(np.frombuffer(part, np.uint8), values)
    return row, column


def unpack(first: int, count: int, data: bytes, intensity: bytes | None = None, colour: bytes | None = None) -> TilePoints:
    """A tile from its geometry and its layers; zeros where it has none. Tiles of all versions are read."""
    mark = data[:1]
    marked = mark in (PLANES, GEOMETRY)
    body = np.frombuffer(_inflated(memoryview(data)[1:] if marked else data, count * BYTES), np.uint8)
    if marked:
        bits = np.empty((count, 3), np.uint32)
        planes.join(body, bits)
        xyz = bits.view(np.float32)
    else:
        xyz = np.frombuffer(body, np.float32, 3 * count).reshape(3, count).T
    within = mark != GEOMETRY
    if intensity is not None:
        bright = np.frombuffer(_inflated(intensity, 2 * count), np.uint16)
    else:
        bright = np.frombuffer(body, np.uint16, count, 12 * count) if within else np.zeros(count, np.uint16)
    if colour is not None:
        rgb = np.frombuffer(_inflated(colour, 3 * count), np.uint8)
    else:
        rgb = np.frombuffer(body, np.uint8, 3 * count, 14 * count) if within else np.zeros(3 * count, np.uint8)
    return TilePoints(first, xyz, bright, rgb.reshape(count, 3))


def _inflated(data: bytes | memoryview, most: int) -> bytes:
    return zstandard.ZstdDecompressor().decompress(data, max_output_size=most + 64)


def for_browser(first: int, count: int, data: bytes, intensity: bytes | None = None, colour: bytes | None = None) -> bytes:
    """16 bytes a point: float32 x, y, z interleaved, then rgb and intensity bytes."""
    t = unpack(first, count, data, intensity, colour)
    tint = np.concatenate([t.rgb, (t.intensity >> 8).astype(np.uint8)[:, None]], axis=1)
    return np.ascontiguousarray(t.xyz).tobytes() + tint.tobytes()


def write_layer(s: Session, station: Station, kind: str, values: NDArray[Any]) -> int:
    """Write an attribute of all points of a station, in their final order: intensity (n,) uint16 or colour (n, 3) uint8. The
    geometry is not touched. Returns the layer's new revision. ValueError when the values are not of that kind and number."""
    width = LAYERS[kind] * station.points
    body = np.ascontiguousarray(values)
    if body.nbytes != width:
        raise ValueError(f"{kind} of {station.points} points takes {width} bytes; {body.nbytes} came")
    revision = 1 + (s.scalar(select(func.max(LayerRow.revision)).where(LayerRow.station_id == station.id)) or 0)
    flat, pack, size = body.reshape(-1).view(np.uint8), zstandard.ZstdCompressor(level=-1), LAYERS[kind]
    for first, count in s.execute(select(TileRow.first, TileRow.count).where(TileRow.station_id == station.id)).all():
        data = pack.compress(flat[size * first : size * (first + count)].data)
        row = insert(LayerRow).values(station_id=station.id, first=first, kind=kind, revision=revision, data=data)
        s.execute(row.on_conflict_do_update(index_elements=["station_id", "first", "kind"], set_={"revision": revision, "data": data}))
    station.has_intensity, station.has_rgb = station.has_intensity or kind == "intensity", station.has_rgb or kind == "colour"
    return revision


_COPY_LAYERS = "COPY layer (station_id, first, kind, revision, data) FROM STDIN (FORMAT BINARY)"


def write_points(s: Session, station: Station, scan: Scan, report: Callable[[int, int], None] = lambda d, t: None) -> None:
    """Put a scan's points in their final order and store them as tiles, in the caller's transaction. The station itself is
    only described here: its row is the caller's to add, so that nothing is locked while points are written."""
    order, tiles = arrange(scan.xyz)
    station.points, station.has_rgb, station.has_intensity = len(scan), scan.rgb is not None, scan.intensity is not None
    station.low, station.high = bounds(scan.xyz).astype(float).tolist()
    connection: psycopg.Connection[Any] = s.connection().connection.driver_connection  # type: ignore[assignment]
    layers: list[tuple[str, int, str, int, bytes]] = []  # compressed: a connection takes one copy at a time
    with (
        ThreadPoolExecutor(1) as pool,  # the scanner's grid is packed while tiles are written
        connection.cursor() as cursor,
        cursor.copy("COPY tile (station_id, level, first, count, low, high, spacing, data) FROM STDIN (FORMAT BINARY)") as copy,
    ):
        grid = None if scan.row is None or scan.column is None else pool.submit(_pack_grid, scan.row, scan.column, order)
        copy.set_types(["varchar", "int4", "int8", "int4", "jsonb", "jsonb", "float8", "bytea"])
        for k, (tile, packed) in enumerate(zip(tiles, _packed(tiles, _Columns(scan, order)), strict=True)):
            copy.write_row(
                (station.id, tile.level, tile.first, tile.count, Jsonb(packed.low), Jsonb(packed.high), tile.spacing, packed.body)
            )
            layers += [(station.id, tile.first, kind, 0, body) for kind, body in packed.layers.items()]
            report(k + 1, len(tiles))
    with connection.cursor() as cursor, cursor.copy(_COPY_LAYERS) as copy:
        copy.set_types(["varchar", "int8", "varchar", "int4", "bytea"])
        for row in layers:
            copy.write_row(row)
    if grid is not None:
        s.add(GridRow(station_id=station.id, data=grid.result()))


def tiles_of(s: Session, station_ids: list[str]) -> list[Any]:
    """Tile rows without their bytes, coarse first."""
    q = select(TileRow.id, TileRow.station_id, TileRow.level, TileRow.first, TileRow.count, TileRow.low, TileRow.high, TileRow.spacing)
    return list(s.execute(q.where(TileRow.station_id.in_(station_ids)).order_by(TileRow.level, TileRow.first)))


def revisions_of(s: Session, station_ids: list[str]) -> dict[str, int]:
    """The newest revision of any layer of each station that has been written again."""
    q = select(LayerRow.station_id, func.max(LayerRow.revision)).where(LayerRow.station_id.in_(station_ids), LayerRow.revision > 0)
    return dict(s.execute(q.group_by(LayerRow.station_id)).tuples().all())


def tile_of(s: Session, project_id: str, station_id: str, first: int) -> tuple[Any, ...] | None:
    """(first, count, geometry, intensity, colour) of a tile that is in sight, as ``for_browser`` takes it."""
    bright, colour = aliased(LayerRow), aliased(LayerRow)
    q = select(TileRow.first, TileRow.count, TileRow.data, bright.data, colour.data)
    q = q.join(Station, Station.id == TileRow.station_id).join(Project, Project.id == Station.project_id)
    for layer, kind in ((bright, "intensity"), (colour, "colour")):
        same = (layer.station_id == TileRow.station_id, layer.first == TileRow.first, layer.kind == kind)
        q = q.outerjoin(layer, and_(*same))
    row = s.execute(q.where(Project.id == project_id, Station.id == station_id, TileRow.first == first)).first()
    return None if row is None else tuple(row)


def first_tiles(s: Session, project_id: str, most: int = 1) -> list[tuple[str, int]]:
    """The coarsest tiles, as (station, first), of the station that is shown first: the first of the largest part."""
    q = select(TileRow.station_id, TileRow.first).join(Station, Station.id == TileRow.station_id).where(Station.project_id == project_id)
    tied = select(Station.part_id, func.count().label("n")).where(Station.project_id == project_id, ~Station.deleted)
    size = tied.group_by(Station.part_id).subquery()
    q = q.outerjoin(size, size.c.part_id == Station.part_id)
    order = (func.coalesce(size.c.n, 0).desc(), Station.place, Station.name, TileRow.level, TileRow.first)
    return [(station, first) for station, first in s.execute(q.order_by(*order).limit(most))]


_WITH_LAYERS = """SELECT t.first, t.count, t.data, i.data, c.data FROM tile t
    LEFT JOIN layer i ON i.station_id = t.station_id AND i.first = t.first AND i.kind = 'intensity'
    LEFT JOIN layer c ON c.station_id = t.station_id AND c.first = t.first AND c.kind = 'colour'"""


def read_tiles(ids: list[int] | None = None, station_id: str | None = None, most_level: int = 99) -> Iterator[TilePoints]:
    """Tiles by id, or all of a station, in order, through a binary cursor. Damaged when one that was asked for is missing."""
    with psycopg.connect(settings().database) as c, c.cursor(binary=True) as cursor:
        if ids is not None:
            for k in range(0, len(ids), 32):
                cursor.execute(f"{_WITH_LAYERS} WHERE t.id = ANY(%s) ORDER BY t.first", (ids[k : k + 32],))
                if cursor.rowcount != len(set(ids[k : k + 32])):
                    raise Damaged("points of a station are missing in the store", subject="tiles", remedy=_REMEDY)
                for row in cursor:
                    yield unpack(*row)
        else:
            cursor.execute(f"{_WITH_LAYERS} WHERE t.station_id = %s AND t.level <= %s ORDER BY t.first", (station_id, most_level))
            for row in cursor:
                yield unpack(*row)


_REMEDY = "restore the database from a copy, or bring the scan's file in again"


def read_station(s: Session, station: Station, with_grid: bool = True) -> Scan:
    """All points of a station in their final order. Damaged unless its tiles cover exactly its points."""
    n, end = station.points, 0
    xyz, intensity, rgb = np.empty((n, 3), np.float32), np.empty(n, np.float32), np.empty((n, 3), np.uint8)
    for t in read_tiles(station_id=station.id):
        if t.first != end or t.first + len(t.xyz) > n:
            break
        end = t.first + len(t.xyz)
        xyz[t.first : end], rgb[t.first : end] = t.xyz, t.rgb
        intensity[t.first : end] = t.intensity / np.float32(65535)
    else:
        if end == n:
            row = column = None
            grid = s.get(GridRow, station.id) if with_grid else None
            if grid is not None:
                row, column = _unpack_grid(grid.data, n)
            return Scan(xyz, intensity if station.has_intensity else None, rgb if station.has_rgb else None, row, column)
    raise Damaged(f"{station.name}: {end:,} of {n:,} points are in the store", subject=station.name, remedy=_REMEDY)


def pack_indices(index: NDArray[np.int64]) -> bytes:
    """Sorted indices as compressed differences."""
    return zstandard.ZstdCompressor(level=3).compress(np.diff(index, prepend=0).astype(np.uint32).tobytes())


def unpack_indices(data: bytes, count: int) -> NDArray[np.int64]:
    body = zstandard.ZstdDecompressor().decompress(data, max_output_size=4 * count + 64)
    return np.cumsum(np.frombuffer(body, np.uint32).astype(np.int64))


Marks = list[tuple[int, bytes]]


def marks_of(s: Session, station_id: str) -> Marks:
    """What active edits mark of a station, as it is stored: (count, packed indices) of each."""
    q = select(EditDelta.count, EditDelta.data).join(Edit, Edit.id == EditDelta.edit_id)
    return [(n, data) for n, data in s.execute(q.where(EditDelta.station_id == station_id, Edit.active))]


def touched_by(s: Session, station_id: str, edits: list[str]) -> NDArray[np.int64]:
    """Sorted indices of a station that any of the edits names, active or not."""
    q = select(EditDelta.count, EditDelta.data).where(EditDelta.station_id == station_id, EditDelta.edit_id.in_(edits))
    found = [unpack_indices(data, count) for count, data in s.execute(q)]
    return np.unique(np.concatenate(found)) if found else np.zeros(0, np.int64)


def mask_of(marks: Marks, points: int) -> NDArray[np.bool_]:
    """(points,) bool: which points the marks name."""
    mask = np.zeros(points, bool)
    for count, data in marks:
        mask[unpack_indices(data, count)] = True
    return mask


def deleted_mask(s: Session, station: Station) -> NDArray[np.bool_]:
    """(points,) bool: which points any active edit marks as deleted."""
    return mask_of(marks_of(s, station.id), station.points)


__all__ = [
    "Marks",
    "Tile",
    "TilePoints",
    "deleted_mask",
    "first_tiles",
    "for_browser",
    "marks_of",
    "mask_of",
    "pack_indices",
    "read_station",
    "read_tiles",
    "revisions_of",
    "tiles_of",
    "touched_by",
    "unpack",
    "unpack_indices",
    "write_layer",
    "write_points",
]
