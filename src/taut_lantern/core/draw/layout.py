"""Where views stand on a sheet, and the scale that they fit at. Millimetres on paper, from its lower left corner."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from ..errors import BadInput

PAPERS = {"A4": (210.0, 297.0), "A3": (297.0, 420.0), "A2": (420.0, 594.0), "A1": (594.0, 841.0), "A0": (841.0, 1189.0)}  # ISO 216
SCALES = (1, 2, 5, 10, 20, 25, 50, 100, 200, 250, 500, 1000, 2000, 5000)
MARGIN, STRIP, GAP, CAPTION = 10.0, 46.0, 8.0, 8.0


@dataclass(frozen=True)
class Place:
    """A view's rectangle: lower left corner, width and height."""

    x: float
    y: float
    wide: float
    tall: float


@dataclass(frozen=True)
class Layout:
    wide: float
    tall: float
    scale: int
    places: list[Place]


def paper(name: str, upright: bool) -> tuple[float, float]:
    if name not in PAPERS:
        raise BadInput(f"unknown paper {name!r}", subject="paper", remedy=f"use one of {', '.join(PAPERS)}")
    short, long = PAPERS[name]
    return (short, long) if upright else (long, short)


def laid_out(sizes: Sequence[tuple[float, float]], name: str, upright: bool, scale: int | None = None) -> Layout:
    """Places for views of so many metres each, in rows from the upper left, over the strip with the title. scale: 1 to so much; None: the
    largest usual one at which all fit. BadInput when they do not fit."""
    if not sizes:
        raise BadInput("a sheet needs a view", subject="sheet", remedy="choose a section for it")
    wide, tall = paper(name, upright)
    for k in SCALES if scale is None else (scale,):
        places = _rows([(1000 * w / k, 1000 * h / k) for w, h in sizes], wide, tall)
        if places is not None:
            return Layout(wide, tall, k, places)
    needed = next((k for k in SCALES if _rows([(1000 * w / k, 1000 * h / k) for w, h in sizes], wide, tall)), None)
    remedy = f"choose 1:{needed} or larger paper" if needed else "leave views out, or choose larger paper"
    raise BadInput(f"the views do not fit on {name}" + (f" at 1:{scale}" if scale else ""), subject="sheet", remedy=remedy)


def _rows(sizes: Sequence[tuple[float, float]], wide: float, tall: float) -> list[Place] | None:
    left, top, bottom = MARGIN + 4, tall - MARGIN - 4, MARGIN + STRIP + 4
    x, row = left, 0.0
    out: list[Place] = []
    for w, h in sizes:
        if x > left and x + w > wide - left:
            x, top, row = left, top - row - GAP, 0.0
        if x + w > wide - left or top - h - CAPTION < bottom:
            return None
        out.append(Place(x, top - h, w, h))
        x, row = x + w + GAP, max(row, h + CAPTION)
    return out
