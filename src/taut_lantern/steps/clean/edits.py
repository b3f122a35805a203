"""Edits over the points: deletions and classes. Each is a mark that can be switched off; points are never rewritten."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.errors import BadInput, Conflict
from ...site.common import Progress, get_project, heavy, owned, settled, still
from ...store import journal
from ...store.db import GONE, actor, session
from ...store.marks import (
    class_marks,
    classes_from,
    counts_of,
    deleted_mask,
    hidden_mask,
    keep_set,
    locked_mask,
    next_place,
    packed,
    read_set,
    touched_by,
    zones_of,
)
from ...store.models import Edit, Station, now
from ...store.queue import enqueue
from ...store.tiles import tiles_of
from . import selecting
from .classes import name_of
from .looking import Found, look
from .selecting import AT_ONCE
from .shapes import Chosen, drawn

Index = NDArray[np.int64]
TOO_MUCH = 0.2  # share of a station that is deleted without a question


def _lasso(view: list[float], outline: list[list[float]], front: float | None) -> Chosen:
    line = drawn({"kind": "lasso", "view": view, "outline": outline, "front": front})
    return Chosen(line, line.in_front if front is not None else None)


def _said(found: Found, edit: str | None = None, job: str | None = None) -> dict[str, Any]:
    return {"edit": edit, "count": found.count, "stations": sorted(found.parts or {}), "job": job, "spared": found.spared}


def delete_in_lasso(
    project_id: str,
    view: list[float],
    outline: list[list[float]],
    station_ids: list[str],
    expected: int | None = None,
    front: float | None = None,
) -> dict[str, Any]:
    """Select by an outline and delete, in one: mark as deleted what lies inside it as the pane showed it, of the stations that were visible.

    front: metres; only the front surface goes, this deep. expected: the count that whoever asks was shown; Conflict when it is
    another now. Too much for a request becomes a job.
    """
    shape = _lasso(view, outline, front)

    def commit(found: Found) -> dict[str, Any]:
        if found.parts is None:
            with session() as s:
                what = {"view": view, "outline": outline, "stations": station_ids, "front": front}
                return _said(found, job=enqueue(s, project_id, "lasso", "Deleting the points inside an outline", **what).id)
        return _said(found, _mark(project_id, found, expected, Progress()))

    with heavy():
        return settled(lambda s: look(s, project_id, shape, station_ids, most=AT_ONCE), commit, project_id)


def delete_job(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """The same for any number of points."""
    shape = _lasso(params["view"], params["outline"], params.get("front"))

    def compute(s: Session) -> Found:
        return look(s, project_id, shape, params["stations"], progress=progress)

    return settled(compute, lambda found: {"edit": _mark(project_id, found, None, progress), "count": found.count}, project_id)


def _mark(project_id: str, found: Found, expected: int | None, progress: Progress) -> str:
    total, parts = found.count or 0, packed(found.parts or {})
    with journal.change(project_id, "", topic="edits") as c:
        still(c.s, project_id, found.state)
        if total == 0:
            raise BadInput(
                "no points lie inside the outline", subject="outline", remedy="draw round visible points", code="nothing_selected"
            )
        if expected is not None and total != expected:
            raise Conflict(
                f"{total:,} points lie inside the outline now, not {expected:,}",
                subject="outline",
                remedy="look again, and delete them if you still want to",
                code="count_changed",
            )
        edit = made(c, f"Deleted {total:,} points", total, parts)
        progress.conclude(c.s, {"edit": edit.id, "count": total})
        return edit.id


def made(c: journal.Change, title: str, count: int, parts: list[tuple[str, int, bytes]], **more: Any) -> Edit:
    """A new edit with its points, which the change is named after."""
    project_id = c.project.id
    edit = Edit(project_id=project_id, title=title, count=count, points=keep_set(c.s, project_id, parts))
    for key, value in ({"place": next_place(c.s, project_id)} | more).items():
        setattr(edit, key, value)
    edit.detail = {**(edit.detail or {}), "by": actor.get(), "when": now().isoformat(timespec="seconds")}
    c.title = title
    c.s.add(edit)
    c.s.flush()
    return edit


def switch_edit(project_id: str, edit_id: str, active: bool, version: int | None) -> None:
    """Bring deleted points back, or delete them again; take a class away, or give it again."""
    with journal.change(project_id, "", topic="edits") as c:
        edit = owned(c.s, Edit, project_id, edit_id, "edit")
        journal.checked_version(edit, version, edit.title)
        if edit.proposed:
            take(c, edit)
            return
        if active and edit.does == "delete":
            _not_locked(c.s, edit)
        edit.active = active
        back = "Brought back {:,} points" if edit.does == "delete" else "Took the class of {:,} points away"
        c.title = f"{edit.title} again" if active else back.format(edit.count)


def _not_locked(s: Session, edit: Edit) -> None:
    for x, index in read_set(s, edit.points).items():
        station = s.get_one(Station, x, execution_options=GONE)
        if locked := int(locked_mask(s, station)[index].sum()):
            raise Conflict(
                f"{locked:,} of these points lie in a locked zone now",
                subject=edit.title,
                remedy="unlock the zone, or delete the others by a selection",
                code="locked",
            )


def living(s: Session, parts: Mapping[str, Index]) -> dict[str, Index]:
    """Of points by station those that are neither deleted nor locked."""
    out = {}
    for x, index in parts.items():
        station = s.get_one(Station, x, execution_options=GONE)
        free = ~deleted_mask(s, station)
        free &= ~locked_mask(s, station)
        if len(own := index[free[index]]):
            out[x] = own
    return out


def take(c: journal.Change, find: Edit, code: int | None = None) -> int:
    """Delete what a filter found and somebody said yes to: what is living of it now, so that no point is counted twice, and nothing
    that is locked; or give it a class. The find gives way to the edit. Returns how many points."""
    parts = living(c.s, read_set(c.s, find.points))
    count = sum(len(index) for index in parts.values())
    c.remove(find)
    if count and code is not None:
        made(
            c,
            f"{find.title}: class {name_of(c.project, code)}",
            count,
            packed(parts),
            does="class",
            kind=find.kind,
            detail=find.detail | {"class": code},
        )
    elif count:
        made(c, find.title, count, packed(parts), place=find.place, kind=find.kind, detail=find.detail)
    c.title = f"Deleted {count:,} points: {find.title}" if code is None else f"Gave {count:,} points the class {name_of(c.project, code)}"
    c.s.flush()
    return count


@dataclass(frozen=True)
class Left:
    """What a deletion keeps when points are brought back out of it: how many of them, and the rest by station, packed."""

    gone: int
    rest: list[tuple[str, int, bytes]]


def left_of(s: Session, project_id: str, parts: Mapping[str, Index]) -> dict[str, Left]:
    """By deletion that holds some of the points, what is left to it without them. Reads all deletions: to be asked without a lock."""
    out = {}
    for edit in s.scalars(select(Edit).where(Edit.project_id == project_id, Edit.active, Edit.does == "delete")):
        held = read_set(s, edit.points)
        left = {x: np.setdiff1d(index, parts[x], assume_unique=True) if x in parts else index for x, index in held.items()}
        if gone := edit.count - sum(len(index) for index in left.values()):
            out[edit.id] = Left(gone, packed({x: i for x, i in left.items() if len(i)}))
    return out


def restore(c: journal.Change, left: Mapping[str, Left]) -> int:
    """Bring deleted points back, out of whatever deletion they are in: each of these keeps what is left to it. Returns how many."""
    for key, own in left.items():
        edit = c.s.get_one(Edit, key)
        if own.gone == edit.count:
            edit.active = False
        else:
            edit.points = keep_set(c.s, c.project.id, own.rest)
            edit.count -= own.gone
            edit.detail = edit.detail | {"restored": int(edit.detail.get("restored", 0)) + own.gone}
    count = sum(own.gone for own in left.values())
    c.title = f"Brought back {count:,} points inside a selection"
    c.s.flush()
    return count


OF = ("deleted", "hidden", "selected")


def marks(project_id: str, station_id: str, changed: list[str] | None = None, of: str = "deleted") -> bytes:
    """Which points of a station are deleted (or hidden, or selected by whoever asks), tile by tile: those tiles that have some, or those
    that the edits ``changed`` touch, whether they are deleted now or not.

    Each tile: its first point (int64), its number of points (uint32), then one bit per point, the first in the lowest bit.
    """
    with session() as s:
        station = owned(s, Station, project_id, station_id, "station")
        if of == "deleted":
            mask = deleted_mask(s, station)
        else:
            mask = hidden_mask(s, station) if of == "hidden" else selecting.mask(s, station)
        touched = np.nonzero(mask)[0] if changed is None else touched_by(s, station_id, changed)
        return b"".join(
            head + np.packbits(mask[at : at + n], bitorder="little").tobytes() for head, at, n in _tiles(s, station_id, touched)
        )


BY = ("class", "zone")


def kinds(project_id: str, station_id: str, by: str) -> bytes:
    """The class of a station's points, or the place of the zone that each lies in, counted from 1 (of several the last), tile by tile:
    those tiles that have some. Each tile: its first point (int64), its number of points (uint32), then one byte per point."""
    with session() as s:
        station = owned(s, Station, project_id, station_id, "station")
        if by == "class":
            own = classes_from(class_marks(s, station_id), station.points)
        else:
            own = np.zeros(station.points, np.uint8)
            for k, zone in enumerate(z for z in zones_of(s, project_id) if z.kind == "zone"):
                own[read_set(s, zone.points, [station_id]).get(station_id, np.zeros(0, np.int64))] = 1 + k % 255
        return b"".join(head + own[at : at + n].tobytes() for head, at, n in _tiles(s, station_id, np.nonzero(own)[0]))


def _tiles(s: Session, station_id: str, touched: Index) -> list[tuple[bytes, int, int]]:
    """(head, first point, number of points) of the tiles of a station that hold one of the ``touched`` points."""
    rows = sorted((int(r.first), int(r.count)) for r in tiles_of(s, [station_id]))
    if not rows or not len(touched):
        return []
    first = np.array([f for f, _ in rows])
    met = [rows[int(k)] for k in np.unique(np.searchsorted(first, touched, side="right") - 1)]
    return [(np.int64(at).tobytes() + np.uint32(n).tobytes(), at, n) for at, n in met]


def list_edits(s: Session, project_id: str) -> list[dict[str, Any]]:
    """Edits, the latest first, and the stations that each is in."""
    get_project(s, project_id)
    rows = list(s.scalars(select(Edit).where(Edit.project_id == project_id).order_by(Edit.place.desc())))
    inside = counts_of(s, [e.points for e in rows])
    shown = ("id", "version", "title", "count", "active", "kind", "does", "proposed", "detail")
    return [{**{k: getattr(e, k) for k in shown}, "stations": sorted(inside.get(e.points, {}))} for e in rows]
