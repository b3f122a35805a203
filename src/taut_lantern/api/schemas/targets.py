"""Targets and their sightings."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, FiniteFloat

from .base import Id, Model, Out, Text, Version


class TargetsIn(Model):
    """Radii of spheres, and edges of quadrant boards."""

    radii_mm: Annotated[list[FiniteFloat], Field(max_length=8)] = []
    edges_mm: Annotated[list[FiniteFloat], Field(max_length=8)] = []


class NaturalIn(Model):
    """A natural point as a target: the corner of three planes near ``at``, or that place itself (part frame, metres)."""

    kind: Literal["corner", "edge", "mark", "point"]
    at: Annotated[list[FiniteFloat], Field(min_length=3, max_length=3)]
    name: Annotated[str, Field(max_length=120)] = ""
    part: Id | None = None


class PickedIn(Model):
    """A sphere (radius) or board (edge) that somebody picked at ``at``, part frame, metres."""

    kind: Literal["sphere", "board"]
    size_mm: FiniteFloat
    at: Annotated[list[FiniteFloat], Field(min_length=3, max_length=3)]
    name: Annotated[str, Field(max_length=120)] = ""
    part: Id | None = None


class NaturalOut(Out):
    id: str
    name: str
    sightings: int
    at: list[float]


class SightingOut(Out):
    id: str
    version: int
    station: str
    station_name: str
    target: str | None
    target_name: str
    part: str | None
    kind: str  # sphere, board, corner, point
    size_mm: float  # radius of a sphere, edge of a board
    rms_mm: float
    points: int
    sigma_mm: float
    remark: str
    used: bool
    position: list[float]  # in its part
    spread_mm: float | None
    normalized: float | None  # what the adjustment leaves of it, in its deviations


class SightingPatch(Model):
    version: Version
    used: bool | None = None
    target: Annotated[str, Field(max_length=120)] | None = None


class TargetOut(Out):
    """A target as one part sees it; position in the part's frame, metres."""

    id: str
    version: int
    name: str
    kind: str
    size_mm: float
    part: str
    position: list[float]
    sightings: int
    spread_mm: float
    sigma_mm: list[float]


class Rename(Model):
    version: Version
    name: Text
