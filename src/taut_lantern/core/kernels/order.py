"""Compiled loops for the order of points: Morton codes and additive levels."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

jit: Any = njit(cache=True, nogil=True)
DEPTH = 20  # bits per axis


@jit
def morton(columns, low, cell):  # type: ignore[no-untyped-def]
    """(n,) uint64 Morton codes of columns (3, n) in a cube from ``low`` with 2^20 cells of ``cell`` metres a side."""
    n = columns.shape[1]
    out = np.zeros(n, np.uint64)
    top = (1 << 20) - 1
    for k in range(n):
        code = np.uint64(0)
        for a in range(3):
            v = np.uint64(min(max(int((columns[a, k] - low[a]) / cell), 0), top))
            v = (v | (v << np.uint64(32))) & np.uint64(0x1F00000000FFFF)
            v = (v | (v << np.uint64(16))) & np.uint64(0x1F0000FF0000FF)
            v = (v | (v << np.uint64(8))) & np.uint64(0x100F00F00F00F00F)
            v = (v | (v << np.uint64(4))) & np.uint64(0x10C30C30C30C30C3)
            v = (v | (v << np.uint64(2))) & np.uint64(0x1249249249249249)
            code |= v << np.uint64(a)
        out[k] = code
    return out


@jit
def take(position, invalid, brightness, scale, colour, grid, factor, nearest, farthest, at, xyz, intensity, rgb, row, column):  # type: ignore[no-untyped-def]
    """Columns of a block as a file has them, into a scan from place ``at`` on: what is usable, in metres.

    position, colour : three (n,) float64, uint16; grid : row and column (n,) int64; invalid (n,) int8, brightness (n,)
    float32; empty where the file has none. scale : lowest brightness, its span, factor of the colours. factor : metres per
    unit; nearest, farthest : metres. Returns how many were kept, marked invalid, not finite, too near, too far.
    """
    count = np.zeros(5, np.int64)
    low, high = nearest * nearest, farthest * farthest
    for k in range(len(position[0])):
        x, y, z = position[0][k] * factor, position[1][k] * factor, position[2][k] * factor
        rho2 = x * x + y * y + z * z
        if len(invalid) and invalid[k]:
            count[1] += 1
        elif not (np.isfinite(position[0][k]) and np.isfinite(position[1][k]) and np.isfinite(position[2][k])):
            count[2] += 1
        elif rho2 < low:
            count[3] += 1
        elif rho2 > high:
            count[4] += 1
        else:
            xyz[0, at], xyz[1, at], xyz[2, at] = x, y, z
            if len(brightness):
                v = (brightness[k] - scale[0]) / scale[1]
                intensity[at] = min(max(v, 0.0), 1.0) if v == v else 0.0
            if len(colour[0]):
                for j in range(3):
                    rgb[at, j] = min(colour[j][k] * scale[2], 255.0)
            if len(grid[0]):
                row[at], column[at] = grid[0][k], grid[1][k]
            at += 1
            count[0] += 1
    return count


@jit
def levels(codes, first_shift, last_level):  # type: ignore[no-untyped-def]
    """(n,) uint8 level of each point of sorted codes: at every level one not yet taken point (the middle one) of
    each cell; what is left goes to the last level."""
    n = len(codes)
    out = np.full(n, last_level, np.uint8)
    for level in range(last_level):
        shift = np.uint64(first_shift - 3 * level)
        start = 0
        while start < n:
            cell = codes[start] >> shift
            end = start
            while end < n and (codes[end] >> shift) == cell:
                end += 1
            middle = (start + end) // 2
            k = middle
            while k < end and out[k] != last_level:
                k += 1
            if k == end:
                k = middle - 1
                while k >= start and out[k] != last_level:
                    k -= 1
            if k >= start:
                out[k] = level
            start = end
    return out


@jit
def by_level(order, codes, level, count):  # type: ignore[no-untyped-def]
    """Sorted points (order, codes (n,)) once more by level, keeping their order within one (counting sort; Seward 1954).
    Returns (order, codes, where each of ``count`` levels begins and the end)."""
    first = np.zeros(count + 1, np.int64)
    for k in range(len(level)):
        first[level[k] + 1] += 1
    for k in range(count):
        first[k + 1] += first[k]
    at = first.copy()
    out, sorted_codes = np.empty_like(order), np.empty_like(codes)
    for k in range(len(level)):
        i = at[level[k]]
        out[i] = order[k]
        sorted_codes[i] = codes[k]
        at[level[k]] = i + 1
    return out, sorted_codes, first
