"""Tables of what is drawn and made from the points: edits, boxes, sections, notes, views, deliveries."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, ForeignKey, LargeBinary, String
from sqlalchemy.orm import Mapped, mapped_column

from .rows import Base, Journaled, new_id, now, project_key


class Edit(Journaled, Base):
    """A deletion of points, or their class: a mark that can be switched off. The points stay. points: the set of them; does: delete, or
    class (which one, in ``detail``). kind: hand, or the filter that found them (mover, edge, ghost, door ...); proposed: found, and nobody
    has said yes or no yet; detail: of one thing that moved, its station, place, size and who contradicts."""

    __tablename__ = "edit"
    project_id: Mapped[str] = project_key()
    title: Mapped[str] = mapped_column(String(300))
    count: Mapped[int] = mapped_column(BigInteger)
    active: Mapped[bool] = mapped_column(default=True)
    place: Mapped[int] = mapped_column(default=0)
    kind: Mapped[str] = mapped_column(String(12), default="hand")
    proposed: Mapped[bool] = mapped_column(default=False)
    detail: Mapped[dict[str, Any]] = mapped_column(default=dict)
    points: Mapped[str] = mapped_column(String(32), default="")
    does: Mapped[str] = mapped_column(String(8), default="delete")


class PointSet(Base):
    """Points of a station that an edit marks, a zone holds or somebody has selected: sorted indices, delta-coded and compressed. A set
    is never changed once written; who needs other points makes another one."""

    __tablename__ = "point_set"
    set_id: Mapped[str] = mapped_column(String(32), primary_key=True)
    station_id: Mapped[str] = mapped_column(String(32), primary_key=True)
    project_id: Mapped[str | None] = mapped_column(String(32))
    count: Mapped[int]
    data: Mapped[bytes] = mapped_column(LargeBinary)


class Zone(Journaled, Base):
    """Points that were selected and kept under a name. kind: zone, hidden (the one that holds what is out of
    sight) or even (what is left out at one spacing, which ``detail`` says). locked: they are
    neither selected nor deleted; shown: whether they are seen; apart: they are handed over as a cloud of their own."""

    __tablename__ = "zone"
    project_id: Mapped[str] = project_key()
    parent_id: Mapped[str | None] = mapped_column(String(32))
    name: Mapped[str] = mapped_column(String(120))
    kind: Mapped[str] = mapped_column(String(8), default="zone")
    hue: Mapped[int] = mapped_column(default=0)
    shown: Mapped[bool] = mapped_column(default=True)
    locked: Mapped[bool] = mapped_column(default=False)
    apart: Mapped[bool] = mapped_column(default=False)
    points: Mapped[str] = mapped_column(String(32))
    count: Mapped[int] = mapped_column(BigInteger)
    place: Mapped[int] = mapped_column(default=0)
    detail: Mapped[dict[str, Any]] = mapped_column(default=dict)


class Selection(Base):
    """What somebody has selected in a project, with the steps that led there: each its set of points, count and words. It is no change
    of the project, and has its own way back. revision counts up with every step."""

    __tablename__ = "selection"
    project_id: Mapped[str] = mapped_column(ForeignKey("project.id"), primary_key=True)
    actor: Mapped[str] = mapped_column(String(120), primary_key=True)
    revision: Mapped[int] = mapped_column(BigInteger, default=0)
    steps: Mapped[list[Any]] = mapped_column(default=list)


class CropBox(Journaled, Base):
    """outside: what lies within is taken away, instead of what lies without; outline: of a prism, its corners in plan, in the base."""

    __tablename__ = "crop_box"
    project_id: Mapped[str] = project_key()
    part_id: Mapped[str | None] = mapped_column(String(32))
    T_part_base: Mapped[list[Any] | None]  # None: its numbers are the part's own; else where they were given
    name: Mapped[str] = mapped_column(String(120))
    centre: Mapped[list[Any]]
    half: Mapped[list[Any]]
    yaw: Mapped[float] = mapped_column(default=0.0)
    active: Mapped[bool] = mapped_column(default=True)
    outside: Mapped[bool] = mapped_column(default=False)
    outline: Mapped[list[Any] | None]


class DesignModel(Journaled, Base):
    """A design model beside the cloud. T_base_model: 16 numbers, where it was put; shown: whether it is seen, and coloured by; detail: its
    file, unit, faces, elements, and box in its own coordinates. Its faces are a ``ModelMesh`` of the same id."""

    __tablename__ = "design_model"
    project_id: Mapped[str] = project_key()
    part_id: Mapped[str | None] = mapped_column(String(32))
    T_part_base: Mapped[list[Any] | None]  # as of a crop box
    T_base_model: Mapped[list[Any]]
    name: Mapped[str] = mapped_column(String(120))
    shown: Mapped[bool] = mapped_column(default=True)
    detail: Mapped[dict[str, Any]] = mapped_column(default=dict)


class ModelMesh(Base):
    """The faces of a design model, never changed (until they are read, its file as it came);
    and what the cloud was found to leave it by, of which state: a result that can be made
    again at any time."""

    __tablename__ = "model_mesh"
    model_id: Mapped[str] = mapped_column(String(32), primary_key=True)
    project_id: Mapped[str] = mapped_column(String(32), index=True)
    data: Mapped[bytes] = mapped_column(LargeBinary)
    compared: Mapped[dict[str, Any] | None]


class Section(Journaled, Base):
    __tablename__ = "section"
    project_id: Mapped[str] = project_key()
    part_id: Mapped[str | None] = mapped_column(String(32))
    T_part_base: Mapped[list[Any] | None]  # as of a crop box
    name: Mapped[str] = mapped_column(String(120))
    kind: Mapped[str] = mapped_column(String(12))
    params: Mapped[dict[str, Any]]


class Sheet(Journaled, Base):
    """Views of sections on paper. params: paper, upright, scale (None: what fits), views (sections and their pictures), block (title block),
    revisions."""

    __tablename__ = "sheet"
    project_id: Mapped[str] = project_key()
    name: Mapped[str] = mapped_column(String(120))
    params: Mapped[dict[str, Any]]


class TitleBlock(Journaled, Base):
    """A customer's title block that sheets can have, in millimetres on paper; body: see formats.block."""

    __tablename__ = "title_block"
    project_id: Mapped[str] = project_key()
    name: Mapped[str] = mapped_column(String(120))
    body: Mapped[dict[str, Any]]


