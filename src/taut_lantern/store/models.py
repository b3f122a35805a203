"""Tables. Rows of :class:`Journaled` classes are what people edit: they carry a version and their states
before and after each change are kept in the journal, from which undo restores them.

No journaled row is ever deleted: ``deleted`` puts it out of sight (sessions read only what is in sight, see db.py).
Points, grids and marks hang on no foreign key: nothing that happens to a row can take them away.
"""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, Index, LargeBinary, String, Text, text
from sqlalchemy.orm import Mapped, mapped_column

from .drawn import (
    CropBox,
    Delivery,
    DesignModel,
    Edit,
    ModelMesh,
    Note,
    PointSet,
    SavedView,
    Section,
    Selection,
    Sheet,
    TitleBlock,
    Trace,
    Zone,
)
from .network import Acceptance, Body, Control, Frame, Group, Known, Link, Picture, Proposal, Question, Sighting, SolutionRow, Target
from .rows import Base, Handled, Journaled, new_id, now, project_key


class Project(Journaled, Base):
    __tablename__ = "project"
    name: Mapped[str] = mapped_column(String(300))
    unit: Mapped[str] = mapped_column(String(8), default="m")
    profile: Mapped[dict[str, Any]] = mapped_column(default=dict)
    search: Mapped[dict[str, Any]] = mapped_column(default=dict)  # how stations are looked for in each other
    classes: Mapped[list[Any]] = mapped_column(default=list)  # those that people added to ours: code and name
    layers: Mapped[list[Any]] = mapped_column(default=list)  # of its drawing, see core.draw.layers; empty: those that one begins with
    recipes: Mapped[list[Any]] = mapped_column(default=list)  # filters with their settings: name, kinds, strength, limits
    company: Mapped[str] = mapped_column(String(200), default="")  # whose report it is
    letters: Mapped[float] = mapped_column(default=0.15)  # metres: height of those that are drawn
    dimensions: Mapped[dict[str, Any]] = mapped_column(default=dict)  # how they look, see core.draw.shapes.Style
    active_frame: Mapped[str] = mapped_column(String(40), default="project")
    network_revision: Mapped[int] = mapped_column(default=0)
    created_at: Mapped[datetime] = mapped_column(default=now)
    demo: Mapped[bool] = mapped_column(default=False)
    deleted_at: Mapped[datetime | None]  # since when it lies in the bin


class Original(Base):
    """An uploaded file as it came, in chunks; state: receiving | complete | bad. sha256: of the whole file, as announced
    or as read. discarded_at: since when it lies in the bin."""

    __tablename__ = "original"
    id: Mapped[str] = mapped_column(String(32), primary_key=True, default=new_id)
    project_id: Mapped[str] = project_key()
    name: Mapped[str] = mapped_column(String(300))
    size: Mapped[int] = mapped_column(BigInteger)
    received: Mapped[int] = mapped_column(BigInteger, default=0)
    sha256: Mapped[str] = mapped_column(String(64), default="")
    state: Mapped[str] = mapped_column(String(12), default="receiving")
    reading: Mapped[dict[str, Any]] = mapped_column(default=dict)
    created_at: Mapped[datetime] = mapped_column(default=now)
    discarded_at: Mapped[datetime | None]
    let_go: Mapped[dict[str, Any] | None]  # when its bytes were given up, by whom and why; what was made of it stays


class Chunk(Base):
    """A piece of a stored file (an original or a delivery). sha256 of it, "" for what was kept before pieces had one."""

    __tablename__ = "chunk"
    file_id: Mapped[str] = mapped_column(String(32), primary_key=True)
    offset: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    data: Mapped[bytes] = mapped_column(LargeBinary)
    sha256: Mapped[str] = mapped_column(String(64), default="")


class Station(Journaled, Base):
    __tablename__ = "station"
    __table_args__ = (
        Index("ix_station_live", "project_id", "deleted"),
        Index("uq_station_scan", "original_id", "scan_index", "twin", unique=True, postgresql_where=text("NOT deleted")),
    )
    project_id: Mapped[str] = project_key()
    name: Mapped[str] = mapped_column(String(300))
    place: Mapped[int] = mapped_column(default=0)  # order in the roster
    original_id: Mapped[str | None] = mapped_column(String(32))
    scan_index: Mapped[int] = mapped_column(default=0)
    twin: Mapped[int] = mapped_column(default=0)  # above 0: the same scan, brought in again by a version that let it
    points: Mapped[int] = mapped_column(default=0)
    has_rgb: Mapped[bool] = mapped_column(default=False)
    has_intensity: Mapped[bool] = mapped_column(default=False)
    low: Mapped[list[Any]] = mapped_column(default=list)
    high: Mapped[list[Any]] = mapped_column(default=list)
    hue: Mapped[int] = mapped_column(default=0)
    group_id: Mapped[str | None] = mapped_column(String(32))
    part_id: Mapped[str | None] = mapped_column(String(32))  # None only until the network is looked at for the first time
    pose: Mapped[list[Any] | None]  # T_part_station, 16 numbers, row by row; None = at the origin of its part
    report: Mapped[dict[str, Any]] = mapped_column(default=dict)


class Part(Journaled, Base):
    """Stations that the network connects, and the coordinates that they share. Two parts never share coordinates.

    The datum is stored: datum_station stands at datum_pose (T_part_station) whatever is adjusted, so that nothing that is
    placed moves when stations come and go. When it leaves, another station takes over where it stands.
    """

    __tablename__ = "part"
    project_id: Mapped[str] = project_key()
    name: Mapped[str] = mapped_column(String(120))
    place: Mapped[int] = mapped_column(default=0)  # order in which parts came to be
    datum_station: Mapped[str] = mapped_column(String(32))
    datum_pose: Mapped[list[Any]]


