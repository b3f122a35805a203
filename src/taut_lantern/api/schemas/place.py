"""Control and site grids."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from .base import FindingOut, Id, Model, Number, Out, Status, Text, Unit, Version


class ControlText(Model):
    text: Annotated[str, Field(max_length=4_000_000)]
    file: Annotated[str, Field(max_length=300)] = "control.csv"
    columns: Annotated[list[Literal["name", "n", "e", "h", "sn", "se", "sh", "s", "remark", "skip"]], Field(max_length=30)] | None = None
    unit: Unit = "m"
    part: Id | None = None  # whose targets it is matched to; None: the part that sees most


class ControlPreviewPoint(Out):
    """enh, sigma: easting, northing, height; null for what a point does not have."""

    name: str
    enh: list[float | None]
    sigma: list[float | None]
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
    enh: list[float | None]
    sigma_mm: list[float | None]
    matched_by: str  # name, geometry, hand
    remark: str
    target: str | None
    target_name: str | None
    elsewhere: str  # why its target does not count here
    residual_mm: dict[str, float | None] | None  # e, n, h, d3 in space, alone: from where all others would have it
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
    mode: str  # rigid, level, scaled, network
    scale_ppm: float | None  # how much longer control is, were that left free
    scale_sigma_ppm: float | None
    check_mm: float | None  # root mean square of the check points
    sigma_mm: float | None
    far_mm: float | None  # predicted error at the far end of the site
    far_from_m: float | None
    findings: list[FindingOut]
    targets: list[TargetName]
    tolerance_mm: float


class ControlPointIn(Model):
    """A control point by hand, metres; what is left out is not known. Two points of a wall on a grid line have E, or N, alone."""

    name: Annotated[str, Field(min_length=1, max_length=120)]
    e: Number | None = None
    n: Number | None = None
    h: Number | None = None
    sigma_mm: Annotated[float, Field(gt=0, le=10_000)] | None = None
    target: Id | None = None


class PairsText(Model):
    text: Annotated[str, Field(max_length=200_000)]


class ControlPatch(Model):
    version: Version
    role: Literal["control", "check", "off"] | None = None
    target: Annotated[str, Field(pattern=r"^([0-9a-f]{32})?$")] | None = None  # "" to unmatch


class Placed(Model):
    part: Id | None = None
    mode: Literal["rigid", "level", "scaled", "network"] | None = None  # None: as it is placed now, else rigid


class UnitIn(Model):
    unit: Unit


class SwapIn(Model):
    a: Id
    b: Id


class PlacementOut(Out):
    """A placement on control that was applied once. moves_mm, turns_mrad: from it to the one that is solved now."""

    id: str
    revision: int
    in_use: bool
    mode: str
    points: list[str]
    sigma_mm: float | None
    check_mm: float | None
    moves_mm: list[float] | None
    turns_mrad: float | None


class SquareIn(Model):
    wall: Annotated[list[Number], Field(min_length=3, max_length=3)]
    point: Annotated[list[Number], Field(min_length=3, max_length=3)]
    given: Annotated[list[Number], Field(min_length=3, max_length=3)]
    flip: bool = False
    corner: bool = False  # the point is the corner of three planes near the pick
    by_points: bool = False  # wall is no wall, but a place that E runs towards
    frame: Id | None = None  # a grid that is laid anew, in its version
    version: Version | None = None
    name: Annotated[str, Field(min_length=1, max_length=120)] = "site"
    part: Id | None = None


class CornerOut(Out):
    """How well the three planes fit: RMS and points of each, the deviation of where they meet, and degrees by which the worst miss a
    right angle and upright or level."""

    rms_mm: list[float]
    points: list[int]
    sigma_mm: float
    off_square: float
    off_plumb: float


class SquareOut(Out):
    """off_plumb: degrees by which the wall leans, positive when its top leans away."""

    id: str
    wall_rms_mm: float | None
    points: int | None
    off_plumb: float | None = None
    corner: CornerOut | None = None


class GridPreview(Out):
    """A grid as it would lie."""

    T_frame_part: list[float]
    wall_rms_mm: float | None
    points: int | None
    off_plumb: float | None
    corner: CornerOut | None = None


class ConvertIn(Model):
    """A place in the frame, metres."""

    at: Annotated[list[Number], Field(min_length=3, max_length=3)] = [0.0, 0.0, 0.0]
    part: Id | None = None


class TransformOut(Out):
    """From one frame to another: T (16,) row by row, metres; the place that was asked for, there."""

    id: str
    name: str
    kind: str
    unit: Unit
    T: list[float]
    turn_deg: float
    tilt_mrad: float
    at: list[float]


class FramePatch(Model):
    version: Version
    name: Text | None = None
    unit: Unit | None = None
    removed: bool = False


class Renew(Model):
    version: Version
