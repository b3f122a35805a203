"""What somebody selects: shapes over the points that are seen, added to each other, taken away, crossed. A selection lives here, with the
steps that led to it; what is hidden, cropped or locked is never taken, and it is said how much that was.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from ...core.errors import BadInput, Conflict
from ...site.common import Moved, Progress, get_project, heavy
from ...store.db import actor, notify, session, snapshot
from ...store.marks import drop_set, keep_set, packed, read_set
from ...store.models import Project, Selection, Station
from ...store.queue import enqueue
from .looking import Index, look
from .shapes import of_spec

AT_ONCE = 30_000_000  # points looked through in a request; more is work for the background
OPS = ("replace", "add", "subtract", "intersect")
KEPT = 20  # steps that can be taken back
ROUNDS = 4


def combined(before: dict[str, Index], found: dict[str, Index], op: str) -> dict[str, Index]:
    """What is selected then, by station; points of stations that the shape did not meet are as they were, or gone when it is crossed."""
    if op == "replace":
        return found
    out: dict[str, Index] = {}
    nothing = np.zeros(0, np.int64)
    for x in sorted({*before, *found}):
        a, b = before.get(x, nothing), found.get(x, nothing)
        if op == "add":
            own = np.union1d(a, b)
        elif op == "subtract":
            own = np.setdiff1d(a, b, assume_unique=True)
        else:
            own = np.intersect1d(a, b, assume_unique=True)
        if len(own):
            out[x] = own
    return out


def _row(s: Session, project_id: str) -> Selection | None:
    return s.get(Selection, (project_id, actor.get()))


def _last(row: Selection | None) -> dict[str, Any] | None:
    return row.steps[-1] if row is not None and row.steps else None


def _step(s: Session, project_id: str, parts: dict[str, Index], title: str, among: str, spared: dict[str, int]) -> dict[str, Any]:
    counts = {x: len(index) for x, index in parts.items()}
    return {
        "set": keep_set(s, project_id, packed(parts)) if parts else "",
        "count": sum(counts.values()),
        "stations": counts,
        "title": title,
        "among": among,
        "spared": spared,
    }


def _write(s: Session, project_id: str, revision: int, step: dict[str, Any]) -> Selection:
    """Go one step on from the revision that whoever asks looked at. Moved when another one is there."""
    s.get_one(Project, project_id, with_for_update={"key_share": True})
    row = _row(s, project_id)
    if (row.revision if row else 0) != revision:
        raise Moved
    if row is None:
        row = Selection(project_id=project_id, actor=actor.get(), revision=0, steps=[])
        s.add(row)
    _go_on(s, row, step)
    return row


def _go_on(s: Session, row: Selection, step: dict[str, Any]) -> None:
    """A step more; those that can no longer be taken back let go of their points."""
    steps = [*row.steps, step]
    for old in steps[:-KEPT]:
        if old["set"] and all(old["set"] != later["set"] for later in steps[-KEPT:]):
            drop_set(s, old["set"])
    row.steps, row.revision = steps[-KEPT:], row.revision + 1
    s.flush()
    notify(s, row.project_id, "selection", actor=row.actor)


def points_of(s: Session, project_id: str, revision: int | None = None) -> tuple[int, dict[str, Any] | None, dict[str, Index]]:
    """(revision, last step, points by station) of what is selected. Conflict when another revision is asked for."""
    row = _row(s, project_id)
    now = row.revision if row else 0
    if revision is not None and revision != now:
        raise Conflict(
            "the selection was changed in another window", subject="selection", remedy="look at what is selected now", code="count_changed"
        )
    last = _last(row)
    return now, last, read_set(s, last["set"]) if last and last["set"] else {}


def said(s: Session, project_id: str, job: str | None = None, recounted: bool = False) -> dict[str, Any]:
    """What is selected, as it is told."""
    get_project(s, project_id)
    row = _row(s, project_id)
    last = _last(row) or {"count": 0, "stations": {}, "title": "", "among": "living", "spared": {}}
    return {
        "revision": row.revision if row else 0,
        "count": last["count"],
        "stations": [{"station": x, "points": n} for x, n in sorted(last["stations"].items())],
        "title": last["title"],
        "among": last["among"],
        "spared": last["spared"],
        "back": row is not None and len(row.steps) > 0,
        "recounted": recounted,
        "job": job,
    }


def selection(project_id: str) -> dict[str, Any]:
    with session() as s:
        return said(s, project_id)


def choose(
    project_id: str, spec: dict[str, Any], station_ids: list[str], op: str = "replace", among: str = "living", seen: int | None = None
) -> dict[str, Any]:
    """Select by a shape. seen: the network's revision that the screen showed; when stations were moved since, that is told."""
    if op not in OPS:
        raise BadInput(f"unknown way to select {op!r}", subject="op", remedy=f"use {', '.join(OPS)}")
    with heavy():
        done = _choose(project_id, spec, station_ids, op, among, seen, AT_ONCE, Progress())
    if done is not None:
        return done
    with session() as s:
        what = {"spec": spec, "stations": station_ids, "op": op, "among": among, "seen": seen}
        job = enqueue(s, project_id, "select", "Selecting points", **what)
        return said(s, project_id, job.id)


