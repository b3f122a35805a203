"""Two scans over each other in plan, as a raster: how a reading of them looks. Free of any file format."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]
SLAB = (0.15, 2.2)  # metres above the floor: walls and what stands in the room, no floor and no ceiling
WIDE, HIGH = 620, 420  # pixels of a picture
LONGEST, SHORTEST = 26.0, 5.0  # metres that a picture's longer side shows
PAPER, MIDDLE, BOTH = (252.0, 250.0, 245.0), (35.0, 64.0, 122.0), (30.0, 37.0, 48.0)
OTHER = (163.0, 78.0, 18.0)
GHOST = (66.0, 66.0, 62.0)  # what others darken the paper by


@dataclass(frozen=True)
class Overlay:
    """rgb (HIGH, WIDE, 3) uint8; pixel: metres; stands (2, 2) pixels x, y of both instruments; places (n, 2) pixels of what
    contradicts; divided: x of the line between two rooms drawn side by side, 0 without."""

    rgb: NDArray[np.uint8]
    pixel: float
    stands: Array
    places: Array
    divided: int


def _slab(points: Array) -> Array:
    if len(points) == 0:
        return np.zeros((0, 2))
    up = points[:, 2] - np.percentile(points[:, 2], 3)
    return np.asarray(points[(up > SLAB[0]) & (up < SLAB[1]), :2])


def _ink(at: Array, wide: int, high: int) -> Array:
    """(high, wide) 0..1 how much of a scan falls on each pixel."""
    ij = np.floor(at).astype(int)
    ok = (ij >= 0).all(axis=1) & (ij < [wide, high]).all(axis=1)
    count = np.bincount(ij[ok, 1] * wide + ij[ok, 0], minlength=wide * high).reshape(high, wide)
    return np.asarray(np.clip(count / 3.0, 0.0, 1.0) ** 0.5)


def overlay(theirs: Array, own: Array, around: Array, stands: Array, places: Array, apart: bool) -> Overlay:
    """theirs (n, 3), own (m, 3), around (l, 3) of others beside them, stands (2, 2) of both instruments, places (k, 3): metres, all in
    one level frame. apart: side by side, turned alike."""
    a, b, c = _slab(theirs), _slab(own), _slab(around)
    wide = WIDE // 2 if apart else WIDE
    near = np.concatenate([b, a[np.linalg.norm(a - stands[1], axis=1) < LONGEST / 2], stands])
    low, high = np.percentile(near, 2, axis=0), np.percentile(near, 98, axis=0)
    low, high = np.minimum(low, stands.min(axis=0)) - 0.6, np.maximum(high, stands.max(axis=0)) + 0.6
    span = np.clip(high - low, SHORTEST, LONGEST)
    pixel = float(max(span[0] / wide, span[1] / HIGH))
    middle = (low + high) / 2 if (high - low).max() < LONGEST else stands.mean(axis=0)

    def at(p: Array, left: int = 0) -> Array:
        return np.column_stack([(p[:, 0] - middle[0]) / pixel + wide / 2 + left, (middle[1] - p[:, 1]) / pixel + HIGH / 2])

    paper, blue, brown, dark = (np.array(c) for c in (PAPER, MIDDLE, OTHER, BOTH))
    ink_a, ink_b = _ink(at(a), wide, HIGH)[..., None], _ink(at(b), wide, HIGH)[..., None]
    paper = paper - _ink(at(c), wide, HIGH)[..., None] * np.array(GHOST)
    if apart:
        rgb = np.concatenate([paper + ink_a * (blue - paper), paper + ink_b * (brown - paper)], axis=1)
        marks = np.concatenate([at(places[:, :2]), at(places[:, :2], wide)])
        return Overlay(rgb.astype(np.uint8), pixel, np.concatenate([at(stands[:1]), at(stands[1:], wide)]), marks, wide)
    both = np.minimum(ink_a, ink_b)
    rgb = paper + (ink_a - both) * (blue - paper) + (ink_b - both) * (brown - paper) + both * (dark - paper)
    return Overlay(np.clip(rgb, 0, 255).astype(np.uint8), pixel, at(stands), at(places[:, :2]), 0)
