"""Points in and out of the database: tiles (slices of the one order of points) and grids.

A stored tile is geometry: the float32 of x, y and z in planes of equal significance (see core/kernels/planes.py), compressed.
Everything else about its points is a layer beside it with a revision: intensity uint16, colour uint8. What the browser gets is
16 bytes a point, uncompressed, with intensity cut to a byte.
"""

from __future__ import annotations

import json
from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import nullcontext
from dataclasses import dataclass
from itertools import islice
from typing import Any, Protocol

import numpy as np
import psycopg
import zstandard
from numpy.typing import NDArray
from psycopg.types.json import Jsonb
from sqlalchemy import Text, and_, cast, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.orm import Session, aliased

from ..core.kernels import planes
from ..core.kernels.order import bounds
from ..core.scan.hierarchy import Tree, tree
from ..core.scan.octree import Tile, arrange
from ..core.scan.scan import Scan
from ..settings import settings
from .db import Damaged
from .models import GridRow, LayerRow, Project, Station, TileRow

BYTES = 17  # a point, before compression: 12 geometry, 2 intensity, 3 colour
PLANES = b"\x01"  # before the compressed bytes: x, y, z are in planes; tiles without it hold them plainly
GEOMETRY = b"\x02"  # the same, and nothing but geometry; tiles of earlier versions hold intensity and colour too
LAYERS = {"intensity": 2, "colour": 3, "class": 1, "normal": 3}  # bytes a point of what can be written later
BATCH = 32  # tiles that go to the database at a time
AHEAD = BATCH + 8  # tiles packed ahead


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


class Source(Protocol):
    """A scan in its final order: tile by tile."""

    points: int
    low: NDArray[Any]
    high: NDArray[Any]
    has_intensity: bool
    has_rgb: bool
    tiles: list[Tile]

    def part(self, tile: Tile) -> Scan:
        """The points of a tile, in their order."""


class InMemory:
    """A scan put into its order by an index."""

    def __init__(self, scan: Scan) -> None:
        self._scan = Scan(np.ascontiguousarray(scan.xyz, np.float32), scan.intensity, scan.rgb, scan.row, scan.column)
        self._order, self.tiles = arrange(self._scan.xyz)
        self.low, self.high = bounds(self._scan.xyz)
        self.points, self.has_intensity, self.has_rgb = len(scan), scan.intensity is not None, scan.rgb is not None

    def part(self, tile: Tile) -> Scan:
        return self._scan.take(self._order[tile.first : tile.first + tile.count])


def _pack(source: Source, tile: Tile) -> _Packed:
    scan, n = source.part(tile), tile.count
    none = np.empty(0, np.float32)
    body, colours = np.zeros(BYTES * n, np.uint8), none.reshape(0, 3).astype(np.uint8)
    intensity, rgb = (none if scan.intensity is None else scan.intensity), (colours if scan.rgb is None else scan.rgb)
    low, high = planes.split(scan.xyz, intensity, rgb, body).astype(float).tolist()
    pack, layers = zstandard.ZstdCompressor(level=-1), {}
    if scan.intensity is not None:
        layers["intensity"] = pack.compress(body[12 * n : 14 * n].data)
    if scan.rgb is not None:
        layers["colour"] = pack.compress(body[14 * n :].data)
    if scan.row is not None and scan.column is not None:
        layers["grid"] = _pack_grid(scan.row, scan.column)
    return _Packed(low, high, GEOMETRY + pack.compress(body[: 12 * n].data), layers)


def _packed(source: Source) -> Iterator[tuple[Tile, _Packed]]:
    """Each tile packed, some ahead in two more threads while the database takes those before."""
    with ThreadPoolExecutor(2) as pool:
        ahead = deque((t, pool.submit(_pack, source, t)) for t in source.tiles[:AHEAD])
        for k in range(len(source.tiles)):
            if k + AHEAD < len(source.tiles):
                ahead.append((source.tiles[k + AHEAD], pool.submit(_pack, source, source.tiles[k + AHEAD])))
            tile, packed = ahead.popleft()
            yield tile, packed.result()


def _pack_grid(row: NDArray[np.int32], column: NDArray[np.int32]) -> bytes:
    """Row and column of each point in planes, of two bytes each when they fit, else of four."""
    wide = 2 if max(int(row.max(initial=0)), int(column.max(initial=0))) < 1 << 16 else 4
    body = np.empty((2, wide * len(row)), np.uint8)
    for values, part in ((row, body[0]), (column, body[1])):
        planes.split_whole(np.ascontiguousarray(values, np.int32), part)
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


_COPY_TILES = "COPY tile (station_id, level, first, count, low, high, spacing, data) FROM STDIN (FORMAT BINARY)"
_COPY_LAYERS = "COPY layer (station_id, first, kind, revision, data) FROM STDIN (FORMAT BINARY)"


