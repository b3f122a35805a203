"""Marks: sets of a station's points, as sorted indices of the one order of its points, and what they say together of each point.

Deleted points are those of every deletion that is on; hidden ones those of zones that are not shown, with all that is nested in them;
locked ones those of locked zones; the class of a point is that of the last edit that gave it one.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Mapping

import numpy as np
import zstandard
from numpy.typing import NDArray
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core.errors import NotFound
from .db import GONE
from .models import Edit, PointSet, Station, Zone
from .rows import new_id

Index = NDArray[np.int64]
Marks = list[tuple[int, bytes]]


def pack_indices(index: Index) -> bytes:
    """Sorted indices as compressed differences."""
    return zstandard.ZstdCompressor(level=3).compress(np.diff(index, prepend=0).astype(np.uint32).tobytes())


def unpack_indices(data: bytes, count: int) -> Index:
    body = zstandard.ZstdDecompressor().decompress(data, max_output_size=4 * count + 64)
    return np.cumsum(np.frombuffer(body, np.uint32).astype(np.int64))


def keep_set(s: Session, project_id: str, parts: Iterable[tuple[str, int, bytes]]) -> str:
    """Write a set: of each station how many points and the packed indices. Returns its id."""
    own = new_id()
    s.add_all(PointSet(set_id=own, station_id=x, project_id=project_id, count=n, data=data) for x, n, data in parts if n)
    s.flush()
    return own


def packed(parts: Mapping[str, Index]) -> list[tuple[str, int, bytes]]:
    """By station sorted indices, as :func:`keep_set` takes them."""
    return [(x, len(index), pack_indices(index)) for x, index in parts.items()]


def read_set(s: Session, set_id: str, stations: Iterable[str] | None = None) -> dict[str, Index]:
    """The points of a set by station."""
    q = select(PointSet.station_id, PointSet.count, PointSet.data).where(PointSet.set_id == set_id).order_by(PointSet.station_id)
    if stations is not None:
        q = q.where(PointSet.station_id.in_(list(stations)))
    return {x: unpack_indices(data, n) for x, n, data in s.execute(q)}


def counts_of(s: Session, sets: Iterable[str]) -> dict[str, dict[str, int]]:
    """How many points of each station the sets hold."""
    out: dict[str, dict[str, int]] = {}
    q = select(PointSet.set_id, PointSet.station_id, PointSet.count).where(PointSet.set_id.in_(list(sets)))
    for own, station, count in s.execute(q.order_by(PointSet.station_id)):
        out.setdefault(own, {})[station] = count
    return out


def drop_set(s: Session, set_id: str) -> None:
    """Delete a set that nothing recorded names: a step of a selection."""
    s.query(PointSet).filter(PointSet.set_id == set_id).delete()


def marks_of(s: Session, station_id: str) -> Marks:
    """What active deletions mark of a station, as it is stored: (count, packed indices) of each."""
    q = select(PointSet.count, PointSet.data).join(Edit, Edit.points == PointSet.set_id)
    return [(n, data) for n, data in s.execute(q.where(PointSet.station_id == station_id, Edit.active, Edit.does == "delete"))]


def touched_by(s: Session, station_id: str, edits: list[str]) -> Index:
    """Sorted indices of a station that any of the edits names, active or not, taken back by undo too."""
    q = select(PointSet.count, PointSet.data).join(Edit, Edit.points == PointSet.set_id)
    q = q.where(PointSet.station_id == station_id, Edit.id.in_(edits))
    found = [unpack_indices(data, n) for n, data in s.execute(q, execution_options=GONE)]
    return np.unique(np.concatenate(found)) if found else np.zeros(0, np.int64)


def mask_of(marks: Marks, points: int) -> NDArray[np.bool_]:
    """(points,) bool: which points the marks name."""
    mask = np.zeros(points, bool)
    for count, data in marks:
        mask[unpack_indices(data, count)] = True
    return mask


def deleted_mask(s: Session, station: Station) -> NDArray[np.bool_]:
    """(points,) bool: which points any active deletion marks."""
    return mask_of(marks_of(s, station.id), station.points)


def with_deletions(s: Session, station_ids: Iterable[str]) -> set[str]:
    """Of stations those of which any active deletion marks points."""
    q = select(PointSet.station_id).join(Edit, Edit.points == PointSet.set_id).distinct()
    return set(s.scalars(q.where(PointSet.station_id.in_(list(station_ids)), Edit.active, Edit.does == "delete")))


def deletions_of(s: Session, project_id: str) -> str:
    """Names what is deleted in a project: the same as long as that is the same."""
    q = select(Edit.points).where(Edit.project_id == project_id, Edit.active, Edit.does == "delete").order_by(Edit.points)
    return hashlib.sha256(" ".join(s.scalars(q)).encode()).hexdigest()[:32]


def zones_of(s: Session, project_id: str) -> list[Zone]:
    return list(s.scalars(select(Zone).where(Zone.project_id == project_id).order_by(Zone.place, Zone.name)))


def with_nested(zones: list[Zone], chosen: set[str]) -> set[str]:
    """Ids of zones, and of all that are nested in them."""
    found = set(chosen)
    while below := {z.id for z in zones if z.parent_id in found} - found:
        found |= below
    return found


def points_of_zones(s: Session, project_id: str, chosen: Iterable[str]) -> dict[str, Index]:
    """The points of zones and of all that is nested in them, by station. NotFound when one of them is gone."""
    rows = zones_of(s, project_id)
    if set(chosen) - {z.id for z in rows}:
        raise NotFound("a zone that was chosen does not exist any more", subject="zones", remedy="choose others")
    out: dict[str, Index] = {}
    for own in with_nested(rows, set(chosen)):
        held = read_set(s, next(z.points for z in rows if z.id == own))
        out = {x: np.union1d(out.get(x, np.zeros(0, np.int64)), held.get(x, np.zeros(0, np.int64))) for x in {*out, *held}}
    return out


def _in_zones(s: Session, station: Station, which: str, zones: list[Zone] | None) -> Marks:
    zones = zones_of(s, station.project_id) if zones is None else zones
    if which == "apart from even":
        zones = [z for z in zones if z.kind != "even"]
    chosen = with_nested(zones, {z.id for z in zones if (z.locked if which == "locked" else not z.shown)})
    sets = [z.points for z in zones if z.id in chosen]
    q = select(PointSet.count, PointSet.data).where(PointSet.station_id == station.id, PointSet.set_id.in_(sets))
    return [(n, data) for n, data in s.execute(q)] if sets else []


def hidden_mask(s: Session, station: Station, even: bool = True, zones: list[Zone] | None = None) -> NDArray[np.bool_]:
    """(points,) bool: which points lie in a zone that is not shown. even: also those that are only left out at one spacing; zones: those
    of the project, where somebody has asked for them."""
    return mask_of(_in_zones(s, station, "hidden" if even else "apart from even", zones), station.points)


def locked_mask(s: Session, station: Station, zones: list[Zone] | None = None) -> NDArray[np.bool_]:
    """(points,) bool: which points lie in a locked zone."""
    return mask_of(_in_zones(s, station, "locked", zones), station.points)


def class_marks(s: Session, station_id: str) -> list[tuple[int, int, bytes]]:
    """What active edits say of classes in a station: (code, count, packed indices), the last one last."""
    q = select(Edit.detail, PointSet.count, PointSet.data).join(PointSet, Edit.points == PointSet.set_id)
    q = q.where(PointSet.station_id == station_id, Edit.active, Edit.does == "class").order_by(Edit.place, Edit.id)
    return [(int(detail.get("class", 0)), n, data) for detail, n, data in s.execute(q)]


def classes_from(marks: list[tuple[int, int, bytes]], points: int) -> NDArray[np.uint8]:
    """(points,) the class of each, 0 where nobody gave one."""
    out = np.zeros(points, np.uint8)
    for code, count, data in marks:
        out[unpack_indices(data, count)] = code
    return out


def next_place(s: Session, project_id: str) -> int:
    """Where the next edit stands in the list: behind all others, those out of sight too."""
    return 1 + (s.scalar(select(func.coalesce(func.max(Edit.place), 0)).where(Edit.project_id == project_id)) or 0)
