"""Projects, their thread, jobs and journal."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import Field, FiniteFloat

from .base import Model, Out, Text, Unit, Version


class ProjectIn(Model):
    name: Text
    unit: Unit = "m"


class Dimensions(Model):
    """How the dimensions of a project look. unit: of their figures, none: that of the coordinates; places behind the point, none: to the
    millimetre."""

    ends: Literal["tick", "arrow", "dot"] = "tick"
    unit: Literal["m", "cm", "mm", "ft", "us_ft"] | None = None
    places: Annotated[int, Field(ge=0, le=5)] | None = None


class ProjectPatch(Model):
    version: Version
    name: Text | None = None
    unit: Unit | None = None
    profile: Annotated[str, Field(max_length=40)] | None = None
    frame: Annotated[str, Field(pattern=r"^(project|[0-9a-f]{32})$")] | None = None
    company: Annotated[str, Field(max_length=200)] | None = None
    letters: Annotated[FiniteFloat, Field(ge=0.001, le=10)] | None = None  # metres: height of letters on its drawings
    dimensions: Dimensions | None = None


class ProjectCard(Out):
    id: str
    version: int
    name: str
    demo: bool
    created_at: datetime
    stations: int
    points: int


class GridPicks(Out):
    """What a grid was laid by, in the part's coordinates, metres."""

    wall: list[float]
    point: list[float]
    given: list[float]
    flip: bool
    corner: bool
    by_points: bool


class Frame(Out):
    """Coordinates of a part. old: why they are out of date, or ""."""

    id: str
    version: int
    part: str | None
    name: str
    kind: Literal["project", "control", "grid"]
    unit: Unit
    revision: int
    old: str
    provenance: str
    picks: GridPicks | None = None


class PartOut(Out):
    """Stations that share coordinates, and those of its coordinates that are in use."""

    id: str
    name: str
    stations: list[str]
    datum: str
    frame: str
    frame_name: str
    unit: Unit
    T_frame_part: list[float]


class KnotOut(Out):
    step: str
    state: Literal["empty", "begun", "done", "out of date"]
    question: str


class UndoOut(Out):
    entry: int
    title: str


class ProjectOut(Out):
    id: str
    version: int
    name: str
    unit: Unit
    demo: bool
    profile: dict[str, Any]
    company: str
    letters: float
    dimensions: Dimensions
    network_revision: int
    frame: str
    frame_name: str
    T_frame_part: list[float]
    part: str | None  # whose coordinates these are
    parts: list[PartOut]  # the largest first
    frames: list[Frame]
    stations: int
    points: int
    thread: list[KnotOut]
    undo: UndoOut | None
    redo: UndoOut | None


class Entry(Model):
    """The journal's entry that is to be taken back (or brought back), as whoever asks has it before them."""

    entry: Annotated[int, Field(ge=1, le=2**62)]


class Binned(Out):
    id: str
    name: str
    until: datetime


class HealthOut(Out):
    """workers: heard of within ten seconds; waiting: jobs that no worker has begun; sealed: how files are parsed."""

    database: bool
    workers: int
    waiting: int
    sealed: list[str]


class JobOut(Out):
    id: str
    kind: str
    title: str
    state: str
    stage: str
    done: int
    total: int
    error: dict[str, Any] | None
    result: dict[str, Any] | None
    created_at: datetime
    started_at: datetime | None
    ended_at: datetime | None
    seconds_left: float | None


class JournalOut(Out):
    id: int
    at: datetime
    actor: str
    title: str
    undone: bool
    undoable: bool
