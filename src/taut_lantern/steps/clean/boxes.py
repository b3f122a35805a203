"""Crop boxes: what is seen, measured and handed over of a part."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.clean.rooms import levels_of, room_of
from ...core.errors import BadInput
from ...site.common import Array, clean_name, finite, get_project, heavy, matrix, owned, stations_of
from ...site.parts import stations_in, wanted
from ...site.visible import box_in_part, outline_in_part, to_box
from ...store import journal
from ...store.db import session, snapshot
from ...store.marks import deleted_mask
from ...store.models import CropBox, Station
from ...store.tiles import read_tiles, tiles_of

MOST_CORNERS = 24  # of a prism: as many as the screen draws


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
    outside: bool = False,
    outline: list[list[float]] | None = None,
    alone: bool = False,
) -> str:
    """Make a crop box in a part, or change one; centre and half (3,) metres, yaw radians, in the part's frame. Several may be on: what
    lies in any is seen, less what lies in those that take away (``outside``). outline (k, 2): of a prism, its corners in plan; alone: the
    others of the part are switched off."""
    centre, half = finite(centre, 3, "the box's centre"), finite(half, 3, "the box's half size")
    if min(half) <= 0 or not np.isfinite(yaw):
        raise BadInput("a crop box needs a size above zero in every direction", subject=name, remedy="check its limits")
    if outline is not None:
        if not 3 <= len(outline) <= MOST_CORNERS:
            raise BadInput(f"a prism has 3 to {MOST_CORNERS} corners", subject=name, remedy="draw it with fewer")
        outline = [finite(corner, 2, "a corner") for corner in outline]
        flat = np.array(outline)
        low, high = flat.min(axis=0), flat.max(axis=0)
        centre = [*((low + high) / 2).tolist(), centre[2]]
        half, yaw = [*np.maximum((high - low) / 2, 1e-3).tolist(), half[2]], 0.0
    with journal.change(project_id, f"Set the crop box {clean_name(name, 'box')}", topic="edits") as c:
        if box_id:
            row = owned(c.s, CropBox, project_id, box_id, "crop box")
            journal.checked_version(row, version, f"the crop box {row.name}")
        else:
            row = CropBox(project_id=project_id, part_id=wanted(c.s, c.project, part_id))
        if active and alone:
            q = select(CropBox).where(CropBox.project_id == project_id, CropBox.part_id == row.part_id, CropBox.active)
            for other in c.s.scalars(q):
                if other.id != box_id:
                    other.active = False
        if box_id is None or (*box_in_part(row), outline_in_part(row)) != (centre, half, float(yaw), outline):  # given in the part of now
            row.centre, row.half, row.yaw, row.T_part_base, row.outline = centre, half, float(yaw), None, outline
        row.name, row.active, row.outside = clean_name(name, "box"), active, outside
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
        out.append({**own, "centre": centre, "half": half, "yaw": yaw, "outside": row.outside, "outline": outline_in_part(row)})
    return out


NEAR = 3_000_000  # points that a room is found in


def room_box(project_id: str, at: list[float], part_id: str | None = None) -> dict[str, Any]:
    """A box round the room in whose floor a place (3,) of the part lies, with the number of its sides that are walls."""
    pick = np.array(finite(at, 3, "the pick"))
    with heavy(), snapshot() as s:
        part = wanted(s, get_project(s, project_id), part_id)
        points, scanner = _coarse(s, stations_in(stations_of(s, project_id), part), pick, 25.0)
    found = room_of(points, pick, scanner=scanner)
    box = found.box
    return {"centre": list(box.centre), "half": list(box.half), "yaw": box.yaw, "sides": found.sides, "ceiling": found.ceiling is not None}


def _coarse(s: Session, stations: list[Station], pick: Array, reach: float) -> tuple[Array, Array]:
    """Living points (n, 3) of the part round a place, as many levels of detail as are worth reading, and from where (n, 3) each was measured."""
    parts, scanners = [np.zeros((0, 3))], [np.zeros((0, 3))]
    tiles = [(x, r) for x in stations for r in tiles_of(s, [x.id])]
    near = []
    for x, r in tiles:
        centre = frames.apply(matrix(x.pose), (np.array([r.low]) + np.array([r.high])) / 2)[0]
        radius = float(np.linalg.norm(np.array(r.high) - np.array(r.low))) / 2
        if np.linalg.norm(centre[:2] - pick[:2]) <= reach + radius:
            near.append((x, r))
    held, deepest = 0, -1
    for level in sorted({r.level for _, r in near}):
        held += sum(r.count for _, r in near if r.level == level)
        if held > NEAR and deepest >= 0:
            break
        deepest = level
    for x in stations:
        ids = [r.id for own, r in near if own is x and r.level <= deepest]
        dead = deleted_mask(s, x) if ids else None
        for tile in read_tiles(ids, kinds=()):
            assert dead is not None
            parts.append(frames.apply(matrix(x.pose), tile.xyz[~dead[tile.first : tile.first + len(tile.xyz)]]))
            scanners.append(np.broadcast_to(matrix(x.pose)[:3, 3], parts[-1].shape))
    return np.concatenate(parts), np.concatenate(scanners)


def ceiling_off(project_id: str, box_id: str, version: int | None, off: bool) -> bool:
    """Lower a box below the ceiling of what it holds, and keep the floor; or take the ceiling in again. Returns whether it is off."""
    with heavy(), snapshot() as s:
        row = owned(s, CropBox, project_id, box_id, "crop box")
        part = row.part_id
        box = to_box(row)
        reach = float(np.hypot(box.half[0], box.half[1]))
        points = _coarse(s, stations_in(stations_of(s, project_id), part), box.T_part_box[:3, 3], reach)[0]
    q = frames.apply(frames.inverse(box.T_part_box), points)
    within = (np.abs(q[:, :2]) <= np.array(box.half[:2])).all(axis=1)
    above = q[within, 2]
    levels = levels_of(above[(above >= -box.half[2] - 0.3) & (above <= box.half[2] + (1.5 if not off else 0.0))])
    if levels.ceiling is None or levels.floor is None:
        raise BadInput("no ceiling is found in this box", subject=row.name, remedy="set its height by hand", code="no_ceiling")
    low, high = min(levels.floor - 0.08, -box.half[2]), levels.ceiling + (-BELOW if off else 0.08)
    with journal.change(project_id, "", topic="edits") as c:
        row = owned(c.s, CropBox, project_id, box_id, "crop box")
        journal.checked_version(row, version, f"the crop box {row.name}")
        up = box.T_part_box[:3, :3] @ np.array([0.0, 0.0, (low + high) / 2])
        row.centre = (np.array(row.centre) + frames.inverse(matrix(row.T_part_base))[:3, :3] @ up).tolist()
        row.half = [row.half[0], row.half[1], (high - low) / 2]
        c.title = f"{'Took the ceiling off' if off else 'Took the ceiling into'} {row.name}"
    return off


BELOW = 0.12  # metres below a ceiling that a box ends at: lamps hang lower, and are of the room