def job(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """The same for any number of points."""
    given = (params["spec"], params["stations"], params["op"], params["among"], params["seen"])
    done = _choose(project_id, *given, np.inf, progress)
    assert done is not None
    return {"count": done["count"]}


def _choose(
    project_id: str,
    spec: dict[str, Any],
    station_ids: list[str],
    op: str,
    among: str,
    seen: int | None,
    most: float,
    progress: Progress,
) -> dict[str, Any] | None:
    """None when it is too much. Computed from one state without holding anything; again when it changed meanwhile."""
    first = None
    for _ in range(ROUNDS):
        with snapshot() as s:
            network = get_project(s, project_id).network_revision
            first = network if first is None else first
            revision, last, before = points_of(s, project_id)
            if last is not None and last["among"] != among:
                before = {}
            found = look(s, project_id, of_spec(s, project_id, spec, station_ids, among, before), station_ids, among, most, progress)
        if found.parts is None:
            return None
        parts = combined(before, found.parts, "replace" if spec["kind"] == "inverse" else op)
        try:
            with session() as s:
                project = s.get_one(Project, project_id)
                if project.network_revision != network:
                    raise Moved
                words = {"replace": "", "add": "added ", "subtract": "taken away ", "intersect": "crossed with "}[op]
                step = _step(s, project_id, parts, f"{words}{spec['kind']}", among, found.spared)
                _write(s, project_id, revision, step)
                done = said(s, project_id, recounted=network != (first if seen is None else seen))
                progress.conclude(s, {"count": done["count"]})
                return done
        except Moved:
            continue
    raise Conflict("the selection is being changed elsewhere right now", subject="selection", remedy="try again in a moment", code="busy")


def clear(project_id: str) -> dict[str, Any]:
    """Let go of what is selected; a step that can be taken back."""
    with session() as s:
        get_project(s, project_id)
        s.get_one(Project, project_id, with_for_update={"key_share": True})
        empty_after(s, project_id)
        s.flush()
        return said(s, project_id)


def back(project_id: str) -> dict[str, Any]:
    """Take back the last step of the selection."""
    with session() as s:
        s.get_one(Project, project_id, with_for_update={"key_share": True})
        row = _row(s, project_id)
        if row is None or not row.steps:
            raise BadInput("there is no step of the selection to take back", subject="selection", remedy="select something first")
        gone, row.steps = row.steps[-1], row.steps[:-1]
        if gone["set"] and all(gone["set"] != x["set"] for x in row.steps):
            drop_set(s, gone["set"])
        row.revision += 1
        s.flush()
        notify(s, project_id, "selection", actor=actor.get())
        return said(s, project_id)


def mask(s: Session, station: Station) -> NDArray[np.bool_]:
    """(points,) bool: which points of a station whoever asks has selected."""
    out = np.zeros(station.points, bool)
    last = _last(_row(s, station.project_id))
    if last is not None and last["set"]:
        out[read_set(s, last["set"], [station.id]).get(station.id, np.zeros(0, np.int64))] = True
    return out


def empty_after(s: Session, project_id: str) -> None:
    """In the transaction of what was done with a selection: it holds nothing now."""
    row = _row(s, project_id)
    if row is not None and _last(row) is not None:
        _go_on(s, row, _step(s, project_id, {}, "nothing", "living", {}))
