"""Design models beside the cloud."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, FiniteFloat

from .base import Model, Number, Out, Text, Version


class ModelPatch(Model):
    """shift: metres along the axes in use; turn: degrees about the upright through its middle, counter-clockwise, before that."""

    version: Version
    name: Text | None = None
    shown: bool | None = None
    deleted: Literal[True] | None = None
    shift: Annotated[list[Number], Field(min_length=3, max_length=3)] | None = None
    turn: Annotated[FiniteFloat, Field(ge=-360, le=360)] | None = None


class BesideIn(Model):
    """reach: metres from the model that points are looked at."""

    reach: Annotated[FiniteFloat, Field(ge=0.005, le=1.0)] = 0.1
    tolerance: Annotated[FiniteFloat, Field(ge=0.0005, le=0.5)] = 0.01


class ElementOut(Out):
    """Metres; p95: nineteen of twenty of its points are nearer. None where no point was near."""

    name: str
    points: int
    within: int
    mean: float | None
    rms: float | None
    p95: float | None
    most: float | None


class ComparedOut(Out):
    """Signed distances in metres, positive before the model's faces; within: points within the tolerance; histogram: counts from -reach to
    reach."""

    tolerance: float
    reach: float
    points: int
    within: int
    median: float | None
    p05: float | None
    p95: float | None
    rms: float | None
    histogram: list[int]
    at: str


class ElementsOut(ComparedOut):
    elements: list[ElementOut]
    why_old: str


class DesignModelOut(Out):
    """at: its middle in the coordinates in use; size: of its box in its own axes, metres. T_part_edges: from the coordinates of its edges."""

    id: str
    version: int
    name: str
    part: str | None
    shown: bool
    file: str
    unit: str
    faces: int
    elements: int
    size: list[float]
    at: list[float]
    T_part_edges: list[float]
    compared: ComparedOut | None
    why_old: str
