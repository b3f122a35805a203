"""A compiled loop that tells pixels of a range image which lie on no surface. Plain reference in ``reference.py``."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import njit

jit: Any = njit(cache=True, nogil=True, error_model="numpy")


@jit
def between(image, wrap, gap, near, beside, slant, steep, rough):  # type: ignore[no-untyped-def]
    """(rows, columns) int8: 1 a pixel on no surface that lies between a nearer and a farther neighbour along the ray; 2 one on no
    surface that stands by it before or behind all its neighbours; 0 else, and where more than ``rough`` pixels of the 5 x 5 round it
    are on no surface (leaves).

    On a surface: within half of ``near`` metres of a neighbour; or of two neighbours in any of eight directions, carried on straight in
    inverse range (as planes are), within ``near`` and ``slant`` of what these differ by; or within ``beside`` metres of two that stand
    opposite one another (a floor far off). Two that differ by more than ``steep`` of their range carry nothing on.
    """
    rows, columns = image.shape[0], image.shape[1]
    ranges = np.zeros((rows, columns), np.float32)
    for r in range(rows):
        for c in range(columns):
            ranges[r, c] = math.sqrt(float(image[r, c, 0]) ** 2 + float(image[r, c, 1]) ** 2 + float(image[r, c, 2]) ** 2)
    loose = np.zeros((rows, columns), np.int8)
    for r in range(rows):
        for c in range(columns):
            rho = float(ranges[r, c])
            if rho <= 0:
                continue
            held, there, low, high = False, 0, 1e9, 0.0
            for i in range(-1, 2):
                for j in range(-1, 2):
                    if (i == 0 and j == 0) or held:
                        continue
                    r1, c1, r2, c2, r3, c3 = r + i, c + j, r + 2 * i, c + 2 * j, r - i, c - j
                    if wrap:
                        c1, c2, c3 = c1 % columns, c2 % columns, c3 % columns
                    if r1 < 0 or r1 >= rows or c1 < 0 or c1 >= columns or ranges[r1, c1] <= 0:
                        continue
                    q = float(ranges[r1, c1])
                    there += 1
                    low, high = min(low, q), max(high, q)
                    if abs(q - rho) <= 0.5 * near:
                        held = True
                        continue
                    if r2 >= 0 and r2 < rows and c2 >= 0 and c2 < columns and ranges[r2, c2] > 0:
                        q2 = float(ranges[r2, c2])
                        inverse = 2.0 / q - 1.0 / q2
                        if abs(q - q2) <= steep * q and inverse > 0 and abs(1.0 / inverse - rho) <= near + slant * abs(q - q2):
                            held = True
                            continue
                    if abs(q - rho) <= beside and r3 >= 0 and r3 < rows and c3 >= 0 and c3 < columns:
                        held = abs(float(ranges[r3, c3]) - rho) <= beside
            if held or there < 4:
                continue
            if low < rho - gap and high > rho + gap:
                loose[r, c] = 1
            elif low > rho + gap or high < rho - gap:
                loose[r, c] = 2
    out = np.zeros((rows, columns), np.int8)
    for r in range(rows):
        for c in range(columns):
            if loose[r, c] == 0:
                continue
            count = 0
            for i in range(-2, 3):
                for j in range(-2, 3):
                    rr, cc = r + i, c + j
                    if wrap:
                        cc = cc % columns
                    if rr >= 0 and rr < rows and cc >= 0 and cc < columns and loose[rr, cc] != 0:
                        count += 1
            if count <= rough:
                out[r, c] = loose[r, c]
    return out
