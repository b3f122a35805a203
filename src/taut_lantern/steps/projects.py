"""Projects: make, rename, set the tolerance profile and the coordinates in use; the bin; undo and redo."""

from __future__ import annotations

from dataclasses import asdict
from datetime import timedelta
from typing import Any

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session, defer

from ..core import frames
from ..core.draw.shapes import Style
from ..core.errors import BadInput, NotFound
from ..core.frames import UNIT_WORDS
from ..core.network.judge import PROFILES
from ..site.common import clean_name, get_project, matrix, profile_of, stations_of
from ..site.frames import Currency, frames_of, in_use, own_frame
from ..site.parts import parts_of
from ..site.solution import refresh_solution
from ..store import bin, journal
from ..store.db import GONE, session
from ..store.models import Frame, Journal, Project, Station, new_id
from .thread import thread


def make_project(name: str, unit: str = "m", demo: bool = False) -> str:
    name = clean_name(name, "")
    if not name:
        raise BadInput("a project needs a name", subject="name", remedy="type a name")
    project = Project(name=name, unit=unit, profile=PROFILES["as-built"].as_dict(), demo=demo, id=new_id())
    with journal.change(project.id, f"Made the project {name}", new_project=project, topic="projects"):
        pass
    return project.id


def change_project(
    project_id: str,
    version: int | None,
    name: str | None,
    unit: str | None,
    profile: str | None,
    frame: str | None,
    company: str | None = None,
    letters: float | None = None,
    dimensions: dict[str, Any] | None = None,
) -> None:
    """letters: metres, the height of those that are drawn from now on; dimensions: a Style, how all of the project look."""
    with journal.change(project_id, "Changed the project") as c:
        journal.checked_version(c.project, version, f"the project {c.project.name}")
        if name is not None:
            c.project.name = clean_name(name, c.project.name)
            c.title = f"Renamed the project to {c.project.name}"
        if unit is not None:
            frame_in_use = in_use(c.s, c.project)
            if frame_in_use.row is not None:  # each frame has a unit of its own
                frame_in_use.row.unit = unit
            else:
                c.project.unit = unit
            c.title = f"Shows lengths in {UNIT_WORDS[unit]}"
        if profile is not None:
            if profile not in PROFILES:
                raise BadInput(f"there is no tolerance profile {profile!r}", subject="profile", remedy=f"use one of {', '.join(PROFILES)}")
            c.project.profile = PROFILES[profile].as_dict()
            c.title, c.network = f"Set the tolerance profile {profile}", True
            c.s.flush()
            refresh_solution(c.s, c.project)
        if company is not None:
            c.project.company = company.strip()
            c.title = f"The report is by {c.project.company}" if c.project.company else "The report names nobody"
        if letters is not None:
            c.project.letters = letters
            c.title = f"Letters of drawings are {1000 * letters:g} mm high"
        if dimensions is not None:
            c.project.dimensions = asdict(Style(**dimensions))
            c.title = "Changed how dimensions look"
        if frame is not None:
            row = None if frame == "project" else c.s.get(Frame, frame)
            if frame != "project" and (row is None or row.project_id != project_id or not row.active):
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
            {"id": p.id, "version": p.version, "name": p.name, "demo": p.demo, "created_at": p.created_at, "stations": n, "points": int(k)}
            for p, n, k in s.execute(q)
        ]


def describe(s: Session, project_id: str) -> dict[str, Any]:
    """The head of a project: everything the frame of the page shows. Reads no journal but its ends, and solves nothing."""
    p = get_project(s, project_id)
    shown = in_use(s, p)
    stations, parts = stations_of(s, project_id), parts_of(s, project_id)
    last, following = journal.last_entry(s, project_id), journal.last_entry(s, project_id, redo=True)
    names = {x.id: x.name for x in stations}
    frames = {q.id: in_use(s, p, q.id) for q in parts}
    inside = {q.id: [x.id for x in stations if x.part_id == q.id] for q in parts}
    return {
        "id": p.id,
        "version": p.version,
        "name": p.name,
        "unit": shown.unit,
        "demo": p.demo,
        "profile": profile_of(p).as_dict(),
        "company": p.company,
        "letters": p.letters,
        "dimensions": asdict(Style(**p.dimensions)),
        "network_revision": p.network_revision,
        "part": shown.part,
        "frame": shown.id,
        "frame_name": shown.name,
        "T_frame_part": shown.T_frame_part.ravel().tolist(),
        "parts": [
            {
                "id": q.id,
                "name": q.name if len(inside[q.id]) > 1 else names[inside[q.id][0]],
                "stations": inside[q.id],
                "datum": names.get(q.datum_station, ""),
                "frame": frames[q.id].id,
                "frame_name": frames[q.id].name,
                "unit": frames[q.id].unit,
                "T_frame_part": frames[q.id].T_frame_part.ravel().tolist(),
            }
            for q in parts
        ],
        "frames": list_frames(s, project_id),
        "stations": len(stations),
        "points": sum(x.points for x in stations),
        "thread": thread(s, p),
        "undo": last and {"entry": last.id, "title": last.title},
        "redo": following and {"entry": following.id, "title": following.title},
    }


def list_frames(s: Session, project_id: str) -> list[dict[str, Any]]:
    """All coordinates that can be used: the own ones of the largest part, then control and grids."""
    p = get_project(s, project_id)
    currency = Currency(s, project_id)
    own = [own_frame(q, p.unit) for q in parts_of(s, project_id)[:1]]
    return own + [
        {
            "id": r.id,
            "version": r.version,
            "part": r.part_id,
            "name": r.name,
            "kind": r.kind,
            "unit": r.unit,
            "revision": r.revision,
            "old": currency.why_old(r),
            "provenance": _provenance(r),
            "picks": _picks(r),
        }
        for r in frames_of(s, project_id)
    ]


def _picks(r: Frame) -> dict[str, Any] | None:
    """What a grid was laid by, where that lies now; None of other frames."""
    kept = r.detail.get("picks")
    if kept is None:
        return None
    motion = matrix(r.made_from.get("T_new_old"))
    moved = {k: frames.apply(motion, np.array([kept[k]]))[0].tolist() for k in ("wall", "point")}
    return {"corner": False, "by_points": False, **kept, **moved}


def _provenance(r: Frame) -> str:
    if r.kind == "control":
        return f"{len(r.detail.get('points', []))} control points, ±{r.detail.get('sigma_mm', 0):.1f} mm each"
    if r.detail.get("picks", {}).get("by_points"):
        return "from one place towards another"
    return f"along a wall, flat within {r.detail.get('wall_rms_mm', 0):.1f} mm over {r.detail.get('points', 0)} points"


def journal_of(project_id: str, before: int | None = None, limit: int = 100) -> list[Journal]:
    """The latest lines, or those before one; what each changed stays in the database."""
    with session() as s:
        get_project(s, project_id)
        q = select(Journal).where(Journal.project_id == project_id).options(defer(Journal.rows))
        q = q if before is None else q.where(Journal.id < before)
        return list(s.scalars(q.order_by(Journal.id.desc()).limit(limit)))


def undo(project_id: str, redo: bool = False, entry: int | None = None) -> str:
    """Take the last change back (or forward), in one transaction with the solution that belongs to it."""
    with session() as s:
        project = journal.locked_project(s, project_id)
        title = journal.undo(s, project, redo, entry)
        refresh_solution(s, project, move_stations=False)
        return title
