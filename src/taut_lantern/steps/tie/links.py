"""Tie the scans: all by themselves, or one pair from a rough placement by hand; switch links off and on."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Any

import numpy as np
from sqlalchemy import select

from ...core import frames
from ...core.align import believe
from ...core.align.evidence import evidence
from ...core.align.fine import GATES, fine
from ...core.align.prepared import Prepared, prepare
from ...core.errors import BadInput, NotEnough
from ...core.network.adjust import LinkObservation, snoop
from ...store import journal
from ...store.db import session
from ...store.models import Job, Link, Station
from ...store.queue import LIVE, enqueue
from ...store.tiles import read_station
from ..common import Progress, finite, get_project, get_station, matrix, numbers, owned, stations_of
from .network import refresh_solution


def load_prepared(stations: list[Station], progress: Progress) -> dict[str, Prepared]:
    """Read and prepare scans, two at a time."""

    def one(station: Station) -> tuple[str, Prepared]:
        progress.check()
        with session() as s:
            return station.id, prepare(read_station(s, station))

    out: dict[str, Prepared] = {}
    with ThreadPoolExecutor(2) as pool:
        for k, (key, value) in enumerate(pool.map(one, stations)):
            out[key] = value
            progress.report("preparing scans", k + 1, len(stations))
    return out


def start_tie(project_id: str) -> str:
    with session() as s:
        get_project(s, project_id)
        if len(stations_of(s, project_id)) < 2:
            raise NotEnough("tying needs at least two stations", subject="stations", remedy="bring in another scan")
        running = s.scalar(
            select(Job.id).where(Job.project_id == project_id, Job.kind.in_(("tie", "import")), Job.state.in_(LIVE)).limit(1)
        )
        if running is not None:
            raise BadInput(
                "scans are still coming in or being tied", subject="jobs", remedy="wait until that is done, or cancel it", code="busy"
            )
        return enqueue(s, project_id, "tie", "Tying all stations").id


def tie_all(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Prepare, propose, believe, align, leave blunders out, adjust: one change that can be undone."""
    with session() as s:
        stations = stations_of(s, project_id)
    names = {x.id: x.name for x in stations}

    def say(text: str, done: int, total: int) -> None:
        for key, name in names.items():
            text = text.replace(key, name)
        progress.report(text, done, total)

    prepared = load_prepared(stations, progress)
    result = believe.tie(prepared, say, progress.should_stop)
    progress.check()
    seen = [LinkObservation(f"{p.a}|{p.b}", p.a, p.b, p.result.T_a_b, p.result.covariance) for p in result.pairs]
    _, left_out = snoop(list(names), seen)
    with journal.change(project_id, f"Tied {len(stations)} stations with {len(result.pairs)} links", network=True, topic="network") as c:
        for old in c.s.scalars(select(Link).where(Link.project_id == project_id, Link.kind == "cloud")):
            c.s.delete(old)
        c.s.flush()
        for p in result.pairs:
            c.s.add(
                Link(
                    project_id=project_id,
                    a=p.a,
                    b=p.b,
                    used=f"{p.a}|{p.b}" not in left_out,
                    T_a_b=numbers(p.result.T_a_b),
                    covariance=numbers(p.result.covariance),
                    evidence=p.evidence.as_dict(),
                )
            )
        for part in result.parts:
            for key, pose in part.items():
                c.s.get_one(Station, key).pose = numbers(pose) if len(part) > 1 else None
        c.s.flush()
        refresh_solution(c.s, c.project)
    return {
        "links": len(result.pairs),
        "left_out": len(left_out),
        "undecided": [f.as_dict() | {"subject": names.get(f.subject, f.subject)} for f in result.findings],
    }


def start_pair(project_id: str, a: str, b: str, T_a_b: list[float]) -> str:
    """Refine a placement of b over a that somebody made by hand."""
    t = np.array(finite(T_a_b, 16, "the placement")).reshape(4, 4)
    if not frames.is_rigid(t):
        raise BadInput("the placement is not a rotation and a shift", subject="T_a_b", remedy="place the scan again")
    with session() as s:
        one, other = get_station(s, project_id, a), get_station(s, project_id, b)
        if a == b:
            raise BadInput("a station cannot be linked with itself", subject=one.name, remedy="choose two stations")
        return enqueue(s, project_id, "pair", f"Linking {one.name} and {other.name}", a=a, b=b, T_a_b=numbers(t)).id


def pair(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    with session() as s:
        a, b = get_station(s, project_id, params["a"]), get_station(s, project_id, params["b"])
    prepared = load_prepared([a, b], progress)
    progress.report("aligning", 0, 1)
    gates = ((1.2, 8), (0.8, 8), (0.5, 4), *GATES[1:])
    result = fine(prepared[a.id], prepared[b.id], matrix(params["T_a_b"]), gates)
    if result is None:
        raise NotEnough(
            f"{a.name} and {b.name} find no common surfaces within 1.2 m of where they were put",
            subject=f"{a.name} · {b.name}",
            remedy="put one over the other more closely, walls on walls",
            code="nothing_shared",
        )
    found = evidence(prepared[a.id], prepared[b.id], result)
    progress.check()
    with journal.change(project_id, f"Linked {a.name} and {b.name} by hand", network=True, topic="network") as c:
        for old in c.s.scalars(select(Link).where(Link.project_id == project_id, Link.a.in_((a.id, b.id)), Link.b.in_((a.id, b.id)))):
            c.s.delete(old)
        c.s.flush()
        c.s.add(
            Link(
                project_id=project_id,
                a=a.id,
                b=b.id,
                T_a_b=numbers(result.T_a_b),
                covariance=numbers(result.covariance),
                evidence=found.as_dict(),
            )
        )
        c.s.flush()
        refresh_solution(c.s, c.project)
    return {"fit_rms_mm": 1000 * found.fit_rms, "overlap": found.overlap}


def switch_link(project_id: str, link_id: str, used: bool, version: int | None) -> None:
    """Switch a link off or on; the network is adjusted in the same breath."""
    with journal.change(project_id, "", network=True, topic="network") as c:
        link = owned(c.s, Link, project_id, link_id, "link")
        a, b = c.s.get_one(Station, link.a).name, c.s.get_one(Station, link.b).name
        journal.checked_version(link, version, f"the link {a} · {b}")
        c.title = f"Switched the link {a} · {b} {'on' if used else 'off'}"
        link.used = used
        c.s.flush()
        refresh_solution(c.s, c.project)
