"""Site grids: along a wall or from place to place, hung on a point or on a corner of three planes. The points never move."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from ...core import frames
from ...core.errors import BadInput, NotEnough
from ...core.place.corner import corner_of
from ...core.place.wall import square_to_wall
from ...site.bound import NETWORK
from ...site.common import Array, Moved, clean_name, finite, get_project, heavy, matrix, numbers, owned, settled, stations_of
from ...site.frames import inputs_of_grid
from ...site.near import points_near
from ...site.parts import stations_in, wanted
from ...site.placing import up_of
from ...site.solution import refresh_solution
from ...store import journal
from ...store.db import session, snapshot
from ...store.models import Frame, Station
from .control import apply

ROUND, CORNER = 0.8, 0.4  # metres of the wall, and of a corner, round the pick that are looked at


@dataclass(frozen=True)
class Picks:
    """point: the pick whose coordinates are given (with ``corner``: the corner of three planes there); wall: a pick on the wall that E runs
    along, or (``by_points``) a place that E runs towards. In the part's frame, metres. flip: E the other way."""

    wall: Array
    point: Array
    given: Array
    flip: bool
    corner: bool = False
    by_points: bool = False

    @classmethod
    def of(
        cls, wall: list[float], point: list[float], given: list[float], flip: bool, corner: bool = False, by_points: bool = False
    ) -> Picks:
        w, p, g = (np.array(finite(v, 3, what)) for v, what in ((wall, "the wall pick"), (point, "the point"), (given, "the coordinates")))
        return cls(w, p, g, flip, corner, by_points)

    def kept(self) -> dict[str, Any]:
        return {
            "wall": numbers(self.wall),
            "point": numbers(self.point),
            "given": numbers(self.given),
            "flip": self.flip,
            "corner": self.corner,
            "by_points": self.by_points,
        }


@dataclass(frozen=True)
class Laid:
    """A grid as it would lie: T_grid_part, what is told of its fit, and the stations that saw what was picked."""

    part: str | None
    T: Array
    told: dict[str, Any]
    stations: list[Station]
    revision: int


def lay(s: Session, project_id: str, picks: Picks, part_id: str | None) -> Laid:
    """Where a grid lies by its picks, upright by the scanners' levels. NotEnough when what was picked holds none."""
    project = get_project(s, project_id)
    part = wanted(s, project, part_id)
    stations = stations_in(stations_of(s, project_id), part)
    up = up_of(s, project_id, part)[0]
    stand = np.eye(4) if up is None else frames.upright(up)
    wall, point = (frames.apply(stand, v[None])[0] for v in (picks.wall, picks.point))
    if picks.by_points:
        along = (wall - point)[:2] * (-1.0 if picks.flip else 1.0)
        if np.linalg.norm(along) < SHORT:
            message = f"the two places lie less than {SHORT:g} m apart in plan and hold no direction"
            raise NotEnough(message, subject="pick", remedy="pick places far apart")
        t = frames.pose(-float(np.arctan2(along[1], along[0])))
        told: dict[str, Any] = {"wall_rms_mm": None, "points": None, "off_plumb": None}
        seen = list({x.id: x for v in (picks.wall, picks.point) for x in points_near(s, stations, v, CORNER).stations}.values())
    else:
        near = points_near(s, stations, picks.wall, ROUND)
        upright = frames.apply(stand, near.points)
        found_wall = square_to_wall(upright, wall, (0.0, 0.0, 0.0), frames.apply(stand, near.towards[None])[0], picks.flip)
        t, rms, count, lean = found_wall
        told = {"wall_rms_mm": 1000 * rms, "points": count, "off_plumb": float(np.degrees(lean))}
        seen = near.stations
    if picks.corner:
        there = points_near(s, stations, picks.point, CORNER)
        found = corner_of(there.points, picks.point, there.towards)
        point, seen = frames.apply(stand, found.at[None])[0], list({x.id: x for x in [*seen, *there.stations]}.values())
        told["corner"] = {
            "rms_mm": [1000 * p.rms for p in found.planes],
            "points": [p.points for p in found.planes],
            "sigma_mm": 1000 * float(np.sqrt(np.trace(found.covariance))),
            "off_square": found.square,
            "off_plumb": found.plumb,
        }
    t[:3, 3] = picks.given - t[:3, :3] @ point
    return Laid(part, t @ stand, told, seen, project.network_revision)


SHORT = 0.5  # metres in plan between two picks that hold a direction


