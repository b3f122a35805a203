"""Deletions and crop boxes."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from .base import Id, Model, Number, Out, Text


class LassoIn(Model):
    view: Annotated[list[Number], Field(min_length=16, max_length=16)]
    outline: Annotated[list[Annotated[list[Number], Field(min_length=2, max_length=2)]], Field(min_length=3, max_length=5000)]
    stations: Annotated[list[Id], Field(max_length=5000)]
    only_count: bool = False


class LassoOut(Out):
    edit: str | None
    count: int
    stations: list[str]


class EditOut(Out):
    id: str
    version: int
    title: str
    count: int
    active: bool


class EditPatch(Model):
    active: bool
    version: int | None = Field(None, ge=0, le=2**31 - 1)


class BoxIn(Model):
    name: Text = "crop box"
    centre: Annotated[list[Number], Field(min_length=3, max_length=3)]
    half: Annotated[list[Number], Field(min_length=3, max_length=3)]
    yaw: Number = 0.0
    active: bool = True
    version: int | None = Field(None, ge=0, le=2**31 - 1)


class BoxOut(Out):
    id: str
    version: int
    name: str
    centre: list[float]
    half: list[float]
    yaw: float
    active: bool


class BoxProposal(Out):
    centre: list[float]
    half: list[float]
    yaw: float
