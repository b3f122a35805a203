"""Compiled loops for what may be the image in a mirror: whether something was measured at places, and on the way between two places.

Range images as in ``rays.py``; plain references stand in ``reference.py``.
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import njit

from .rays import TURN, turn_of

jit: Any = njit(cache=True, nogil=True, error_model="numpy")


@jit
def _beside(image, facing, geo, wrap, x, y, z, slack, nx, ny, nz, like):  # type: ignore[no-untyped-def]
    """Whether one of the nine rays that pass a place of the scan's frame nearest ended within ``slack`` metres and one pixel of it; on a surface
    whose normal has the cosine ``like`` to (nx, ny, nz) at least, if that is above -1."""
    rows, columns = image.shape[0], image.shape[1]
    flat = math.sqrt(x * x + y * y)
    row = int(math.floor((turn_of(z, flat) - geo[2]) / geo[3] + 0.5))
    if row < -1 or row > rows:
        return False
    turn = turn_of(y, x) - geo[0] + 0.5 * geo[1]
    turn = turn - TURN * math.floor(turn / TURN) - 0.5 * geo[1]
    column = int(math.floor(turn / geo[1] + 0.5))
    near = slack + geo[3] * math.sqrt(flat * flat + z * z)
    near *= near
    for i in range(-1, 2):
        r = row + i
        if r < 0 or r >= rows:
            continue
        for j in range(-1, 2):
            c = column + j
            if wrap:
                c = c % columns
            elif c < 0 or c >= columns:
                continue
            a, b, d = float(image[r, c, 0]), float(image[r, c, 1]), float(image[r, c, 2])
            if a == 0.0 and b == 0.0 and d == 0.0:
                continue
            if (a - x) * (a - x) + (b - y) * (b - y) + (d - z) * (d - z) <= near:
                if like <= -1.0:
                    return True
                if facing[r, c, 0] * nx + facing[r, c, 1] * ny + facing[r, c, 2] * nz >= like:
                    return True
    return False


@jit
def _placed(t, x, y, z):  # type: ignore[no-untyped-def]
    return (
        t[0, 0] * x + t[0, 1] * y + t[0, 2] * z + t[0, 3],
        t[1, 0] * x + t[1, 1] * y + t[1, 2] * z + t[1, 3],
        t[2, 0] * x + t[2, 1] * y + t[2, 2] * z + t[2, 3],
    )


@jit
def beside(image, geo, wrap, t, points, slack):  # type: ignore[no-untyped-def]
    """(m,) bool: at which of the points (m, 3), placed by t (4, 4), a scan measured something, to ``slack`` metres and one pixel."""
    out = np.zeros(len(points), np.bool_)
    for k in range(len(points)):
        x, y, z = _placed(t, points[k, 0], points[k, 1], points[k, 2])
        out[k] = _beside(image, image, geo, wrap, x, y, z, slack, 0.0, 0.0, 0.0, -1.0)
    return out


@jit
def facing(image, normal, geo, wrap, t, points, normals, slack, like):  # type: ignore[no-untyped-def]
    """(m,) bool: the same, on a surface whose normal (rows, columns, 3), placed likewise, has the cosine ``like`` at least to normals (m, 3)."""
    out = np.zeros(len(points), np.bool_)
    for k in range(len(points)):
        x, y, z = _placed(t, points[k, 0], points[k, 1], points[k, 2])
        nx, ny, nz = _placed(t, normals[k, 0], normals[k, 1], normals[k, 2])
        out[k] = _beside(image, normal, geo, wrap, x, y, z, slack, nx - t[0, 3], ny - t[1, 3], nz - t[2, 3], like)
    return out


@jit
def barred(image, geo, wrap, t, start, end, pitch, slack):  # type: ignore[no-untyped-def]
    """(m,) bool: on which of the ways from start (m, 3) to end (m, 3), placed by t (4, 4), a scan measured something, looked at every ``pitch``
    metres, neither end included."""
    out = np.zeros(len(start), np.bool_)
    for k in range(len(start)):
        dx, dy, dz = end[k, 0] - start[k, 0], end[k, 1] - start[k, 1], end[k, 2] - start[k, 2]
        count = int(math.sqrt(dx * dx + dy * dy + dz * dz) / pitch)
        for s in range(1, count):
            x, y, z = _placed(t, start[k, 0] + dx * s / count, start[k, 1] + dy * s / count, start[k, 2] + dz * s / count)
            if _beside(image, image, geo, wrap, x, y, z, slack, 0.0, 0.0, 0.0, -1.0):
                out[k] = True
                break
    return out
