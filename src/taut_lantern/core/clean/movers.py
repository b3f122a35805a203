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
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from .. import frames
from ..align.contradiction import clusters
from ..kernels import objects as kernel
from ..scan.grid import Grid
from .ground import Lowest, above_ground, lowest

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
REACH = 60.0  # metres between stations that are asked of each other
AGREE, BEHIND = 0.03, 0.10  # metres along the ray, beside three pixels of slant
VOXEL = 0.10  # metres: points farther apart are of two objects
LARGE, BESIDE = 1.5, 0.4  # metres: what is looked through so near to a thing that moved and is as large, is of it
SPACED = 2.5  # spacings of the rays of their station, up to which points of one thing lie apart where that is more
FEWEST, FEW = 25, 10  # points of an object, and of what one station looked through of it
SMALL, SLIM = 0.16, 0.10  # metres: an object is as large at least in its second direction, as wide in its third
ALONE = 0.6  # share of the points with a say in an object's place that were seen through, at middle strength
GROUND = 0.04  # metres above the ground from which on a point may belong to an object
LEVELLED = 1.5  # metres of height between stations of one storey
PITCH = 0.08  # metres between the rays of a station where it looks through: wider ones pass between the treads of a stair
STRAY = 0.15  # of the usual number of points in a cell, up to which it is taken as empty
WIDE, FULL = 5, 0.5  # cells across from which on a thing must be three thick; share of its points that are where it is thick
CARRIED = 5.0  # pixels of depth between neighbours of one surface, which is there between its points: a bonnet seen at a glancing angle
FLAT, LEVEL = 0.25, 0.6  # metres: a flat piece is as wide at least in its second direction; a level one, which may be a tread or a shelf
HIGH = 0.25  # metres above the ground from which on a point says whether a flat piece lies in a wall
WALLED = 0.25  # share of the cells round a flat piece, in its plane, in which others agree with something, from which on it lies in a wall


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
    ground = [lowest(frames.apply(x.T_part_station, x.xyz)) for x in stations]
    for k, own in enumerate(stations):
        report(k, len(stations))
        level = [g for g, x in zip(ground, stations, strict=True) if abs(x.T_part_station[2, 3] - own.T_part_station[2, 3]) < LEVELLED]
        out += _of_one(own, stations, ALONE + 0.3 * (0.5 - strength), level)
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


def _of_one(own: Seen, others: Sequence[Seen], alone: float, ground: list[Lowest]) -> list[Moved]:
    by = said(own, others)
    part = frames.apply(own.T_part_station, own.xyz)
    up = above_ground(part, ground)
    cells = _Cells.of(part)
    moved = np.zeros(len(part), bool)
    pixel = np.full(len(part), -1, np.int64)
    flat = own.grid.index.reshape(-1)
    pixel[flat[flat >= 0]] = np.nonzero(flat >= 0)[0]
    names = {x.name: x for x in others}
    for name, votes in by.items():
        moved[_freely(part, up, cells, pixel, votes, alone, own, names[name])] = True
    agreed = np.sum([v == 1 for v in by.values()], axis=0)
    moved[_slight(part, own, np.nonzero(moved)[0], np.nonzero((agreed > 0) & (up > HIGH))[0])] = False
    if not moved.any():
        return []
    moved[_hanging(part, own, moved, np.nonzero(np.any([v == 2 for v in by.values()], axis=0) & (up > GROUND))[0])] = True
    # what hangs on an object and nobody agrees with belongs to it: what stands behind a leg, or beside it
    near = cells.beside(np.unique(cells.flat[moved]))
    at = np.minimum(np.searchsorted(near, cells.flat), len(near) - 1)
    moved |= (near[at] == cells.flat) & (agreed == 0) & (up > GROUND)
    points = np.nonzero(moved)[0]
    label = _joined(part[points], _together(part[points], own)[0])
    out = []
    for k in np.unique(label):
        mine = points[label == k]
        against = {name: int((v[mine] == 2).sum()) for name, v in by.items() if (v[mine] == 2).any()}
        if len(mine) < FEWEST or not against:  # what only hung on one, and is apart from it all the same
            continue
        box = part[mine]
        share = max(n / max(n + int((by[name][mine] == 1).sum()), 1) for name, n in against.items())
        out.append(Moved(own.name, mine.astype(np.int64), box.min(axis=0), box.max(axis=0), against, share))
    return out


