"""Natural points as targets: a corner of three planes, or a place that was picked, seen from every station that saw it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.errors import BadInput, NotEnough
from ...core.place.corner import corner_of
from ...site.common import Array, Moved, clean_name, finite, get_project, heavy, matrix, numbers, settled, stations_of
from ...site.near import points_near
from ...site.parts import stations_in, wanted
from ...site.solution import refresh_solution
from ...store import journal
from ...store.models import Sighting, Station, Target
from .targets import new_target

ROUND = 0.35  # metres round a corner that its planes are fitted in
LONE, FEWEST = 0.05, 4  # metres round a picked point within which so many points of a station lie, or it did not see it
LEAST = 0.0015  # metres: a hand picks no better


@dataclass(frozen=True)
class _Seen:
    """A sighting in the station's frame."""

    station: Station
    at: Array
    covariance: Array
    rms: float
    points: int


def pick(project_id: str, kind: str, at: list[float], name: str, part_id: str | None = None) -> dict[str, Any]:
    """Make a target of what lies at ``at`` (3,), part frame, metres: kind corner or point. A target of that name gets the sightings.
    Returns its id, how many stations see it, and where it lies. NotEnough when nothing is there."""
    place = np.array(finite(at, 3, "the pick"))
    if kind not in ("corner", "point"):
        raise BadInput(f"unknown kind of target {kind!r}", subject="kind", remedy="use corner or point")

    def compute(s: Session) -> tuple[int, list[_Seen]]:
        project = get_project(s, project_id)
        stations = stations_in(stations_of(s, project_id), wanted(s, project, part_id))
        look = _corner if kind == "corner" else _point
        seen = [x for x in (look(s, station, place) for station in stations) if x is not None]
        if not seen:
            words = "no station sees three planes meet there" if kind == "corner" else "hardly a point lies at that pick"
            raise NotEnough(words, subject="pick", remedy="pick where more was scanned")
        return project.network_revision, seen if kind == "corner" else [max(seen, key=lambda x: x.points)]

    def commit(made: tuple[int, list[_Seen]]) -> dict[str, Any]:
        revision, seen = made
        with journal.change(project_id, "", network=True, topic="network") as c:
            if c.project.network_revision != revision:
                raise Moved
            called = clean_name(name, "")[:120] or _free(c.s, project_id)
            target = c.s.scalar(select(Target).where(Target.project_id == project_id, Target.name == called))
            target = target or new_target(c.s, project_id, called, kind, 0.0)
            for old in c.s.scalars(select(Sighting).where(Sighting.project_id == project_id, Sighting.target_id == target.id)):
                if old.station_id in {x.station.id for x in seen} and old.kind in ("corner", "point"):
                    c.remove(old)  # picked again
            for x in seen:
                row = Sighting(project_id=project_id, station_id=x.station.id, target_id=target.id, kind=kind, radius=0.0, by_hand=[])
                row.centre, row.covariance, row.rms, row.points = numbers(x.at), numbers(x.covariance), x.rms, x.points
                row.decided("target")
                c.s.add(row)
            c.title = f"Picked {called} in {len(seen)} station{'s' if len(seen) > 1 else ''}"
            c.s.flush()
            refresh_solution(c.s, c.project)
            first = seen[0]
            where = frames.apply(matrix(first.station.pose), first.at[None])[0]
            return {"id": target.id, "name": called, "sightings": len(seen), "at": numbers(where)}

    with heavy():
        return settled(compute, commit, project_id)


def _free(s: Session, project_id: str) -> str:
    names = set(s.scalars(select(Target.name).where(Target.project_id == project_id)))
    return next(name for k in range(1, len(names) + 2) if (name := f"P{k}") not in names)


def _corner(s: Session, station: Station, place: Array) -> _Seen | None:
    near = points_near(s, [station], place, ROUND)
    try:
        found = corner_of(near.points, place, near.towards)
    except NotEnough:
        return None
    back = frames.inverse(matrix(station.pose))
    turn = back[:3, :3]
    rms = float(np.sqrt(np.mean([p.rms**2 for p in found.planes])))
    points = sum(p.points for p in found.planes)
    return _Seen(station, frames.apply(back, found.at[None])[0], turn @ found.covariance @ turn.T, rms, points)


def _point(s: Session, station: Station, place: Array) -> _Seen | None:
    """The picked place itself; how well it is known is how far apart the points lie there."""
    near = points_near(s, [station], place, LONE)
    if len(near.points) < FEWEST:
        return None
    gap = LONE * float(np.sqrt(np.pi / len(near.points)))
    back = frames.inverse(matrix(station.pose))
    return _Seen(station, frames.apply(back, place[None])[0], np.eye(3) * max(LEAST, gap / 2) ** 2, 0.0, len(near.points))
