"""A pipe, or a member of steel, followed from a pick in the background, and kept as a note."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.draw.cylinders import thinned
from ..core.draw.pipes import Pipe, grown
from ..core.draw.solids import Member, member
from ..core.errors import BadInput, NotEnough
from ..site.common import Array, Moved, Progress, clean_name, get_project, matrix, settled, stations_of
from ..site.near import points_near
from ..site.notes import section_words
from ..site.parts import stations_in, wanted
from ..store import journal
from ..store.db import session
from ..store.models import Job
from ..store.queue import LIVE, enqueue
from . import notes

ROUND = 12.0  # metres round a place that points are read in at a time
BEFORE = 1.0  # metres before the edge of what was read, at which a pipe that ends may go on beyond
ALONG, FINE = 8.0, 0.003  # metres round a pick that a steel member is looked for in, and between the points that are read of it
PLACES = 8  # that are read round


def start(project_id: str, at: list[float], name: str = "", part_id: str | None = None, what: str = "pipe") -> str:
    """Follow the pipe (or the steel member: profile) that a place (3,) of a part lies on;
    asking for the same again while that is under way gives the same job."""
    with session() as s:
        project = journal.locked_project(s, project_id)
        part = wanted(s, project, part_id)
        if not stations_in(stations_of(s, project_id), part):
            raise BadInput("there are no points to follow it in", subject=project.name, remedy="bring in a scan first")
        params = {"at": at, "name": name, "part": part} | ({} if what == "pipe" else {"what": what})
        q = select(Job.id).where(Job.project_id == project_id, Job.kind == "pipe", Job.state.in_(LIVE), Job.params == params)
        if (running := s.scalar(q.limit(1))) is not None:
            return running
        return enqueue(s, project_id, "pipe", "Following a pipe" if what == "pipe" else "Following a steel member", **params).id


def job(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    return (_member if params.get("what") == "profile" else _pipe)(project_id, params, progress)


def _member(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """A steel member as a note."""
    pick = np.array(params["at"], float)

    def compute(s: Session) -> tuple[int, Member]:
        project = get_project(s, project_id)
        stations = stations_in(stations_of(s, project_id), params["part"])
        near = []
        for k, station in enumerate(stations):
            progress.report("reading round the member", k, len(stations))
            progress.check()
            near.append(thinned(points_near(s, [station], pick, ALONG).points, FINE))
        stands = np.array([matrix(x.pose)[:3, 3] for x, own in zip(stations, near, strict=True) if len(own)]).reshape(-1, 3)
        points = np.concatenate(near)
        if not len(points):
            raise NotEnough("nothing was scanned where it was picked", subject="profile", remedy="pick on its points")
        progress.report("laying sections on it", 0, 0)
        return project.network_revision, member(points, pick, stands)

    def commit(made: tuple[int, Member]) -> dict[str, Any]:
        revision, m = made
        profile = m.section.profile
        detail = {
            "section": profile.name, "alike": list(m.section.alike), "height": profile.height, "width": profile.width, "rms": m.rms,
            "points": m.points, "seen": m.section.seen, "outline": profile.outline.tolist(), "x": m.x.tolist(), "y": m.y.tolist(),
        }  # fmt: skip
        with journal.change(project_id, "", topic="notes") as c:
            if c.project.network_revision != revision:
                raise Moved
            name = clean_name(params["name"], "") or f"{section_words(detail)}, {float(np.linalg.norm(m.b - m.a)):.2f} m"
            note = notes.keep(c, "profile", np.array([m.a, m.b]), detail, name, "", params["part"])
            c.title = f"Measured {note.name}"
            return progress.conclude(c.s, {"note": note.id, "name": note.name, "section": profile.name, "alike": list(m.section.alike)})

    return settled(compute, commit, project_id)


def _pipe(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """The pipe as a note. What is read grows with it: round the pick first, then round an end that reaches the edge of that."""
    pick = np.array(params["at"], float)

    def compute(s: Session) -> tuple[int, Pipe]:
        project = get_project(s, project_id)
        stations = stations_in(stations_of(s, project_id), params["part"])
        places: list[Array] = [pick]
        cloud = np.zeros((0, 3))
        while True:
            for k, station in enumerate(stations):
                progress.report("reading round the pipe", k, len(stations))
                progress.check()
                cloud = np.concatenate([cloud, thinned(points_near(s, [station], places[-1], ROUND).points)])
            cloud = thinned(cloud)
            pipe = grown(cloud, pick, lambda long: _heard(long, progress))
            beyond = [e for e in (pipe.corners[0], pipe.corners[-1]) if min(float(np.linalg.norm(e - p)) for p in places) > ROUND - BEFORE]
            if not beyond or len(places) == PLACES:
                return project.network_revision, pipe
            places.append(beyond[0])

    def commit(made: tuple[int, Pipe]) -> dict[str, Any]:
        revision, pipe = made
        with journal.change(project_id, "", topic="notes") as c:
            if c.project.network_revision != revision:
                raise Moved
            note = notes.keep(c, "pipe", pipe.corners, kept(pipe), clean_name(params["name"], ""), "", params["part"])
            c.title = f"Followed {note.name}"
            told = {"note": note.id, "name": note.name, "length": pipe.length, "diameter": 2 * pipe.radius, "bends": len(pipe.runs) - 1}
            return progress.conclude(c.s, told)

    return settled(compute, commit, project_id)


def _heard(long: float, progress: Progress) -> None:
    progress.report(f"following it, {long:.1f} m so far", 0, 0)
    progress.check()


def kept(pipe: Pipe) -> dict[str, Any]:
    """What a note keeps of a pipe besides its corners."""
    runs = [{"a": r.a.tolist(), "b": r.b.tolist(), "radius": r.radius, "rms": r.rms, "points": r.points, "seen": r.seen} for r in pipe.runs]
    bends = [None if b is None else {"turn": math.degrees(b.turn), "radius": b.radius, "points": b.points} for b in pipe.bends]
    return {"radius": pipe.radius, "rms": pipe.rms, "points": pipe.points, "nominal": pipe.nominal, "runs": runs, "bends": bends}
