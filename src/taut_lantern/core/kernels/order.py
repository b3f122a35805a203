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
def classify(columns, valid, factor, nearest, farthest, out):  # type: ignore[no-untyped-def]
    """What each point (3, n) is: 0 kept, 1 marked invalid, 2 not finite, 3 too near, 4 too far; into out (n,) uint8.
    factor: metres per unit of the columns; nearest, farthest: metres. Returns how many of each."""
    count = np.zeros(5, np.int64)
    low, high = nearest * nearest, farthest * farthest
    for k in range(columns.shape[1]):
        x, y, z = columns[0, k] * factor, columns[1, k] * factor, columns[2, k] * factor
        rho2 = x * x + y * y + z * z
        if not valid[k]:
            kind = 1
        elif not (np.isfinite(columns[0, k]) and np.isfinite(columns[1, k]) and np.isfinite(columns[2, k])):
            kind = 2
        elif rho2 < low:
            kind = 3
        elif rho2 > high:
            kind = 4
        else:
            kind = 0
        out[k] = kind
        count[kind] += 1
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
