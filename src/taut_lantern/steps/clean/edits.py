"""Delete points by a lasso, a crop box for what is delivered: marks over the points, never a rewrite."""

from __future__ import annotations

import base64
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.clean.select import Box, Lasso
from ...core.errors import BadInput, Conflict
from ...site.common import Array, Progress, clean_name, finite, get_project, heavy, matrix, owned, settled, state_of, stations_of, still
from ...site.parts import stations_in, wanted
from ...site.visible import active_box, box_in_part
from ...store import journal
from ...store.db import GONE, session, snapshot
from ...store.marks import deleted_mask, pack_indices, touched_by, unpack_indices
from ...store.models import CropBox, Edit, EditDelta, Station
from ...store.queue import enqueue
from ...store.tiles import read_tiles, tiles_of

AT_ONCE = 30_000_000  # points looked through in a request; more is work for the background


def _candidates(s: Session, station: Station, lasso: Lasso) -> tuple[list[int], int]:
    """Tiles of a station that may hold points inside the lasso, and how many points they hold."""
    t = matrix(station.pose)
    x0, y0 = lasso.outline.min(axis=0)
    x1, y1 = lasso.outline.max(axis=0)
    ids, points = [], 0
    for r in tiles_of(s, [station.id]):
        corner = frames.apply(
            t, np.array([[x, y, z] for x in (r.low[0], r.high[0]) for y in (r.low[1], r.high[1]) for z in (r.low[2], r.high[2])])
        )
        clip = corner @ lasso.view[:, :3].T + lasso.view[:, 3]
        if (clip[:, 3] > 1e-6).all():
            flat = clip[:, :2] / clip[:, 3:]
            if flat[:, 0].max() < x0 or flat[:, 0].min() > x1 or flat[:, 1].max() < y0 or flat[:, 1].min() > y1:
                continue
        elif (clip[:, 3] <= 1e-6).all():
            continue
        ids.append(r.id)
        points += r.count
    return ids, points


def _tiles_inside(s: Session, station: Station, ids: list[int], lasso: Lasso, box: Box | None) -> Iterator[tuple[np.ndarray, np.ndarray]]:
    """(indices, places in the part) of the living points inside the lasso (and the crop box), tile by tile."""
    t = matrix(station.pose)
    dead = deleted_mask(s, station) if ids else None
    for tile in read_tiles(ids, kinds=()):
        p = frames.apply(t, tile.xyz)
        inside = lasso.inside(p)
        if box is not None:
            inside &= box.inside(p)
        if dead is not None:
            inside &= ~dead[tile.first : tile.first + len(p)]
        if inside.any():
            yield np.nonzero(inside)[0] + tile.first, p[inside]


def lasso_indices(s: Session, station: Station, ids: list[int], lasso: Lasso, box: Box | None) -> np.ndarray:
    """Sorted indices of the living points in these tiles inside the lasso (and the crop box)."""
    found = [index for index, _ in _tiles_inside(s, station, ids, lasso, box)]
    return np.sort(np.concatenate(found)) if found else np.zeros(0, np.int64)


def _in_front(
    s: Session, tiles: list[tuple[Station, list[int], int]], lasso: Lasso, box: Box | None, progress: Progress
) -> list[tuple[str, np.ndarray]]:
    """Of each station the sorted indices of what goes of the things in front: known once all stations were looked through."""
    found: list[tuple[str, np.ndarray, np.ndarray]] = []
    for k, (station, ids, _) in enumerate(tiles):
        progress.report(f"looking for the front in {station.name}", k, len(tiles))
        progress.check()
        found += [(station.id, index, p) for index, p in _tiles_inside(s, station, ids, lasso, box)]
    if not found:
        return []
    goes = lasso.in_front(np.concatenate([p for _, _, p in found]))
    out: dict[str, list[np.ndarray]] = {}
    for (x, index, _), own in zip(found, np.split(goes, np.cumsum([len(i) for _, i, _ in found])[:-1]), strict=True):
        out.setdefault(x, []).append(index[own])
    return [(x, index) for x, some in out.items() if len(index := np.sort(np.concatenate(some)))]


