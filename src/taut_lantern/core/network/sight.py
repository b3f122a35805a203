"""What stations see in common, and what one would see from a place where nobody stood yet, on a coarse grid of what is there.

Terms: cell: a cube of ``CELL`` metres that is full when a scan has points in it; free: between two places no cell is full.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .observations import Array

CELL = 0.3  # metres: as wide as a narrow passage beside a pipe leaves; sparse samples of far walls still close
MOST = 40_000_000  # cells: a larger site is looked at in larger cells
FAR = 25.0  # metres: what lies farther is scanned too thinly to hold a link
BEGIN = 1.2  # cells at either end of a line that do not block it: the tripod, and the surface itself
FLOOR = (0.9, 2.3)  # metres below the instrument within which a floor is that one stands on
STEP = 1.0  # metres between places that are tried
ELBOW = 0.6  # metres that are free round a tripod


@dataclass(frozen=True)
class Place:
    """at (3,) of the instrument, part frame; shares: of what would be seen there, the part that each station saw."""

    at: Array
    shares: dict[str, float]


class Sight:
    """points (m, 3) by station and where each stood (3,), all in one part's frame, metres."""

    def __init__(self, points: Mapping[str, Array], stands: Mapping[str, Array]) -> None:
        self.stands = dict(stands)
        everything = np.concatenate([*points.values(), np.array(list(stands.values()))])
        self.low = np.quantile(everything, 0.001, axis=0) - 1.0  # a few strays do not blow the grid up
        high = np.quantile(everything, 0.999, axis=0) + 1.0
        self.cell = max(CELL, float(np.prod(high - self.low) / MOST) ** (1 / 3))
        self.size = np.ceil((high - self.low) / self.cell).astype(np.int64) + 1
        self.full = np.zeros(int(np.prod(self.size)), bool)
        self.seen: dict[str, NDArray[np.int64]] = {}
        for name, p in points.items():
            near = p[np.linalg.norm(p - stands[name], axis=1) < FAR]
            self.seen[name] = np.unique(self._cells(near))
            self.full[self._cells(p)] = True
        self.full[0] = False  # what lies outside

    def _cells(self, p: Array) -> NDArray[np.int64]:
        """(n,) number of the cell of each point; 0 outside the grid."""
        k = np.floor((p - self.low) / self.cell).astype(np.int64)
        inside = ((k > 0) & (k < self.size)).all(axis=-1)
        return np.where(inside, (k[..., 0] * self.size[1] + k[..., 1]) * self.size[2] + k[..., 2], 0)

    def shared(self, a: str, b: str) -> float:
        """Of what the one of two stations saw that saw less, the share that the other saw too."""
        least = min(len(self.seen[a]), len(self.seen[b]))
        return len(np.intersect1d(self.seen[a], self.seen[b], assume_unique=True)) / max(least, 1)

    def free(self, begin: Array, ends: Array) -> NDArray[np.bool_]:
        """(n,) whether one sees each of the ends (n, 3) from ``begin`` (3,)."""
        way = ends - begin
        far = np.linalg.norm(way, axis=1)
        steps = int(np.ceil(min(float(far.max(initial=0.0)), FAR) / (0.5 * self.cell))) + 1
        out = far < FAR
        margin = BEGIN * self.cell
        for k in range(1, steps):
            along = k * 0.5 * self.cell
            going = np.nonzero(out & (along > margin) & (along < far - margin))[0]
            if len(going):
                out[going] &= ~self.full[self._cells(begin + way[going] * (along / far[going])[:, None])]
        return out

    def places(self) -> list[tuple[Array, list[str]]]:
        """Where a tripod could stand, some ``STEP`` apart, and which stations are in sight there: two at least. On a floor, with room
        round it, at the height of the stations of the storey."""
        stands = np.array(list(self.stands.values()))
        out: list[tuple[Array, list[str]]] = []
        for level in _levels(stands[:, 2]):
            own = stands[np.abs(stands[:, 2] - level) < FLOOR[0]]
            low, high = own.min(axis=0) - 8.0, own.max(axis=0) + 8.0
            xy = np.stack(np.meshgrid(np.arange(low[0], high[0], STEP), np.arange(low[1], high[1], STEP)), axis=-1).reshape(-1, 2)
            at = np.column_stack([xy, np.full(len(xy), level)])
            at = at[self._on_a_floor(at) & self._roomy(at)]
            if len(at):
                sees = np.array([self.free(stand, at) for stand in stands])
                names = np.array(list(self.stands))
                out += [(at[k], names[sees[:, k]].tolist()) for k in np.nonzero(sees.sum(axis=0) >= 2)[0]]
        return out

    def _on_a_floor(self, at: Array) -> NDArray[np.bool_]:
        down = np.arange(*FLOOR, 0.5 * self.cell)
        return np.asarray(np.any([self.full[self._cells(at - [0, 0, d])] for d in down], axis=0))

    def _roomy(self, at: Array) -> NDArray[np.bool_]:
        around = [(ELBOW * np.cos(w), ELBOW * np.sin(w), z) for w in np.arange(8) * np.pi / 4 for z in (-0.4, 0.0)]
        return ~np.any([self.full[self._cells(at + np.array(p))] for p in [*around, (0, 0, 0), (0, 0, -0.6)]], axis=0)

    def look(self, at: Array, most: int = 1500) -> Place:
        """What one would see from a place, of a sample of what is there."""
        cells = np.unique(np.concatenate([*self.seen.values()]))
        cells = cells[np.linspace(0, len(cells) - 1, min(most, len(cells))).astype(np.int64)]
        k = np.stack(np.unravel_index(cells, tuple(self.size)), axis=1)
        visible = cells[self.free(at, self.low + (k + 0.5) * self.cell)]
        shares = {n: float(np.isin(visible, own, assume_unique=True).mean()) if len(visible) else 0.0 for n, own in self.seen.items()}
        return Place(at, shares)


def _levels(heights: Sequence[float] | Array) -> list[float]:
    """Heights of storeys: of stations whose instruments stand at much the same height."""
    ordered = np.sort(np.asarray(heights, float))
    cuts = np.nonzero(np.diff(ordered) > 0.6)[0] + 1
    return [float(np.median(part)) for part in np.split(ordered, cuts)]