def write_points(s: Session, station: Station, source: Source, report: Callable[[int, int], None] = lambda d, t: None) -> None:
    """Store a scan in its final order as tiles and layers, in the caller's transaction. The station itself is only described
    here: its row is the caller's to add, so that nothing is locked while points are written."""
    station.points, station.has_rgb, station.has_intensity = source.points, source.has_rgb, source.has_intensity
    station.low, station.high = source.low.astype(float).tolist(), source.high.astype(float).tolist()
    connection: psycopg.Connection[Any] = s.connection().connection.driver_connection  # type: ignore[assignment]
    packed, done = _packed(source), 0
    while batch := list(islice(packed, BATCH)):  # a connection takes one copy at a time: tiles and layers by turns
        with connection.cursor() as cursor:
            with cursor.copy(_COPY_TILES) as copy:
                copy.set_types(["varchar", "int4", "int8", "int4", "jsonb", "jsonb", "float8", "bytea"])
                for t, p in batch:
                    copy.write_row((station.id, t.level, t.first, t.count, Jsonb(p.low), Jsonb(p.high), t.spacing, p.body))
            with cursor.copy(_COPY_LAYERS) as copy:
                copy.set_types(["varchar", "int8", "varchar", "int4", "bytea"])
                for t, p in batch:
                    for kind, body in p.layers.items():
                        copy.write_row((station.id, t.first, kind, 0, body))
        done += len(batch)
        report(done, len(source.tiles))


def tiles_of(s: Session, station_ids: list[str]) -> list[Any]:
    """Tile rows without their bytes, coarse first."""
    q = select(TileRow.id, TileRow.station_id, TileRow.level, TileRow.first, TileRow.count, TileRow.low, TileRow.high, TileRow.spacing)
    return list(s.execute(q.where(TileRow.station_id.in_(station_ids)).order_by(TileRow.level, TileRow.first)))


@dataclass(frozen=True)
class Boxes:
    """Tiles of a station without their points, coarse first: id, level, first point and number (n,) each, and the corners of the boxes
    that hold them (n, 3), station frame."""

    id: NDArray[np.int64]
    level: NDArray[np.int64]
    first: NDArray[np.int64]
    count: NDArray[np.int64]
    low: NDArray[np.float64]
    high: NDArray[np.float64]


def boxes_of(s: Session, station_ids: list[str]) -> dict[str, Boxes]:
    """The tiles of each of many stations, in one question."""
    ends = (cast(TileRow.low, Text), cast(TileRow.high, Text))  # read at once below: one by one they take ten times as long
    q = select(TileRow.station_id, TileRow.id, TileRow.level, TileRow.first, TileRow.count, *ends)
    rows = s.execute(q.where(TileRow.station_id.in_(station_ids)).order_by(TileRow.station_id, TileRow.level, TileRow.first)).all()
    if not rows:
        names, columns = (), [()] * 4
        low = high = np.zeros((0, 3))
    else:
        names, *columns, lows, highs = zip(*rows, strict=True)
        low, high = (np.array(json.loads(f"[{','.join(x)}]"), float) for x in (lows, highs))
    numbers = [np.array(x, np.int64) for x in columns]
    of = np.array(names, str)
    out = {}
    for x in station_ids:
        own = slice(int(np.searchsorted(of, x)), int(np.searchsorted(of, x, side="right")))
        out[x] = Boxes(numbers[0][own], numbers[1][own], numbers[2][own], numbers[3][own], low[own], high[own])
    return out


def tree_of(s: Session, station_id: str) -> Tree:
    """The tree of a station's tiles, in the order of their points."""
    q = select(TileRow.level, TileRow.count, TileRow.low, TileRow.high, TileRow.spacing)
    rows = s.execute(q.where(TileRow.station_id == station_id).order_by(TileRow.first)).tuples().all()
    levels, counts, low, high, spacing = zip(*rows, strict=True) if rows else ((), (), (), (), ())
    coarsest = float(spacing[0]) * (1 << int(levels[0])) if rows else 0.0
    lowest, highest = (np.array(e, np.float32).reshape(-1, 3) for e in (low, high))
    return tree(np.array(levels, np.uint8), np.array(counts, np.uint32), lowest, highest, coarsest)


def roots_of(s: Session, station_ids: list[str]) -> dict[str, tuple[int, float]]:
    """(points, spacing in metres) of the first tile of each station: what can be drawn before its tree is known."""
    q = select(TileRow.station_id, TileRow.count, TileRow.spacing).where(TileRow.station_id.in_(station_ids), TileRow.first == 0)
    return {station: (count, spacing) for station, count, spacing in s.execute(q)}


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


def layer_of(s: Session, project_id: str, station_id: str, first: int, kind: str) -> bytes | None:
    """An attribute of a tile's points as it was written; None when the project has no such tile, or it has no such layer."""
    q = select(LayerRow.data, TileRow.count).join(TileRow, and_(TileRow.station_id == LayerRow.station_id, TileRow.first == LayerRow.first))
    q = q.join(Station, Station.id == LayerRow.station_id).where(Station.project_id == project_id, LayerRow.station_id == station_id)
    row = s.execute(q.where(LayerRow.first == first, LayerRow.kind == kind)).first()
    return None if row is None else _inflated(row[0], LAYERS[kind] * row[1])