def _freely(
    part: Array, up: Array, cells: _Cells, pixel: NDArray[np.int64], votes: NDArray[np.int8], alone: float, own: Seen, other: Seen
) -> NDArray[np.int64]:
    """Points of things that one station looked freely through: whole things, where it agrees with nothing."""
    through = np.nonzero((votes == 2) & (up > GROUND))[0]
    if len(through) < FEW:
        return through[:0]
    label, count = _together(part[through], own)
    size = np.bincount(label, minlength=count)
    filled, first = np.unique(cells.flat[through], return_index=True)
    of_cell = label[first]
    agree = np.nonzero((votes == 1) & (up > GROUND))[0]
    at = np.minimum(np.searchsorted(filled, cells.flat[agree]), len(filled) - 1)
    beside = of_cell[at[filled[at] == cells.flat[agree]]]
    share = size / (size + np.bincount(beside, minlength=count))
    order, ends = np.argsort(label, kind="stable"), np.cumsum(size)
    good = np.zeros(count, bool)
    for k in np.nonzero((size >= FEW) & (share >= alone))[0]:
        points = through[order[ends[k] - size[k] : ends[k]]]
        good[k] = _filled(part[points], _between(own, pixel, points), own, other)
    return np.asarray(through[good[label]])


def _together(points: Array, own: Seen) -> tuple[NDArray[np.int64], int]:
    """(m,) number of the cluster of each point (part), and how many: points within a voxel of one another, or within some spacings of the
    rays of the station that measured them, which lie farther apart far off."""
    near, n = clusters(points, VOXEL)
    sight = points - own.T_part_station[:3, 3]
    far = np.linalg.norm(sight, axis=1)
    if SPACED * own.grid.step * far.max() <= VOXEL:
        return near, n
    turn, rise = np.arctan2(sight[:, 1], sight[:, 0]), np.arcsin(np.clip(sight[:, 2] / far, -1, 1))
    joined = [near]
    for seam in (0.0, np.pi):  # a thing may lie across one of both
        sphere = np.stack([(turn + seam) % (2 * np.pi), rise, np.log(far)], axis=1)
        joined.append(n + clusters(sphere, SPACED * own.grid.step / 2)[0])
        n = int(joined[-1].max()) + 1
    ends = np.concatenate([np.stack([near, other], axis=1) for other in joined[1:]])
    _, label = connected_components(coo_array((np.ones(len(ends), bool), (ends[:, 0], ends[:, 1])), shape=(n, n)), directed=False)
    own_labels, number = np.unique(label[near], return_inverse=True)
    return number.reshape(-1).astype(np.int64), len(own_labels)


def _hanging(part: Array, own: Seen, moved: Flags, through: NDArray[np.int64]) -> NDArray[np.int64]:
    """Those of points that some station looked through that hang together with what moved, or lie beside a large thing of it: of the side
    of a car that is seen at a glancing angle there are lines."""
    some = np.union1d(np.nonzero(moved)[0], through)
    label, count = _together(part[some], own)
    mine = np.bincount(label[moved[some]], minlength=count) > 0
    order = np.argsort(label, kind="stable")
    things = [p for k, p in enumerate(np.split(some[order], np.cumsum(np.bincount(label, minlength=count))[:-1])) if mine[k]]
    large = [p for p in things if np.ptp(part[p], axis=0).max() > LARGE]
    if large:
        rest = some[~mine[label]]
        near = np.asarray(cKDTree(part[np.concatenate(large)]).query(part[rest], distance_upper_bound=BESIDE)[0]) < BESIDE
        things.append(rest[near])
    return np.concatenate(things)


def _joined(points: Array, label: NDArray[np.int64]) -> NDArray[np.int64]:
    """Labels (m,) of clusters, those of few points given that of the thing which they lie beside."""
    few = np.bincount(label)[label] < FEWEST
    if few.all() or not few.any():
        return label
    far, at = (np.asarray(v) for v in cKDTree(points[~few]).query(points[few]))
    first, own = np.unique(label[few], return_inverse=True)
    nearest = np.lexsort((far, own.reshape(-1)))[np.searchsorted(np.sort(own.reshape(-1)), np.arange(len(first)))]
    near = far[nearest] < BESIDE
    out = label.copy()
    out[few] = np.where(near, label[~few][at[nearest]], first)[own.reshape(-1)]
    return out


def _slight(part: Array, own: Seen, points: NDArray[np.int64], agreed: NDArray[np.int64]) -> NDArray[np.int64]:
    """Those of points that some station looked through that are of no thing, whatever station saw through them: edges, leaves, and panes
    and doors that lie in a wall. agreed: points that some station agrees with."""
    if not len(points):
        return points
    label, count = _together(part[points], own)
    order, ends = np.argsort(label, kind="stable"), np.cumsum(np.bincount(label, minlength=count))
    pieces = [p for p in np.split(points[order], ends[:-1]) if len(p) >= FEW]
    still = part[agreed]
    good = [len(p) >= FEWEST and (_solid(part[p]) or (_wide(part[p]) and not _in_wall(part[p], still))) for p in pieces]
    kept = np.concatenate([np.zeros(0, np.int64), *(p for p, ok in zip(pieces, good, strict=True) if ok)])
    return np.setdiff1d(points, kept)


