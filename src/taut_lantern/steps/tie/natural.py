"""Targets by hand: a corner of three planes, a place that was picked, or a sphere or board whose fit a pick begins; in every station
that saw it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.errors import BadInput, NotEnough
from ...core.place.corner import corner_of, edge_of
from ...core.scan.grid import range_image
from ...core.targets.kinds import Wanted, finish
from ...core.targets.marks import ROUND as MARK
from ...core.targets.marks import mark_of
from ...site.common import Array, Moved, Progress, clean_name, finite, get_project, heavy, matrix, numbers, settled, stations_of
from ...site.near import bright_near, points_near
from ...site.parts import stations_in, wanted
from ...site.solution import refresh_solution
from ...store import journal
from ...store.db import session
from ...store.models import Sighting, Station, Target
from ...store.queue import enqueue
from ...store.tiles import read_station
from .targets import PIXELS, new_target

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
    remark: str = ""


def pick(project_id: str, kind: str, at: list[float], name: str, part_id: str | None = None) -> dict[str, Any]:
    """Make a target of what lies at ``at`` (3,), part frame, metres: kind corner, edge, mark or point. A target of that name gets the sightings.
    Returns its id, how many stations see it, and where it lies. NotEnough when nothing is there."""
    place = np.array(finite(at, 3, "the pick"))
    if kind not in LOOK:
        raise BadInput(f"unknown kind of target {kind!r}", subject="kind", remedy=f"use one of {', '.join(LOOK)}")

    def compute(s: Session) -> tuple[int, list[_Seen]]:
        project = get_project(s, project_id)
        stations = stations_in(stations_of(s, project_id), wanted(s, project, part_id))
        look, words = LOOK[kind]
        seen = [x for x in (look(s, station, place) for station in stations) if x is not None]
        if not seen:
            raise NotEnough(words, subject="pick", remedy="pick where more was scanned")
        return project.network_revision, [max(seen, key=lambda x: x.points)] if kind == "point" else seen

    def commit(made: tuple[int, list[_Seen]]) -> dict[str, Any]:
        revision, seen = made
        with journal.change(project_id, "", network=True, topic="network") as c:
            if c.project.network_revision != revision:
                raise Moved
            return _write(c, project_id, kind, 0.0, name, seen)

    with heavy():
        return settled(compute, commit, project_id)


def _write(c: journal.Change, project_id: str, kind: str, radius: float, name: str, seen: list[_Seen]) -> dict[str, Any]:
    """Keep sightings of one target; what the same stations saw of it before was picked again. Returns the target for people."""
    called = clean_name(name, "")[:120] or _free(c.s, project_id)
    target = c.s.scalar(select(Target).where(Target.project_id == project_id, Target.name == called))
    target = target or new_target(c.s, project_id, called, kind, radius)
    stations = {x.station.id for x in seen}
    for old in c.s.scalars(select(Sighting).where(Sighting.project_id == project_id, Sighting.station_id.in_(stations))):
        same = kind in ("sphere", "board") and old.kind == kind and abs(old.radius - radius) < 1e-6
        near = same and min(np.linalg.norm(np.subtract(old.centre, x.at)) for x in seen if x.station.id == old.station_id) < radius / 2
        if near or (old.target_id == target.id and "target" in (old.by_hand or ())):
            c.remove(old)
    for x in seen:
        row = Sighting(project_id=project_id, station_id=x.station.id, target_id=target.id, kind=kind, radius=radius, by_hand=[])
        row.centre, row.covariance, row.rms, row.points = numbers(x.at), numbers(x.covariance), x.rms, x.points
        row.remark = x.remark
        row.decided("target")
        c.s.add(row)
    c.title = f"Picked {called} in {len(seen)} station{'s' if len(seen) > 1 else ''}"
    c.s.flush()
    refresh_solution(c.s, c.project)
    first = seen[0]
    where = frames.apply(matrix(first.station.pose), first.at[None])[0]
    return {"id": target.id, "name": called, "sightings": len(seen), "at": numbers(where)}


def start_fit(project_id: str, kind: str, size: float, at: list[float], name: str, part_id: str | None = None) -> str:
    """Finish the fit of a sphere (radius) or board (edge) that was picked at ``at``, part frame, metres, in the background."""
    place = numbers(np.array(finite(at, 3, "the pick")))
    Wanted((size,) if kind == "sphere" else (), (size,) if kind == "board" else ())  # what no target has is refused at once
    with session() as s:
        part = wanted(s, get_project(s, project_id), part_id)
        title = f"Fitting the {kind} that was picked"
        return enqueue(s, project_id, "target", title, shape=kind, size=size, at=place, name=name, part=part).id


def fit(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """The station that saw most of it first; the others begin where that one has its centre."""
    kind, size, place = params["shape"], float(params["size"]), np.array(params["at"], float)
    with session() as s:
        stations = stations_in(stations_of(s, project_id), params["part"])
        counted = [(len(points_near(s, [x], place, 1.5 * size).points), x) for x in stations]
    order = [x for n, x in sorted(counted, key=lambda v: -v[0]) if n >= FEWEST]
    seen: list[_Seen] = []
    centre: Array | None = None
    for k, station in enumerate(order):
        progress.report(f"fitting it in {station.name}", k, len(order))
        progress.check()
        with session() as s:
            scan = read_station(s, station)
        back = frames.inverse(matrix(station.pose))
        start = frames.apply(back, (place if centre is None else centre)[None])[0]
        found = finish(range_image(scan, PIXELS), scan.intensity if station.has_intensity else None, kind, size, start, centre is None)
        if found is None:
            continue
        seen.append(_Seen(station, found.centre, found.covariance, found.rms, found.points, found.remark))
        centre = frames.apply(matrix(station.pose), found.centre[None])[0] if centre is None else centre
    if not seen:
        words = f"{'radius' if kind == 'sphere' else 'edge'} {1000 * size:.1f} mm"
        raise NotEnough(f"there is no {kind} of {words} at that pick", subject="pick", remedy="pick on it, and check its size")
    with journal.change(project_id, "", network=True, topic="network") as c:
        here = {x.id for x in stations_of(c.s, project_id)}
        radius = size if kind == "sphere" else size / 2
        told = _write(c, project_id, kind, radius, params["name"], [x for x in seen if x.station.id in here])
        return progress.conclude(c.s, told)


def _free(s: Session, project_id: str) -> str:
    names = set(s.scalars(select(Target.name).where(Target.project_id == project_id)))
    return next(name for k in range(1, len(names) + 2) if (name := f"P{k}") not in names)


def _corner(s: Session, station: Station, place: Array) -> _Seen | None:
    near = points_near(s, [station], place, ROUND)
    try:
        found = corner_of(near.points, place, near.towards)
    except NotEnough:
        return None
    rms = float(np.sqrt(np.mean([p.rms**2 for p in found.planes])))
    return _turned(station, found.at, found.covariance, rms, sum(p.points for p in found.planes))


def _point(s: Session, station: Station, place: Array) -> _Seen | None:
    """The picked place itself; how well it is known is how far apart the points lie there."""
    near = points_near(s, [station], place, LONE)
    if len(near.points) < FEWEST:
        return None
    gap = LONE * float(np.sqrt(np.pi / len(near.points)))
    back = frames.inverse(matrix(station.pose))
    return _Seen(station, frames.apply(back, place[None])[0], np.eye(3) * max(LEAST, gap / 2) ** 2, 0.0, len(near.points))


def _edge(s: Session, station: Station, place: Array) -> _Seen | None:
    """Where two planes meet: exact across the edge, along it as good as the pick."""
    near = points_near(s, [station], place, ROUND)
    try:
        found = edge_of(near.points, place, near.towards)
    except NotEnough:
        return None
    rms = float(np.sqrt(np.mean([p.rms**2 for p in found.planes])))
    return _turned(station, found.at, found.covariance, rms, sum(p.points for p in found.planes))


def _mark(s: Session, station: Station, place: Array) -> _Seen | None:
    if not station.has_intensity:
        return None
    try:
        found = mark_of(*bright_near(s, station, place, MARK), place)
    except NotEnough:
        return None
    return _turned(station, found.at, found.covariance, found.rms, found.points)


def _turned(station: Station, at: Array, covariance: Array, rms: float, points: int) -> _Seen:
    """A sighting from what was found in the part's frame."""
    back = frames.inverse(matrix(station.pose))
    turn = back[:3, :3]
    return _Seen(station, frames.apply(back, at[None])[0], turn @ covariance @ turn.T, rms, points)


LOOK: dict[str, tuple[Callable[[Session, Station, Array], _Seen | None], str]] = {
    "corner": (_corner, "no station sees three planes meet there"),
    "edge": (_edge, "no station sees two planes meet there"),
    "mark": (_mark, "in no station something stands out from the surface there by its brightness"),
    "point": (_point, "hardly a point lies at that pick"),
}
