"""How far each step of the job is, and what it still asks: one line of knots for every screen and script."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ..site.common import content_of, stations_of
from ..site.frames import Currency, frames_of
from ..store.models import (
    Control,
    CropBox,
    Delivery,
    Edit,
    Job,
    Link,
    Original,
    Project,
    Question,
    Section,
    SolutionRow,
    Station,
    Trace,
)
from ..store.queue import LIVE


@dataclass(frozen=True)
class Knot:
    """state: empty | begun | done | out of date; question: what is open, a plain sentence or ""."""

    step: str
    state: str
    question: str = ""


def _count(s: Session, model: type[Any], project_id: str, *where: Any) -> int:
    return s.scalar(select(func.count()).select_from(model).where(model.project_id == project_id, *where)) or 0


def thread(s: Session, project: Project) -> list[dict[str, str]]:
    """The eight knots in the order of the job."""
    stations = stations_of(s, project.id)
    row = s.get(SolutionRow, project.id)
    data: dict[str, Any] = row.data if row else {}
    knots = [
        _bring_in(s, project.id, len(stations)),
        _tie(s, project, stations, row),
        _prove(data, _count(s, Link, project.id)),
        _place(s, project.id),
        Knot("clean", "done" if _count(s, Edit, project.id, Edit.active) + _count(s, CropBox, project.id) else "empty"),
        _colour(stations),
        _draw(s, project.id),
        _hand_over(s, project.id),
    ]
    return [asdict(k) for k in knots]


def _bring_in(s: Session, project_id: str, stations: int) -> Knot:
    coming = _count(s, Job, project_id, Job.kind.in_(("import", "merge", "demo")), Job.state.in_(LIVE))
    taken = select(Station.original_id).where(Station.project_id == project_id, Station.original_id.is_not(None))
    here = (Original.state == "complete", Original.discarded_at.is_(None))
    waiting = _count(s, Original, project_id, *here, Original.id.not_in(taken))
    if coming:
        return Knot("bring_in", "begun", "scans are coming in")
    if waiting:
        return Knot("bring_in", "begun", f"{waiting} {'file waits' if waiting == 1 else 'files wait'} to be brought in")
    return Knot("bring_in", "done" if stations else "empty", "" if stations else "no scans yet")


def _tie(s: Session, project: Project, stations: list[Station], row: SolutionRow | None) -> Knot:
    if not _count(s, Link, project.id) or row is None:
        return Knot("tie", "empty", "the stations are not tied yet" if len(stations) > 1 else "")
    if row.network_revision != project.network_revision:
        return Knot("tie", "out of date", "the network changed since it was adjusted")
    parts = row.data.get("parts", [])
    if not row.data.get("converged", True):
        return Knot("tie", "begun", "the adjustment did not converge: something contradicts")
    if open_ := _count(s, Question, project.id, Question.answer == ""):
        return Knot("tie", "begun", f"{open_} {'question is' if open_ == 1 else 'questions are'} open: what stands where?")
    if len(parts) > 1:
        return Knot("tie", "begun", f"{len(parts)} parts are not connected")
    used = {x for (x,) in s.execute(select(Link.id).where(Link.project_id == project.id, Link.used))}
    parted = sum(1 for k, v in row.data.get("links", {}).items() if k in used and v["status"] == "parted")
    if parted:
        return Knot("tie", "begun", f"{parted} used {'link is' if parted == 1 else 'links are'} parted")
    return Knot("tie", "done")


def _prove(data: dict[str, Any], links: int) -> Knot:
    if not links or not data.get("proving"):
        return Knot("prove", "empty", "no loop proves the network yet" if links else "")
    if not data["global_test"]["passed"]:
        return Knot("prove", "begun", "the links fit together less well than each alone: the global test is not passed")
    return Knot("prove", "done")


def _place(s: Session, project_id: str) -> Knot:
    frames, currency = frames_of(s, project_id), Currency(s, project_id)
    if old := [f.name for f in frames if currency.why_old(f)]:
        return Knot("place", "out of date", f"{', '.join(old)}: what the coordinates were made from changed since")
    if frames:
        return Knot("place", "done")
    if _count(s, Control, project_id):
        return Knot("place", "begun", "control is read but not applied")
    return Knot("place", "empty", "no control and no grid yet")


def _colour(stations: list[Station]) -> Knot:
    bare = sum(1 for x in stations if not x.has_rgb)
    if not stations or bare == len(stations):
        return Knot("colour", "empty", "the scans have no true colour" if stations else "")
    return Knot("colour", "begun", f"{bare} stations have no true colour") if bare else Knot("colour", "done")


def _draw(s: Session, project_id: str) -> Knot:
    if not _count(s, Section, project_id):
        return Knot("draw", "empty", "no section yet")
    open_ = _count(s, Trace, project_id, Trace.state == "found")
    return Knot("draw", "begun", f"{open_} findings are neither accepted nor rejected") if open_ else Knot("draw", "done")


def _hand_over(s: Session, project_id: str) -> Knot:
    newest = [
        x for (x,) in s.execute(select(func.max(Delivery.journal_at)).where(Delivery.project_id == project_id).group_by(Delivery.kind))
    ]
    if not newest:
        return Knot("hand_over", "empty", "nothing handed over yet")
    latest = content_of(s, project_id)
    old = sum(1 for x in newest if x < latest)
    return (
        Knot("hand_over", "out of date", f"{old} of {len(newest)} deliveries are older than the last change")
        if old
        else Knot("hand_over", "done")
    )
