"""Tables. Rows of :class:`Journaled` classes are what people edit: they carry a version and their states
before and after each change are kept in the journal, from which undo restores them.

No journaled row is ever deleted: ``deleted`` puts it out of sight (sessions read only what is in sight, see db.py).
Points, grids and marks hang on no foreign key: nothing that happens to a row can take them away.
"""

from __future__ import annotations

import uuid
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import BigInteger, DateTime, ForeignKey, Index, LargeBinary, MetaData, String, Text, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

NAMING = {
    "ix": "ix_%(table_name)s_%(column_0_N_name)s",
    "uq": "uq_%(table_name)s_%(column_0_N_name)s",
    "fk": "fk_%(table_name)s_%(column_0_N_name)s",
    "pk": "pk_%(table_name)s",
}


class Base(DeclarativeBase):
    metadata = MetaData(naming_convention=NAMING)
    type_annotation_map = {dict[str, Any]: JSONB, list[Any]: JSONB, datetime: DateTime(timezone=True)}


def new_id() -> str:
    return uuid.uuid4().hex


def now() -> datetime:
    return datetime.now(UTC)


class Journaled:
    """Mixin: edited by people, recorded by the journal, guarded by a version. deleted: out of sight, never gone."""

    id: Mapped[str] = mapped_column(String(32), primary_key=True, default=new_id)
    version: Mapped[int] = mapped_column(default=1)
    deleted: Mapped[bool] = mapped_column(default=False)


class Handled:
    """Mixin: automatic runs make these rows, people decide on them. by_hand: the fields that somebody set, which
    automatic runs leave as they are; "made" when somebody made the row itself."""

    by_hand: Mapped[list[Any]] = mapped_column(default=list)

    def decided(self, *fields: str) -> None:
        self.by_hand = sorted({*self.by_hand, *fields})


def _project() -> Mapped[str]:
    return mapped_column(ForeignKey("project.id"), index=True)


class Project(Journaled, Base):
    __tablename__ = "project"
    name: Mapped[str] = mapped_column(String(300))
    unit: Mapped[str] = mapped_column(String(8), default="m")
    profile: Mapped[dict[str, Any]] = mapped_column(default=dict)
    search: Mapped[dict[str, Any]] = mapped_column(default=dict)  # how stations are looked for in each other
    company: Mapped[str] = mapped_column(String(200), default="")  # whose report it is
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
    project_id: Mapped[str] = _project()
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
    project_id: Mapped[str] = _project()
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
    part_id: Mapped[str | None] = mapped_column(String(32))  # None only until the network is looked at for the first time
    pose: Mapped[list[Any] | None]  # T_part_station, 16 numbers, row by row; None = at the origin of its part
    report: Mapped[dict[str, Any]] = mapped_column(default=dict)


class Part(Journaled, Base):
    """Stations that the network connects, and the coordinates that they share. Two parts never share coordinates.

    The datum is stored: datum_station stands at datum_pose (T_part_station) whatever is adjusted, so that nothing that is
    placed moves when stations come and go. When it leaves, another station takes over where it stands.
    """

    __tablename__ = "part"
    project_id: Mapped[str] = _project()
    name: Mapped[str] = mapped_column(String(120))
    place: Mapped[int] = mapped_column(default=0)  # order in which parts came to be
    datum_station: Mapped[str] = mapped_column(String(32))
    datum_pose: Mapped[list[Any]]


class Body(Journaled, Base):
    """Stations whose inner shape is held: one unknown of the network. members: T_body_station by station."""

    __tablename__ = "body"
    project_id: Mapped[str] = _project()
    name: Mapped[str] = mapped_column(String(120))
    held: Mapped[bool] = mapped_column(default=True)
    members: Mapped[dict[str, Any]]


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


class Link(Journaled, Handled, Base):
    __tablename__ = "link"
    __table_args__ = (Index("uq_link_live", "project_id", "a", "b", "kind", unique=True, postgresql_where=text("NOT deleted")),)
    project_id: Mapped[str] = _project()
    a: Mapped[str] = mapped_column(String(32))
    b: Mapped[str] = mapped_column(String(32))
    kind: Mapped[str] = mapped_column(String(12), default="cloud")
    used: Mapped[bool] = mapped_column(default=True)
    T_a_b: Mapped[list[Any]]
    covariance: Mapped[list[Any]]
    evidence: Mapped[dict[str, Any]] = mapped_column(default=dict)  # with the version of its schema


class Question(Journaled, Base):
    """What the scans do not decide, with two readings, and what somebody answered ("" while it is open). What was answered holds in
    every later run; readings and places as in core's questions; message names stations by their ids."""

    __tablename__ = "question"
    project_id: Mapped[str] = _project()
    kind: Mapped[str] = mapped_column(String(12))  # alike | place
    station: Mapped[str] = mapped_column(String(32))
    other: Mapped[str] = mapped_column(String(32))
    place: Mapped[int] = mapped_column(default=0)  # the order in which they are asked
    readings: Mapped[list[Any]]
    places: Mapped[list[Any]]
    message: Mapped[str] = mapped_column(String(400))
    answer: Mapped[str] = mapped_column(String(12), default="")
    answered_by: Mapped[str] = mapped_column(String(120), default="")
    answered_at: Mapped[datetime | None]


