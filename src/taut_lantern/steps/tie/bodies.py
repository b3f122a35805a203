"""Held groups: stations whose inner shape is fixed, one unknown of the network."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.errors import BadInput
from ...site.common import Array, clean_name, get_project, matrix, numbers, owned, stations_of
from ...site.solution import refresh_solution
from ...store import journal
from ...store.models import Body


def hold(project_id: str, station_ids: list[str], name: str) -> str:
    """Hold stations of one part as they stand to each other now; links between them no longer move them."""
    with journal.change(project_id, "", network=True, topic="network") as c:
        wanted = set(station_ids)
        stations = [x for x in stations_of(c.s, project_id) if x.id in wanted]
        if len(stations) < 2 or len(stations) != len(wanted) or len({x.part_id for x in stations}) != 1:
            raise BadInput(
                "a held group needs at least two stations of one part",
                subject="stations",
                remedy="tie them first, or choose stations that hang together",
            )
        for other in c.s.scalars(select(Body).where(Body.project_id == project_id)):
            if wanted & other.members.keys():
                raise BadInput(f"a station is held in {other.name} already", subject=other.name, remedy="release that group first")
        back = frames.inverse(matrix(stations[0].pose))
        label = clean_name(name, f"{stations[0].name} to {stations[-1].name}")
        row = Body(project_id=project_id, name=label, held=True, members={x.id: numbers(back @ matrix(x.pose)) for x in stations})
        c.s.add(row)
        c.title = f"Held {len(stations)} stations as {label}"
        c.s.flush()
        refresh_solution(c.s, c.project)
        return str(row.id)


def hold_as_measured(project_id: str, poses: dict[str, Array], name: str) -> str:
    """Hold stations as a file has them, before anything is tied: poses T_file_station."""
    with journal.change(project_id, f"Held {len(poses)} stations as {name}", network=True, topic="network") as c:
        first = next(iter(poses.values()))
        members = {k: numbers(frames.inverse(first) @ t) for k, t in poses.items()}
        row = Body(project_id=project_id, name=name, held=True, members=members)
        c.s.add(row)
        c.s.flush()
        refresh_solution(c.s, c.project)
        return str(row.id)


def release(project_id: str, body_id: str, version: int) -> None:
    with journal.change(project_id, "", network=True, topic="network") as c:
        row = owned(c.s, Body, project_id, body_id, "held group")
        journal.checked_version(row, version, f"the group {row.name}")
        c.title = f"Released {row.name}"
        c.remove(row)
        c.s.flush()
        refresh_solution(c.s, c.project)


def list_bodies(s: Session, project_id: str) -> list[dict[str, Any]]:
    get_project(s, project_id)
    rows = s.scalars(select(Body).where(Body.project_id == project_id).order_by(Body.name, Body.id))
    return [{"id": r.id, "version": r.version, "name": r.name, "stations": list(r.members)} for r in rows]
