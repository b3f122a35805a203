"""Tables of the network: what was observed, decided, asked, accepted, and the one solution; frames of its parts."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, LargeBinary, String, text
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import Mapped, mapped_column

from .rows import Base, Handled, Journaled, project_key


class Link(Journaled, Handled, Base):
    __tablename__ = "link"
    __table_args__ = (Index("uq_link_live", "project_id", "a", "b", "kind", unique=True, postgresql_where=text("NOT deleted")),)
    project_id: Mapped[str] = project_key()
    a: Mapped[str] = mapped_column(String(32))
    b: Mapped[str] = mapped_column(String(32))
    kind: Mapped[str] = mapped_column(String(12), default="cloud")
    used: Mapped[bool] = mapped_column(default=True)
    T_a_b: Mapped[list[Any]]
    covariance: Mapped[list[Any]]
    evidence: Mapped[dict[str, Any]] = mapped_column(default=dict)  # with the version of its schema
    region: Mapped[dict[str, Any]] = mapped_column(default=dict)  # T_a_box, half: it was compared in this box only; {}: everywhere


class Question(Journaled, Base):
    """What the scans do not decide, with two readings, and what somebody answered ("" while it is open). What was answered holds in
    every later run; readings and places as in core's questions; message names stations by their ids."""

    __tablename__ = "question"
    project_id: Mapped[str] = project_key()
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
    project_id: Mapped[str] = project_key()
    link_id: Mapped[str | None] = mapped_column(String(32))
    accepted_by: Mapped[str] = mapped_column(String(120))
    accepted_at: Mapped[datetime]
    remark: Mapped[str] = mapped_column(String(1000), default="")
    state: Mapped[dict[str, Any]]
    withdrawn_by: Mapped[str] = mapped_column(String(120), default="")


class Picture(Journaled, Base):
    """A picture for the report (its bytes are kept as a file's), the logo on it, or what lies below the field sketch: then ``sketch``
    says where, {x, y: metres of its lower left corner, size: metres a pixel}; pinned: it hangs on a drawing. kind: png or jpeg; wide, high:
    pixels."""

    __tablename__ = "picture"
    project_id: Mapped[str] = project_key()
    caption: Mapped[str] = mapped_column(String(300), default="")
    logo: Mapped[bool] = mapped_column(default=False)
    kind: Mapped[str] = mapped_column(String(8))
    wide: Mapped[int]
    high: Mapped[int]
    size: Mapped[int]
    sketch: Mapped[dict[str, float] | None] = mapped_column(JSONB(none_as_null=True), default=None)
    pinned: Mapped[bool] = mapped_column(default=False)
    made_by: Mapped[str] = mapped_column(String(120))
    made_at: Mapped[datetime]


class Proposal(Base):
    """Where two scans may stand to each other, by their points alone: computed once. schema: of how it was computed."""

    __tablename__ = "proposal"
    a: Mapped[str] = mapped_column(String(32), primary_key=True)
    b: Mapped[str] = mapped_column(String(32), primary_key=True)
    schema: Mapped[int]
    data: Mapped[bytes] = mapped_column(LargeBinary)


class Group(Journaled, Base):
    """Stations that belong together, and groups within. place: the order in which they were made."""

    __tablename__ = "station_group"
    project_id: Mapped[str] = project_key()
    name: Mapped[str] = mapped_column(String(120))
    parent_id: Mapped[str | None] = mapped_column(String(32))
    place: Mapped[int] = mapped_column(default=0)


class Body(Journaled, Base):
    """The shape of a held group: one unknown of the network. members: T_body_station by station."""

    __tablename__ = "body"
    project_id: Mapped[str] = project_key()
    group_id: Mapped[str | None] = mapped_column(String(32))
    name: Mapped[str] = mapped_column(String(120))
    held: Mapped[bool] = mapped_column(default=True)
    members: Mapped[dict[str, Any]]


class Target(Journaled, Base):
    """A thing made to be measured, or picked. Where it is, each part that sees it says for itself (see the solution)."""

    __tablename__ = "target"
    __table_args__ = (Index("uq_target_live", "project_id", "name", unique=True, postgresql_where=text("NOT deleted")),)
    project_id: Mapped[str] = project_key()
    name: Mapped[str] = mapped_column(String(120))
    kind: Mapped[str] = mapped_column(String(12), default="sphere")
    radius: Mapped[float] = mapped_column(default=0.0)


class Sighting(Journaled, Handled, Base):
    __tablename__ = "sighting"
    project_id: Mapped[str] = project_key()
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


class Known(Journaled, Base):
    """What is known beside the scans. kind tape: the distance of two targets is ``value`` metres; plumb: a wall is, whose normal is
    ``normal`` (3,) in the frame of a station that saw it, picked at ``at`` (3,) there. sigma: metres or radians."""

    __tablename__ = "known"
    project_id: Mapped[str] = project_key()
    kind: Mapped[str] = mapped_column(String(8))  # tape | plumb
    name: Mapped[str] = mapped_column(String(120))
    target_a: Mapped[str | None] = mapped_column(String(32))
    target_b: Mapped[str | None] = mapped_column(String(32))
    station_id: Mapped[str | None] = mapped_column(String(32))
    normal: Mapped[list[Any]] = mapped_column(default=list)
    at: Mapped[list[Any]] = mapped_column(default=list)
    value: Mapped[float] = mapped_column(default=0.0)
    sigma: Mapped[float]
    used: Mapped[bool] = mapped_column(default=True)


class Control(Journaled, Handled, Base):
    __tablename__ = "control"
    project_id: Mapped[str] = project_key()
    name: Mapped[str] = mapped_column(String(120))
    enh: Mapped[list[Any]]  # metres; None for what a point does not have
    sigma: Mapped[list[Any]] = mapped_column(default=list)  # metres, as the surveyor gives them; None for what he does not
    matched_by: Mapped[str] = mapped_column(String(8), default="")  # name, geometry, hand
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
    project_id: Mapped[str] = project_key()
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
