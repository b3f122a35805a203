"""Planes of a scanned surface round a place that somebody picked.

Terms: support: points within a tolerance of a plane; off: signed distance from it. All in one frame, metres.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..errors import NotEnough

Array = NDArray[np.float64]
FEWEST = 12  # points that a plane is fitted to at least
NARROW = 0.01  # metres: points that spread less across their best line hold no plane
TRIES = 300  # planes through three points: 0.99 sure to try the one that holds a quarter of them (1 - (1 - 0.25^3)^300)
MANY = 4000  # points that planes are tried on: more change the choice no more


@dataclass(frozen=True)
class Plane:
    """Unit normal and offset with normal . p + offset = 0, RMS of its points in metres, how many they are."""

    normal: Array
    offset: float
    rms: float
    points: int

    def off(self, p: Array) -> Array:
        """(n,) metres of points (n, 3) from the plane."""
        return p @ self.normal + self.offset

    def facing(self, towards: Array) -> Plane:
        """The same plane with its normal on the side of a place (3,)."""
        if float(self.normal @ towards + self.offset) >= 0:
            return self
        return Plane(-self.normal, -self.offset, self.rms, self.points)


def fit_plane(points: Array, rounds: int = 4, wide: float = 3.0) -> Plane:
    """The plane through points (n, 3), trimmed at ``wide`` times the median distance (total least squares).
    NotEnough when fewer than 12 points are left, or they lie on a line."""
    p = np.asarray(points, float)
    keep = np.ones(len(p), bool)
    for _ in range(rounds):
        if keep.sum() < FEWEST:
            raise NotEnough("too few points lie round that pick for a plane", remedy="pick where more was scanned")
        middle = p[keep].mean(axis=0)
        _, sizes, axes = np.linalg.svd(p[keep] - middle, full_matrices=False)
        off = (p - middle) @ axes[2]
        keep = np.abs(off) <= max(wide * 1.4826 * float(np.median(np.abs(off[keep]))), 1e-4)
    if sizes[1] < NARROW * np.sqrt(keep.sum()):
        raise NotEnough("the points round that pick lie on a line", remedy="pick on a surface")
    return Plane(axes[2], -float(axes[2] @ middle), float(np.sqrt((off[keep] ** 2).mean())), int(keep.sum()))


def widest_plane(points: Array, tolerance: float, through: Array | None = None) -> Plane:
    """The plane with most support among points (n, 3), fitted to that support; NotEnough when they hold none.

    through: (3,) a place that it passes within ``tolerance``, as the surface does that was picked. Planes through three of the
    points are tried (Fischler & Bolles 1981), the same ones for the same points.
    """
    p = np.asarray(points, float)
    if len(p) < FEWEST:
        raise NotEnough("too few points lie round that pick for a plane", remedy="pick where more was scanned")
    rng = np.random.default_rng(len(p))
    some = p[rng.choice(len(p), MANY, replace=False)] if len(p) > MANY else p
    near = some
    if through is not None:  # the first of three lies where the pick does, so that most tries pass it
        near = some[np.argsort(np.linalg.norm(some - through, axis=1), kind="stable")[: max(8, len(some) // 50)]]
    a = near[rng.integers(len(near), size=TRIES)]
    b, c = some[rng.integers(len(some), size=TRIES)], some[rng.integers(len(some), size=TRIES)]
    normal = np.cross(b - a, c - a)
    size = np.linalg.norm(normal, axis=1)
    normal, a = normal[size > 1e-9] / size[size > 1e-9, None], a[size > 1e-9]
    offset = -np.einsum("ij,ij->i", normal, a)
    if through is not None:
        passes = np.abs(normal @ through + offset) <= tolerance
        normal, offset = normal[passes], offset[passes]
    if not len(normal):
        raise NotEnough("the points round that pick lie on a line", remedy="pick on a surface")
    support = np.count_nonzero(np.abs(some @ normal.T + offset) <= tolerance, axis=0)
    best = int(support.argmax())
    return fit_plane(p[np.abs(p @ normal[best] + offset[best]) <= tolerance])
