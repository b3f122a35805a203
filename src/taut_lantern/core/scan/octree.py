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
    """points first .. first + count of the ordered station; low, high (3,) metres; spacing: cell of its level."""

    level: int
    first: int
    count: int
    low: tuple[float, float, float]
    high: tuple[float, float, float]
    spacing: float


def arrange(xyz: NDArray[np.float32], coarsest: float = 0.8) -> tuple[NDArray[np.int64], list[Tile]]:
    """(order, tiles): order (n,) puts the points into their final order. coarsest: cell of level 0, metres."""
    if len(xyz) == 0:
        return np.zeros(0, np.int64), []
    low = xyz.min(axis=0).astype(float)
    side = max(float((xyz.max(axis=0) - low).max()), 1e-3) * 1.0001
    codes = kernels.morton(xyz, low, side / (1 << kernels.DEPTH))
    by_code = np.argsort(codes, kind="stable")
    codes = codes[by_code]
    bits = max(1, min(kernels.DEPTH, int(np.ceil(np.log2(max(side / coarsest, 2.0))))))
    first_shift = 3 * (kernels.DEPTH - bits)
    count = max(1, min(LEVELS, kernels.DEPTH - bits + 1))
    level = kernels.levels(codes, first_shift, count - 1)
    final = np.argsort(level, kind="stable")
    order = by_code[final]
    tiles: list[Tile] = []
    sorted_codes, sorted_level = codes[final], level[final]
    for k in range(count):
        start, end = np.searchsorted(sorted_level, [k, k + 1])
        _cut(xyz, order, sorted_codes, int(start), int(end), 3 * kernels.DEPTH, k, side / (1 << bits) / (1 << k), tiles)
    return order, tiles


def _cut(
    xyz: NDArray, order: NDArray, codes: NDArray, start: int, end: int, shift: int, level: int, spacing: float, tiles: list[Tile]
) -> None:
    """Split a run of one level by octree node until each piece is at most TILE points."""
    if end <= start:
        return
    if end - start <= TILE or shift == 0:
        p = xyz[order[start:end]]
        tiles.append(Tile(level, start, end - start, tuple(p.min(axis=0).tolist()), tuple(p.max(axis=0).tolist()), spacing))
        return
    shift -= 3
    node = codes[start:end] >> np.uint64(shift)
    edges = np.concatenate([[0], np.nonzero(np.diff(node))[0] + 1, [end - start]])
    for a, b in zip(edges[:-1], edges[1:], strict=True):
        _cut(xyz, order, codes, start + int(a), start + int(b), shift, level, spacing, tiles)
