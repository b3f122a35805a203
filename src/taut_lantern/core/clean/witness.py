"""What stations say of places: that they measured something there, that their rays went on through it, that something bars a way."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..kernels import images
from ..kernels import objects as kernel
from .movers import Seen

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
AGREE, THROUGH = 0.02, 0.10  # metres beside the spacing of the rays, within which something was measured at a place; behind it
ALIKE = 0.9  # cosine of two normals of one surface
PITCH, CLOSE = 0.06, 0.015  # metres between the places of a way that are asked about, and within which something bars it there


def between(own: Seen, other: Seen) -> Array:
    """(4, 4) from a station's frame to another's."""
    return np.asarray(frames.inverse(other.T_part_station) @ own.T_part_station)


def votes(own: Seen, other: Seen, points: Array) -> NDArray[np.int8]:
    """(n,) of points (n, 3) in a station's frame: what another one says: 1 something was measured there, 2 rays passed freely, 3 hidden, 0
    nothing."""
    blank = np.zeros((len(points), 3))
    grid = other.grid
    return np.asarray(kernel.say(grid.ring, grid.geo, grid.wrap, between(own, other), points, blank, AGREE, THROUGH, 0.0))


def passed(own: Seen, stations: Sequence[Seen], points: Array) -> Flags:
    """(n,) through which of the points (n, 3) the rays of some station passed freely."""
    out = np.zeros(len(points), bool)
    for other in stations:
        rest = np.nonzero(~out)[0]
        out[rest] = votes(own, other, points[rest]) == 2
    return out


def heard(own: Seen, stations: Sequence[Seen], points: Array) -> Flags:
    """(n,) of which of the points (n, 3) some station but their own says anything: it measured there, looked through, or is barred."""
    out = np.zeros(len(points), bool)
    for other in stations:
        rest = np.nonzero(~out)[0] if other.name != own.name else np.zeros(0, np.int64)
        out[rest] = votes(own, other, points[rest]) != 0
    return out


def alike_at(own: Seen, stations: Sequence[Seen], points: Array, normals: Array) -> Flags:
    """(n,) at which of the points (n, 3), as ``measured``, something was measured that faces as normals (n, 3) do; none where these are zero."""
    out = np.zeros(len(points), bool)
    for other in stations:
        rest, grid = np.nonzero(~out & (normals != 0).any(axis=1))[0], other.grid
        t = between(own, other)
        out[rest] = images.facing(grid.image, grid.facing, grid.geo, grid.wrap, t, points[rest], normals[rest], AGREE, ALIKE)
    return out


def measured(own: Seen, stations: Sequence[Seen], points: Array) -> Flags:
    """(n,) at which of the points (n, 3), in the station's frame, some station measured something: one of the nine rays that pass nearest ended
    beside them, in space."""
    out = np.zeros(len(points), bool)
    for other in stations:
        rest = np.nonzero(~out)[0]
        out[rest] = images.beside(other.grid.image, other.grid.geo, other.grid.wrap, between(own, other), points[rest], AGREE)
    return out


def barred(own: Seen, stations: Sequence[Seen], start: Array, end: Array) -> Flags:
    """(n,) on which of the ways from start (n, 3) to end (n, 3), in the station's frame, some station measured something."""
    out = np.zeros(len(start), bool)
    for other in stations:
        rest, grid = np.nonzero(~out)[0], other.grid
        out[rest] = images.barred(grid.image, grid.geo, grid.wrap, between(own, other), start[rest], end[rest], PITCH, CLOSE)
    return out