class Note(Journaled, Base):
    """A measure that is kept: picks (n, 3) m in the part, or where they were given; detail: what was fitted at them."""

    __tablename__ = "note"
    project_id: Mapped[str] = project_key()
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
    project_id: Mapped[str] = project_key()
    part_id: Mapped[str | None] = mapped_column(String(32))
    T_part_base: Mapped[list[Any] | None]  # as of a crop box
    name: Mapped[str] = mapped_column(String(120))
    shows: Mapped[dict[str, Any]]


class Trace(Journaled, Base):
    """A drawn or fitted shape on a section, in section coordinates; shape: what it is beside its points (see core.draw.shapes)."""

    __tablename__ = "trace"
    project_id: Mapped[str] = project_key()
    section_id: Mapped[str] = mapped_column(String(32), index=True)
    kind: Mapped[str] = mapped_column(String(12))
    layer: Mapped[str] = mapped_column(String(60))
    points: Mapped[list[Any]]
    radius: Mapped[float] = mapped_column(default=0.0)
    shape: Mapped[dict[str, Any]] = mapped_column(default=dict)
    state: Mapped[str] = mapped_column(String(12), default="found")  # found | accepted | drawn | rejected
    fit: Mapped[dict[str, Any]] = mapped_column(default=dict)


class Delivery(Base):
    __tablename__ = "delivery"
    id: Mapped[str] = mapped_column(String(32), primary_key=True, default=new_id)
    project_id: Mapped[str] = project_key()
    kind: Mapped[str] = mapped_column(String(12))
    name: Mapped[str] = mapped_column(String(300))
    params: Mapped[dict[str, Any]] = mapped_column(default=dict)
    size: Mapped[int] = mapped_column(BigInteger, default=0)
    sha256: Mapped[str] = mapped_column(String(64), default="")
    journal_at: Mapped[int] = mapped_column(BigInteger, default=0)
    created_at: Mapped[datetime] = mapped_column(default=now)
    let_go: Mapped[dict[str, Any] | None]  # as of an original
