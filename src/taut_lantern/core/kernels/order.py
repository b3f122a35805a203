"""Compiled loops for the order of points: Morton codes and additive levels."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

jit: Any = njit(cache=True, nogil=True)
DEPTH = 20  # bits per axis


@jit
def bounds(points):  # type: ignore[no-untyped-def]
    """(2, 3) lowest and highest x, y, z of points (n, 3); n at least 1."""
    out = np.empty((2, 3), np.float32)
    out[0], out[1] = points[0], points[0]
    for k in range(len(points)):
        for a in range(3):
            out[0, a], out[1, a] = min(out[0, a], points[k, a]), max(out[1, a], points[k, a])
    return out


@jit
def _spread(v):  # type: ignore[no-untyped-def]
    """The lowest 20 bits, two empty ones after each."""
    v = (v | (v << np.uint64(32))) & np.uint64(0x1F00000000FFFF)
    v = (v | (v << np.uint64(16))) & np.uint64(0x1F0000FF0000FF)
    v = (v | (v << np.uint64(8))) & np.uint64(0x100F00F00F00F00F)
    v = (v | (v << np.uint64(4))) & np.uint64(0x10C30C30C30C30C3)
    return (v | (v << np.uint64(2))) & np.uint64(0x1249249249249249)


@jit
def morton(points, low, cell, dropped, kept):  # type: ignore[no-untyped-def]
    """(n,) uint64 Morton codes of points (n, 3) in a cube from ``low`` with 2^20 cells of ``cell`` metres a side, without
    their lowest ``dropped`` bits, and in front of the point's index in ``kept`` bits; no index when that is zero."""
    out = np.empty(len(points), np.uint64)
    top, per_metre = float((1 << 20) - 1), 1.0 / cell
    index = np.uint64(1 if kept else 0)
    for k in range(len(points)):
        x = np.uint64(min(max((points[k, 0] - low[0]) * per_metre, 0.0), top))
        y = np.uint64(min(max((points[k, 1] - low[1]) * per_metre, 0.0), top))
        z = np.uint64(min(max((points[k, 2] - low[2]) * per_metre, 0.0), top))
        code = _spread(x) | (_spread(y) << np.uint64(1)) | (_spread(z) << np.uint64(2))
        out[k] = ((code >> np.uint64(dropped)) << np.uint64(kept)) | (index * np.uint64(k))
    return out


@jit
def take(position, invalid, brightness, scale, colour, grid, factor, nearest, farthest, at, seen, xyz, intensity, rgb, row, column):  # type: ignore[no-untyped-def]
    """Columns of a block as a file has them, into a scan from place ``at`` on: what is usable, in metres.

    position, colour : three (n,) float64, uint16; grid : row and column (n,) int64; invalid (n,) int8, brightness (n,)
    float32; empty where the file has none. scale : lowest brightness, its span, factor of the colours. factor : metres per
    unit; nearest, farthest : metres. seen : (5,) widened to the lowest and highest brightness and the highest colour of what
    is kept, and counted up by brightnesses and colours beyond the scale. Returns how many were kept, marked invalid, not
    finite, too near, too far.
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
            xyz[at, 0], xyz[at, 1], xyz[at, 2] = x, y, z
            if len(brightness):
                v = (brightness[k] - scale[0]) / scale[1]
                intensity[at] = min(max(v, 0.0), 1.0) if v == v else 0.0
                if v == v:
                    seen[0], seen[1] = min(seen[0], brightness[k]), max(seen[1], brightness[k])
                    if v < -1e-5 or v > 1 + 1e-5:
                        seen[3] += 1
            if len(colour[0]):
                top = max(colour[0][k], colour[1][k], colour[2][k])
                seen[2] = max(seen[2], top)
                if top * scale[2] > 255.5:
                    seen[4] += 1
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
def by_level(order, codes, level, count, kept, out):  # type: ignore[no-untyped-def]
    """Sorted points (codes (n,), order (n,)) once more by level, keeping their order within one (counting sort; Seward
    1954). When ``kept`` is above zero the codes carry their order in their lowest ``kept`` bits, and order is empty.
    Returns (order, codes, where each of ``count`` levels begins and the end)."""
    first = np.zeros(count + 1, np.int64)
    for k in range(len(level)):
        first[level[k] + 1] += 1
    for k in range(count):
        first[k + 1] += first[k]
    at = first.copy()
    sorted_codes = np.empty_like(codes)
    mask = (np.uint64(1) << np.uint64(kept)) - np.uint64(1)
    for k in range(len(level)):
        i = at[level[k]]
        out[i] = np.int64(codes[k] & mask) if kept else order[k]
        sorted_codes[i] = codes[k] >> np.uint64(kept)
        at[level[k]] = i + 1
    return sorted_codes, first
