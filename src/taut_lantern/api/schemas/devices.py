"""Instruments."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field, FiniteFloat

from .base import Id, Model, Out


class DeviceScan(Out):
    id: str
    name: str
    points: int
    state: str  # scanning, done, cancelled
    progress: float
    size: int


class MeasuredOut(Out):
    """enh, sigma: metres."""

    name: str
    enh: list[float]
    sigma: float


class DeviceOut(Out):
    """kind: scanner, total-station, unknown; state: ready, busy, away; problem: why it is away, or "". What follows is of one kind alone:
    scans, here (scanner: the scan of this set-up); set_up, sigma (metres), measured, targets, marks (total station)."""

    name: str
    kind: str
    state: str
    problem: str
    battery: int | None = None
    scans: list[DeviceScan] = []
    here: str | None = None
    set_up: bool = False
    sigma: float | None = None
    measured: list[MeasuredOut] = []
    targets: list[str] = []
    marks: dict[str, list[float]] = {}


class DeviceScanIn(Model):
    name: Annotated[str, Field(min_length=1, max_length=120)]
    points: Annotated[int, Field(ge=20_000, le=50_000_000)] | None = None


class DeviceFetchIn(Model):
    scan: Annotated[str, Field(min_length=1, max_length=40)]


class AimIn(Model):
    """Radians in the frame of the station; target: its name, "" for the one that is seen there already, or a new one."""

    station: Id
    azimuth: Annotated[FiniteFloat, Field(ge=-7, le=7)]
    elevation: Annotated[FiniteFloat, Field(ge=-1.2, le=1.55)]
    kind: Literal["sphere", "board"]
    size_mm: Annotated[FiniteFloat, Field(ge=10, le=2000)]
    target: Annotated[str, Field(max_length=120)] = ""


class AimOut(Out):
    target: str
    points: int
    sigma_mm: float


class SetUpIn(Model):
    """E, N, H of known marks, metres."""

    marks: Annotated[dict[str, Annotated[list[FiniteFloat], Field(min_length=3, max_length=3)]], Field(min_length=1, max_length=50)]


class SetUpOut(Out):
    """Where it stands, and what is left at each mark, metres; hidden: marks that something stands before."""

    position: list[float]
    sigma: float
    residuals: dict[str, float]
    hidden: list[str]


class MeasureIn(Model):
    target: Annotated[str, Field(min_length=1, max_length=120)]
