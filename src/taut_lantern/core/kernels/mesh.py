"""Distances of points from triangles, over a tree of boxes in which those in order along a space-filling curve lie together. Tests
hold it to a library that asks every triangle."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import njit

jit: Any = njit(cache=True, nogil=True, error_model="numpy")
LEAF = 8  # triangles of a leaf


@jit
def _foot(p, a, b, c, out):  # type: ignore[no-untyped-def]
    """The place of a triangle that is nearest to a point, by the region that it lies in (Ericson, Real-Time Collision Detection, 5.1.5)."""
    d1 = d2 = d3 = d4 = d5 = d6 = 0.0
    for k in range(3):
        ab, ac = b[k] - a[k], c[k] - a[k]
        d1 += ab * (p[k] - a[k])
        d2 += ac * (p[k] - a[k])
        d3 += ab * (p[k] - b[k])
        d4 += ac * (p[k] - b[k])
        d5 += ab * (p[k] - c[k])
        d6 += ac * (p[k] - c[k])
    v = w = 0.0
    vc, vb, va = d1 * d4 - d3 * d2, d5 * d2 - d1 * d6, d3 * d6 - d5 * d4
    if d1 <= 0 and d2 <= 0:
        pass
    elif d3 >= 0 and d4 <= d3:
        v = 1.0
    elif d6 >= 0 and d5 <= d6:
        w = 1.0
    elif vc <= 0 and d1 >= 0 and d3 <= 0:
        v = d1 / (d1 - d3)
    elif vb <= 0 and d2 >= 0 and d6 <= 0:
        w = d2 / (d2 - d6)
    elif va <= 0 and d4 - d3 >= 0 and d5 - d6 >= 0:
        w = (d4 - d3) / ((d4 - d3) + (d5 - d6))
        v = 1.0 - w
    else:
        v, w = vb / (va + vb + vc), vc / (va + vb + vc)
    for k in range(3):
        out[k] = a[k] + v * (b[k] - a[k]) + w * (c[k] - a[k])


@jit
def _outside(p, low, high):  # type: ignore[no-untyped-def]
    """Square of the distance of a point from a box."""
    out = 0.0
    for k in range(3):
        d = max(low[k] - p[k], p[k] - high[k], 0.0)
        out += d * d
    return out


@jit
def nearest(points, corners, normals, low, high, reach, distance, face):  # type: ignore[no-untyped-def]
    """Signed distances of points (n, 3) from the nearest of triangles (m, 3, 3), positive on the side of its normal (m, 3), into distance
    (n,) float64, NaN beyond ``reach``; and its number into face (n,) int64, -1 beyond. low, high (2 p, 3): boxes of a binary tree, root 1,
    children 2 k and 2 k + 1, whose leaf p + i holds the triangles from ``LEAF`` i on."""
    first = len(low) // 2
    stack = np.zeros(128, np.int64)
    foot, p = np.zeros(3), np.zeros(3)
    last = -1
    for n in range(len(points)):
        for k in range(3):
            p[k] = points[n, k]
        best, found, side, steep = reach * reach, -1, 1.0, -1.0
        if last >= 0:  # no farther than what was nearest to the point before
            _foot(p, corners[last, 0], corners[last, 1], corners[last, 2], foot)
            d = 0.0
            for k in range(3):
                d += (p[k] - foot[k]) ** 2
            best = min(best, d * (1 + 1e-9) + 1e-12)
        top = 0
        if _outside(p, low[1], high[1]) <= best:
            stack[0] = 1
            top = 1
        while top:
            top -= 1
            node = stack[top]
            if _outside(p, low[node], high[node]) > best:
                continue
            if node >= first:
                begin = (node - first) * LEAF
                for m in range(begin, min(begin + LEAF, len(corners))):
                    _foot(p, corners[m, 0], corners[m, 1], corners[m, 2], foot)
                    d = off = 0.0
                    for k in range(3):
                        d += (p[k] - foot[k]) ** 2
                        off += (p[k] - foot[k]) * normals[m, k]
                    same = found >= 0 and abs(d - best) <= 1e-12 + 1e-9 * best
                    # of two that meet at the nearest place the one that looks most towards the point says on which side it lies
                    if (not same and d <= best) or (same and abs(off) > steep):
                        best, found, steep = min(d, best) if same else d, m, abs(off)
                        side = -1.0 if off < 0 else 1.0
                continue
            a, b = 2 * node, 2 * node + 1
            da, db = _outside(p, low[a], high[a]), _outside(p, low[b], high[b])
            if da > db:
                a, b, da, db = b, a, db, da
            if db <= best:
                stack[top] = b
                top += 1
            if da <= best:
                stack[top] = a
                top += 1
        face[n] = last = found
        distance[n] = side * math.sqrt(best) if found >= 0 else np.nan
