"""Deletions and crop boxes."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from .base import Id, Model, Number, Out, Version


class LassoIn(Model):
    view: Annotated[list[Number], Field(min_length=16, max_length=16)]
    outline: Annotated[list[Annotated[list[Number], Field(min_length=2, max_length=2)]], Field(min_length=3, max_length=5000)]
    stations: Annotated[list[Id], Field(max_length=5000)]
    only_count: bool = False
    expected: Annotated[int, Field(ge=0, le=2**62)] | None = None  # the count that was shown; another one is refused


class LassoOut(Out):
    edit: str | None
    count: int | None  # None: too much to be looked through at once
    stations: list[str]
    job: str | None  # what deletes them in the background, when it is too much


class EditOut(Out):
    id: str
    version: int
    title: str
    count: int
    active: bool
    stations: list[str]


class EditPatch(Model):
    active: bool
    version: Version


class BoxIn(Model):
    name: Annotated[str, Field(min_length=1, max_length=120)] = "crop box"
    centre: Annotated[list[Number], Field(min_length=3, max_length=3)]
    half: Annotated[list[Number], Field(min_length=3, max_length=3)]
    yaw: Number = 0.0
    active: bool = True
    part: Id | None = None  # None: the part that is shown first


class BoxPatch(BoxIn):
    version: Version


class BoxOut(Out):
    id: str
    version: int
    part: str | None
    name: str
    centre: list[float]
    half: list[float]
    yaw: float
    active: bool


class BoxProposal(Out):
    centre: list[float]
    half: list[float]
    yaw: float
