"""Find what does not belong: things that moved between scans, and points that no surface has. Found is not deleted: each is proposed."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.clean import movers, noise
from ...core.errors import BadInput, NotEnough
from ...core.scan.grid import range_image
from ...site.common import Progress, get_project, matrix, owned, settled, state_of, stations_of, still
from ...site.parts import stations_in, wanted
from ...site.placing import up_of
from ...store import journal
from ...store.db import session
from ...store.marks import deleted_mask, packed
from ...store.models import Edit, Job, Station
from ...store.queue import LIVE, enqueue
from ...store.tiles import read_station
from .edits import TOO_MUCH, made, take

KINDS = {"mover": "things that moved", "edge": "points on no surface"}
LOOKED = 1_000_000  # pixels of a station's image that others are asked through; its own points are all asked about
WHOLE = 16_000_000  # pixels of the image that edges are told in


def start(project_id: str, kinds: list[str], strength: float, part_id: str | None = None) -> str:
    """Look for what does not belong, in the background. kinds: mover, edge; strength 0 to 1."""
    if not kinds or (unknown := [k for k in kinds if k not in KINDS]):
        raise BadInput(f"unknown filter {', '.join(unknown) if kinds else ''}", subject="kinds", remedy=f"use {', '.join(KINDS)}")
    with session() as s:
        journal.locked_project(s, project_id)  # two who ask at once start it once
        part = wanted(s, get_project(s, project_id), part_id)
        params: dict[str, Any] = {"kinds": sorted(set(kinds)), "strength": strength, "part": part}
        q = select(Job).where(Job.project_id == project_id, Job.kind == "filter", Job.state.in_(LIVE))
        if (running := next((j for j in s.scalars(q) if j.params == params), None)) is not None:
            return running.id
        title = "Looking for " + " and ".join(KINDS[k] for k in params["kinds"])
        return enqueue(s, project_id, "filter", title, **params).id


@dataclass(frozen=True)
class Proposal:
    """points: by station, sorted numbers."""

    kind: str
    title: str
    points: dict[str, NDArray[np.int64]]
    detail: dict[str, Any]

    @property
    def count(self) -> int:
        return sum(len(v) for v in self.points.values())


def run(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """What was proposed before and nobody decided on gives way to what is found now."""

    def compute(s: Session) -> tuple[int, list[Proposal]]:
        state = state_of(s, project_id)
        stations = stations_in(stations_of(s, project_id), params["part"])
        found: list[Proposal] = []
        if "mover" in params["kinds"]:
            if len(stations) < 2:
                raise NotEnough(
                    "what moved is seen by comparing stations, and this part has one", subject="stations", remedy="tie stations first"
                )
            found += _moved(s, project_id, stations, params["part"], float(params["strength"]), progress)
        if "edge" in params["kinds"]:
            found += _edges(s, stations, progress)
        return state, found

    def commit(looked: tuple[int, list[Proposal]]) -> dict[str, Any]:
        state, found = looked
        with journal.change(project_id, "", topic="edits") as c:
            still(c.s, project_id, state)
            for old in c.s.scalars(select(Edit).where(Edit.project_id == project_id, Edit.proposed, Edit.kind.in_(params["kinds"]))):
                c.remove(old)
            for p in reversed(found):  # the largest stands first in the list
                made(c, p.title, p.count, packed(p.points), active=False, kind=p.kind, proposed=True, detail=p.detail)
            count = {kind: sum(p.kind == kind for p in found) for kind in params["kinds"]}
            c.title = "Found " + ", ".join(f"{n} {KINDS[kind]}" if kind == "mover" else KINDS[kind] for kind, n in count.items())
            said = {"objects": count.get("mover", 0), "points": sum(p.count for p in found)}
            return progress.conclude(c.s, said)

    return settled(compute, commit, project_id)


def _moved(s: Session, project_id: str, stations: list[Station], part: str | None, strength: float, progress: Progress) -> list[Proposal]:
    up = up_of(s, project_id, part)[0]
    stand = np.eye(4) if up is None else frames.upright(up)
    alive: dict[str, NDArray[np.int64]] = {}
    seen = []
    for k, station in enumerate(stations):
        progress.report(f"reading {station.name}", k, len(stations))
        progress.check()
        scan = read_station(s, station)
        alive[station.id] = np.nonzero(~deleted_mask(s, station))[0]
        scan = scan.take(alive[station.id])
        if len(scan) >= 100:
            seen.append(movers.Seen(station.id, range_image(scan, LOOKED), scan.xyz, stand @ matrix(station.pose)))

    def report(done: int, total: int) -> None:
        progress.report("asking every station what it saw through", done, total)
        progress.check()

    names, back = {x.id: x.name for x in stations}, frames.inverse(stand)
    out = []
    for m in movers.movers(seen, strength, report):
        size = m.high - m.low
        middle = frames.apply(back, ((m.low + m.high) / 2)[None])[0]
        what = _called(size)
        against = sorted(m.against.items(), key=lambda x: -x[1])
        detail = {
            "station": m.station,
            "station_name": names[m.station],
            "at": [float(v) for v in middle],
            "size": [float(v) for v in size],
            "share": m.share,
            "against": [{"station": names[x], "points": n} for x, n in against],
        }
        title = f"{what} seen from {names[m.station]}, which {names[against[0][0]]} looked through" if against else what
        out.append(Proposal("mover", title, {m.station: alive[m.station][m.points]}, detail))
    return out


def _called(size: NDArray[np.float64]) -> str:
    """What a thing of this size (3,) is, as one would say at first sight."""
    wide, high = float(size[:2].max()), float(size[2])
    if wide < 1.1 and 0.9 < high < 2.2:
        return "Somebody"
    if 2.0 < wide < 7.0 and 0.8 < high < 3.2:
        return "A vehicle"
    return f"A thing of {wide:.1f} m"


def _edges(s: Session, stations: list[Station], progress: Progress) -> list[Proposal]:
    points: dict[str, NDArray[np.int64]] = {}
    most: list[dict[str, Any]] = []
    for k, station in enumerate(stations):
        progress.report(f"looking for points on no surface in {station.name}", k, len(stations))
        progress.check()
        alive = np.nonzero(~deleted_mask(s, station))[0]
        scan = read_station(s, station).take(alive)
        if len(scan) < 100:
            continue
        grid = range_image(scan, WHOLE)
        found = alive[np.nonzero(noise.mixed(grid, len(scan)) | noise.lone(grid, len(scan)))[0]]
        if len(found):
            points[station.id] = found
        if len(found) > TOO_MUCH * len(scan):
            most.append({"station": station.name, "share": len(found) / len(scan)})
    if not points:
        return []
    return [Proposal("edge", "Points on no surface: at edges, and alone", points, {"too_much": most})]


def decide(project_id: str, edit_id: str, version: int | None, delete: bool) -> None:
    """Say yes to what was found (its points are deleted), or no (it goes from the list). Conflict-free: both can be taken back."""
    with journal.change(project_id, "", topic="edits") as c:
        row = owned(c.s, Edit, project_id, edit_id, "find")
        journal.checked_version(row, version, row.title)
        if not row.proposed:
            raise BadInput("that was decided already", subject=row.title, remedy="reload the project")
        if delete:
            take(c, row)
        else:
            row.proposed = False
            c.remove(row)
            c.title = f"Kept: {row.title}"


def decide_all(project_id: str, kind: str, delete: bool) -> int:
    """The same of all of a kind. Returns how many."""
    with journal.change(project_id, "", topic="edits") as c:
        rows = list(c.s.scalars(select(Edit).where(Edit.project_id == project_id, Edit.kind == kind, Edit.proposed)))
        points = 0
        for row in rows:
            if delete:
                points += take(c, row)
            else:
                row.proposed = False
                c.remove(row)
        c.title = f"Deleted {points:,} points: {KINDS.get(kind, kind)}" if delete else f"Kept all: {KINDS.get(kind, kind)}"
        return len(rows)
