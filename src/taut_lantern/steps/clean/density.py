"""One spacing over all stations, looked at before it is handed over: what would be left out is put out of sight, and comes back by a switch."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core.clean.even import LEAST, MOST
from ...core.errors import BadInput
from ...site.common import Progress, get_project, matrix, settled, state_of, stations_of, still
from ...site.density import evened
from ...site.parts import stations_in, wanted
from ...store import journal
from ...store.db import session
from ...store.marks import deleted_mask, deletions_of, keep_set, packed, zones_of
from ...store.models import Job, Zone
from ...store.queue import LIVE, enqueue
from ...store.tiles import read_station


def start(project_id: str, spacing: float, part_id: str | None = None) -> str:
    """Find which points stay at this spacing, metres, in the background."""
    if not LEAST <= spacing <= MOST:
        raise BadInput("a spacing lies between 0.5 mm and 1 m", subject="spacing", remedy="give it in metres, as 0.005")
    with session() as s:
        journal.locked_project(s, project_id)
        params = {"spacing": spacing, "part": wanted(s, get_project(s, project_id), part_id)}
        q = select(Job).where(Job.project_id == project_id, Job.kind == "even", Job.state.in_(LIVE))
        if (running := next((j for j in s.scalars(q) if j.params == params), None)) is not None:
            return running.id
        return enqueue(s, project_id, "even", f"Evening out to {1000 * spacing:g} mm", **params).id


def run(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """What is left out becomes a zone that is not shown; one that was there gives way."""
    spacing = float(params["spacing"])

    def compute(s: Session) -> tuple[int, int, str, dict[str, NDArray[np.int64]], int]:
        state, network = state_of(s, project_id), get_project(s, project_id).network_revision
        gone_now = deletions_of(s, project_id)
        stations = stations_in(stations_of(s, project_id), params["part"])
        alive = {x.id: np.nonzero(~deleted_mask(s, x))[0] for x in stations}
        clouds = ((x.name, read_station(s, x).take(alive[x.id]), matrix(x.pose)) for x in stations)
        even = evened(clouds, len(stations), spacing, progress)
        out = {}
        for k, x in enumerate(stations):
            gone = np.delete(alive[x.id], even.kept(k))
            if len(gone):
                out[x.id] = gone
        return state, network, gone_now, out, sum(len(i) for i in alive.values())

    def commit(made: tuple[int, int, str, dict[str, NDArray[np.int64]], int]) -> dict[str, Any]:
        state, network, gone, out, living = made
        count = sum(len(i) for i in out.values())
        with journal.change(project_id, f"Evened out to {1000 * spacing:g} mm", topic="zones") as c:
            still(c.s, project_id, state)
            for old in zones_of(c.s, project_id):
                if old.kind == "even":
                    c.remove(old)
            own = keep_set(c.s, project_id, packed(out))
            zone = Zone(project_id=project_id, name=f"Left out at {1000 * spacing:g} mm", kind="even", shown=False, points=own, count=count)
            zone.detail = {"spacing": spacing, "network": network, "gone": gone, "kept": living - count, "part": params["part"]}
            c.s.add(zone)
            return progress.conclude(c.s, {"kept": living - count, "left_out": count})

    return settled(compute, commit, project_id)
