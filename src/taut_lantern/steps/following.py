"""A pipe followed from a pick in the background, and kept as a note."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.draw.cylinders import thinned
from ..core.draw.pipes import Pipe, grown
from ..core.errors import BadInput
from ..site.common import Array, Moved, Progress, clean_name, get_project, settled, stations_of
from ..site.near import points_near
from ..site.parts import stations_in, wanted
from ..store import journal
from ..store.db import session
from ..store.models import Job
from ..store.queue import LIVE, enqueue
from . import notes

ROUND = 12.0  # metres round a place that points are read in at a time
BEFORE = 1.0  # metres before the edge of what was read, at which a pipe that ends may go on beyond
PLACES = 8  # that are read round


def start(project_id: str, at: list[float], name: str = "", part_id: str | None = None) -> str:
    """Follow the pipe that a place (3,) of a part lies on; asking for the same again while that is under way gives the same job."""
    with session() as s:
        project = journal.locked_project(s, project_id)
        part = wanted(s, project, part_id)
        if not stations_in(stations_of(s, project_id), part):
            raise BadInput("there are no points to follow a pipe in", subject=project.name, remedy="bring in a scan first")
        params = {"at": at, "name": name, "part": part}
        q = select(Job.id).where(Job.project_id == project_id, Job.kind == "pipe", Job.state.in_(LIVE), Job.params == params)
        if (running := s.scalar(q.limit(1))) is not None:
            return running
        return enqueue(s, project_id, "pipe", "Following a pipe", **params).id


def job(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
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
    return {"radius": pipe.radius, "rms": pipe.rms, "points": pipe.points, "nominal": pipe.nominal, "runs": runs}
