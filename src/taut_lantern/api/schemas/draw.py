"""Sections and traces."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import Field, FiniteFloat

from .base import Id, Model, Number, Out, Version


class SectionIn(Model):
    kind: Literal["plan", "upright"]
    name: Annotated[str, Field(max_length=120)] = ""
    part: Id | None = None  # None: the part that is shown first
    height: Number | None = None
    above_floor: Number | None = None
    a: Annotated[list[Number], Field(min_length=2, max_length=2)] | None = None
    b: Annotated[list[Number], Field(min_length=2, max_length=2)] | None = None
    before: Annotated[FiniteFloat, Field(ge=0, le=100)] = 0.0
    behind: Annotated[FiniteFloat, Field(ge=0, le=100)] = 0.05


class TraceOut(Out):
    id: str
    version: int
    kind: str
    layer: str
    points: list[list[float]]
    radius: float
    state: str
    fit: dict[str, Any]
    old: bool  # found in a cloud whose network has changed since


class SectionOut(Out):
    id: str
    version: int
    name: str
    kind: str
    params: dict[str, Any]
    part: str | None
    T_section_part: list[float]
    traces: list[TraceOut]


class TraceIn(Model):
    kind: Literal["line", "polyline", "circle", "point"]
    layer: Annotated[str, Field(min_length=1, max_length=60)] = "wall"
    points: Annotated[list[Annotated[list[Number], Field(min_length=2, max_length=2)]], Field(min_length=1, max_length=2000)]
    radius: Annotated[FiniteFloat, Field(ge=0, le=10_000)] = 0.0


class TracePatch(Model):
    version: Version
    state: Literal["accepted", "found", "rejected"] | None = None
    layer: Annotated[str, Field(min_length=1, max_length=60)] | None = None