class LayerRow(Base):
    """An attribute of a tile's points, beside the geometry that is never rewritten: intensity, colour. revision counts up when
    it is written again; a tile of an earlier version holds intensity and colour within itself, which a layer overrides."""

    __tablename__ = "layer"
    station_id: Mapped[str] = mapped_column(String(32), primary_key=True)
    first: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    kind: Mapped[str] = mapped_column(String(12), primary_key=True)
    revision: Mapped[int] = mapped_column(default=0)
    data: Mapped[bytes] = mapped_column(LargeBinary)


class TileRow(Base):
    """A slice of a station's points, their geometry; never changed once written. A station's tiles cover exactly its points."""

    __tablename__ = "tile"
    __table_args__ = (Index("uq_tile_slice", "station_id", "first", unique=True),)
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=True)
    station_id: Mapped[str] = mapped_column(String(32))
    level: Mapped[int]
    first: Mapped[int] = mapped_column(BigInteger)
    count: Mapped[int]
    low: Mapped[list[Any]]
    high: Mapped[list[Any]]
    spacing: Mapped[float]
    data: Mapped[bytes] = mapped_column(LargeBinary)


class GridRow(Base):
    """Row, column of each point of a structured station in the final order, for matching and for E57 out."""

    __tablename__ = "grid"
    station_id: Mapped[str] = mapped_column(String(32), primary_key=True)
    data: Mapped[bytes] = mapped_column(LargeBinary)


class Job(Base):
    """A piece of background work; state: waiting | running | done | failed | cancelled.

    attempts: how often it was begun, and the fence: only the run that began last may commit. beat_at: when that run was
    last heard of; worker: who runs it.
    """

    __tablename__ = "job"
    id: Mapped[str] = mapped_column(String(32), primary_key=True, default=new_id)
    project_id: Mapped[str] = project_key()
    kind: Mapped[str] = mapped_column(String(24))
    title: Mapped[str] = mapped_column(String(400))
    params: Mapped[dict[str, Any]] = mapped_column(default=dict)
    state: Mapped[str] = mapped_column(String(12), default="waiting", index=True)
    stage: Mapped[str] = mapped_column(String(200), default="")
    done: Mapped[int] = mapped_column(BigInteger, default=0)
    total: Mapped[int] = mapped_column(BigInteger, default=0)
    stage_at: Mapped[datetime | None]  # when the count that is running now began
    actor: Mapped[str] = mapped_column(String(120), default="you")  # who asked for it, and makes its changes
    attempts: Mapped[int] = mapped_column(default=0)
    cancel: Mapped[bool] = mapped_column(default=False)
    error: Mapped[dict[str, Any] | None]
    result: Mapped[dict[str, Any] | None]
    created_at: Mapped[datetime] = mapped_column(default=now)
    started_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    beat_at: Mapped[datetime | None]
    worker: Mapped[str] = mapped_column(String(120), default="")

    @property
    def seconds_left(self) -> float | None:
        """Of the count that is running, from its own pace; None while too little is done to say."""
        if self.state != "running" or self.stage_at is None or not 0.05 * self.total <= self.done < self.total or self.done == 0:
            return None
        return (now() - self.stage_at).total_seconds() * (self.total - self.done) / self.done


class Checkpoint(Base):
    """What a long job has reached, for the run that takes it up again; cleared when the job ends."""

    __tablename__ = "checkpoint"
    job_id: Mapped[str] = mapped_column(String(32), primary_key=True)
    key: Mapped[str] = mapped_column(String(200), primary_key=True)
    data: Mapped[bytes] = mapped_column(LargeBinary)


class Journal(Base):
    """One change: the rows before and after. undone: taken back (and can be redone until something new is done)."""

    __tablename__ = "journal"
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=True)
    project_id: Mapped[str] = project_key()
    at: Mapped[datetime] = mapped_column(default=now)
    actor: Mapped[str] = mapped_column(String(120))
    title: Mapped[str] = mapped_column(Text)
    rows: Mapped[list[Any]] = mapped_column(default=list)
    network: Mapped[bool] = mapped_column(default=False)
    undoable: Mapped[bool] = mapped_column(default=True)
    undone: Mapped[bool] = mapped_column(default=False)


JOURNALED: dict[str, type[Any]] = {
    c.__tablename__: c
    for c in (
        Project,
        Part,
        Station,
        Group,
        Body,
        Target,
        Link,
        Sighting,
        Control,
        Known,
        Frame,
        Edit,
        Zone,
        CropBox,
        DesignModel,
        TitleBlock,
        Section,
        Trace,
        Note,
        SavedView,
        Sheet,
        Question,
        Acceptance,
        Picture,
    )
}

__all__ = [
    "JOURNALED",
    "Acceptance",
    "Base",
    "Body",
    "Checkpoint",
    "Chunk",
    "Control",
    "CropBox",
    "Delivery",
    "DesignModel",
    "Edit",
    "Frame",
    "GridRow",
    "Group",
    "Handled",
    "Job",
    "Journal",
    "Journaled",
    "Known",
    "LayerRow",
    "Link",
    "ModelMesh",
    "Note",
    "Original",
    "Part",
    "Picture",
    "PointSet",
    "Project",
    "Proposal",
    "Question",
    "SavedView",
    "Section",
    "Selection",
    "Sheet",
    "Sighting",
    "SolutionRow",
    "Station",
    "Target",
    "TileRow",
    "TitleBlock",
    "Trace",
    "Zone",
    "new_id",
    "now",
]
