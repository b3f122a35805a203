"""Deliveries."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import Field, FiniteFloat

from .base import Id, LetGoOut, Model, Out, Unit


class DeliveryIn(Model):
    kind: Literal["e57", "laz", "dxf", "svg", "sheet", "slab", "csv", "ifc", "glb", "model-pdf", "model-csv", "pdf", "html"]
    crop: bool = True
    coordinates: Literal["grid", "section"] = "grid"
    unit: Unit | None = None  # None: that of the coordinates in use
    part: Id | None = None  # None: the part that is shown first
    even: Annotated[FiniteFloat, Field(ge=0.0005, le=1.0)] | None = None  # metres: one spacing over all stations, the best of each cell
    zones: Annotated[list[Id], Field(max_length=500)] | None = None  # of a cloud: the points of these alone, and of what is nested in them
    version: Literal["R2018", "R12"] | None = None  # of DXF; None: R2018
    sheet: Id | None = None  # of a sheet
    model: Id | None = None  # whose comparison it is
    scale: Annotated[int, Field(ge=1, le=10_000)] | None = None  # of SVG, 1 to so much; None: 50
    pixel: Annotated[FiniteFloat, Field(ge=0.0002, le=1.0)] | None = None  # metres, of a picture; None: 5 mm
    picture: Literal["density", "intensity", "colour", "depth", "relief", "x-ray"] | None = None
    sections: Annotated[list[Id], Field(max_length=500)] | None = None


class MadeOf(Out):
    """The state of the project that a delivery was made of: the journal's entry that it ended with."""

    entry: int
    title: str


class DeliveryOut(Out):
    id: str
    kind: str
    title: str
    name: str
    size: int
    sha256: str
    params: dict[str, Any]
    created_at: datetime
    outdated: bool
    let_go: LetGoOut | None
    state: MadeOf