class Acceptance(Journaled, Base):
    """That somebody accepted a link, or (link_id None) the network as it was then: state, as site.accepted has it."""

    __tablename__ = "acceptance"
    project_id: Mapped[str] = _project()
    link_id: Mapped[str | None] = mapped_column(String(32))
    accepted_by: Mapped[str] = mapped_column(String(120))
    accepted_at: Mapped[datetime]
    remark: Mapped[str] = mapped_column(String(1000), default="")
    state: Mapped[dict[str, Any]]
    withdrawn_by: Mapped[str] = mapped_column(String(120), default="")


class Picture(Journaled, Base):
    """A picture for the report (its bytes are kept as a file's), or the logo on it. kind: png or jpeg; wide, high: pixels."""

    __tablename__ = "picture"
    project_id: Mapped[str] = _project()
    caption: Mapped[str] = mapped_column(String(300), default="")
    logo: Mapped[bool] = mapped_column(default=False)
    kind: Mapped[str] = mapped_column(String(8))
    wide: Mapped[int]
    high: Mapped[int]
    size: Mapped[int]
    made_by: Mapped[str] = mapped_column(String(120))
    made_at: Mapped[datetime]


class Proposal(Base):
    """Where two scans may stand to each other, by their points alone: computed once. schema: of how it was computed."""

    __tablename__ = "proposal"
    a: Mapped[str] = mapped_column(String(32), primary_key=True)
    b: Mapped[str] = mapped_column(String(32), primary_key=True)
    schema: Mapped[int]
    data: Mapped[bytes] = mapped_column(LargeBinary)


class Target(Journaled, Base):
    """A thing made to be measured, or picked. Where it is, each part that sees it says for itself (see the solution)."""

    __tablename__ = "target"
    __table_args__ = (Index("uq_target_live", "project_id", "name", unique=True, postgresql_where=text("NOT deleted")),)
    project_id: Mapped[str] = _project()
    name: Mapped[str] = mapped_column(String(120))
    kind: Mapped[str] = mapped_column(String(12), default="sphere")
    radius: Mapped[float] = mapped_column(default=0.0)


class Sighting(Journaled, Handled, Base):
    __tablename__ = "sighting"
    project_id: Mapped[str] = _project()
    station_id: Mapped[str] = mapped_column(String(32))
    target_id: Mapped[str | None] = mapped_column(String(32))
    kind: Mapped[str] = mapped_column(String(12), default="sphere")
    radius: Mapped[float] = mapped_column(default=0.0)
    centre: Mapped[list[Any]]  # station frame, metres
    covariance: Mapped[list[Any]]
    rms: Mapped[float]
    points: Mapped[int]
    remark: Mapped[str] = mapped_column(String(200), default="")
    used: Mapped[bool] = mapped_column(default=True)


class Control(Journaled, Handled, Base):
    __tablename__ = "control"
    project_id: Mapped[str] = _project()
    name: Mapped[str] = mapped_column(String(120))
    enh: Mapped[list[Any]]  # metres
    unit: Mapped[str] = mapped_column(String(8), default="m")  # of the file that it came from
    role: Mapped[str] = mapped_column(String(8), default="control")
    remark: Mapped[str] = mapped_column(String(200), default="")
    target_id: Mapped[str | None] = mapped_column(String(32))


class Frame(Journaled, Base):
    """Coordinates of a part: on control or a site grid. The network is not touched by it. A part's own coordinates are a
    frame too, of the kind project, which its Part row stands for.

    unit: of its coordinates on the screen and in files (the numbers here are metres); detail: its provenance;
    made_from: the inputs that it was computed from, {} for what an earlier version made; revision: how often it was made.
    """

    __tablename__ = "frame"
    project_id: Mapped[str] = _project()
    part_id: Mapped[str | None] = mapped_column(String(32))
    name: Mapped[str] = mapped_column(String(120))
    kind: Mapped[str] = mapped_column(String(12))  # control | grid
    unit: Mapped[str] = mapped_column(String(8), default="m")
    T_frame_part: Mapped[list[Any]]
    detail: Mapped[dict[str, Any]] = mapped_column(default=dict)
    made_from: Mapped[dict[str, Any]] = mapped_column(default=dict)
    revision: Mapped[int] = mapped_column(default=1)
    active: Mapped[bool] = mapped_column(default=True)  # False: replaced by another, or taken away


class SolutionRow(Base):
    """The one solution of a project's network; ``network_revision`` says what it was computed from."""

    __tablename__ = "solution"
    project_id: Mapped[str] = mapped_column(ForeignKey("project.id"), primary_key=True)
    network_revision: Mapped[int]
    data: Mapped[dict[str, Any]]


