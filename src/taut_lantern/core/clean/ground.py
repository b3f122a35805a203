"""How far points lie above the ground, without a model of it: above the lowest within a metre or so in plan."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

CELL = 0.5  # metres; the lowest of the cell and of those round it


def above_ground(points: NDArray[np.float64]) -> NDArray[np.float64]:
    """(n,) metres, of points (n, 3), z up."""
    low = points.min(axis=0)
    cell = np.floor((points[:, :2] - low[:2]) / CELL).astype(int)
    lowest = np.full(cell.max(axis=0) + 1, np.inf)
    np.minimum.at(lowest, (cell[:, 0], cell[:, 1]), points[:, 2])
    return np.asarray(points[:, 2] - ndimage.minimum_filter(lowest, 3)[cell[:, 0], cell[:, 1]])
