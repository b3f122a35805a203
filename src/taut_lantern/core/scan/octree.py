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


@dataclass(frozen=True)
class Tile:
    """points first .. first + count of the ordered station; spacing: cell of its level, metres."""

    level: int
    first: int
    count: int
    spacing: float


def arrange(xyz: NDArray[np.float32], coarsest: float = 0.8) -> tuple[NDArray[np.int64], list[Tile]]:
    """(order, tiles) of points (n, 3): order (n,) puts them into their final order. coarsest: cell of level 0, metres."""
    if len(xyz) == 0:
        return np.zeros(0, np.int64), []
    columns = np.ascontiguousarray(xyz.T)
    low = columns.min(axis=1).astype(float)
    side = max(float((columns.max(axis=1) - low).max()), 1e-3) * 1.0001
    bits = max(1, min(kernels.DEPTH, int(np.ceil(np.log2(max(side / coarsest, 2.0))))))
    count = max(1, min(LEVELS, kernels.DEPTH - bits + 1))
    by_code, codes, depth = _sorted(kernels.morton(columns, low, side / (1 << kernels.DEPTH)), bits + count - 1)
    level = kernels.levels(codes, 3 * (depth - bits), count - 1)
    order, codes, first = kernels.by_level(by_code, codes, level, count)
    runs: list[tuple[int, int, int]] = []
    for k in range(count):
        _cut(codes, int(first[k]), int(first[k + 1]), 3 * depth, k, runs)
    cell = side / (1 << bits)
    return order, [Tile(k, start, n, cell / (1 << k)) for k, start, n in runs]


def _sorted(codes: NDArray[np.uint64], need: int) -> tuple[NDArray[np.int64], NDArray[np.uint64], int]:
    """(order, codes in that order, their depth); equal codes keep their order. need: depth that levels look at.

    When it fits, code and index share one 64-bit word: sorting words is several times faster than sorting indices.
    """
    short = 13
    if len(codes) >= 1 << 24 or need > short:
        order = np.argsort(codes, kind="stable")
        return order, codes[order], kernels.DEPTH
    codes >>= np.uint64(3 * (kernels.DEPTH - short))
    codes <<= np.uint64(24)
    codes |= np.arange(len(codes), dtype=np.uint64)
    codes.sort()
    order = (codes & np.uint64((1 << 24) - 1)).astype(np.int64)
    codes >>= np.uint64(24)
    return order, codes, short


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
