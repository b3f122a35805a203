"""Compiled loops that tell pixels of a range image which hang in the air. Plain references in ``reference.py``."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

jit: Any = njit(cache=True, nogil=True, error_model="numpy")


@jit
def joined(ranges, wrap, join, steep, slant):  # type: ignore[no-untyped-def]
    """(rows, columns) int32: bit 3 (i + 1) + j + 1 is set where a pixel and its neighbour i rows and j columns on are of one surface: within
    ``join`` metres of range, or differing by at most ``steep`` of it and straight in inverse range (as planes are) with the next pixel
    beyond either, to ``join`` and ``slant`` of what they differ by. ranges (rows, columns) float32 metres, 0 where nothing."""
    rows, columns = ranges.shape
    out = np.zeros((rows, columns), np.int32)
    for r in range(rows):
        for c in range(columns):
            rho = float(ranges[r, c])
            if rho <= 0:
                continue
            for i in range(-1, 2):
                for j in range(-1, 2):
                    r1, c1 = r + i, c + j
                    if wrap:
                        c1 = c1 % columns
                    if (i == 0 and j == 0) or r1 < 0 or r1 >= rows or c1 < 0 or c1 >= columns or ranges[r1, c1] <= 0:
                        continue
                    q = float(ranges[r1, c1])
                    one = abs(q - rho) <= join
                    if not one and abs(q - rho) <= steep * min(q, rho):
                        for way in (2, -1):
                            r2, c2 = r + way * i, c + way * j
                            if wrap:
                                c2 = c2 % columns
                            if r2 < 0 or r2 >= rows or c2 < 0 or c2 >= columns or ranges[r2, c2] <= 0:
                                continue
                            inverse = 2.0 / q - 1.0 / rho if way == 2 else 2.0 / rho - 1.0 / q
                            if inverse > 0 and abs(1.0 / inverse - float(ranges[r2, c2])) <= join + slant * abs(q - rho):
                                one = True
                    if one:
                        out[r, c] |= 1 << (3 * (i + 1) + j + 1)
    return out


@jit
def _clump(bonds, most, r, c, rows_of, columns_of):  # type: ignore[no-untyped-def]
    """How many pixels hang together with one by their bonds; at most ``most`` + 1, which it puts by."""
    columns = bonds.shape[1]
    rows_of[0], columns_of[0] = r, c
    count, k = 1, 0
    while k < count and count <= most:
        a, b = rows_of[k], columns_of[k]
        k += 1
        for bit in range(9):
            if count > most or not bonds[a, b] & (1 << bit):
                continue
            rr, cc = a + bit // 3 - 1, (b + bit % 3 - 1) % columns
            known = False
            for m in range(count):
                if rows_of[m] == rr and columns_of[m] == cc:
                    known = True
                    break
            if not known:
                rows_of[count], columns_of[count] = rr, cc
                count += 1
    return count


@jit
def afloat(ranges, bonds, wrap, far, gap, size, least, most):  # type: ignore[no-untyped-def]
    """(rows, columns) bool of the pixels nearer than ``far`` metres that hang in the air: clumps by their bonds (as of ``joined``) of few
    pixels (so many as lie across ``size``, pixels, in both directions at a metre, ``least`` to ``most``), beside which no larger clump is
    nearer than ``gap`` metres behind them."""
    rows, columns = ranges.shape
    rows_of, columns_of = np.zeros(most + 1, np.int64), np.zeros(most + 1, np.int64)
    small = np.zeros((rows, columns), np.bool_)
    for r in range(rows):
        for c in range(columns):
            rho = ranges[r, c]
            if rho > 0 and rho <= far:
                limit = min(max(int((size / rho) ** 2), least), most)
                small[r, c] = _clump(bonds, limit, r, c, rows_of, columns_of) <= limit
    out = np.zeros((rows, columns), np.bool_)
    for r in range(rows):
        for c in range(columns):
            if not small[r, c]:
                continue
            count = _clump(bonds, most, r, c, rows_of, columns_of)
            free = True
            for m in range(count):
                a, b = rows_of[m], columns_of[m]
                for i in range(-1, 2):
                    for j in range(-1, 2):
                        rr, cc = a + i, b + j
                        if wrap:
                            cc = cc % columns
                        if (i == 0 and j == 0) or rr < 0 or rr >= rows or cc < 0 or cc >= columns:
                            continue
                        q = ranges[rr, cc]
                        if q > 0 and not small[rr, cc] and q < ranges[a, b] + gap:
                            free = False
            out[r, c] = free
    return out
