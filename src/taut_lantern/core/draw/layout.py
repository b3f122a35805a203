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
    strip: float = STRIP


def paper(name: str, upright: bool) -> tuple[float, float]:
    if name not in PAPERS:
        raise BadInput(f"unknown paper {name!r}", subject="paper", remedy=f"use one of {', '.join(PAPERS)}")
    short, long = PAPERS[name]
    return (short, long) if upright else (long, short)


def laid_out(
    sizes: Sequence[tuple[float, float]], name: str, upright: bool, scale: int | None = None, block: tuple[float, float] | None = None
) -> Layout:
    """Places for views of so many metres each, in rows from the upper left, over the strip with the title. scale: 1 to so much; None: the
    largest usual one at which all fit; block: width and height of a title block of somebody's own. BadInput when they do not fit."""
    if not sizes:
        raise BadInput("a sheet needs a view", subject="sheet", remedy="choose a section for it")
    wide, tall = paper(name, upright)
    strip = STRIP
    if block is not None and not framing(block, wide, tall):
        if block[0] > wide - 2 * MARGIN or block[1] > tall - 2 * MARGIN:
            raise BadInput(f"the title block does not fit on {name}", subject="sheet", remedy="choose larger paper, or another block")
        strip = max(STRIP, block[1])
    for k in SCALES if scale is None else (scale,):
        places = _rows([(1000 * w / k, 1000 * h / k) for w, h in sizes], wide, tall, strip)
        if places is not None:
            return Layout(wide, tall, k, places, strip)
    needed = next((k for k in SCALES if _rows([(1000 * w / k, 1000 * h / k) for w, h in sizes], wide, tall, strip)), None)
    remedy = f"choose 1:{needed} or larger paper" if needed else "leave views out, or choose larger paper"
    raise BadInput(f"the views do not fit on {name}" + (f" at 1:{scale}" if scale else ""), subject="sheet", remedy=remedy)


def framing(block: tuple[float, float], wide: float, tall: float) -> bool:
    """Whether a block of this width and height is the frame of the whole paper."""
    return block[0] > 0.85 * wide and block[1] > 0.85 * tall and block[0] <= wide and block[1] <= tall


def _rows(sizes: Sequence[tuple[float, float]], wide: float, tall: float, strip: float) -> list[Place] | None:
    left, top, bottom = MARGIN + 4, tall - MARGIN - 4, MARGIN + strip + 4
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
