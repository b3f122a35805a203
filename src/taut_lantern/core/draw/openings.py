"""Doors, windows and gaps of an upright surface, in an elevation: where it has no points and rays went through.

The surface is the nearest one parallel to the cut that holds much of what is seen. A hole of it counts when instruments saw something behind
through it: a shadow of what stands before the wall lets nothing through. Section frame, metres.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from .faces import Around

Array = NDArray[np.float64]
Mask = NDArray[np.bool_]
CELL = 0.04  # metres of a cell that one point fills
THICK = 0.03  # metres off a surface within which points are of it
LEAST, MOST = 0.25, 60.0  # square metres of an opening
WIDE = 0.35  # metres of its shorter side


@dataclass(frozen=True)
class Opening:
    """low, high: lower left and upper right corner; through: share of its area that rays went through; square: share of the rectangle that is
    empty; error: one deviation of its sides, metres, from the spacing of the points that they end at; ground: it stands on the lowest points of
    the surface, as a door does."""

    low: tuple[float, float]
    high: tuple[float, float]
    through: float
    square: float
    error: float
    ground: bool


@dataclass(frozen=True)
class Surface:
    """towards: how far before the cut it lies; lean: millimetres a metre out of plumb; low, high: the rectangle that holds it."""

    towards: float
    low: tuple[float, float]
    high: tuple[float, float]
    rms: float


def surfaces(points: Array, least: float = 4.0) -> list[float]:
    """Where upright surfaces parallel to the cut lie (towards), of at least so many square metres; the nearest first."""
    if len(points) < 100:
        return []
    low = points.min(axis=0)
    key = np.floor((points - low) / [0.1, 0.1, 0.02]).astype(np.int64)
    cells = np.unique(key, axis=0)
    area = np.bincount(cells[:, 2]) * 0.01
    wide = np.convolve(area, [1, 1, 1], "same")
    peaks = [k for k in range(len(wide)) if wide[k] >= least and wide[k] == wide[max(0, k - 5) : k + 6].max()]
    return sorted((float(low[2] + (k + 0.5) * 0.02) for k in peaks), reverse=True)


def facade(points: Array) -> float | None:
    """Where the surface lies that an elevation shows: the nearest of those that are seven tenths as large as the largest."""
    found = surfaces(points)
    area = [float(len(np.unique(np.floor(points[np.abs(points[:, 2] - t) < 0.03, :2] / 0.1), axis=0))) for t in found]
    return next((t for t, a in zip(found, area, strict=True) if a >= 0.7 * max(area)), None)


def openings(around: Around, towards: float) -> tuple[Surface, list[Opening]] | None:
    """The openings of the surface near ``towards``. None when hardly any points are of it."""
    p = around.points
    on = np.abs(p[:, 2] - towards) < 0.04
    if on.sum() < 200:
        return None
    towards = float(np.median(p[on, 2]))
    on = np.abs(p[:, 2] - towards) < THICK
    flat = p[on, :2]
    low, high = flat.min(axis=0) - CELL, flat.max(axis=0) + CELL
    shape = np.ceil((high - low) / CELL).astype(int) + 1
    if shape.prod() > 60_000_000:
        return None
    full = _cells(flat, low, shape)
    through = _cells(_passed(around, towards), low, shape)
    solid = ndimage.binary_closing(full, iterations=2)
    inside = ndimage.binary_fill_holes(_hull(solid))
    empty = inside & ~solid
    label, count = ndimage.label(ndimage.binary_opening(empty, iterations=3))
    out = []
    for k, box in enumerate(ndimage.find_objects(label), start=1):
        found = _opening(label, k, box, flat, low, through) if count else None
        if found is not None:
            out.append(found)
    rms = float(np.std(p[on, 2]))
    surface = Surface(towards, (float(low[0]), float(low[1])), (float(high[0]), float(high[1])), rms)
    return surface, sorted(out, key=lambda o: o.low)


def _cells(flat: Array, low: Array, shape: NDArray[np.int64]) -> Mask:
    out = np.zeros(tuple(shape), bool)
    at = np.floor((flat - low) / CELL).astype(int)
    ok = (at >= 0).all(axis=1) & (at < shape).all(axis=1)
    out[at[ok, 0], at[ok, 1]] = True
    return out


def _passed(around: Around, towards: float) -> Array:
    """Where rays from one side of a surface to points on its other side went through it (n, 2)."""
    p, stand = around.points[:, 2] - towards, around.stands[around.station, 2] - towards
    across = (np.abs(p) > 0.06) & (np.abs(stand) > 0.05) & (p * stand < 0)
    a, b = around.stands[around.station[across]], around.points[across]
    share = ((a[:, 2] - towards) / (a[:, 2] - b[:, 2]))[:, None]
    return np.asarray((a + (b - a) * share)[:, :2])


def _hull(solid: Mask) -> Mask:
    """What lies between points of the surface along and across: an opening has it on both sides, or above."""
    left, right = np.maximum.accumulate(solid, axis=0), np.maximum.accumulate(solid[::-1], axis=0)[::-1]
    above = np.maximum.accumulate(solid[:, ::-1], axis=1)[:, ::-1]
    return np.asarray(left & right & above)


def _opening(label: NDArray[Any], k: int, box: tuple[slice, ...], flat: Array, low: Array, through: Mask) -> Opening | None:
    own = label[box] == k
    area = own.sum() * CELL**2
    if not LEAST <= area <= MOST:
        return None
    share = own.mean(axis=1) > 0.5, own.mean(axis=0) > 0.5  # columns and rows that belong to its rectangle
    if not share[0].any() or not share[1].any():
        return None
    i, j = np.nonzero(share[0])[0], np.nonzero(share[1])[0]
    first = low + CELL * np.array([box[0].start + i[0], box[1].start + j[0]])
    last = low + CELL * np.array([box[0].start + i[-1] + 1, box[1].start + j[-1] + 1])
    core = own[i[0] : i[-1] + 1, j[0] : j[-1] + 1]
    seen = through[box][i[0] : i[-1] + 1, j[0] : j[-1] + 1]
    square, passed = float(core.mean()), float(ndimage.binary_dilation(seen, iterations=2).mean())
    if (last - first).min() < WIDE or square < 0.75 or passed < 0.35:
        return None
    at_ends = box[0].start == 0 or box[0].stop == label.shape[0]
    if at_ends:  # beside the surface, not in it
        return None
    sides = [_side(flat, first, last, axis, end) for axis in (0, 1) for end in (0, 1)]
    (x0, e0), (x1, e1), (y0, e2), (y1, e3) = sides
    ground = math.isnan(e2)
    errors = [e for e in (e0, e1, e2, e3) if not math.isnan(e)]
    if math.isnan(e0) or math.isnan(e1) or math.isnan(e3):
        return None
    return Opening((x0, y0), (x1, y1), passed, square, float(np.mean(errors)), ground)


def _side(flat: Array, first: Array, last: Array, axis: int, end: int) -> tuple[float, float]:
    """Where points of the surface end at a side of an opening: where they lie half as densely as beyond, so that a few stray ones at the edge
    and the spacing of the others do not move it. And one deviation of that, from what thirds of the side say; nan where none end."""
    across = 1 - axis
    edge = last[axis] if end else first[axis]
    sign = 1.0 if end else -1.0
    margin = 0.1 * (last[across] - first[across])
    near = (flat[:, across] > first[across] + margin) & (flat[:, across] < last[across] - margin)
    out = (flat[:, axis] - edge) * sign
    near &= (out > -0.12) & (out < 0.25)
    d, place = out[near], flat[near, across]
    whole = _step(np.sort(d))
    if math.isnan(whole):
        return float(edge), math.nan
    cuts = np.linspace(first[across] + margin, last[across] - margin, 4)
    thirds = [_step(np.sort(d[(place >= a) & (place < b)])) for a, b in zip(cuts, cuts[1:], strict=False)]
    told = [t for t in thirds if not math.isnan(t)]
    whole = float(np.median(told)) if len(told) == 3 else whole
    return float(edge + sign * whole), max(float(np.std(told)) / math.sqrt(len(told)) if len(told) > 1 else 0.005, 0.0005)


def _step(d: Array, wide: float = 0.008) -> float:
    """Where sorted places begin to lie as densely as half of what they do from 2 to 15 cm farther; nan for hardly any. Told twice, by windows
    of 8 and of 2 mm: a reveal that is seen edge-on lies all at one place."""
    if len(d) < 12:
        return math.nan
    steps = np.arange(-0.12, 0.12, 0.0005)
    count = np.searchsorted(d, steps + wide) - np.searchsorted(d, steps)
    for k in np.nonzero(count > 0)[0]:
        at = float(steps[k]) + wide / 2
        beyond = float(np.searchsorted(d, at + 0.15) - np.searchsorted(d, at + 0.02)) / 0.13
        if count[k] >= 0.5 * max(beyond * wide, 1.0) and beyond * wide >= 1.0:
            fine = np.arange(at - 0.006, at + 0.010, 0.0005)
            narrow = np.searchsorted(d, fine + 0.002) - np.searchsorted(d, fine)
            full = np.nonzero(narrow >= max(0.5 * beyond * 0.002, 0.25 * float(narrow.max()), 2))[0]
            return float(fine[full[0]]) + 0.0015 if len(full) else at
    return math.nan
