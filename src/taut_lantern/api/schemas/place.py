"""Control and site grids."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from .base import FindingOut, Model, Number, Out, Status


class ControlText(Model):
    text: Annotated[str, Field(max_length=4_000_000)]
    file: Annotated[str, Field(max_length=300)] = "control.csv"
    columns: Annotated[list[Literal["name", "n", "e", "h", "remark", "skip"]], Field(max_length=30)] | None = None
    unit: Literal["m", "mm", "ft", "us_ft"] = "m"


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
    residual_mm: dict[str, float] | None
    status: Status
    reasons: list[FindingOut]


class ControlOut(Out):
    points: list[ControlPointOut]
    problem: str | None
    applied: bool
    up_to_date: bool
    sentence: str
    sigma_mm: float | None
    findings: list[FindingOut]
    targets: list[str]
    tolerance_mm: float


class ControlPatch(Model):
    version: int | None = Field(None, ge=0, le=2**31 - 1)
    role: Literal["control", "check", "off"] | None = None
    target: Annotated[str, Field(max_length=120)] | None = None


class SquareIn(Model):
    wall: Annotated[list[Number], Field(min_length=3, max_length=3)]
    point: Annotated[list[Number], Field(min_length=3, max_length=3)]
    given: Annotated[list[Number], Field(min_length=3, max_length=3)]
    flip: bool = False
    name: Annotated[str, Field(min_length=1, max_length=120)] = "site"


class SquareOut(Out):
    id: str
    wall_rms_mm: float
    points: int
