"""What all steps share: poses between rows and arrays, stations of a project, progress of long work."""

from __future__ import annotations

import threading
import unicodedata
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, TypeVar

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import and_, func, select
from sqlalchemy.orm import Session

from ..core import frames
from ..core.errors import BadInput, Busy, Cancelled, Conflict, NotFound
from ..core.network.judge import Profile
from ..store.db import snapshot
from ..store.models import Journal, Project, SavedView, Station
from ..store.queue import Run, conclude

Array = NDArray[np.float64]
T = TypeVar("T")
R = TypeVar("R")


@dataclass(frozen=True)
class Progress:
    """Handed into long work: report(stage, done, total); should_stop(); ``check`` raises Cancelled.

    run: the run of a job that this is, None outside of jobs; memory: bytes the work may take.
    """

    report: Callable[[str, int, int], None] = lambda stage, done, total: None
    should_stop: Callable[[], bool] = lambda: False
    run: Run | None = None
    memory: int = 4 << 30

    def check(self) -> None:
        if self.should_stop():
            raise Cancelled("cancelled; nothing was changed")

    def conclude(self, s: Session, result: dict[str, Any]) -> dict[str, Any]:
        """In the transaction that commits the result: the job is done with it, or neither is there."""
        if self.run is not None:
            conclude(s, self.run, result)
        return result


def matrix(values: list[Any] | None) -> Array:
    """(4, 4) from 16 numbers row by row; identity for None."""
    return np.eye(4) if values is None else np.array(values, dtype=float).reshape(4, 4)


def numbers(t: Array) -> list[float]:
    return [float(v) for v in np.asarray(t).ravel()]


def profile_of(project: Project) -> Profile:
    return Profile(**project.profile) if project.profile else Profile()


def get_project(s: Session, project_id: str) -> Project:
    project = s.get(Project, project_id)
    if project is None:
        raise NotFound("this project does not exist", subject=project_id, remedy="go back to the list of projects")
    return project


def stations_of(s: Session, project_id: str) -> list[Station]:
    q = select(Station).where(Station.project_id == project_id)
    return list(s.scalars(q.order_by(Station.place, Station.name)))


def get_station(s: Session, project_id: str, station_id: str) -> Station:
    get_project(s, project_id)
    station = s.get(Station, station_id)
    if station is None or station.project_id != project_id:
        raise NotFound("this station does not exist", subject=station_id, remedy="reload the project")
    return station


def owned(s: Session, model: type[Any], project_id: str, row_id: str, what: str) -> Any:
    """A row of a project that is in sight, or NotFound."""
    get_project(s, project_id)
    row = s.get(model, row_id)
    if row is None or row.project_id != project_id:
        raise NotFound(f"this {what} does not exist", subject=row_id, remedy="reload the project")
    return row


_heavy = threading.BoundedSemaphore(2)


@contextmanager
def heavy() -> Iterator[None]:
    """Work in a request that takes cores and memory: two at a time, the rest waits its turn and is then told to come back."""
    if not _heavy.acquire(timeout=20):
        raise Busy("the server is at work on other selections", subject="server", remedy="try again in a moment")
    try:
        yield
    finally:
        _heavy.release()


ROUNDS = 3


def settled(compute: Callable[[Session], T], commit: Callable[[T], R], project_id: str) -> R:
    """Compute from one state of the project without holding anything, then commit if the project is still in that state;
    else compute again. ``commit`` raises :class:`Moved` when it is not. Conflict when others change it again and again."""
    for _ in range(ROUNDS):
        with snapshot() as s:
            made = compute(s)
        try:
            return commit(made)
        except Moved:
            continue
    raise Conflict("the project is being changed by others right now", subject="project", remedy="try again in a moment", code="busy")


class Moved(Exception):
    """The project is no longer in the state that something was computed from."""


def state_of(s: Session, project_id: str) -> int:
    """The journal's last entry: names the state that the project is in."""
    return s.scalar(select(func.max(Journal.id)).where(Journal.project_id == project_id)) or 0


def content_of(s: Session, project_id: str) -> int:
    """The journal's last entry that changed what is handed over: keeping a view of the bench changes none of it."""
    view = and_(func.jsonb_array_length(Journal.rows) == 1, Journal.rows.contains([{"table": SavedView.__tablename__}]))
    return s.scalar(select(Journal.id).where(Journal.project_id == project_id, ~view).order_by(Journal.id.desc()).limit(1)) or 0


def still(s: Session, project_id: str, state: int) -> None:
    """Moved unless the (locked) project is still in the state."""
    if state_of(s, project_id) != state:
        raise Moved


def clean_name(name: str, fallback: str = "unnamed") -> str:
    """A name as people wrote it, without control characters and outer blanks."""
    return "".join(c for c in name if unicodedata.category(c) not in ("Cc", "Cs", "Zl", "Zp")).strip() or fallback


def file_name(name: str, fallback: str = "project") -> str:
    """A name for a file made here: no path, nothing that a file system or a shell takes amiss, at most 100 characters."""
    kept = "".join("-" if c in '/\\:*?"<>|' or c.isspace() else c for c in clean_name(name, fallback) if unicodedata.category(c) != "Cf")
    return kept.strip(".-")[:100].strip(".-") or fallback


def finite(values: list[float], count: int, what: str) -> list[float]:
    if len(values) != count or not all(np.isfinite(v) and abs(v) < 1e9 for v in values):
        raise BadInput(f"{what} needs {count} finite numbers", subject=what, remedy="check the values")
    return [float(v) for v in values]


__all__ = [
    "Array",
    "Moved",
    "Progress",
    "clean_name",
    "content_of",
    "file_name",
    "finite",
    "frames",
    "get_project",
    "get_station",
    "heavy",
    "matrix",
    "numbers",
    "owned",
    "profile_of",
    "settled",
    "state_of",
    "stations_of",
    "still",
]