def first_stations(s: Session, project_id: str, most: int = 1) -> list[str]:
    """The stations that are shown first: the first of the largest part."""
    tied = select(Station.part_id, func.count().label("n")).where(Station.project_id == project_id, ~Station.deleted)
    size = tied.group_by(Station.part_id).subquery()
    q = select(Station.id).outerjoin(size, size.c.part_id == Station.part_id)
    q = q.where(Station.project_id == project_id, ~Station.deleted, Station.points > 0)
    return list(s.scalars(q.order_by(func.coalesce(size.c.n, 0).desc(), Station.place, Station.name).limit(most)))


Kinds = tuple[str, ...]
BOTH: Kinds = ("intensity", "colour")


def _select(kinds: Kinds) -> str:
    """Tiles with these layers beside their geometry."""
    columns = "".join(f", l{k}.data" for k in range(len(kinds)))
    joins = (
        f" LEFT JOIN layer l{k} ON (l{k}.station_id, l{k}.first, l{k}.kind) = (t.station_id, t.first, '{kind}')"
        for k, kind in enumerate(kinds)
    )
    return f"SELECT t.first, t.count, t.data{columns} FROM tile t{''.join(joins)}"


Row = tuple[int, int, bytes, dict[str, bytes]]  # first, count, geometry, layers


Reader = psycopg.Connection[Any]


def reader() -> Reader:
    """A connection that tiles are read through one after the other, by whoever reads of many stations; theirs to close."""
    return psycopg.connect(settings().database, autocommit=True)


def _rows(kinds: Kinds, ids: list[int] | None, station_id: str | None, most_level: int, through: Reader | None = None) -> Iterator[Row]:
    chosen = _select(kinds)
    with nullcontext(through) if through else psycopg.connect(settings().database) as c, c.cursor(binary=True) as cursor:
        asked = [(f"{chosen} WHERE t.station_id = %s AND t.level <= %s ORDER BY t.first", (station_id, most_level), None)]
        if ids is not None:
            some = [ids[k : k + 32] for k in range(0, len(ids), 32)]
            asked = [(f"{chosen} WHERE t.id = ANY(%s) ORDER BY t.first", (own,), len(set(own))) for own in some]  # type: ignore[misc]
        for query, values, count in asked:
            cursor.execute(query, values)
            if count is not None and cursor.rowcount != count:
                raise Damaged("points of a station are missing in the store", subject="tiles", remedy=_REMEDY)
            for first, n, data, *layers in cursor:
                yield first, n, data, {kind: body for kind, body in zip(kinds, layers, strict=True) if body is not None}


def read_tiles(
    ids: list[int] | None = None, station_id: str | None = None, most_level: int = 99, kinds: Kinds = BOTH, through: Reader | None = None
) -> Iterator[TilePoints]:
    """Tiles by id, or all of a station, in order, through a binary cursor; with the layers asked for, and zeros in place of the
    others. Damaged when one that was asked for is missing."""
    for first, count, data, layers in _rows(kinds, ids, station_id, most_level, through):
        yield unpack(first, count, data, layers.get("intensity"), layers.get("colour"))


_REMEDY = "restore the database from a copy, or bring the scan's file in again"


def read_station(s: Session, station: Station, with_grid: bool = True) -> Scan:
    """All points of a station in their final order. Damaged unless its tiles cover exactly its points."""
    n, end, ungridded = station.points, 0, 0
    xyz, intensity, rgb = np.empty((n, 3), np.float32), np.empty(n, np.float32), np.empty((n, 3), np.uint8)
    row, column = (np.empty(n if with_grid else 0, np.int32) for _ in range(2))
    for first, count, data, layers in _rows((*BOTH, "grid") if with_grid else BOTH, None, station.id, 99):
        if first != end or first + count > n:
            break
        t, end = unpack(first, count, data, layers.get("intensity"), layers.get("colour")), first + count
        xyz[first:end], rgb[first:end] = t.xyz, t.rgb
        intensity[first:end] = t.intensity / np.float32(65535)
        if with_grid and "grid" in layers:
            row[first:end], column[first:end] = _unpack_grid(layers["grid"], count)
        else:
            ungridded += 1
    else:
        if end == n:
            grid: tuple[NDArray[np.int32], NDArray[np.int32]] | tuple[None, None] = (row, column)
            if ungridded:  # no tile has one, or all are of an earlier version, which kept it whole
                whole = s.get(GridRow, station.id) if with_grid else None
                grid = (None, None) if whole is None else _unpack_grid(whole.data, n)
            return Scan(xyz, intensity if station.has_intensity else None, rgb if station.has_rgb else None, *grid)
    raise Damaged(f"{station.name}: {end:,} of {n:,} points are in the store", subject=station.name, remedy=_REMEDY)


__all__ = [
    "Boxes",
    "Reader",
    "Tile",
    "TilePoints",
    "boxes_of",
    "first_stations",
    "for_browser",
    "layer_of",
    "read_station",
    "read_tiles",
    "reader",
    "revisions_of",
    "roots_of",
    "tiles_of",
    "tree_of",
    "unpack",
    "write_layer",
    "write_points",
]
