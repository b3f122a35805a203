"""Links, network, targets."""

from __future__ import annotations

from typing import Annotated, Any

from pydantic import Field, FiniteFloat

from .base import FindingOut, Id, Model, Number, Out, Status, Text, Version


class LinkOut(Out):
    """A link as lists and strings need it; its sentence and its histogram come with the link itself."""

    id: str
    version: int
    a: str
    b: str
    name_a: str
    name_b: str
    kind: str
    used: bool
    status: Status
    fit_median_mm: float
    fit_rms_mm: float
    fit_p90_mm: float
    overlap: float
    see_through: float
    weak_sigma_mm: float
    residual_mm: float | None
    residual_mdeg: float | None
    redundancy: float | None
    reasons: list[FindingOut]


class WholeLinkOut(LinkOut):
    """histogram: counts of surface distances in bins of 0.5 mm; weak_direction: unit vector in a's frame."""

    sentence: str
    histogram: list[int]
    weak_direction: list[float]


class NetworkPart(Out):
    id: str
    name: str
    stations: list[str]
    datum: str


class NetworkOut(Out):
    revision: int
    out_of_date: bool
    sentence: str
    sigma0: float
    degrees_of_freedom: int
    global_test: dict[str, Any]
    converged: bool
    parts: list[NetworkPart]
    findings: list[FindingOut]
    links: list[LinkOut]


class Used(Model):
    used: bool
    version: Version


class PairIn(Model):
    a: Id
    b: Id
    T_a_b: Annotated[list[Number], Field(min_length=16, max_length=16)]


class SpheresIn(Model):
    radii_mm: Annotated[list[FiniteFloat], Field(min_length=1, max_length=8)] = [100.0]


class SightingOut(Out):
    id: str
    version: int
    station: str
    station_name: str
    target: str | None
    target_name: str
    part: str | None
    radius_mm: float
    rms_mm: float
    points: int
    sigma_mm: float
    remark: str
    used: bool
    position: list[float]  # in its part
    spread_mm: float | None


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
    radius_mm: float
    part: str
    position: list[float]
    sightings: int
    spread_mm: float
    sigma_mm: list[float]


class Rename(Model):
    version: Version
    name: Text


class BodyIn(Model):
    stations: Annotated[list[Id], Field(min_length=2, max_length=5000)]
    name: Annotated[str, Field(max_length=120)] = ""


class BodyOut(Out):
    id: str
    version: int
    name: str
    stations: list[str]
