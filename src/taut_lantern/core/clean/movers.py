"""What moved between scans: people, carts and cars that one station saw where the rays of others passed through.

Terms: seen through: the nine rays round the direction of a point all came back from farther away; agreed: one of them ended at it;
object: points that were seen through and hang together, with what hangs on them and nobody agrees with.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from .. import frames
from ..align.contradiction import clusters
from ..kernels import objects as kernel
from ..scan.grid import Grid
from .ground import above_ground

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
REACH = 60.0  # metres between stations that are asked of each other
AGREE, BEHIND = 0.03, 0.10  # metres along the ray, beside three pixels of slant
VOXEL = 0.10  # metres: points farther apart are of two objects
FEWEST = 25  # points of an object
SMALL, SLIM = 0.16, 0.10  # metres: an object is as large at least in its second direction, as wide in its third
ALONE = 0.6  # share of the points with a say in an object's place that were seen through, at middle strength
GROUND = 0.04  # metres above the ground from which on a point may belong to an object


@dataclass(frozen=True)
class Seen:
    """A station: its grid, its points (n, 3) in its own frame, and where it stands in the part, upright."""

    name: str
    grid: Grid
    xyz: NDArray[np.float32]
    T_part_station: Array


@dataclass(frozen=True)
class Moved:
    """points: sorted numbers in the station's order; low, high (3,) metres in the part; against: stations whose rays passed through,
    with how many of its points; share: of the points with a say there, that were seen through."""

    station: str
    points: NDArray[np.int64]
    low: Array
    high: Array
    against: dict[str, int]
    share: float


def movers(stations: Sequence[Seen], strength: float = 0.5, report: Callable[[int, int], None] = lambda done, total: None) -> list[Moved]:
    """Objects of all stations, the largest first. strength: 0 takes only what is seen through nearly whole, 1 also what others half
    agree with."""
    out: list[Moved] = []
    for k, own in enumerate(stations):
        report(k, len(stations))
        out += _of_one(own, stations, ALONE + 0.3 * (0.5 - strength))
    return sorted(out, key=lambda m: -len(m.points))


def said(own: Seen, others: Sequence[Seen]) -> dict[str, NDArray[np.int8]]:
    """By station: what it says of each point: 1 agrees, 2 seen through, 3 hidden from it, 0 nothing."""
    points, blank, out = own.xyz.astype(float), np.zeros((len(own.xyz), 3)), {}
    for other in others:
        if other is own or np.linalg.norm(other.T_part_station[:3, 3] - own.T_part_station[:3, 3]) > REACH:
            continue
        t = frames.inverse(other.T_part_station) @ own.T_part_station
        out[other.name] = kernel.say(other.grid.ring, other.grid.geo, other.grid.wrap, t, points, blank, AGREE, BEHIND, 0.0)
    return out


@dataclass(frozen=True)
class _Cells:
    """Points in cells of VOXEL: flat number of the cell of each (n,), and how many cells there are each way."""

    flat: NDArray[np.int64]
    shape: tuple[int, int, int]

    @classmethod
    def of(cls, points: Array) -> _Cells:
        key = np.floor((points - points.min(axis=0)) / VOXEL).astype(np.int64) + 1
        x, y, z = (int(v) for v in key.max(axis=0) + 2)
        return cls((key[:, 0] * y + key[:, 1]) * z + key[:, 2], (x, y, z))

    def beside(self, cells: NDArray[np.int64]) -> NDArray[np.int64]:
        """Sorted: the cells, and those that touch them by a side."""
        _, y, z = self.shape
        return np.unique(np.concatenate([cells + d for d in (0, 1, -1, z, -z, y * z, -y * z)]))


def _of_one(own: Seen, others: Sequence[Seen], alone: float) -> list[Moved]:
    by = said(own, others)
    part = frames.apply(own.T_part_station, own.xyz)
    up = above_ground(part)
    cells = _Cells.of(part)
    moved = np.zeros(len(part), bool)
    names = {x.name: x for x in others}
    for name, votes in by.items():
        moved[_freely(part, up, cells, votes, alone, own, names[name])] = True
    if not moved.any():
        return []
    # what hangs on an object and nobody agrees with belongs to it: what stands behind a leg, or beside it
    agreed = np.sum([v == 1 for v in by.values()], axis=0)
    near = cells.beside(np.unique(cells.flat[moved]))
    at = np.minimum(np.searchsorted(near, cells.flat), len(near) - 1)
    moved |= (near[at] == cells.flat) & (agreed == 0) & (up > GROUND)
    points = np.nonzero(moved)[0]
    label, count = clusters(part[points], VOXEL)
    out = []
    for k in range(count):
        mine = points[label == k]
        against = {name: int((v[mine] == 2).sum()) for name, v in by.items() if (v[mine] == 2).any()}
        if len(mine) < FEWEST or not against:  # what only hung on one, and is apart from it all the same
            continue
        box = part[mine]
        share = max(n / max(n + int((by[name][mine] == 1).sum()), 1) for name, n in against.items())
        out.append(Moved(own.name, mine.astype(np.int64), box.min(axis=0), box.max(axis=0), against, share))
    return out


def _freely(part: Array, up: Array, cells: _Cells, votes: NDArray[np.int8], alone: float, own_: Seen, other: Seen) -> NDArray[np.int64]:
    """Points of things that one station looked freely through: whole things, where it agrees with nothing."""
    through = np.nonzero((votes == 2) & (up > GROUND))[0]
    if len(through) < FEWEST:
        return np.zeros(0, np.int64)
    label, count = clusters(part[through], VOXEL)
    size = np.bincount(label, minlength=count)
    own, first = np.unique(cells.flat[through], return_index=True)
    of_cell = label[first]
    agree = np.nonzero((votes == 1) & (up > GROUND))[0]
    at = np.minimum(np.searchsorted(own, cells.flat[agree]), len(own) - 1)
    beside = of_cell[at[own[at] == cells.flat[agree]]]
    share = size / (size + np.bincount(beside, minlength=count))
    order, ends = np.argsort(label, kind="stable"), np.cumsum(size)
    good = np.zeros(count, bool)
    for k in np.nonzero((size >= FEWEST) & (share >= alone))[0]:
        points = part[through[order[ends[k] - size[k] : ends[k]]]]
        good[k] = _solid(points) and _filled(points, own_, other)
    return np.asarray(through[good[label]])


PITCH = 0.08  # metres between the rays of a station where it looks through: wider ones pass between the treads of a stair
STRAY = 0.15  # of the usual number of points in a cell, up to which it is taken as empty
WIDE, FULL = 5, 0.5  # cells across from which on a thing must be three thick; share of its points that are where it is thick


def _filled(points: Array, own: Seen, other: Seen) -> bool:
    """Whether a cluster fills what the other station sees of it. Treads of a stair, gratings and wires, which rays pass between, do not."""
    p = frames.apply(frames.inverse(other.T_part_station), points)
    far = float(np.median(np.linalg.norm(p, axis=1)))
    if other.grid.step * far > PITCH:
        return False
    near = float(np.median(np.linalg.norm(points - own.T_part_station[:3, 3], axis=1)))
    cell = 1.5 * max(other.grid.step, own.grid.step * near / far)
    middle = p.mean(axis=0)
    turn = np.arctan2(p[:, 1], p[:, 0]) - np.arctan2(middle[1], middle[0])
    across = (turn + np.pi) % (2 * np.pi) - np.pi
    key = np.stack([across * np.hypot(middle[0], middle[1]) / far, np.arctan2(p[:, 2], np.hypot(p[:, 0], p[:, 1]))], axis=1)
    key = np.floor((key - key.min(axis=0)) / cell).astype(int) + 1
    count = np.zeros(key.max(axis=0) + 2, int)
    np.add.at(count, (key[:, 0], key[:, 1]), 1)
    image = count > STRAY * np.median(count[count > 0])
    thick = 3 if (key.max(axis=0) >= WIDE).all() else 2
    solid = ndimage.binary_opening(image, np.ones((thick, thick), bool))
    return bool(solid[key[:, 0], key[:, 1]].mean() >= FULL)


def _solid(points: Array) -> bool:
    """Whether a cluster is a thing: neither an edge nor a leaf."""
    spread = np.sqrt(12 * np.clip(np.linalg.eigvalsh(np.cov(points, rowvar=False)), 0, None))
    return bool(spread[1] >= SMALL and spread[0] >= SLIM / 2)
