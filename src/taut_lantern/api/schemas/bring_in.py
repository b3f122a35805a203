"""Files on their way in, stations and tiles."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, FiniteFloat

from .base import Id, LetGoOut, Model, Out, Status, Text, Unit, Version


class UploadIn(Model):
    name: Text
    size: Annotated[int, Field(ge=0, le=2**50)]
    sha256: Annotated[str, Field(pattern=r"^([0-9a-f]{64})?$")] = ""


class Piece(Out):
    offset: int
    size: int
    sha256: str


class Unfinished(Out):
    id: str
    name: str
    size: int
    received: int
    pieces: list[Piece]


class UploadOut(Out):
    id: str
    received: int
    size: int
    state: str


class ScanReading(Out):
    name: str
    points: int
    rows: int
    columns: int
    has_pose: bool
    intensity: bool
    colour: bool
    problems: list[str]


class ErrorOut(Out):
    code: str
    message: str
    remedy: str


class OriginalOut(Out):
    id: str
    name: str
    size: int
    received: int
    state: str
    scans: list[ScanReading]
    problem: ErrorOut | None
    same_as: str | None
    brought_in: bool
    discarded: bool
    let_go: LetGoOut | None


class BringIn(Model):
    originals: Annotated[list[Id], Field(min_length=1, max_length=500)]
    min_range: Annotated[FiniteFloat, Field(ge=0, le=5000)] = 0.4
    max_range: Annotated[FiniteFloat, Field(gt=0, le=5000)] = 200.0
    unit: Unit = "m"


class Root(Out):
    """The first tile of a station: its points, and their spacing in metres."""

    count: int
    spacing: float


class StationOut(Out):
    id: str
    version: int
    name: str
    points: int
    has_rgb: bool
    has_intensity: bool
    low: list[float]
    high: list[float]
    hue: int
    pose: list[float]  # T_part_station
    tied: bool  # its part holds other stations too
    report: dict[str, Any]
    status: Status
    part: str | None
    sigma_position_mm: list[float] | None  # in the coordinates of its part that are in use
    expected_mm2: list[float] | None  # (16,) Q, row by row: [p, 1] Q [p, 1] is the expected square of a point's error against the datum
    links: int
    marked: int
    layers: int  # revision of intensity and colour; part of the address of its tiles
    root: Root


class StationPatch(Model):
    version: Version
    name: Text | None = None
    deleted: Literal[True] | None = None


class MergeProjectIn(Model):
    """held: it keeps its shape as it is tied there; again: although its stations are here already."""

    source: Id
    held: bool = False
    again: bool = False
