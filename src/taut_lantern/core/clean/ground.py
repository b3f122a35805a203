"""How far points lie above the ground, without a model of it: above the lowest within a metre or so in plan."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

CELL = 0.5  # metres; the lowest of the cell and of those round it
UNDER = 2.0  # metres below what a station saw at the lowest, within which others tell the ground: farther down is another storey


@dataclass(frozen=True)
class Lowest:
    """Of cells of CELL in plan: number of the first (2,), and the height of the lowest point in each, metres; infinity where none is."""

    first: NDArray[np.int64]
    height: NDArray[np.float64]


def lowest(points: NDArray[np.float64]) -> Lowest:
    """Of points (n, 3), z up."""
    cell = np.floor(points[:, :2] / CELL).astype(np.int64)
    first = cell.min(axis=0)
    height = np.full(cell.max(axis=0) - first + 1, np.inf)
    np.minimum.at(height, (cell[:, 0] - first[0], cell[:, 1] - first[1]), points[:, 2])
    return Lowest(first, height)


def above_ground(points: NDArray[np.float64], others: Iterable[Lowest] = ()) -> NDArray[np.float64]:
    """(n,) metres, of points (n, 3), z up. others: of scans from the same storey, which saw the ground where a car hid it."""
    own = lowest(points)
    height = own.height.copy()
    for other in others:
        begin = np.maximum(own.first, other.first)
        end = np.minimum(own.first + own.height.shape, other.first + other.height.shape)
        if (begin >= end).any():
            continue
        mine, theirs = (tuple(slice(*ends) for ends in np.stack([begin - x.first, end - x.first], axis=1)) for x in (own, other))
        seen = other.height[theirs]
        lower = np.isfinite(own.height[mine]) & (seen > own.height[mine] - UNDER)
        height[mine] = np.where(lower, np.minimum(height[mine], seen), height[mine])
    cell = np.floor(points[:, :2] / CELL).astype(np.int64) - own.first
    return np.asarray(points[:, 2] - ndimage.minimum_filter(height, 3)[cell[:, 0], cell[:, 1]])
