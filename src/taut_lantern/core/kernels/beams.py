"""Compiled loops that say how a pixel of a range image hangs together with those round it, and ask grown trees what it is. Plain references
in ``reference.py``."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit

jit: Any = njit(cache=True, nogil=True, error_model="numpy")

OUT = 9.0  # metres that stand for "nothing there"
SIGHTS = 48  # numbers that tell of a pixel, see ``sights``
EACH = 40  # trees after which it is looked whether more can matter
NEARER, FARTHER = 38, 39  # of these, the counts of neighbours nearer and farther


@jit
def doubtful(ranges, wrap, gap, near):  # type: ignore[no-untyped-def]
    """(rows, columns) bool: a neighbour is farther off than ``gap`` metres of range, and at most one of the eight directions, carried on
    straight in inverse range (as planes are) from the two pixels next in it, comes within ``near`` metres of the pixel. ranges (rows, columns)
    float32 metres, 0 where nothing."""
    rows, columns = ranges.shape
    out = np.zeros((rows, columns), np.bool_)
    for r in range(rows):
        for c in range(columns):
            rho = float(ranges[r, c])
            if rho <= 0:
                continue
            jump, held = False, 0
            for i in range(-1, 2):
                for j in range(-1, 2):
                    r1, c1 = r + i, c + j
                    if wrap:
                        c1 = c1 % columns
                    if (i == 0 and j == 0) or r1 < 0 or r1 >= rows or c1 < 0 or c1 >= columns or ranges[r1, c1] <= 0:
                        continue
                    jump = jump or abs(float(ranges[r1, c1]) - rho) > gap
            if not jump:
                continue
            for i in range(-1, 2):
                for j in range(-1, 2):
                    if i == 0 and j == 0:
                        continue
                    held += _carried(ranges, wrap, r, c, i, j, rho) < near
            out[r, c] = held < 2
    return out


@jit
def _at(ranges, wrap, r, c):  # type: ignore[no-untyped-def]
    rows, columns = ranges.shape
    if wrap:
        c = c % columns
    return 0.0 if r < 0 or r >= rows or c < 0 or c >= columns else float(ranges[r, c])


@jit
def _carried(ranges, wrap, r, c, i, j, rho):  # type: ignore[no-untyped-def]
    """Metres between a pixel and the straight on of the two that are next in direction (i, j); OUT where there is none."""
    q, q2 = _at(ranges, wrap, r + i, c + j), _at(ranges, wrap, r + 2 * i, c + 2 * j)
    if q <= 0 or q2 <= 0:
        return OUT
    inverse = 2.0 / q - 1.0 / q2
    return min(abs(1.0 / inverse - rho), OUT) if inverse > 0 else OUT


@jit
def sights(ranges, wrap, step, doubts, where):  # type: ignore[no-untyped-def]
    """(n, SIGHTS) float32 of the pixels where (n, 2), none of which depends on how the image is turned or mirrored. step: radians between
    pixels; doubts: of ``doubtful``. Metres:

    0 to 7 how far the straight on of eight directions misses the pixel, least first; 8 to 11 the least of those whose two pixels differ by at
    most five pixels' width; 12 to 15 the same between two that stand opposite; 16 to 23 to the eight neighbours; 24 to 28 to the 3rd, 6th,
    10th, 16th and 24th nearest of 7 x 7; 29, 30 to the next nearer and next farther neighbour; 31, 32 from the first to the last of
    those; 33 to 35 how far the neighbours miss the straight on of the two behind them (1st, 3rd, 5th); 36, 37 range and pixel's width.
    Counts: 38 neighbours nearer, 39 farther, 40 in all; 41 to 44 the same of 7 x 7, and those within 12 mm; 45, 46 doubtful ones of 5 x 5 and
    7 x 7; 47 doubtful ones within 5 cm of range of 7 x 7.
    """
    out = np.zeros((len(where), SIGHTS), np.float32)
    carried, steep, across, beside, behind = np.zeros(8), np.zeros(8), np.zeros(4), np.zeros(8), np.zeros(8)
    wide = np.zeros(48)
    for k in range(len(where)):
        r, c = where[k, 0], where[k, 1]
        rho = float(ranges[r, c])
        near, far, low, high, n = OUT, OUT, 0.0, 0.0, 0
        nearer, farther, there = 0, 0, 0
        for i in range(-1, 2):
            for j in range(-1, 2):
                if i == 0 and j == 0:
                    continue
                q, q2 = _at(ranges, wrap, r + i, c + j), _at(ranges, wrap, r + 2 * i, c + 2 * j)
                q3 = _at(ranges, wrap, r + 3 * i, c + 3 * j)
                carried[n] = _carried(ranges, wrap, r, c, i, j, rho)
                steep[n] = carried[n] if q > 0 and abs(q - q2) <= 5 * q * step else OUT
                behind[n] = OUT
                if q > 0 and q2 > 0 and q3 > 0 and 2.0 / q2 - 1.0 / q3 > 0:
                    behind[n] = min(abs(1.0 / (2.0 / q2 - 1.0 / q3) - q), OUT)
                beside[n] = OUT
                if q > 0:
                    there += 1
                    beside[n] = min(abs(q - rho), OUT)
                    nearer += q < rho - 0.02
                    farther += q > rho + 0.02
                    if q < rho:
                        near, low = min(near, rho - q), max(low, rho - q)
                    else:
                        far, high = min(far, q - rho), max(high, q - rho)
                if n < 4:
                    opposite = _at(ranges, wrap, r - i, c - j)
                    across[n] = OUT
                    if q > 0 and opposite > 0 and abs(q - opposite) <= 10 * rho * step:
                        across[n] = min(abs(2.0 / (1.0 / q + 1.0 / opposite) - rho), OUT)
                n += 1
        nearer7, farther7, close7, there7, doubt5, doubt7, alike7, n = 0, 0, 0, 0, 0, 0, 0, 0
        for i in range(-3, 4):
            for j in range(-3, 4):
                if i == 0 and j == 0:
                    continue
                q = _at(ranges, wrap, r + i, c + j)
                wide[n] = OUT
                if q > 0:
                    wide[n] = min(abs(q - rho), OUT)
                    there7 += 1
                    nearer7 += q < rho - 0.02
                    farther7 += q > rho + 0.02
                    close7 += abs(q - rho) < 0.012
                    if doubts[r + i, (c + j) % ranges.shape[1]]:
                        doubt7 += 1
                        doubt5 += max(abs(i), abs(j)) <= 2
                        alike7 += abs(q - rho) < 0.05
                n += 1
        carried.sort()
        steep.sort()
        across.sort()
        beside.sort()
        behind.sort()
        wide.sort()
        out[k, 0:8], out[k, 8:12], out[k, 12:16], out[k, 16:24] = carried, steep[:4], across, beside
        out[k, 24], out[k, 25], out[k, 26], out[k, 27], out[k, 28] = wide[2], wide[5], wide[9], wide[15], wide[23]
        out[k, 29], out[k, 30], out[k, 31], out[k, 32] = near, far, low - min(near, low), high - min(far, high)
        out[k, 33], out[k, 34], out[k, 35], out[k, 36], out[k, 37] = behind[0], behind[2], behind[4], rho, rho * step
        out[k, 38], out[k, 39], out[k, 40], out[k, 41], out[k, 42], out[k, 43] = nearer, farther, there, nearer7, farther7, there7
        out[k, 44], out[k, 45], out[k, 46], out[k, 47] = close7, doubt5, doubt7, alike7
    return out


@jit
def grown(sight, first, asks, limit, left, right, value, hopeless):  # type: ignore[no-untyped-def]
    """(n,) float64: the sum over all trees of the leaf that each row of sight (n, k) comes to; over the first EACH, or twice EACH and so on, where
    that is below ``hopeless``. first (t,): the root of each tree among the nodes;
    of a node: which number it asks for (-1 in a leaf), its limit (at most: left, else right), the nodes that follow, the leaf's value."""
    out = np.zeros(len(sight))
    for k in range(len(sight)):
        for t in range(len(first)):
            n = first[t]
            while asks[n] >= 0:
                n = left[n] if sight[k, asks[n]] <= limit[n] else right[n]
            out[k] += value[n]
            if t % EACH == EACH - 1 and out[k] < hopeless:
                break
    return out