def preview(project_id: str, picks: Picks, part_id: str | None = None) -> dict[str, Any]:
    """The grid that the picks hold, as it would lie; nothing is kept."""
    with heavy(), snapshot() as s:
        laid = lay(s, project_id, picks, part_id)
    return {"T_frame_part": numbers(laid.T), **laid.told}


def square(
    project_id: str, picks: Picks, name: str, part_id: str | None = None, frame_id: str | None = None, version: int | None = None
) -> dict[str, Any]:
    """Site grid of a part by what was picked. frame_id, version: of the grid that is laid anew; None: another one."""
    if frame_id is not None:
        with session() as s:
            row = owned(s, Frame, project_id, frame_id, "frame")
            journal.checked_version(row, version, f"the coordinates {row.name}")
            if row.kind != "grid":
                raise BadInput(f"{row.name} is no site grid", subject=row.name, remedy="choose a site grid")
            part_id = row.part_id
    return _grid(project_id, picks, clean_name(name, "site"), part_id, frame_id)


def _picks_of(row: Frame) -> Picks:
    """What a grid was laid by, where that lies now."""
    kept = row.detail.get("picks")
    if kept is None:
        raise BadInput("an earlier version did not keep what was picked", subject=row.name, remedy="square the project to the wall again")
    motion = matrix(row.made_from.get("T_new_old"))
    w, p = (frames.apply(motion, np.array([kept[k]]))[0] for k in ("wall", "point"))
    return Picks(w, p, np.array(kept["given"]), kept["flip"], kept.get("corner", False), kept.get("by_points", False))


def flip(project_id: str, frame_id: str, version: int) -> dict[str, Any]:
    """Turn a grid about its given point: E and N run the other way."""
    with session() as s:
        row = owned(s, Frame, project_id, frame_id, "frame")
        journal.checked_version(row, version, f"the coordinates {row.name}")
        picks = _picks_of(row)
    return _grid(project_id, replace(picks, flip=not picks.flip), row.name, row.part_id, row.id)


def renew(project_id: str, frame_id: str, version: int) -> dict[str, Any]:
    """Make a frame that is out of date anew: control is solved again, a grid is laid along its wall again."""
    with session() as s:
        row = owned(s, Frame, project_id, frame_id, "frame")
        journal.checked_version(row, version, f"the coordinates {row.name}")
    if row.kind == "control":
        return {"id": apply(project_id, row.part_id, row.detail.get("mode")), "wall_rms_mm": None, "points": None}
    return _grid(project_id, _picks_of(row), row.name, row.part_id, row.id)


def _grid(project_id: str, picks: Picks, name: str, part_id: str | None, frame_id: str | None) -> dict[str, Any]:
    """Lay a grid; into the row of an earlier one when that is made anew."""

    def commit(laid: Laid) -> dict[str, Any]:
        title = f"{'Laid' if frame_id is None else 'Laid anew'} the grid {name}"
        with journal.change(project_id, title, topic="control") as c:
            if c.project.network_revision != laid.revision:
                raise Moved
            if frame_id is None:
                row = Frame(project_id=project_id, name=name, kind="grid", unit=c.project.unit, revision=0)
            else:
                row = owned(c.s, Frame, project_id, frame_id, "frame")
            row.name, row.part_id, row.T_frame_part, row.revision = name, laid.part, numbers(laid.T), row.revision + 1
            row.detail = {**laid.told, "picks": picks.kept()}
            row.made_from = {"inputs": inputs_of_grid(laid.stations)}
            c.s.add(row)
            c.s.flush()
            c.project.active_frame = row.id
            return {"id": row.id, **laid.told}

    with heavy():
        return settled(lambda s: lay(s, project_id, picks, part_id), commit, project_id)


def change_frame(project_id: str, frame_id: str, version: int, name: str | None, unit: str | None, removed: bool) -> None:
    """Rename a frame, set the unit of its coordinates, or take it away (the part's own coordinates follow)."""
    with journal.change(project_id, "", topic="control") as c:
        row = owned(c.s, Frame, project_id, frame_id, "frame")
        journal.checked_version(row, version, f"the coordinates {row.name}")
        if name is not None:
            c.title = f"Renamed the coordinates {row.name} to {clean_name(name, row.name)}"
            row.name = clean_name(name, row.name)
        if unit is not None:
            row.unit = unit
            c.title = f"The coordinates {row.name} are in {unit}"
        if removed:
            row.deleted = True
            c.title = f"Took the coordinates {row.name} away"
            if c.project.active_frame == row.id:
                c.project.active_frame = "project"
            if row.detail.get("mode") == NETWORK and row.active:  # control lets go of the network with it
                c.network = True
                c.s.flush()
                refresh_solution(c.s, c.project)
