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


@dataclass(frozen=True)
class Cells:
    """How a station's space is divided: a cube from ``low`` (3,) with ``side`` metres; bits: depth of the cells of level 0."""

    low: NDArray[np.float64]
    side: float
    bits: int
    levels: int

    @classmethod
    def over(cls, ends: NDArray[np.float64], coarsest: float = 0.8) -> Cells:
        """Of points within ends (2, 3), lowest and highest; coarsest: cell of level 0, metres."""
        low, high = np.asarray(ends, float)
        side = max(float((high - low).max()), 1e-3) * 1.0001
        bits = max(1, min(kernels.DEPTH, int(np.ceil(np.log2(max(side / coarsest, 2.0))))))
        return cls(low, side, bits, max(1, min(LEVELS, kernels.DEPTH - bits + 1)))

    @property
    def depth(self) -> int:
        """Bits an axis of codes that tell the smallest cells apart; the fewer, the faster."""
        return SHORT if self.bits + self.levels - 1 <= SHORT else kernels.DEPTH

    def spacing(self, level: int) -> float:
        """Size of the cells of a level, metres."""
        return self.side / (1 << (self.bits + level))

    def codes(self, points: NDArray[np.float32], depth: int, kept: int = 0) -> NDArray[np.uint64]:
        """(n,) Morton codes of ``depth`` bits an axis; kept: see :func:`kernels.morton`."""
        return kernels.morton(points, self.low, self.side / (1 << kernels.DEPTH), 3 * (kernels.DEPTH - depth), kept)  # type: ignore[no-any-return]


@dataclass(frozen=True)
class Run:
    """Points in their order: order (n,) int32, their codes (n,) of ``depth`` bits an axis, first (levels + 1,) where each level
    begins, and the end."""

    order: NDArray[np.int32]
    codes: NDArray[np.uint64]
    first: NDArray[np.int64]
    depth: int


def by_levels(points: NDArray[np.float32], cells: Cells) -> Run:
    """Put points (n, 3) into levels, and in Morton order within each."""
    # when it fits, code and index share one 64-bit word: sorting words is several times faster than sorting indices
    together = len(points) < 1 << INDEX_BITS and cells.depth == SHORT
    depth, kept = (cells.depth, INDEX_BITS) if together else (kernels.DEPTH, 0)
    codes = cells.codes(points, depth, kept)
    by_code = np.zeros(0, np.int64)
    if together:
        codes.sort()
    else:
        by_code = np.argsort(codes, kind="stable")
        codes = codes[by_code]
    level = kernels.levels(codes, 3 * (depth - cells.bits) + kept, cells.levels - 1)
    order = np.empty(len(points), np.int32)
    codes, first = kernels.by_level(by_code, codes, level, cells.levels, kept, order)
    return Run(order, codes, first, depth)


def cut(codes: NDArray[np.uint64], depth: int) -> list[tuple[int, int]]:
    """Sorted codes of one level as slices by octree node, each at most TILE points where it can be: (first, count) each."""
    out: list[tuple[int, int]] = []
    _cut(codes, 0, len(codes), 3 * depth, out)
    return out


def arrange(xyz: NDArray[np.float32], coarsest: float = 0.8) -> tuple[NDArray[np.int32], list[Tile]]:
    """(order, tiles) of points (n, 3): order (n,) puts them into their final order. coarsest: cell of level 0, metres."""
    if len(xyz) == 0:
        return np.zeros(0, np.int32), []
    points = np.ascontiguousarray(xyz, np.float32)
    cells = Cells.over(kernels.bounds(points), coarsest)
    run = by_levels(points, cells)
    tiles = []
    for level in range(cells.levels):
        begin, end = int(run.first[level]), int(run.first[level + 1])
        tiles += [Tile(level, begin + first, n, cells.spacing(level)) for first, n in cut(run.codes[begin:end], run.depth)]
    return run.order, tiles


def _cut(codes: NDArray[np.uint64], start: int, end: int, shift: int, out: list[tuple[int, int]]) -> None:
    """Split a run of one level by octree node until each piece is at most TILE points; (first, count) each."""
    if end <= start:
        return
    if end - start <= TILE or shift == 0:
        out.append((start, end - start))
        return
    shift -= 3
    first, last = int(codes[start]) >> shift, int(codes[end - 1]) >> shift
    inside = [start]
    while first <= last and inside[-1] < end:  # the codes are sorted: each node's end by bisection
        at = start + int(np.searchsorted(codes[start:end], np.uint64((first + 1) << shift)))
        inside.append(at)
        first = int(codes[at]) >> shift if at < end else last + 1
    for a, b in zip(inside[:-1], inside[1:], strict=True):
        _cut(codes, a, b, shift, out)
