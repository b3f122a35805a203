"""Compiled loops for the order of points: Morton codes and additive levels."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

jit: Any = njit(cache=True, nogil=True)
DEPTH = 20  # bits per axis


@jit
def morton(xyz, low, cell):  # type: ignore[no-untyped-def]
    """(n,) uint64 Morton codes of xyz (n, 3) in a cube from ``low`` with 2^20 cells of ``cell`` metres a side."""
    out = np.zeros(len(xyz), np.uint64)
    top = (1 << 20) - 1
    for k in range(len(xyz)):
        code = np.uint64(0)
        for a in range(3):
            v = np.uint64(min(max(int((xyz[k, a] - low[a]) / cell), 0), top))
            v = (v | (v << np.uint64(32))) & np.uint64(0x1F00000000FFFF)
            v = (v | (v << np.uint64(16))) & np.uint64(0x1F0000FF0000FF)
            v = (v | (v << np.uint64(8))) & np.uint64(0x100F00F00F00F00F)
            v = (v | (v << np.uint64(4))) & np.uint64(0x10C30C30C30C30C3)
            v = (v | (v << np.uint64(2))) & np.uint64(0x1249249249249249)
            code |= v << np.uint64(a)
        out[k] = code
    return out


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
