"""What is known beside the scans: distances by tape between targets, walls that are plumb. Each is an observation of the network."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.errors import BadInput, NotEnough
from ...core.scan.surface import widest_plane
from ...site.common import Array, Moved, clean_name, finite, get_project, heavy, matrix, numbers, owned, settled, stations_of
from ...site.near import points_near
from ...site.parts import stations_in, wanted
from ...site.solution import refresh_solution, solution_of
from ...store import journal
from ...store.models import Known, Station, Target

ROUND, ROUGH, UPRIGHT = 1.2, 0.012, 0.1  # metres of the wall looked at, and by which it is uneven; what it may lean by, of one
FEWEST = 100  # points of a station on a wall that tell its normal


def add_tape(project_id: str, a: str, b: str, metres: float, sigma: float) -> str:
    """A distance between two targets, ids; metres with its deviation."""
    with journal.change(project_id, "", network=True, topic="network") as c:
        one, other = (owned(c.s, Target, project_id, t, "target") for t in (a, b))
        if one.id == other.id:
            raise BadInput("a tape needs two different targets", subject=one.name, remedy="choose the other end")
        seen: dict[str, set[str]] = {}
        for t in solution_of(c.s, project_id)["targets"]:
            seen.setdefault(t["id"], set()).add(t["part"])
        if not seen.get(a, set()) & seen.get(b, set()):
            message = f"{one.name} and {other.name} are not seen in one part of the network, so a distance between them says nothing yet"
            raise BadInput(message, subject="tape", remedy="tie the stations that see them first")
        row = Known(
            project_id=project_id, kind="tape", name=f"{one.name} – {other.name}", target_a=a, target_b=b, value=metres, sigma=sigma
        )
        c.s.add(row)
        c.title = f"Took {metres:.4f} m from {one.name} to {other.name} as measured"
        c.s.flush()
        refresh_solution(c.s, c.project)
        return row.id


def add_plumb(project_id: str, at: list[float], sigma: float, name: str, part_id: str | None = None) -> dict[str, Any]:
    """A wall picked at ``at`` (3,), part frame, metres, is plumb within sigma, radians: each station that sees it well observes that."""
    place = np.array(finite(at, 3, "the pick"))

    def compute(s: Session) -> tuple[int, list[tuple[Station, Array]]]:
        project = get_project(s, project_id)
        found = []
        for station in stations_in(stations_of(s, project_id), wanted(s, project, part_id)):
            near = points_near(s, [station], place, ROUND)
            try:
                wall = widest_plane(near.points, ROUGH, through=place)
            except NotEnough:
                continue
            if wall.points >= FEWEST and abs(wall.normal[2]) < UPRIGHT:
                found.append((station, matrix(station.pose)[:3, :3].T @ wall.facing(near.towards).normal))
        if not found:
            raise NotEnough("no station sees an upright wall at that pick", subject="pick", remedy="pick a bare part of a wall")
        return project.network_revision, found

    def commit(made: tuple[int, list[tuple[Station, Array]]]) -> dict[str, Any]:
        revision, found = made
        with journal.change(project_id, "", network=True, topic="network") as c:
            if c.project.network_revision != revision:
                raise Moved
            called = clean_name(name, "")[:60] or _free(c.s, project_id)
            for station, normal in found:
                row = Known(
                    project_id=project_id, kind="plumb", name=f"{called} from {station.name}"[:120], station_id=station.id, sigma=sigma
                )
                row.normal, row.at = numbers(normal), numbers(frames.apply(frames.inverse(matrix(station.pose)), place[None])[0])
                c.s.add(row)
            c.title = f"{called} is known to be plumb, seen from {len(found)} station{'s' if len(found) > 1 else ''}"
            c.s.flush()
            refresh_solution(c.s, c.project)
            return {"name": called, "stations": len(found)}

    with heavy():
        return settled(compute, commit, project_id)


def _free(s: Session, project_id: str) -> str:
    taken = {t.partition(" from ")[0] for t in s.scalars(select(Known.name).where(Known.project_id == project_id))}
    return next(name for k in range(1, len(taken) + 2) if (name := f"Wall {k}") not in taken)


def change(project_id: str, known_id: str, version: int | None, used: bool | None = None, removed: bool = False) -> None:
    with journal.change(project_id, "", network=True, topic="network") as c:
        row = owned(c.s, Known, project_id, known_id, "measure")
        journal.checked_version(row, version, row.name)
        if used is not None:
            row.used = used
            c.title = f"{row.name} {'takes part' if used else 'is switched off'}"
        if removed:
            c.remove(row)
            c.title = f"Took {row.name} away"
        c.s.flush()
        refresh_solution(c.s, c.project)


def list_known(s: Session, project_id: str) -> list[dict[str, Any]]:
    """What is known, and what the network leaves of it; of each station its level too."""
    get_project(s, project_id)
    data = solution_of(s, project_id)
    nothing = {"off": None, "normalized": None, "redundancy": None, "status": "loose"}
    out = []
    for k in s.scalars(select(Known).where(Known.project_id == project_id).order_by(Known.kind.desc(), Known.name, Known.id)):
        own = data["known"].get(k.id, nothing)
        unit = 1000.0  # millimetres of a tape, millimetres a metre of a wall
        out.append(
            {
                "id": k.id,
                "version": k.version,
                "kind": k.kind,
                "name": k.name,
                "metres": k.value if k.kind == "tape" else None,
                "sigma": unit * k.sigma,
                "off": None if own["off"] is None else unit * own["off"],
                "normalized": own["normalized"],
                "used": k.used,
                "status": own["status"],
            }
        )
    for station in stations_of(s, project_id):
        if (own := data["levels"].get(station.id)) is not None:
            out.append(
                {
                    "id": f"level-{station.id}",
                    "version": 0,
                    "kind": "level",
                    "name": station.name,
                    "metres": None,
                    "sigma": None,
                    "off": 1000 * own["off"],
                    "normalized": own["normalized"],
                    "used": own["used"],
                    "status": "taut" if own["used"] else "parted",
                }
            )
    return out
