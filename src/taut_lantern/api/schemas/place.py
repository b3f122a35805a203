"""Control and site grids."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from .base import FindingOut, Id, Model, Number, Out, Status, Text, Unit, Version


class ControlText(Model):
    text: Annotated[str, Field(max_length=4_000_000)]
    file: Annotated[str, Field(max_length=300)] = "control.csv"
    columns: Annotated[list[Literal["name", "n", "e", "h", "remark", "skip"]], Field(max_length=30)] | None = None
    unit: Unit = "m"
    part: Id | None = None  # whose targets it is matched to; None: the part that sees most


class ControlPreviewPoint(Out):
    name: str
    enh: list[float]
    remark: str
    role: str


class ControlPreview(Out):
    separator: str
    decimal_comma: bool
    columns: list[str]
    header: list[str]
    points: list[ControlPreviewPoint]
    findings: list[FindingOut]
    usable: bool


class ControlPointOut(Out):
    id: str
    version: int
    name: str
    role: str
    enh: list[float]
    remark: str
    target: str | None
    target_name: str | None
    elsewhere: str  # why its target does not count here
    residual_mm: dict[str, float] | None
    status: Status
    reasons: list[FindingOut]


class TargetName(Out):
    id: str
    name: str


class ControlOut(Out):
    part: str | None
    points: list[ControlPointOut]
    problem: str | None
    applied: bool
    up_to_date: bool
    sentence: str
    sigma_mm: float | None
    far_mm: float | None  # predicted error at the far end of the site
    far_from_m: float | None
    findings: list[FindingOut]
    targets: list[TargetName]
    tolerance_mm: float


class ControlPatch(Model):
    version: Version
    role: Literal["control", "check", "off"] | None = None
    target: Annotated[str, Field(pattern=r"^([0-9a-f]{32})?$")] | None = None  # "" to unmatch


class Placed(Model):
    part: Id | None = None


class SquareIn(Model):
    wall: Annotated[list[Number], Field(min_length=3, max_length=3)]
    point: Annotated[list[Number], Field(min_length=3, max_length=3)]
    given: Annotated[list[Number], Field(min_length=3, max_length=3)]
    flip: bool = False
    name: Annotated[str, Field(min_length=1, max_length=120)] = "site"
    part: Id | None = None


class SquareOut(Out):
    id: str
    wall_rms_mm: float | None
    points: int | None


class FramePatch(Model):
    version: Version
    name: Text | None = None
    unit: Unit | None = None
    removed: bool = False


class Renew(Model):
    version: Version
