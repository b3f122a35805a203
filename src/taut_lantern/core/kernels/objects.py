"""Compiled loops for what scans see of each other: which pixels are solid, and what a scan's rays say of another one's points.

Range images as in ``rays.py``; plain references stand in ``reference.py``.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import njit

from .rays import SOME, TURN, turn_of

jit: Any = njit(cache=True, nogil=True, error_model="numpy")


@jit
def solid(image, step, wrap, rc):  # type: ignore[no-untyped-def]
    """(m,) bool: pixels rc (m, 2) of which at least six of the eight neighbours lie at the same range, to 3 cm and two pixels."""
    rows, columns = image.shape[0], image.shape[1]
    out = np.zeros(len(rc), np.bool_)
    for k in range(len(rc)):
        r, c = rc[k, 0], rc[k, 1]
        rho = math.sqrt(float(image[r, c, 0]) ** 2 + float(image[r, c, 1]) ** 2 + float(image[r, c, 2]) ** 2)
        n = 0
        for i in range(-1, 2):
            for j in range(-1, 2):
                rr, cc = r + i, c + j
                if wrap:
                    cc = cc % columns
                if (i == 0 and j == 0) or rr < 0 or rr >= rows or cc < 0 or cc >= columns:
                    continue
                q = math.sqrt(float(image[rr, cc, 0]) ** 2 + float(image[rr, cc, 1]) ** 2 + float(image[rr, cc, 2]) ** 2)
                if q > 0 and abs(q - rho) < 0.03 + 2.0 * rho * step:
                    n += 1
        out[k] = n >= 6
    return out


@jit
def around(image, wrap):  # type: ignore[no-untyped-def]
    """(rows, columns, 2) float32: nearest and farthest range in the 3x3 round each pixel, 0 where nothing came back there. The
    nearest is negative where not all nine came back. The outermost rows have no say."""
    rows, columns = image.shape[0], image.shape[1]
    out = np.zeros((rows, columns, 2), np.float32)
    none, nothing = np.float32(1e9), np.float32(0.0)
    low, high = np.full((3, columns), none, np.float32), np.zeros((3, columns), np.float32)  # of three rows, in the 3 columns round
    empty = np.zeros((3, columns), np.int32)  # how many of the three came back with nothing
    near, far, void = np.full(columns + 2, none, np.float32), np.zeros(columns + 2, np.float32), np.ones(columns + 2, np.int32)
    for r in range(rows):
        for c in range(columns):
            x, y, z = float(image[r, c, 0]), float(image[r, c, 1]), float(image[r, c, 2])
            q = np.float32(math.sqrt(x * x + y * y + z * z))
            far[c + 1] = q
            near[c + 1] = q if q > nothing else none
            void[c + 1] = 0 if q > nothing else 1
        if wrap:
            for row in (near, far):
                row[0], row[columns + 1] = row[columns], row[1]
            void[0], void[columns + 1] = void[columns], void[1]
        s = r % 3
        for c in range(columns):
            low[s, c] = min(near[c], min(near[c + 1], near[c + 2]))
            high[s, c] = max(far[c], max(far[c + 1], far[c + 2]))
            empty[s, c] = void[c] + void[c + 1] + void[c + 2]
        if r < 2:
            continue
        for c in range(columns):
            most = max(high[0, c], max(high[1, c], high[2, c]))
            least = min(low[0, c], min(low[1, c], low[2, c]))
            least = least if empty[0, c] + empty[1, c] + empty[2, c] == 0 else -least
            out[r - 1, c, 0] = least if most > nothing else nothing
            out[r - 1, c, 1] = most
    return out


@jit
def say(ring, geo, wrap, t, points, normals, agree_m, behind_m, grazing):  # type: ignore[no-untyped-def]
    """What a scan with these ranges (of ``around``) says of points (m, 3) of another, placed by t; normals (m, 3), zero where unknown.

    Returns (m,) int8: 1 agrees (a pixel of the 3x3 round it lies at its range, to agree_m and the slant of the surface), 2 seen
    through (all nine came back, from more than behind_m beyond that), 3 hidden behind something nearer, 0 no say, nor where the ray
    meets the surface at less than ``grazing`` (cosine).
    """
    rows, columns = ring.shape[0], ring.shape[1]
    out = np.zeros(len(points), np.int8)
    px, py, pz, far_off = np.empty(SOME), np.empty(SOME), np.empty(SOME), np.empty(SOME)
    row, column = np.empty(SOME), np.empty(SOME)
    for first in range(0, len(points), SOME):
        n = min(SOME, len(points) - first)
        for k in range(n):
            x, y, z = points[first + k, 0], points[first + k, 1], points[first + k, 2]
            px[k] = t[0, 0] * x + t[0, 1] * y + t[0, 2] * z + t[0, 3]
            py[k] = t[1, 0] * x + t[1, 1] * y + t[1, 2] * z + t[1, 3]
            pz[k] = t[2, 0] * x + t[2, 1] * y + t[2, 2] * z + t[2, 3]
        for k in range(n):  # as ``pixel``, of several points at once
            d2 = px[k] * px[k] + py[k] * py[k]
            far_off[k] = math.sqrt(d2 + pz[k] * pz[k])
            row[k] = math.floor((turn_of(pz[k], math.sqrt(d2)) - geo[2]) / geo[3] + 0.5)
            turn = turn_of(py[k], px[k]) - geo[0]
            turn = turn if wrap else turn - TURN * math.floor((turn + 0.5 * geo[1]) / TURN)
            column[k] = math.floor(turn / geo[1] + 0.5)
        for k in range(n):
            rho, r, c = far_off[k], int(row[k]), int(column[k])
            if wrap:
                c = c % columns
            if rho < 0.3 or r < 0 or r >= rows or c < 0 or c >= columns or ring[r, c, 1] == 0:
                continue
            nx, ny, nz = normals[first + k, 0], normals[first + k, 1], normals[first + k, 2]
            along_x = t[0, 0] * nx + t[0, 1] * ny + t[0, 2] * nz
            along_y = t[1, 0] * nx + t[1, 1] * ny + t[1, 2] * nz
            along_z = t[2, 0] * nx + t[2, 1] * ny + t[2, 2] * nz
            cosine = abs(along_x * px[k] + along_y * py[k] + along_z * pz[k]) / rho
            if cosine < grazing:
                continue
            slant = 3.0
            if cosine > 0.0:
                slant = min(3.0, math.sqrt(max(0.0, 1.0 - cosine * cosine)) / cosine)
            slack = agree_m + geo[3] * rho * slant
            near, far = float(abs(ring[r, c, 0])), float(ring[r, c, 1])
            if near - slack <= rho <= far + slack:
                out[first + k] = 1
            elif ring[r, c, 0] > 0 and near > rho + slack + behind_m:
                out[first + k] = 2
            elif rho > far + slack:
                out[first + k] = 3
    return out