def _lasso(view: list[float], outline: list[list[float]], front: float | None) -> Lasso:
    if len(outline) > 5000:
        raise BadInput("the outline has too many corners", subject="outline", remedy="draw it more coarsely")
    return Lasso(np.array(finite(view, 16, "the view")).reshape(4, 4), np.array(outline, dtype=float).reshape(-1, 2), front)


@dataclass(frozen=True)
class Inside:
    """What an outline takes in, of one state of the project. parts: (station, sorted indices), None when it is too much to
    be looked through in a request."""

    state: int
    parts: list[tuple[str, np.ndarray]] | None

    @property
    def count(self) -> int | None:
        return None if self.parts is None else sum(len(i) for _, i in self.parts)


def _inside(s: Session, project_id: str, lasso: Lasso, station_ids: list[str], most: float, progress: Progress = Progress()) -> Inside:
    get_project(s, project_id)
    stations = [x for x in stations_of(s, project_id) if x.id in set(station_ids)]
    if len({x.part_id for x in stations}) > 1:
        raise BadInput(
            "the stations are of several parts, which do not share coordinates",
            subject="stations",
            remedy="show one part of the network, and draw round its points",
            code="several_parts",
        )
    state = state_of(s, project_id)
    box = active_box(s, project_id, stations[0].part_id) if stations else None
    tiles = [(x, *_candidates(s, x, lasso)) for x in stations]
    if sum(n for _, _, n in tiles) > most:
        return Inside(state, None)
    if lasso.front is not None:
        return Inside(state, _in_front(s, tiles, lasso, box, progress))
    parts = []
    for k, (station, ids, _) in enumerate(tiles):
        progress.report(f"looking through {station.name}", k, len(tiles))
        progress.check()
        index = lasso_indices(s, station, ids, lasso, box)
        if len(index):
            parts.append((station.id, index))
    return Inside(state, parts)


def _said(found: Inside, edit: str | None = None, job: str | None = None) -> dict[str, Any]:
    return {"edit": edit, "count": found.count, "stations": [x for x, _ in found.parts or []], "job": job}


def count_in_lasso(
    project_id: str, view: list[float], outline: list[list[float]], station_ids: list[str], front: float | None = None
) -> dict[str, Any]:
    """How many living points an outline takes in, before anything is deleted; None when it is too much to be counted here. With ``front``
    also which they are, by station, as :func:`marks` gives it."""
    lasso = _lasso(view, outline, front)
    with heavy(), snapshot() as s:
        found = _inside(s, project_id, lasso, station_ids, AT_ONCE)
        taken = {}
        for x, index in found.parts or [] if front is not None else []:
            mask = np.zeros(s.get_one(Station, x).points, bool)
            mask[index] = True
            taken[x] = base64.b64encode(_bits(s, x, mask, index)).decode()
        return _said(found) | {"taken": taken}


def delete_in_lasso(
    project_id: str,
    view: list[float],
    outline: list[list[float]],
    station_ids: list[str],
    expected: int | None = None,
    front: float | None = None,
) -> dict[str, Any]:
    """Mark as deleted what lies inside the outline as the pane showed it, of the stations that were visible.

    front: metres; only the front surface goes, this deep. expected: the count that whoever asks was shown; Conflict when it is
    another now. Too much for a request becomes a job.
    """
    lasso = _lasso(view, outline, front)

    def commit(found: Inside) -> dict[str, Any]:
        if found.parts is None:
            with session() as s:
                what = {"view": view, "outline": outline, "stations": station_ids, "front": front}
                return _said(found, job=enqueue(s, project_id, "lasso", "Deleting the points inside an outline", **what).id)
        return _said(found, _mark(project_id, found, expected, Progress()))

    with heavy():
        return settled(lambda s: _inside(s, project_id, lasso, station_ids, AT_ONCE), commit, project_id)