class Edit(Journaled, Base):
    """A deletion of points: a mark that can be switched off. The points stay."""

    __tablename__ = "edit"
    project_id: Mapped[str] = _project()
    title: Mapped[str] = mapped_column(String(300))
    count: Mapped[int] = mapped_column(BigInteger)
    active: Mapped[bool] = mapped_column(default=True)
    place: Mapped[int] = mapped_column(default=0)


class EditDelta(Base):
    """Which points of a station an edit marks: sorted indices, delta-coded and compressed."""

    __tablename__ = "edit_delta"
    edit_id: Mapped[str] = mapped_column(String(32), primary_key=True)
    station_id: Mapped[str] = mapped_column(String(32), primary_key=True)
    count: Mapped[int]
    data: Mapped[bytes] = mapped_column(LargeBinary)


class CropBox(Journaled, Base):
    __tablename__ = "crop_box"
    project_id: Mapped[str] = _project()
    part_id: Mapped[str | None] = mapped_column(String(32))
    T_part_base: Mapped[list[Any] | None]  # None: its numbers are the part's own; else where they were given
    name: Mapped[str] = mapped_column(String(120))
    centre: Mapped[list[Any]]
    half: Mapped[list[Any]]
    yaw: Mapped[float] = mapped_column(default=0.0)
    active: Mapped[bool] = mapped_column(default=True)


class Section(Journaled, Base):
    __tablename__ = "section"
    project_id: Mapped[str] = _project()
    part_id: Mapped[str | None] = mapped_column(String(32))
    T_part_base: Mapped[list[Any] | None]  # as of a crop box
    name: Mapped[str] = mapped_column(String(120))
    kind: Mapped[str] = mapped_column(String(8))
    params: Mapped[dict[str, Any]]


class Note(Journaled, Base):
    """A measure that is kept: picks (n, 3) m in the part, or where they were given; detail: what was fitted at them."""

    __tablename__ = "note"
    project_id: Mapped[str] = _project()
    part_id: Mapped[str | None] = mapped_column(String(32))
    T_part_base: Mapped[list[Any] | None]  # as of a crop box
    name: Mapped[str] = mapped_column(String(120))
    kind: Mapped[str] = mapped_column(String(12))
    points: Mapped[list[Any]]
    remark: Mapped[str] = mapped_column(String(300), default="")
    detail: Mapped[dict[str, Any]] = mapped_column(default=dict)


class SavedView(Journaled, Base):
    """What a bench showed and how: cameras, cut, colours, open eyes."""

    __tablename__ = "saved_view"
    project_id: Mapped[str] = _project()
    part_id: Mapped[str | None] = mapped_column(String(32))
    T_part_base: Mapped[list[Any] | None]  # as of a crop box
    name: Mapped[str] = mapped_column(String(120))
    shows: Mapped[dict[str, Any]]


class Trace(Journaled, Base):
    """A drawn or fitted entity on a section, in section coordinates."""

    __tablename__ = "trace"
    project_id: Mapped[str] = _project()
    section_id: Mapped[str] = mapped_column(String(32), index=True)
    kind: Mapped[str] = mapped_column(String(12))
    layer: Mapped[str] = mapped_column(String(60))
    points: Mapped[list[Any]]
    radius: Mapped[float] = mapped_column(default=0.0)
    state: Mapped[str] = mapped_column(String(12), default="found")  # found | accepted | drawn | rejected
    fit: Mapped[dict[str, Any]] = mapped_column(default=dict)


class Delivery(Base):
    __tablename__ = "delivery"
    id: Mapped[str] = mapped_column(String(32), primary_key=True, default=new_id)
    project_id: Mapped[str] = _project()
    kind: Mapped[str] = mapped_column(String(12))
    name: Mapped[str] = mapped_column(String(300))
    params: Mapped[dict[str, Any]] = mapped_column(default=dict)
    size: Mapped[int] = mapped_column(BigInteger, default=0)
    sha256: Mapped[str] = mapped_column(String(64), default="")
    journal_at: Mapped[int] = mapped_column(BigInteger, default=0)
    created_at: Mapped[datetime] = mapped_column(default=now)
    let_go: Mapped[dict[str, Any] | None]  # as of an original


class Job(Base):
    """A piece of background work; state: waiting | running | done | failed | cancelled.

    attempts: how often it was begun, and the fence: only the run that began last may commit. beat_at: when that run was
    last heard of; worker: who runs it.
    """

    __tablename__ = "job"
    id: Mapped[str] = mapped_column(String(32), primary_key=True, default=new_id)
    project_id: Mapped[str] = _project()
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
    project_id: Mapped[str] = _project()
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
        Body,
        Target,
        Link,
        Sighting,
        Control,
        Frame,
        Edit,
        CropBox,
        Section,
        Trace,
        Note,
        SavedView,
        Question,
        Acceptance,
        Picture,
    )
}