def _filled(points: Array, between: Array, own: Seen, other: Seen) -> bool:
    """Whether a cluster fills what the other station sees of it. Treads of a stair, gratings and wires, which rays pass between, do not.
    between: places of its surface between its points; part."""
    T_other_part = frames.inverse(other.T_part_station)
    p = frames.apply(T_other_part, points)
    far = float(np.median(np.linalg.norm(p, axis=1)))
    if other.grid.step * far > PITCH:
        return False
    near = float(np.median(np.linalg.norm(points - own.T_part_station[:3, 3], axis=1)))
    cell = 1.5 * max(other.grid.step, own.grid.step * near / far)
    middle = p.mean(axis=0)
    everything = np.concatenate([p, frames.apply(T_other_part, between)])
    turn = np.arctan2(everything[:, 1], everything[:, 0]) - np.arctan2(middle[1], middle[0])
    across = ((turn + np.pi) % (2 * np.pi) - np.pi) * np.hypot(middle[0], middle[1]) / far
    key = np.stack([across, np.arctan2(everything[:, 2], np.hypot(everything[:, 0], everything[:, 1]))], axis=1)
    key = np.floor((key - key.min(axis=0)) / cell).astype(int) + 1
    count = np.zeros(key.max(axis=0) + 2, int)
    own_key = key[: len(p)]
    np.add.at(count, (own_key[:, 0], own_key[:, 1]), 1)
    image = count > STRAY * np.median(count[count > 0])
    image[key[len(p) :, 0], key[len(p) :, 1]] = True
    thick = 3 if (key.max(axis=0) >= WIDE).all() else 2
    solid = ndimage.binary_opening(image, np.ones((thick, thick), bool))
    return bool(solid[own_key[:, 0], own_key[:, 1]].mean() >= FULL)


def _between(own: Seen, pixel: NDArray[np.int64], points: NDArray[np.int64]) -> Array:
    """(m, 3) places (part) between points that are neighbours in the image of their station and on one surface. pixel: of each point of
    the station, -1 where the image left it out."""
    columns = own.grid.image.shape[1]
    at = pixel[points]
    there = points[at >= 0]
    at = at[at >= 0]
    order = np.argsort(at)
    there, at = there[order], at[order]
    out = []
    for step in (1, columns):
        k = np.minimum(np.searchsorted(at, at + step), max(len(at) - 1, 0))
        hit = np.nonzero(at[k] == at + step)[0] if len(at) else k
        a, b = own.xyz[there[hit]].astype(float), own.xyz[there[k[hit]]].astype(float)
        far, farther = np.linalg.norm(a, axis=1), np.linalg.norm(b, axis=1)
        one = np.abs(far - farther) < CARRIED * own.grid.step * np.minimum(far, farther)
        out += [a[one] + w * (b[one] - a[one]) for w in (0.25, 0.5, 0.75)]
    return np.asarray(frames.apply(own.T_part_station, np.concatenate(out)))


def _solid(points: Array) -> bool:
    """Whether a cluster is a thing: neither an edge nor a leaf."""
    spread = np.sqrt(12 * np.clip(np.linalg.eigvalsh(np.cov(points, rowvar=False)), 0, None))
    return bool(spread[1] >= SMALL and spread[0] >= SLIM / 2)


def _wide(points: Array) -> bool:
    """Whether a cluster is a flat piece of some size, as the side of a car is."""
    value, axes = np.linalg.eigh(np.cov(points, rowvar=False))
    level = abs(float(axes[2, 0])) > 0.9
    return bool(np.sqrt(12 * max(float(value[1]), 0.0)) >= (LEVEL if level else FLAT))


def _in_wall(points: Array, agreed: Array) -> bool:
    """Whether a flat piece (m, 3) is part of a plane whose rest stands still: a pane, a closed door."""
    middle = points.mean(axis=0)
    _, _, axes = np.linalg.svd(points - middle, full_matrices=False)
    flat = (points - middle) @ axes.T
    low, high = flat.min(axis=0) - 3 * VOXEL, flat.max(axis=0) + 3 * VOXEL
    beside = (agreed - middle) @ axes.T
    beside = beside[((beside > low) & (beside < high)).all(axis=1) & (np.abs(beside[:, 2]) < VOXEL / 2)]
    shape = np.ceil((high - low)[:2] / VOXEL).astype(int) + 1
    own, still = np.zeros(shape, bool), np.zeros(shape, bool)
    for image, p in ((own, flat), (still, beside)):
        at = ((p[:, :2] - low[:2]) / VOXEL).astype(int)
        image[at[:, 0], at[:, 1]] = True
    own = ndimage.binary_closing(own, np.ones((3, 3), bool), iterations=2)
    rim = ndimage.binary_dilation(own, np.ones((3, 3), bool), iterations=2) & ~own
    return bool(still[rim].mean() > WALLED)
