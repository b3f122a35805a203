"""The front of what an outline takes in: a tripod goes, the pipe behind it stays.

Things are what hangs together in space, the ground apart. In the view one thing stands before another where both are in a cell: what
another thing stands before, in more than a few cells of either, is spared.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..align.contradiction import clusters
from .ground import above_ground

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
LINK = 0.06  # metres between points that hang together in space
GROUND, PATCH = 0.04, 0.3  # metres above the lowest round it that are of the ground; m2 of it that there must be
FEWEST = 30  # points of a thing that others can be hidden by
BEHIND, SOME = 0.05, 3  # share of the cells of either, and cells, in which one may stand before the other all the same
MOST, LEAST, HELD = 256, 16, 3.0  # cells across; points of a cell, in the median of those that have any


def depth_of(view: Array, points: Array) -> Array:
    """(n,) metres along the view (4, 4) that points (n, 3) lie from the eye, or from a level of a view without perspective."""
    row = view[3] if np.abs(view[3, :3]).max() > 1e-12 else view[2]
    return np.asarray((points @ row[:3] + row[3]) / float(np.linalg.norm(row[:3])))


def front_of(points: Array, flat: Array, depth: Array, thick: float) -> Flags:
    """(n,) which of the points (n, 3) of an outline are of its front things, up to ``thick`` metres behind the nearest of each. flat
    (n, 2): where they are in the view; depth (n,): how far from the eye, metres."""
    if not len(points):
        return np.zeros(0, bool)
    label, count = clusters(points, LINK)
    ground = _ground(points)
    if ground.any():
        rest, more = clusters(points[~ground], LINK) if (~ground).any() else (np.zeros(0, np.int64), 0)
        label = np.full(len(points), more, np.int64)
        label[~ground] = rest
        count = more + 1
    cell, wide = _cells(flat)
    pair, own = np.unique(cell * count + label, return_inverse=True)
    nearest = np.full(len(pair), np.inf)
    np.minimum.at(nearest, own, depth)
    of_cell, of_label = pair // count, pair % count
    big = np.bincount(label, minlength=count) >= FEWEST
    first = np.full(wide * wide, np.inf)  # of things that others can be hidden by
    np.minimum.at(first, of_cell[big[of_label]], nearest[big[of_label]])
    before = np.zeros(wide * wide, np.int64)  # which thing that is
    ahead = big[of_label] & (nearest == first[of_cell])
    before[of_cell[ahead]] = of_label[ahead]
    behind = nearest > first[of_cell] + LINK
    cells = np.bincount(of_label, minlength=count)
    pairs, often = np.unique(of_label[behind] * count + before[of_cell[behind]], return_counts=True)
    hidden, hides = pairs // count, pairs % count
    enough = (often >= SOME) & (often > BEHIND * np.minimum(cells[hidden], cells[hides]))
    spared = np.zeros(count, bool)
    spared[hidden[enough]] = True
    begins = np.full(count, np.inf)
    np.minimum.at(begins, label, depth)
    return np.asarray(~spared[label] & (depth <= begins[label] + thick))


def _ground(points: Array) -> Flags:
    """(n,) which lie on the ground, when enough of it is there: it would tie all that stands on it together."""
    on = above_ground(points) < GROUND
    patches = np.unique(np.floor(points[on, :2] / 0.1).astype(np.int64), axis=0)
    return on if 0.01 * len(patches) >= PATCH else np.zeros(len(points), bool)


def _cells(flat: Array) -> tuple[NDArray[np.int64], int]:
    """(n,) number of the cell of each point in the view, and how many cells there are each way: so many that they hold some points."""
    low, size = flat.min(axis=0), np.maximum(np.ptp(flat, axis=0), 1e-12)
    wide = MOST
    while True:
        at = np.clip((flat - low) / size * wide, 0, wide - 1).astype(np.int64)
        cell = at[:, 0] * wide + at[:, 1]
        filled = np.bincount(cell)
        if wide <= LEAST or np.median(filled[filled > 0]) >= HELD:
            return cell, wide
        wide //= 2
