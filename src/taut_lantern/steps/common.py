"""What all steps share: poses between rows and arrays, stations of a project, progress of long work."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import frames
from ..core.errors import BadInput, Cancelled, NotFound
from ..core.network.judge import Profile
from ..store.models import PlacementRow, Project, Station

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Progress:
    """Handed into long work: report(stage, done, total); should_stop(); ``check`` raises Cancelled."""

    report: Callable[[str, int, int], None] = lambda stage, done, total: None
    should_stop: Callable[[], bool] = lambda: False

    def check(self) -> None:
        if self.should_stop():
            raise Cancelled("cancelled; nothing was changed")


def matrix(values: list[Any] | None) -> Array:
    """(4, 4) from 16 numbers row by row; identity for None."""
    return np.eye(4) if values is None else np.array(values, dtype=float).reshape(4, 4)


def numbers(t: Array) -> list[float]:
    return [float(v) for v in np.asarray(t).ravel()]


def profile_of(project: Project) -> Profile:
    return Profile(**project.profile) if project.profile else Profile()


def get_project(s: Session, project_id: str) -> Project:
    project = s.get(Project, project_id)
    if project is None or project.deleted:
        raise NotFound("this project does not exist", subject=project_id, remedy="go back to the list of projects")
    return project


def stations_of(s: Session, project_id: str) -> list[Station]:
    q = select(Station).where(Station.project_id == project_id, ~Station.deleted)
    return list(s.scalars(q.order_by(Station.place, Station.name)))


def get_station(s: Session, project_id: str, station_id: str) -> Station:
    station = s.get(Station, station_id)
    if station is None or station.deleted or station.project_id != project_id:
        raise NotFound("this station does not exist", subject=station_id, remedy="reload the project")
    return station


def owned(s: Session, model: type[Any], project_id: str, row_id: str, what: str) -> Any:
    """A row of a project, or NotFound."""
    row = s.get(model, row_id)
    if row is None or row.project_id != project_id or getattr(row, "deleted", False):
        raise NotFound(f"this {what} does not exist", subject=row_id, remedy="reload the project")
    return row


def active_frame(s: Session, project: Project) -> tuple[str, str, Array]:
    """(frame id, name, T_frame_project) of the coordinates in use."""
    if project.active_frame != "project":
        row = s.get(PlacementRow, project.active_frame)
        if row is not None and row.project_id == project.id:
            return row.id, row.name, matrix(row.T_frame_project)
    return "project", "project", np.eye(4)


def clean_name(name: str, fallback: str = "unnamed") -> str:
    """A name for people: no control characters, no path, at most 120 characters."""
    text = "".join(c for c in name.replace("\\", "/").split("/")[-1] if c.isprintable()).strip()
    return text[:120] or fallback


def finite(values: list[float], count: int, what: str) -> list[float]:
    if len(values) != count or not all(np.isfinite(v) and abs(v) < 1e9 for v in values):
        raise BadInput(f"{what} needs {count} finite numbers", subject=what, remedy="check the values")
    return [float(v) for v in values]


__all__ = [
    "Array",
    "Progress",
    "active_frame",
    "clean_name",
    "finite",
    "frames",
    "get_project",
    "get_station",
    "matrix",
    "numbers",
    "owned",
    "profile_of",
    "stations_of",
]
