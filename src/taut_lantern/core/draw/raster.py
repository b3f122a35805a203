"""The picture of a slab at true scale: points gathered in pixels, and what they look like.

Pixel (0, 0) is the upper left one; its upper left corner lies at ``low`` along and ``high`` across. A picture is made band by band, so that
one of 30,000 x 20,000 pixels needs no more memory than a band of it.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..errors import BadInput

Array = NDArray[np.float64]
Bytes = NDArray[np.uint8]
MODES = ("density", "intensity", "colour", "depth", "relief", "x-ray")
MOST = 4_000_000_000  # pixels of a picture
BAND = 512  # rows of a band
GATHERED = np.dtype([("column", "<i4"), ("row", "<i4"), ("towards", "<f4"), ("rgb", "u1", 3), ("intensity", "u1")])


@dataclass(frozen=True)
class Raster:
    """low (along), high (across): the upper left corner, metres; pixel: metres; size in pixels."""

    low: float
    high: float
    pixel: float
    wide: int
    tall: int

    @property
    def bands(self) -> int:
        return math.ceil(self.tall / BAND)


def raster(low: Array, high: Array, pixel: float) -> Raster:
    """The raster over a rectangle (2,) to (2,), its edges on whole pixels. BadInput when it is too large."""
    if not 0.0002 <= pixel <= 1.0:
        raise BadInput("a pixel is 0.2 mm to 1 m wide", subject="pixel", remedy="choose another size")
    left, top = math.floor(low[0] / pixel) * pixel, math.ceil(high[1] / pixel) * pixel
    wide, tall = max(1, math.ceil((high[0] - left) / pixel)), max(1, math.ceil((top - low[1]) / pixel))
    if wide * tall > MOST:
        raise BadInput(f"the picture would have {wide * tall / 1e9:.1f} billion pixels", subject="pixel", remedy="choose larger pixels")
    return Raster(left, top, pixel, wide, tall)


def gathered(to: Raster, points: Array, rgb: Bytes, intensity: Bytes) -> NDArray[np.void]:
    """Points (n, 3) section frame as records of their pixels; those outside are left out."""
    column = np.floor((points[:, 0] - to.low) / to.pixel).astype(np.int64)
    row = np.floor((to.high - points[:, 1]) / to.pixel).astype(np.int64)
    ok = (column >= 0) & (column < to.wide) & (row >= 0) & (row < to.tall)
    out = np.zeros(int(ok.sum()), GATHERED)
    out["column"], out["row"], out["towards"] = column[ok], row[ok], points[ok, 2]
    out["rgb"], out["intensity"] = rgb[ok], intensity[ok]
    return out


def channels(mode: str) -> int:
    return 3 if mode == "colour" else 1


def full_ink(to: Raster, bands: Iterable[NDArray[np.void]], mode: str) -> float:
    """How many points a pixel holds that is as dark as any: one figure for a whole picture, so that its bands look alike."""
    strong = 12.0 if mode == "density" else 4.0
    counts = [np.unique(p["row"].astype(np.int64) * to.wide + p["column"], return_counts=True)[1] for p in bands if len(p)]
    if not counts:
        return 1.0
    all_ = np.concatenate(counts)
    return max(strong * float(np.median(all_)), 1.0 + 0.02 * float(all_.max()))


def band(to: Raster, number: int, points: NDArray[np.void], mode: str, depth: tuple[float, float], full: float = 1.0) -> Bytes:
    """Rows number * BAND and those after it as a picture (rows, wide, 1 or 3), white where nothing is. points: those of the band, and
    for relief those of the row below it; depth: of the slab, from behind to before the cut (metres, towards); full: see ``full_ink``."""
    if mode not in MODES:
        raise BadInput(f"unknown picture {mode!r}", subject="picture", remedy=f"use one of {', '.join(MODES)}")
    first = number * BAND
    rows = min(BAND, to.tall - first)
    key = (points["row"].astype(np.int64) - first) * to.wide + points["column"]
    ok = (key >= 0) & (key < (rows + 1) * to.wide)
    key, points = key[ok], points[ok]
    used, place, count = np.unique(key, return_inverse=True, return_counts=True)
    out = np.full((rows * to.wide, channels(mode)), 255, np.uint8)
    own = used < rows * to.wide
    if own.any():
        out[used[own]] = _values(points, place, count, used, to, mode, depth, full)[own]
    return out.reshape(rows, to.wide, channels(mode))


def _values(
    points: NDArray[np.void],
    place: NDArray[np.int64],
    count: NDArray[np.int64],
    used: NDArray[np.int64],
    to: Raster,
    mode: str,
    depth: tuple[float, float],
    full: float,
) -> Bytes:
    """What each pixel that is used looks like (m, channels)."""
    if mode in ("density", "x-ray"):
        ink = np.log2(1 + count) / np.log2(1 + full)
        return (225 - 205 * np.clip(ink, 0, 1)).astype(np.uint8)[:, None]
    if mode in ("intensity", "colour"):
        layers = [points["rgb"][:, k] for k in range(3)] if mode == "colour" else [points["intensity"]]
        means = [np.bincount(place, v.astype(float)) / count for v in layers]
        return np.stack(means, axis=1).round().clip(0, 254).astype(np.uint8)
    top = np.full(len(count), -np.inf)
    np.maximum.at(top, place, points["towards"])
    if mode == "depth":
        share = np.clip((top + depth[0]) / max(depth[0] + depth[1], 1e-9), 0, 1)
        return (30 + 200 * (1 - share)).astype(np.uint8)[:, None]
    return _relief(top, used, to)[:, None]


def _relief(top: Array, used: NDArray[np.int64], to: Raster) -> Bytes:
    """Shade of a surface lit from the upper left, from the differences to the pixels right and below."""

    def at(step: int) -> Array:
        there = np.searchsorted(used, used + step)
        there = np.minimum(there, len(used) - 1)
        return np.where(used[there] == used + step, top[there] - top, 0.0)

    dx, dy = at(1) / to.pixel, at(to.wide) / to.pixel
    light = (0.6 - 0.5 * np.clip(dx, -2, 2) - 0.5 * np.clip(dy, -2, 2)) / np.sqrt(1 + np.clip(dx, -2, 2) ** 2 + np.clip(dy, -2, 2) ** 2)
    return (40 + 190 * np.clip(light / 0.9, 0, 1)).astype(np.uint8)
