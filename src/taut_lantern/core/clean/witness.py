"""What other stations say of places: that they measured something there, or that their rays went on through it."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..kernels import objects as kernel
from .movers import Seen

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
AGREE, THROUGH = 0.02, 0.10  # metres beside the spacing of the rays, within which something was measured at a place; behind it


def votes(own: Seen, other: Seen, points: Array) -> NDArray[np.int8]:
    """(n,) of points (n, 3) in a station's frame: what another one says: 1 something was measured there, 2 rays passed freely, 3 hidden, 0
    nothing."""
    t = frames.inverse(other.T_part_station) @ own.T_part_station
    blank = np.zeros((len(points), 3))
    return np.asarray(kernel.say(other.grid.ring, other.grid.geo, other.grid.wrap, t, points, blank, AGREE, THROUGH, 0.0))


def passed(own: Seen, stations: Sequence[Seen], points: Array) -> Flags:
    """(n,) through which of the points (n, 3) the rays of some station passed freely."""
    out = np.zeros(len(points), bool)
    for other in stations:
        out |= votes(own, other, points) == 2
    return out


def measured(own: Seen, stations: Sequence[Seen], points: Array) -> Flags:
    """(n,) at which of the points (n, 3), in the station's frame, some station measured something."""
    out = np.zeros(len(points), bool)
    for other in stations:
        rest = np.nonzero(~out)[0]
        out[rest] = _beside(other, frames.apply(frames.inverse(other.T_part_station) @ own.T_part_station, points[rest]))
    return out


def _beside(other: Seen, p: Array) -> Flags:
    """(n,) at which points of a station's frame one of the nine rays that pass nearest ended beside them, in space."""
    grid = other.grid
    rows, columns = grid.image.shape[:2]
    ranges = np.linalg.norm(p, axis=1)
    row = np.round((np.arctan2(p[:, 2], np.hypot(p[:, 0], p[:, 1])) - grid.geo[2]) / grid.geo[3]).astype(np.int64)
    turn = np.mod(np.arctan2(p[:, 1], p[:, 0]) - grid.geo[0] + 0.5 * grid.geo[1], 2 * np.pi) - 0.5 * grid.geo[1]
    column = np.round(turn / grid.geo[1]).astype(np.int64)
    slack = AGREE + grid.step * ranges
    out = np.zeros(len(p), bool)
    for i in (0, -1, 1):
        for j in (0, -1, 1):
            r, c = row + i, (column + j) % columns if grid.wrap else column + j
            inside = (r >= 0) & (r < rows) & (c >= 0) & (c < columns) & ~out
            at = np.nonzero(inside)[0]
            there = grid.image[r[at], c[at]].astype(float)
            out[at] = (np.linalg.norm(there - p[at], axis=1) <= slack[at]) & (there != 0).any(axis=1)
    return out
