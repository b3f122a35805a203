"""One spacing over all stations: of the points in a cell the one that was measured best, by how far and at what incidence."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..errors import BadInput
from ..scan.grid import Grid

Array = NDArray[np.float64]
LEAST, MOST = 0.0005, 1.0  # metres of a spacing
NOISE, PER_METRE = 1.0, 0.03  # of a range, without unit: what grows with distance beside what does not, as scanners do
STEEPEST = 8.0  # tangent of the incidence from which on nothing gets worse


def quality(grid: Grid, points: int) -> NDArray[np.float32]:
    """(points,) how badly each was measured: noise of its range, larger far away and at a glance; the less the better. Of points that the
    grid left out, and at edges, where the incidence is not known: as at the steepest."""
    ranges = np.linalg.norm(grid.image.astype(float), axis=2)
    with np.errstate(divide="ignore", invalid="ignore"):
        slope2 = np.zeros_like(ranges)
        for axis, step in ((0, grid.geo[3]), (1, grid.geo[1])):
            before, after = np.roll(ranges, 1, axis), np.roll(ranges, -1, axis)
            change = np.where((before > 0) & (after > 0), (after - before) / (2 * step * ranges), STEEPEST)
            slope2 += np.minimum(np.abs(change), STEEPEST) ** 2
        worth = (NOISE + PER_METRE * ranges) * np.sqrt(1 + slope2)
    out = np.full(points, np.float32(np.nanmax(np.where(ranges > 0, worth, 0.0), initial=1.0)))
    there = grid.index >= 0
    out[grid.index[there]] = worth[there]
    return out


@dataclass
class Even:
    """Collects stations one after another; ``kept`` says which points of each stay. spacing: metres, cells of the part."""

    spacing: float
    cells: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))  # sorted
    worth: NDArray[np.float32] = field(default_factory=lambda: np.zeros(0, np.float32))
    owner: NDArray[np.int32] = field(default_factory=lambda: np.zeros(0, np.int32))
    index: NDArray[np.int64] = field(default_factory=lambda: np.zeros(0, np.int64))
    stations: int = 0

    def __post_init__(self) -> None:
        if not LEAST <= self.spacing <= MOST:
            raise BadInput("a spacing lies between 0.5 mm and 1 m", subject="spacing", remedy="give it in metres, as 0.005")

    def add(self, points: Array, worth: NDArray[np.float32]) -> None:
        """Points (n, 3) of the next station in the part, and how badly each was measured (n,)."""
        key = np.floor(points / self.spacing).astype(np.int64)
        if len(key) and np.abs(key).max() >= 1 << 20:
            raise BadInput("the site is too wide for that spacing", subject="spacing", remedy="choose a larger one, or crop the site")
        flat = ((key[:, 0] + (1 << 20)) << 42) | ((key[:, 1] + (1 << 20)) << 21) | (key[:, 2] + (1 << 20))
        order = np.lexsort((worth, flat))
        first = np.ones(len(order), bool)
        first[1:] = flat[order][1:] != flat[order][:-1]
        best = order[first]
        own = np.full(len(best), self.stations, np.int32)
        self.stations += 1
        cells = np.concatenate([self.cells, flat[best]])
        worth_ = np.concatenate([self.worth, worth[best]])
        both = np.lexsort((worth_, cells))
        keep = np.ones(len(both), bool)
        keep[1:] = cells[both][1:] != cells[both][:-1]
        chosen = both[keep]
        self.owner = np.concatenate([self.owner, own])[chosen]
        self.index = np.concatenate([self.index, best.astype(np.int64)])[chosen]
        self.cells, self.worth = cells[chosen], worth_[chosen]

    def kept(self, station: int) -> NDArray[np.int64]:
        """Sorted numbers of the points that stay of a station, by the order in which it was added."""
        return np.sort(self.index[self.owner == station])
