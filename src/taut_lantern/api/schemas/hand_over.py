"""Deliveries."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import Field

from .base import Id, Model, Out


class DeliveryIn(Model):
    kind: Literal["e57", "laz", "dxf", "pdf"]
    crop: bool = True
    coordinates: Literal["grid", "section"] = "grid"
    unit: Literal["m", "mm", "ft"] = "m"
    sections: Annotated[list[Id], Field(max_length=500)] | None = None


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
