"""Find targets in all scans, and see which sightings are the same target."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy import select

from ...core import frames
from ...core.errors import BadInput
from ...core.scan.grid import range_image
from ...core.targets.match import group_by_place
from ...core.targets.spheres import find_spheres
from ...store import journal
from ...store.db import session
from ...store.models import Sighting
from ...store.queue import enqueue
from ...store.tiles import read_station
from ..common import Progress, get_project, matrix, numbers, owned, stations_of
from .network import refresh_solution


def start_find(project_id: str, radii: list[float]) -> str:
    """radii in metres."""
    if not radii or len(radii) > 8 or not all(0.01 <= r <= 1.0 for r in radii):
        raise BadInput(
            "sphere radii lie between 10 mm and 1 m", subject="radius", remedy="give the radius, not the diameter, in millimetres"
        )
    with session() as s:
        get_project(s, project_id)
        return enqueue(s, project_id, "targets", "Finding sphere targets", radii=radii).id


def find_targets(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    with session() as s:
        stations = stations_of(s, project_id)
    found: list[Sighting] = []
    for k, station in enumerate(stations):
        progress.report(f"looking for spheres in {station.name}", k, len(stations))
        progress.check()
        with session() as s:
            grid = range_image(read_station(s, station))
        for f in find_spheres(grid, params["radii"]):
            found.append(
                Sighting(
                    project_id=project_id,
                    station_id=station.id,
                    radius=f.radius,
                    centre=numbers(f.centre),
                    covariance=numbers(f.covariance),
                    rms=f.rms,
                    points=f.points,
                    remark=f.remark,
                    used=not f.remark,
                )
            )
    with journal.change(project_id, f"Found {len(found)} sphere sightings", network=True, topic="network") as c:
        for old in c.s.scalars(select(Sighting).where(Sighting.project_id == project_id)):
            c.s.delete(old)
        c.s.flush()
        poses = {x.id: matrix(x.pose) for x in stations_of(c.s, project_id) if x.pose is not None}
        name_by_place(found, poses)
        c.s.add_all(found)
        c.s.flush()
        refresh_solution(c.s, c.project)
    return {"sightings": len(found), "targets": len({f.target for f in found if f.target})}


def name_by_place(sightings: list[Sighting], poses: dict[str, np.ndarray]) -> None:
    """Name sightings of placed stations T1, T2, ...: one name for those that stand at one place. A lone sighting
    that is not confirmed stays without a name: it may be foliage."""
    placed = [x for x in sightings if x.station_id in poses]
    if not placed:
        return
    points = np.array([frames.apply(poses[x.station_id], np.array([x.centre]))[0] for x in placed])
    groups = group_by_place(points, [x.station_id for x in placed])
    sure = [g for g in groups if len(g) > 1 or not placed[g[0]].remark]
    for number, group in enumerate(sure, 1):
        for k in group:
            placed[k].target = f"T{number}"


def regroup(project_id: str) -> None:
    """Name sightings anew after stations have been placed."""
    with journal.change(project_id, "Matched sightings to targets by place", network=True, topic="network") as c:
        poses = {x.id: matrix(x.pose) for x in stations_of(c.s, project_id) if x.pose is not None}
        rows = list(c.s.scalars(select(Sighting).where(Sighting.project_id == project_id)))
        name_by_place(rows, poses)
        c.s.flush()
        refresh_solution(c.s, c.project)


def change_sighting(project_id: str, sighting_id: str, version: int | None, used: bool | None, target: str | None) -> None:
    with journal.change(project_id, "Changed a sighting", network=True, topic="network") as c:
        row = owned(c.s, Sighting, project_id, sighting_id, "sighting")
        journal.checked_version(row, version, f"the sighting of {row.target}")
        if used is not None:
            row.used = used
            c.title = f"Sighting of {row.target} {'takes part' if used else 'is left out'}"
        if target is not None:
            row.target = target.strip()[:120]
            c.title = f"A sighting is now of {row.target or 'no target'}"
        c.s.flush()
        refresh_solution(c.s, c.project)
