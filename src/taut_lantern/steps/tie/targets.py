"""Find targets in all scans, and see which sightings are the same target."""

from __future__ import annotations

import pickle
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.errors import BadInput
from ...core.scan.grid import range_image
from ...core.targets.kinds import Found, Wanted, find
from ...core.targets.match import group_by_place
from ...site.common import Progress, clean_name, get_project, matrix, numbers, owned, stations_of
from ...site.solution import refresh_solution, solution_of
from ...store import journal
from ...store.db import session
from ...store.models import Control, Job, Sighting, Station, Target, new_id
from ...store.queue import LIVE, Run, enqueue, keep, reached
from ...store.tiles import read_station

PIXELS = 16_000_000  # of the image that targets are looked for in: of a denser scan every second ray is enough


def start_find(project_id: str, what: Wanted) -> str:
    params = {"radii": list(what.radii), "edges": list(what.edges)}
    with session() as s:
        journal.locked_project(s, project_id)  # two who ask at once start it once
        q = select(Job).where(Job.project_id == project_id, Job.kind == "targets", Job.state.in_(LIVE))
        if (running := next((j for j in s.scalars(q) if j.params == params), None)) is not None:
            return running.id
        return enqueue(s, project_id, "targets", "Finding targets", **params).id


def find_targets(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Look for targets in all stations. What is of a kind and size that was not looked for stays as it is."""
    what = Wanted(tuple(params.get("radii", ())), tuple(params.get("edges", ())))
    with session() as s:
        stations = stations_of(s, project_id)
    found: list[Sighting] = []
    for k, station in enumerate(stations):
        progress.report(f"looking for targets in {station.name}", k, len(stations))
        progress.check()
        found += [
            Sighting(
                project_id=project_id,
                station_id=station.id,
                kind=f.kind,
                radius=f.size if f.kind == "sphere" else f.size / 2,
                centre=numbers(f.centre),
                covariance=numbers(f.covariance),
                rms=f.rms,
                points=f.points,
                remark=f.remark,
                used=f.sure,
                by_hand=[],
            )
            for f in _found(station, what, progress.run)
        ]
    with journal.change(project_id, "", network=True, topic="network") as c:
        here = stations_of(c.s, project_id)
        rows = _merged(c, project_id, [f for f in found if f.station_id in {x.id for x in here}], what)
        match_by_place(c.s, project_id, rows, here)
        c.title = f"Found {len(found)} sightings of targets"
        c.s.flush()
        refresh_solution(c.s, c.project)
        return progress.conclude(c.s, {"sightings": len(found), "targets": len({f.target_id for f in rows if f.target_id})})


def _found(station: Station, what: Wanted, run: Run | None) -> list[Found]:
    """The targets of one station, from an earlier run of this job where that got so far."""
    body = reached(run, station.id)
    if body is not None:
        kept: list[Found] = pickle.loads(body)
        return kept
    with session() as s:
        scan = read_station(s, station)
    found = find(range_image(scan, PIXELS), scan.intensity if station.has_intensity else None, what)
    keep(run, station.id, pickle.dumps(found, pickle.HIGHEST_PROTOCOL))
    return found


def _merged(c: journal.Change, project_id: str, found: list[Sighting], what: Wanted) -> list[Sighting]:
    """The sightings of a run laid over those that are here: the same sphere of the same station keeps its row, and with it
    its name and what people decided. What was looked for and not found again goes, unless somebody named it or left it out."""
    old = list(c.s.scalars(select(Sighting).where(Sighting.project_id == project_id)))
    rows = []
    for f in found:
        near = [
            (float(np.linalg.norm(np.subtract(o.centre, f.centre))), k)
            for k, o in enumerate(old)
            if o.station_id == f.station_id and o.kind == f.kind and abs(o.radius - f.radius) < 1e-6
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
    looked_for = {"sphere": what.radii, "board": tuple(e / 2 for e in what.edges)}
    for row in old:
        if row.by_hand or all(abs(row.radius - r) > 1e-6 for r in looked_for.get(row.kind, ())):
            rows.append(row)
        else:
            c.remove(row)
    return rows


def match_by_place(s: Session, project_id: str, sightings: list[Sighting], stations: list[Station]) -> None:
    """Say of which target each sighting is: those that stand at one place of one part are of one target, the one that they
    have already, else a new one. What people said stays. A lone sighting that is not confirmed is of no target: it may be
    foliage. Only stations of one part share places, so that parts are matched one by one."""
    part = {x.id: x.part_id for x in stations}
    pose = {x.id: matrix(x.pose) for x in stations}
    known = {t.id: t for t in s.scalars(select(Target).where(Target.project_id == project_id))}
    names = {t.name for t in known.values()}
    taken: set[str] = set()
    for one in dict.fromkeys(part.values()):
        inside = [x for x in sightings if part.get(x.station_id) == one]
        if not inside:
            continue
        groups: list[list[Sighting]] = []
        for alike in _alike(inside):
            points = np.array([frames.apply(pose[x.station_id], np.array([x.centre]))[0] for x in alike])
            groups += [[alike[i] for i in g] for g in group_by_place(points, [x.station_id for x in alike])]
        sure = [g for g in groups if len(g) > 1 or g[0].used or g[0].by_hand]
        for group, target in zip(sure, _targets_for(s, project_id, sure, taken, names), strict=True):
            for x in group:
                if "target" not in x.by_hand:
                    x.target_id = target
        for x in (x for g in groups if g not in sure for x in g):
            if "target" not in x.by_hand:
                x.target_id = None
    drop_unseen(s, project_id)


def drop_unseen(s: Session, project_id: str) -> None:
    """Targets that nothing sees any more go, unless control is matched to them."""
    s.flush()
    used = set(s.scalars(select(Sighting.target_id).where(Sighting.project_id == project_id)))
    used |= set(s.scalars(select(Control.target_id).where(Control.project_id == project_id)))
    for t in s.scalars(select(Target).where(Target.project_id == project_id)):
        if t.id not in used:
            t.deleted = True


def _alike(sightings: list[Sighting]) -> list[list[Sighting]]:
    """Sightings of one kind and size together: others are of another target, wherever they stand."""
    out: dict[tuple[str, int], list[Sighting]] = {}
    for x in sightings:
        out.setdefault((x.kind, round(1e4 * x.radius)), []).append(x)
    return list(out.values())


def _targets_for(s: Session, project_id: str, groups: list[list[Sighting]], taken: set[str], names: set[str]) -> list[str]:
    """A target for each group: what people said of its sightings first, then what most of them had, then a new one."""
    out: dict[int, str] = {}
    for by_hand in (True, False):
        for k, group in enumerate(groups):
            had = [x.target_id for x in group if x.target_id and ("target" in x.by_hand or not by_hand)]
            best = max(sorted(set(had) - taken), key=had.count, default="")
            if best and k not in out:
                out[k] = best
                taken.add(best)
    for k, group in enumerate(groups):
        if k not in out:
            out[k] = new_target(s, project_id, _free_name(names), group[0].kind, group[0].radius).id
            taken.add(out[k])
    return [out[k] for k in range(len(groups))]


def _free_name(names: set[str]) -> str:
    name = next(name for k in range(1, len(names) + 2) if (name := f"T{k}") not in names)
    names.add(name)
    return name


def new_target(s: Session, project_id: str, name: str, kind: str, radius: float) -> Target:
    row = Target(id=new_id(), project_id=project_id, name=name, kind=kind, radius=radius)
    s.add(row)
    return row


def regroup(project_id: str) -> None:
    """Match sightings anew after stations have been placed."""
    with journal.change(project_id, "Matched sightings to targets by place", network=True, topic="network") as c:
        rows = list(c.s.scalars(select(Sighting).where(Sighting.project_id == project_id).order_by(Sighting.id)))
        match_by_place(c.s, project_id, rows, stations_of(c.s, project_id))
        c.s.flush()
        refresh_solution(c.s, c.project)


def change_sighting(project_id: str, sighting_id: str, version: int | None, used: bool | None, target: str | None) -> None:
    """used: whether it takes part; target: the name of the target that it is of (a new one when none is called so), ""
    for none."""
    with journal.change(project_id, "Changed a sighting", network=True, topic="network") as c:
        row = owned(c.s, Sighting, project_id, sighting_id, "sighting")
        before = c.s.get(Target, row.target_id) if row.target_id else None
        called = before.name if before else "no target"
        journal.checked_version(row, version, f"the sighting of {called}")
        if used is not None:
            row.used = used
            row.decided("used")
            c.title = f"Sighting of {called} {'takes part' if used else 'is left out'}"
        if target is not None:
            name = clean_name(target, "")[:120]
            row.target_id = _called(c.s, project_id, name, row).id if name else None
            row.decided("target")
            c.title = f"A sighting is now of {name or 'no target'}"
        c.s.flush()
        refresh_solution(c.s, c.project)


def remove_sighting(project_id: str, sighting_id: str, version: int | None) -> None:
    """Take a sighting away; a target that nothing sees any more goes with it, unless control is matched to it."""
    with journal.change(project_id, "", network=True, topic="network") as c:
        row = owned(c.s, Sighting, project_id, sighting_id, "sighting")
        target = c.s.get(Target, row.target_id) if row.target_id else None
        called = target.name if target else "no target"
        journal.checked_version(row, version, f"the sighting of {called}")
        c.remove(row)
        drop_unseen(c.s, project_id)
        c.title = f"Took a sighting of {called} away"
        c.s.flush()
        refresh_solution(c.s, c.project)


def _called(s: Session, project_id: str, name: str, sighting: Sighting) -> Target:
    found = s.scalar(select(Target).where(Target.project_id == project_id, Target.name == name))
    return found or new_target(s, project_id, name, sighting.kind, sighting.radius)


def rename_target(project_id: str, target_id: str, version: int, name: str) -> None:
    with journal.change(project_id, "", network=True, topic="network") as c:
        row = owned(c.s, Target, project_id, target_id, "target")
        journal.checked_version(row, version, f"the target {row.name}")
        new = clean_name(name, row.name)[:120]
        if c.s.scalar(select(Target.id).where(Target.project_id == project_id, Target.name == new, Target.id != row.id)):
            raise BadInput(f"there is a target {new} already", subject=new, remedy="choose another name, or give its sightings that name")
        c.title = f"Renamed the target {row.name} to {new}"
        row.name = new
        c.s.flush()
        refresh_solution(c.s, c.project)


def list_sightings(s: Session, project_id: str) -> list[dict[str, Any]]:
    """All sightings by target and station; positions in the part of the station, metres."""
    get_project(s, project_id)
    stations = {x.id: x for x in stations_of(s, project_id)}
    names = {t.id: t.name for t in s.scalars(select(Target).where(Target.project_id == project_id))}
    seen = {(t["id"], t["part"]): t for t in solution_of(s, project_id)["targets"]}
    adjusted = solution_of(s, project_id)["sightings"]
    out = []
    for g in s.scalars(select(Sighting).where(Sighting.project_id == project_id)):
        if (station := stations.get(g.station_id)) is None:
            continue
        own = seen.get((g.target_id, station.part_id))
        left = adjusted.get(g.id)
        out.append(
            {
                "id": g.id,
                "version": g.version,
                "station": station.id,
                "station_name": station.name,
                "target": g.target_id if g.target_id in names else None,
                "target_name": names.get(g.target_id or "", ""),
                "part": station.part_id,
                "kind": g.kind,
                "size_mm": 1000 * (g.radius if g.kind == "sphere" else 2 * g.radius),
                "rms_mm": 1000 * g.rms,
                "points": g.points,
                "sigma_mm": 1000 * float(np.sqrt(np.trace(np.array(g.covariance).reshape(3, 3)))),
                "normalized": left["normalized"] if left else None,
                "remark": g.remark,
                "used": g.used,
                "position": frames.apply(matrix(station.pose), np.array([g.centre]))[0].tolist(),
                "spread_mm": own["spread_mm"] if own and own["sightings"] > 1 else None,
            }
        )
    return sorted(out, key=lambda g: (g["target"] is None, len(g["target_name"]), g["target_name"], g["station_name"]))


def list_targets(s: Session, project_id: str) -> list[dict[str, Any]]:
    """Targets as each part sees them, from the one solution."""
    get_project(s, project_id)
    rows = {t.id: t for t in s.scalars(select(Target).where(Target.project_id == project_id))}
    return [
        {
            "id": t["id"],
            "version": rows[t["id"]].version,
            "name": rows[t["id"]].name,
            "kind": rows[t["id"]].kind,
            "size_mm": 1000 * rows[t["id"]].radius * (1 if rows[t["id"]].kind == "sphere" else 2),
            **{k: t[k] for k in ("part", "position", "sightings", "spread_mm", "sigma_mm")},
        }
        for t in solution_of(s, project_id)["targets"]
        if t["id"] in rows
    ]
