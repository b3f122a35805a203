"""Deletions and crop boxes."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field

from .base import Id, Model, Number, Out, Version


class LassoIn(Model):
    view: Annotated[list[Number], Field(min_length=16, max_length=16)]
    outline: Annotated[list[Annotated[list[Number], Field(min_length=2, max_length=2)]], Field(min_length=3, max_length=5000)]
    stations: Annotated[list[Id], Field(max_length=5000)]
    front: Annotated[float, Field(ge=0.005, le=20)] | None = None  # metres: only the front surface, this deep; null: all through
    expected: Annotated[int, Field(ge=0, le=2**62)] | None = None  # the count that was shown; another one is refused


class LassoOut(Out):
    edit: str | None
    count: int | None  # None: too much to be looked through at once
    stations: list[str]
    job: str | None  # what deletes them in the background, when it is too much
    spared: dict[str, int] = {}  # by reason, what was left alone: hidden, cropped, locked, behind


class AgainstOut(Out):
    station: str
    points: int


class TooMuchOut(Out):
    station: str
    share: float


class EditDetail(Out):
    """Of a thing that moved: the station that saw it, its middle in the part, its size in metres, the share that was seen through of what
    others had a say in, and the stations whose rays passed through. too_much: stations of which a filter would take a fifth and more."""

    station: str | None = None
    station_name: str | None = None
    at: list[float] | None = None
    size: list[float] | None = None
    share: float | None = None
    against: list[AgainstOut] = []
    too_much: list[TooMuchOut] = []
    by: str | None = None  # who deleted it, or looked for it, and when
    when: datetime | None = None
    restored: int = 0  # points of a deletion that were brought back out of it


class EditOut(Out):
    """kind: hand, mover, edge ...; does: delete, or class; proposed: found, and nobody has said yes or no yet."""

    id: str
    version: int
    title: str
    count: int
    active: bool
    kind: str
    does: Literal["delete", "class"]
    proposed: bool
    detail: EditDetail
    stations: list[str]


FilterKind = Literal["mover", "door", "ghost", "edge", "lone", "dust", "far", "near", "dim"]


class FilterLimits(Model):
    """far, near, dust: metres from the scanner; dim: intensity, 0 to 1."""

    far: Annotated[float, Field(ge=1, le=1000)] | None = None
    near: Annotated[float, Field(ge=0.1, le=5)] | None = None
    dim: Annotated[float, Field(ge=0.001, le=1)] | None = None
    dust: Annotated[float, Field(ge=0.5, le=50)] | None = None


class FilterIn(Model):
    """strength: of what moved, 0 takes only what is seen through nearly whole, 1 also what others half agree with; of images, 0 takes only
    what is sure, 1 also what is likely; of points on no surface, 0 takes few and hardly a good one with them, 1 many and up to sixteen times as
    many good ones."""

    kinds: Annotated[list[FilterKind], Field(min_length=1, max_length=9)]
    strength: Annotated[float, Field(ge=0, le=1)] = 0.5
    limits: FilterLimits = FilterLimits()
    part: Id | None = None


class RecipeIn(Model):
    """Filters with their settings, kept under a name."""

    name: Annotated[str, Field(min_length=1, max_length=60)]
    kinds: Annotated[list[FilterKind], Field(min_length=1, max_length=9)]
    strength: Annotated[float, Field(ge=0, le=1)] = 0.5
    limits: FilterLimits = FilterLimits()


class RecipeOut(Out):
    name: str
    kinds: list[FilterKind]
    strength: float
    limits: dict[str, float]


class DecideIn(Model):
    """code: the points get this class instead of being deleted."""

    delete: bool
    version: Version
    code: Annotated[int, Field(ge=1, le=255)] | None = None


class DecideAllIn(Model):
    kind: FilterKind
    delete: bool
    code: Annotated[int, Field(ge=1, le=255)] | None = None


class EditPatch(Model):
    active: bool
    version: Version


class BoxIn(Model):
    name: Annotated[str, Field(min_length=1, max_length=120)] = "crop box"
    centre: Annotated[list[Number], Field(min_length=3, max_length=3)]
    half: Annotated[list[Number], Field(min_length=3, max_length=3)]
    yaw: Number = 0.0
    active: bool = True
    outside: bool = False  # what lies within is taken away
    outline: Annotated[list[Annotated[list[Number], Field(min_length=2, max_length=2)]], Field(min_length=3, max_length=24)] | None = None
    alone: bool = False  # the other boxes of the part are switched off
    part: Id | None = None  # None: the part that is shown first


class BoxPatch(BoxIn):
    version: Version


class BoxOut(Out):
    id: str
    version: int
    part: str | None
    name: str
    centre: list[float]
    half: list[float]
    yaw: float
    active: bool
    outside: bool
    outline: list[list[float]] | None


class BoxProposal(Out):
    centre: list[float]
    half: list[float]
    yaw: float


class RoomIn(Model):
    at: Annotated[list[Number], Field(min_length=3, max_length=3)]  # on the floor, in the part
    part: Id | None = None


class RoomOut(BoxProposal):
    """sides: how many of the four are walls."""

    sides: int
    ceiling: bool


class CeilingIn(Model):
    off: bool
    version: Version