def delete_job(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """The same for any number of points."""
    lasso = _lasso(params["view"], params["outline"], params.get("front"))

    def compute(s: Session) -> Inside:
        return _inside(s, project_id, lasso, params["stations"], np.inf, progress)

    return settled(compute, lambda found: {"edit": _mark(project_id, found, None, progress), "count": found.count}, project_id)


def _mark(project_id: str, found: Inside, expected: int | None, progress: Progress) -> str:
    parts, total = found.parts or [], found.count or 0
    packed = [(x, len(index), pack_indices(index)) for x, index in parts]
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
        place = (c.s.scalar(select(func.count(Edit.id)).where(Edit.project_id == project_id)) or 0) + 1
        edit = Edit(project_id=project_id, title=f"Deleted {total:,} points", count=total, place=place)
        c.title = edit.title
        c.s.add(edit)
        c.s.flush()
        c.s.add_all(EditDelta(edit_id=edit.id, station_id=x, count=n, data=data) for x, n, data in packed)
        progress.conclude(c.s, {"edit": edit.id, "count": total})
        return edit.id


def switch_edit(project_id: str, edit_id: str, active: bool, version: int | None) -> None:
    """Bring deleted points back, or delete them again."""
    with journal.change(project_id, "", topic="edits") as c:
        edit = owned(c.s, Edit, project_id, edit_id, "edit")
        journal.checked_version(edit, version, edit.title)
        if edit.proposed:
            take(c, edit)
            return
        edit.active = active
        c.title = f"{edit.title} again" if active else f"Brought back {edit.count:,} points"


def take(c: journal.Change, find: Edit) -> int:
    """Delete what a filter found and somebody said yes to: what is living of it now, so that no point is counted twice. The find gives
    way to the deletion. Returns how many points."""
    parts = []
    for delta in list(c.s.scalars(select(EditDelta).where(EditDelta.edit_id == find.id).order_by(EditDelta.station_id))):
        index = unpack_indices(delta.data, delta.count)
        dead = deleted_mask(c.s, c.s.get_one(Station, delta.station_id, execution_options=GONE))
        if len(index := index[~dead[index]]):
            parts.append((delta.station_id, index))
    count = sum(len(index) for _, index in parts)
    c.remove(find)
    c.title = f"Deleted {count:,} points: {find.title}"
    if count:
        row = Edit(project_id=find.project_id, title=find.title, count=count, place=find.place, kind=find.kind, detail=find.detail)
        c.s.add(row)
        c.s.flush()
        c.s.add_all(EditDelta(edit_id=row.id, station_id=x, count=len(i), data=pack_indices(i)) for x, i in parts)
    c.s.flush()
    return count


def marks(project_id: str, station_id: str, changed: list[str] | None = None) -> bytes:
    """Which points of a station are deleted, tile by tile: those tiles that have some, or those that the edits ``changed``
    touch, whether they are deleted now or not.

    Each tile: its first point (int64), its number of points (uint32), then one bit per point, the first in the lowest bit.
    """
    with session() as s:
        station = owned(s, Station, project_id, station_id, "station")
        mask = deleted_mask(s, station)
        touched = np.nonzero(mask)[0] if changed is None else touched_by(s, station_id, changed)
        return _bits(s, station_id, mask, touched)


def _bits(s: Session, station_id: str, mask: np.ndarray, touched: np.ndarray) -> bytes:
    """A mask over a station's points, of those tiles that hold one of the ``touched`` points, as :func:`marks` gives it."""
    rows = sorted((int(r.first), int(r.count)) for r in tiles_of(s, [station_id]))
    if not rows:
        return b""
    first = np.array([f for f, _ in rows])
    out = []
    for k in np.unique(np.searchsorted(first, touched, side="right") - 1):
        at, count = rows[int(k)]
        out.append(np.int64(at).tobytes() + np.uint32(count).tobytes() + np.packbits(mask[at : at + count], bitorder="little").tobytes())
    return b"".join(out)


def set_box(
    project_id: str,
    name: str,
    centre: list[float],
    half: list[float],
    yaw: float,
    box_id: str | None = None,
    version: int | None = None,
    active: bool = True,
    part_id: str | None = None,
) -> str:
    """Make a crop box in a part, or change one; centre and half (3,) metres, yaw radians, in the part's frame. Only one of a
    part is active at a time."""
    centre, half = finite(centre, 3, "the box's centre"), finite(half, 3, "the box's half size")
    if min(half) <= 0 or not np.isfinite(yaw):
        raise BadInput("a crop box needs a size above zero in every direction", subject=name, remedy="check its limits")
    with journal.change(project_id, f"Set the crop box {clean_name(name, 'box')}", topic="edits") as c:
        if box_id:
            row = owned(c.s, CropBox, project_id, box_id, "crop box")
            journal.checked_version(row, version, f"the crop box {row.name}")
        else:
            row = CropBox(project_id=project_id, part_id=wanted(c.s, c.project, part_id))
        if active:
            q = select(CropBox).where(CropBox.project_id == project_id, CropBox.part_id == row.part_id, CropBox.active)
            for other in c.s.scalars(q):
                if other.id != box_id:
                    other.active = False
        if box_id is None or box_in_part(row) != (centre, half, float(yaw)):  # given in the part as it is now
            row.centre, row.half, row.yaw, row.T_part_base = centre, half, float(yaw), None
        row.name, row.active = clean_name(name, "box"), active
        c.s.add(row)
        c.s.flush()
        return str(row.id)


def remove_box(project_id: str, box_id: str, version: int | None = None) -> None:
    with journal.change(project_id, "Removed a crop box", topic="edits") as c:
        row = owned(c.s, CropBox, project_id, box_id, "crop box")
        journal.checked_version(row, version, f"the crop box {row.name}")
        c.title = f"Removed the crop box {row.name}"
        c.remove(row)


def propose_box(project_id: str, part_id: str | None = None) -> dict[str, object]:
    """A box round all points of a part, turned to the dominant wall direction (5th to 95th percentile of coarse points)."""
    with session() as s:
        part = wanted(s, get_project(s, project_id), part_id)
        parts: list[Array] = []
        for station in stations_in(stations_of(s, project_id), part):
            for tile in read_tiles(station_id=station.id, most_level=0, kinds=()):
                parts.append(frames.apply(matrix(station.pose), tile.xyz))
    if not parts:
        raise BadInput("there are no stations yet", subject="crop box", remedy="bring in a scan first")
    p = np.concatenate(parts)
    best = (np.inf, 0.0)
    for yaw in np.radians(np.arange(0, 90, 1.0)):
        q = frames.apply(frames.pose(-float(yaw)), p)
        extent = np.percentile(q, 97, axis=0) - np.percentile(q, 3, axis=0)
        best = min(best, (float(extent[0] * extent[1]), float(yaw)))
    q = frames.apply(frames.pose(-best[1]), p)
    low, high = np.percentile(q, 1, axis=0), np.percentile(q, 99, axis=0)
    centre = frames.apply(frames.pose(best[1]), ((low + high) / 2)[None])[0]
    return {"centre": centre.tolist(), "half": ((high - low) / 2 + 0.1).tolist(), "yaw": best[1]}


def list_boxes(s: Session, project_id: str) -> list[dict[str, Any]]:
    """Crop boxes of all parts, each in the coordinates of its part."""
    out = []
    for row in s.scalars(select(CropBox).where(CropBox.project_id == project_id).order_by(CropBox.name, CropBox.id)):
        centre, half, yaw = box_in_part(row)
        own = {"id": row.id, "version": row.version, "part": row.part_id, "name": row.name, "active": row.active}
        out.append({**own, "centre": centre, "half": half, "yaw": yaw})
    return out


def list_edits(s: Session, project_id: str) -> list[dict[str, Any]]:
    """Deletions, the latest first, and the stations that each is in."""
    get_project(s, project_id)
    rows = list(s.scalars(select(Edit).where(Edit.project_id == project_id).order_by(Edit.place.desc())))
    inside: dict[str, list[str]] = {}
    q = select(EditDelta.edit_id, EditDelta.station_id).where(EditDelta.edit_id.in_([e.id for e in rows]))
    for edit, station in s.execute(q.order_by(EditDelta.station_id)):
        inside.setdefault(edit, []).append(station)
    shown = ("id", "version", "title", "count", "active", "kind", "proposed", "detail")
    return [{**{k: getattr(e, k) for k in shown}, "stations": inside.get(e.id, [])} for e in rows]
