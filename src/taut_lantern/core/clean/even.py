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
SAMPLE, CHUNK = 100_000, 2_000_000  # cells that limits are told from; cells of all stations that are compared at a time, about
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


@dataclass(frozen=True)
class _Best:
    """Of a station by cell, sorted: the number of the best point in it and how badly that was measured."""

    cells: NDArray[np.int64]
    worth: NDArray[np.float32]
    index: NDArray[np.int32]


@dataclass
class Even:
    """Collects stations one after another; ``kept`` says which points of each stay when all are there. spacing: metres, cells of the
    part. Of points that were measured as badly the one of the earlier station stays."""

    spacing: float
    _stations: list[_Best] = field(default_factory=list)
    _stay: list[NDArray[np.bool_]] = field(default_factory=list)

    def __post_init__(self) -> None:
        if not LEAST <= self.spacing <= MOST:
            raise BadInput("a spacing lies between 0.5 mm and 1 m", subject="spacing", remedy="give it in metres, as 0.005")

    def add(self, points: Array, worth: NDArray[np.float32]) -> None:
        """Points (n, 3) of the next station in the part, and how badly each was measured (n,)."""
        key = np.floor(points / self.spacing).astype(np.int64)
        if len(key) and np.abs(key).max() >= 1 << 20:
            raise BadInput("the site is too wide for that spacing", subject="spacing", remedy="choose a larger one, or crop the site")
        flat = ((key[:, 0] + (1 << 20)) << 42) | ((key[:, 1] + (1 << 20)) << 21) | (key[:, 2] + (1 << 20))
        best = _winners(flat, worth)
        self._stations.append(_Best(flat[best], worth[best], best.astype(np.int32)))
        self._stay.clear()

    def kept(self, station: int) -> NDArray[np.int64]:
        """Sorted numbers of the points that stay of a station, by the order in which it was added."""
        if not self._stay:
            self._resolve()
        return np.sort(self._stations[station].index[self._stay[station]]).astype(np.int64)

    def _resolve(self) -> None:
        """Which points of each station are the best of their cell among all stations, some cells after others."""
        self._stay = [np.zeros(len(x.cells), bool) for x in self._stations]
        total = sum(len(x.cells) for x in self._stations)
        if not total:
            return
        some = np.sort(np.concatenate([x.cells[:: max(1, total // SAMPLE)] for x in self._stations]))
        limits = some[np.linspace(0, len(some) - 1, total // CHUNK + 2).astype(int)]
        limits[0] = min(int(x.cells[0]) for x in self._stations if len(x.cells))
        limits[-1] = max(int(x.cells[-1]) for x in self._stations if len(x.cells)) + 1
        for low, high in zip(limits[:-1], limits[1:], strict=True):
            own = [slice(*np.searchsorted(x.cells, [low, high])) for x in self._stations]
            cells = np.concatenate([x.cells[part] for x, part in zip(self._stations, own, strict=True)])
            best = np.zeros(len(cells), bool)
            best[_winners(cells, np.concatenate([x.worth[part] for x, part in zip(self._stations, own, strict=True)]))] = True
            ends = np.cumsum([part.stop - part.start for part in own])[:-1]
            for stay, part, mine in zip(self._stay, own, np.split(best, ends), strict=True):
                stay[part] = mine


def _winners(cells: NDArray[np.int64], worth: NDArray[np.float32]) -> NDArray[np.int64]:
    """Of each cell the first of the entries with the least worth, sorted by cell."""
    order = np.lexsort((worth, cells))
    first = np.ones(len(order), bool)
    first[1:] = cells[order][1:] != cells[order][:-1]
    return np.asarray(order[first])
