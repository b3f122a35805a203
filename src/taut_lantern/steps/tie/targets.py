"""Find targets in all scans, and see which sightings are the same target."""

from __future__ import annotations

import pickle
from typing import Any

import numpy as np
from sqlalchemy import select

from ...core import frames
from ...core.errors import BadInput
from ...core.scan.grid import range_image
from ...core.targets.match import group_by_place
from ...core.targets.spheres import SphereSighting, find_spheres
from ...store import journal
from ...store.db import session
from ...store.models import Job, Sighting, Station
from ...store.queue import LIVE, Run, enqueue, keep, reached
from ...store.tiles import read_station
from ..common import Progress, matrix, numbers, owned, stations_of
from .network import refresh_solution


def start_find(project_id: str, radii: list[float]) -> str:
    """radii in metres."""
    if not radii or len(radii) > 8 or not all(0.01 <= r <= 1.0 for r in radii):
        raise BadInput(
            "sphere radii lie between 10 mm and 1 m", subject="radius", remedy="give the radius, not the diameter, in millimetres"
        )
    with session() as s:
        journal.locked_project(s, project_id)  # two who ask at once start it once
        q = select(Job.id).where(Job.project_id == project_id, Job.kind == "targets", Job.state.in_(LIVE), Job.params["radii"] == radii)
        if (running := s.scalar(q.limit(1))) is not None:
            return running
        return enqueue(s, project_id, "targets", "Finding sphere targets", radii=radii).id


def find_targets(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    with session() as s:
        stations = stations_of(s, project_id)
    found: list[Sighting] = []
    for k, station in enumerate(stations):
        progress.report(f"looking for spheres in {station.name}", k, len(stations))
        progress.check()
        found += [
            Sighting(
                project_id=project_id,
                station_id=station.id,
                target="",
                kind="sphere",
                radius=f.radius,
                centre=numbers(f.centre),
                covariance=numbers(f.covariance),
                rms=f.rms,
                points=f.points,
                remark=f.remark,
                used=not f.remark,
                by_hand=[],
            )
            for f in _spheres(station, params["radii"], progress.run)
        ]
    with journal.change(project_id, "", network=True, topic="network") as c:
        here = stations_of(c.s, project_id)
        rows = _merged(c, project_id, [f for f in found if f.station_id in {x.id for x in here}])
        poses = {x.id: matrix(x.pose) for x in here if x.pose is not None}
        name_by_place(rows, poses)
        c.title = f"Found {len(found)} sphere sightings"
        c.s.flush()
        refresh_solution(c.s, c.project)
        return progress.conclude(c.s, {"sightings": len(found), "targets": len({f.target for f in rows if f.target})})


def _spheres(station: Station, radii: list[float], run: Run | None) -> list[SphereSighting]:
    """The spheres of one station, from an earlier run of this job where that got so far."""
    body = reached(run, station.id)
    if body is not None:
        kept: list[SphereSighting] = pickle.loads(body)
        return kept
    with session() as s:
        scan = read_station(s, station)
    found = find_spheres(range_image(scan), radii)
    keep(run, station.id, pickle.dumps(found, pickle.HIGHEST_PROTOCOL))
    return found


def _merged(c: journal.Change, project_id: str, found: list[Sighting]) -> list[Sighting]:
    """The sightings of a run laid over those that are here: the same sphere of the same station keeps its row, and with it
    its name and what people decided. What was not found again goes, unless somebody named it or left it out."""
    old = list(c.s.scalars(select(Sighting).where(Sighting.project_id == project_id)))
    rows = []
    for f in found:
        near = [
            (float(np.linalg.norm(np.subtract(o.centre, f.centre))), k)
            for k, o in enumerate(old)
            if o.station_id == f.station_id and o.kind == f.kind
        ]
        gap, k = min(near, default=(np.inf, -1))
        if gap > 0.5 * f.radius:
            c.s.add(f)
            rows.append(f)
            continue
        row = old.pop(k)
        for field in ("radius", "centre", "covariance", "rms", "points", "remark"):
            setattr(row, field, getattr(f, field))
        if "used" not in row.by_hand:
            row.used = f.used
        rows.append(row)
    for row in old:
        if row.by_hand:
            rows.append(row)
        else:
            c.remove(row)
    return rows


def name_by_place(sightings: list[Sighting], poses: dict[str, np.ndarray]) -> None:
    """Name sightings of placed stations: one name for those that stand at one place, the one that they have already, else
    the next free of T1, T2, ... Names that people gave stay. A lone sighting that is not confirmed stays without a name:
    it may be foliage."""
    placed = [x for x in sightings if x.station_id in poses]
    if not placed:
        return
    points = np.array([frames.apply(poses[x.station_id], np.array([x.centre]))[0] for x in placed])
    groups = group_by_place(points, [x.station_id for x in placed])
    sure = [g for g in groups if len(g) > 1 or not placed[g[0]].remark or placed[g[0]].by_hand]
    names: dict[int, str] = {}
    for by_hand in (True, False):
        for k, group in enumerate(sure):
            known = [placed[i].target for i in group if placed[i].target and ("target" in placed[i].by_hand or not by_hand)]
            best = max(sorted(set(known) - set(names.values())), key=known.count, default="")
            if best and k not in names:
                names[k] = best
    taken = {*names.values(), *(x.target for x in sightings if "target" in x.by_hand)}
    free = (name for k in range(1, len(sightings) + len(taken) + 2) if (name := f"T{k}") not in taken)
    for k, group in enumerate(sure):
        name = names.get(k) or next(free)
        for i in group:
            if "target" not in placed[i].by_hand:
                placed[i].target = name
    grouped = {i for g in sure for i in g}
    for i, x in enumerate(placed):
        if i not in grouped and "target" not in x.by_hand:
            x.target = ""


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
            row.decided("used")
            c.title = f"Sighting of {row.target} {'takes part' if used else 'is left out'}"
        if target is not None:
            row.target = target.strip()
            row.decided("target")
            c.title = f"A sighting is now of {row.target or 'no target'}"
        c.s.flush()
        refresh_solution(c.s, c.project)
