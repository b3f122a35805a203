"""Projects: make, rename, set the tolerance profile and the coordinates in use; the bin; undo and redo."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..core.errors import BadInput, NotFound
from ..core.network.judge import PROFILES
from ..store import bin, journal
from ..store.db import GONE, session
from ..store.models import Journal, PlacementRow, Project, Station, new_id
from .common import active_frame, clean_name, get_project, profile_of, stations_of
from .thread import thread
from .tie.network import refresh_solution


def make_project(name: str, unit: str = "m", demo: bool = False) -> str:
    name = clean_name(name, "")
    if not name:
        raise BadInput("a project needs a name", subject="name", remedy="type a name")
    project = Project(name=name, unit=unit, profile=PROFILES["as-built"].as_dict(), demo=demo, id=new_id())
    with journal.change(project.id, f"Made the project {name}", new_project=project, topic="projects"):
        pass
    return project.id


def change_project(
    project_id: str, version: int | None, name: str | None, unit: str | None, profile: str | None, frame: str | None
) -> None:
    with journal.change(project_id, "Changed the project") as c:
        journal.checked_version(c.project, version, f"the project {c.project.name}")
        if name is not None:
            c.project.name = clean_name(name, c.project.name)
            c.title = f"Renamed the project to {c.project.name}"
        if unit is not None:
            c.project.unit = unit
            c.title = f"Shows lengths in {unit}"
        if profile is not None:
            if profile not in PROFILES:
                raise BadInput(f"there is no tolerance profile {profile!r}", subject="profile", remedy=f"use one of {', '.join(PROFILES)}")
            c.project.profile = PROFILES[profile].as_dict()
            c.title, c.network = f"Set the tolerance profile {profile}", True
            c.s.flush()
            refresh_solution(c.s, c.project)
        if frame is not None:
            row = None if frame == "project" else c.s.get(PlacementRow, frame)
            if frame != "project" and (row is None or row.project_id != project_id):
                raise BadInput("there is no such grid", subject="frame", remedy="reload the project")
            c.project.active_frame = frame
            c.title = "Coordinates follow " + (row.name if row else "the project frame")


def delete_project(project_id: str) -> None:
    """Put a project into the bin, from which it comes back whole for 30 days."""
    journal.project_in_sight(project_id, False)


def bring_back(project_id: str) -> None:
    journal.project_in_sight(project_id, True)


def delete_for_good(project_id: str) -> None:
    """Delete a project that lies in the bin with everything of it, and give its space back."""
    with session() as s:
        row = s.get(Project, project_id, execution_options=GONE)
        if row is None or not row.deleted:
            raise NotFound("this project does not lie in the bin", subject=project_id, remedy="look at the list of projects")
    bin.purge(project_id)
    bin.give_back()


def list_bin() -> list[dict[str, Any]]:
    """Projects in the bin, the latest first, and when each is deleted for good."""
    with session() as s:
        q = select(Project).where(Project.deleted, Project.deleted_at.is_not(None)).order_by(Project.deleted_at.desc())
        rows = s.scalars(q, execution_options=GONE)
        return [{"id": p.id, "name": p.name, "until": p.deleted_at + timedelta(days=bin.DAYS)} for p in rows if p.deleted_at]


def list_projects() -> list[dict[str, Any]]:
    with session() as s:
        q = (
            select(Project, func.count(Station.id), func.coalesce(func.sum(Station.points), 0))
            .outerjoin(Station, Station.project_id == Project.id)
            .group_by(Project.id)
            .order_by(Project.created_at.desc())
        )
        return [
            {"id": p.id, "name": p.name, "demo": p.demo, "created_at": p.created_at, "stations": n, "points": int(k)}
            for p, n, k in s.execute(q)
        ]


def describe(s: Session, project_id: str) -> dict[str, Any]:
    """The head of a project: everything the frame of the page shows."""
    p = get_project(s, project_id)
    frame, frame_name, t = active_frame(s, p)
    stations = stations_of(s, project_id)
    placements = list(s.scalars(select(PlacementRow).where(PlacementRow.project_id == project_id, PlacementRow.active)))
    last, following = journal.last_entry(s, project_id), journal.last_entry(s, project_id, redo=True)
    return {
        "id": p.id,
        "version": p.version,
        "name": p.name,
        "unit": p.unit,
        "demo": p.demo,
        "profile": profile_of(p).as_dict(),
        "network_revision": p.network_revision,
        "frame": frame,
        "frame_name": frame_name,
        "T_frame_project": t.ravel().tolist(),
        "frames": [
            {"id": "project", "name": "project", "kind": "project"},
            *[{"id": r.id, "name": r.name, "kind": r.kind} for r in placements],
        ],
        "stations": len(stations),
        "points": sum(x.points for x in stations),
        "thread": thread(s, p),
        "undo": last and {"entry": last.id, "title": last.title},
        "redo": following and {"entry": following.id, "title": following.title},
    }


def journal_of(project_id: str) -> list[Journal]:
    with session() as s:
        get_project(s, project_id)
        return list(s.scalars(select(Journal).where(Journal.project_id == project_id).order_by(Journal.id.desc()).limit(300)))


def undo(project_id: str, redo: bool = False, entry: int | None = None) -> str:
    """Take the last change back (or forward), in one transaction with the solution that belongs to it."""
    with session() as s:
        project = journal.locked_project(s, project_id)
        title = journal.undo(s, project, redo, entry)
        refresh_solution(s, project, move_stations=False)
        return title
