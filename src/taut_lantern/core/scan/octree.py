"""The one order of points: additive levels of detail, each tile a slice of the station's points.

Level 0 holds one point per coarse cell, every next level one more per cell of half the size. Within a level
the points lie in Morton order, cut into tiles by octree node, so that a tile is ``[first, first + count)``.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..kernels import order as kernels

TILE = 32_768  # points a tile at most, when a node can be split
LEVELS = 6
INDEX_BITS, SHORT = 24, 13  # bits of an index, and depth of a code, that share a word


@dataclass(frozen=True)
class Tile:
    """points first .. first + count of the ordered station; spacing: cell of its level, metres."""

    level: int
    first: int
    count: int
    spacing: float


def arrange(xyz: NDArray[np.float32], coarsest: float = 0.8) -> tuple[NDArray[np.int32], list[Tile]]:
    """(order, tiles) of points (n, 3): order (n,) puts them into their final order. coarsest: cell of level 0, metres."""
    if len(xyz) == 0:
        return np.zeros(0, np.int32), []
    points = np.ascontiguousarray(xyz, np.float32)
    low, high = kernels.bounds(points).astype(float)
    side = max(float((high - low).max()), 1e-3) * 1.0001
    bits = max(1, min(kernels.DEPTH, int(np.ceil(np.log2(max(side / coarsest, 2.0))))))
    count = max(1, min(LEVELS, kernels.DEPTH - bits + 1))
    # when it fits, code and index share one 64-bit word: sorting words is several times faster than sorting indices
    together = len(points) < 1 << INDEX_BITS and bits + count - 1 <= SHORT
    depth, kept = (SHORT, INDEX_BITS) if together else (kernels.DEPTH, 0)
    codes = kernels.morton(points, low, side / (1 << kernels.DEPTH), 3 * (kernels.DEPTH - depth), kept)
    by_code = np.zeros(0, np.int64)
    if together:
        codes.sort()
    else:
        by_code = np.argsort(codes, kind="stable")
        codes = codes[by_code]
    level = kernels.levels(codes, 3 * (depth - bits) + kept, count - 1)
    order = np.empty(len(points), np.int32)
    codes, first = kernels.by_level(by_code, codes, level, count, kept, order)
    runs: list[tuple[int, int, int]] = []
    for k in range(count):
        _cut(codes, int(first[k]), int(first[k + 1]), 3 * depth, k, runs)
    cell = side / (1 << bits)
    return order, [Tile(k, start, n, cell / (1 << k)) for k, start, n in runs]


def _cut(codes: NDArray[np.uint64], start: int, end: int, shift: int, level: int, runs: list[tuple[int, int, int]]) -> None:
    """Split a run of one level by octree node until each piece is at most TILE points; (level, first, count) each."""
    if end <= start:
        return
    if end - start <= TILE or shift == 0:
        runs.append((level, start, end - start))
        return
    shift -= 3
    first, last = int(codes[start]) >> shift, int(codes[end - 1]) >> shift
    inside = [start]
    while first <= last and inside[-1] < end:  # the codes are sorted: each node's end by bisection
        at = start + int(np.searchsorted(codes[start:end], np.uint64((first + 1) << shift)))
        inside.append(at)
        first = int(codes[at]) >> shift if at < end else last + 1
    for a, b in zip(inside[:-1], inside[1:], strict=True):
        _cut(codes, a, b, shift, level, runs)
