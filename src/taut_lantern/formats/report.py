"""What a registration report says, free of how it is written: sentences, tables, the network in plan, pictures."""

from __future__ import annotations

import math
from dataclasses import dataclass, field

STATUS = {"taut": "#0B6B68", "slack": "#A34E12", "parted": "#8A1846", "loose": "#6C7280"}


@dataclass(frozen=True)
class ReportTable:
    title: str
    columns: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    note: str = ""

    @property
    def figures(self) -> list[bool]:
        """Which columns hold nothing but figures: they stand at the right."""
        return [bool(self.rows) and all(_figure(r[k]) for r in self.rows) for k in range(len(self.columns))]


def _figure(text: str) -> bool:
    return text in ("–", "") or text.lstrip("+-−±").replace(".", "", 1).isdigit()


@dataclass(frozen=True)
class NetworkPlan:
    """stations: name -> (x, y) metres; strings: (a, b, status, sag 0..1)."""

    stations: dict[str, tuple[float, float]]
    strings: tuple[tuple[str, str, str, float], ...]


@dataclass(frozen=True)
class ReportPicture:
    """kind: png or jpeg; wide, high: pixels."""

    caption: str
    kind: str
    data: bytes
    wide: int
    high: int


@dataclass(frozen=True)
class Report:
    title: str
    made: str
    sentences: tuple[str, ...]
    tables: tuple[ReportTable, ...]
    plan: NetworkPlan | None = None
    company: str = ""
    logo: ReportPicture | None = None
    pictures: tuple[ReportPicture, ...] = ()
    footer: str = field(default="Taut Lantern")


def string_points(a: tuple[float, float], b: tuple[float, float], sag: float, steps: int = 16) -> list[tuple[float, float]]:
    """A hanging string between two points, sag as a share of its length (parabola)."""
    return [
        (a[0] + (b[0] - a[0]) * t, a[1] + (b[1] - a[1]) * t - 4 * sag * t * (1 - t) * math.dist(a, b))
        for t in (k / steps for k in range(steps + 1))
    ]
