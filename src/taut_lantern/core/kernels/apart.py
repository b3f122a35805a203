"""Distances of one scan's points from the surfaces that another one saw."""

from __future__ import annotations

import math

import numpy as np

from .rays import filled, jit, pixel, plane_at


@jit
def apart(image, geo, wrap, t, points, gate, out):  # type: ignore[no-untyped-def]
    """Signed distances (m, float32) of points (m, 3) of station b, placed by t = T_a_b, from the surfaces that a saw, positive on
    a's side; NaN where a saw none within ``gate`` metres of the point. out : (m,) float32."""
    rows, columns = image.shape[0], image.shape[1]
    plane = np.zeros(8)
    for k in range(len(points)):
        out[k] = np.nan
        x, y, z = points[k, 0], points[k, 1], points[k, 2]
        ax = t[0, 0] * x + t[0, 1] * y + t[0, 2] * z + t[0, 3]
        ay = t[1, 0] * x + t[1, 1] * y + t[1, 2] * z + t[1, 3]
        az = t[2, 0] * x + t[2, 1] * y + t[2, 2] * z + t[2, 3]
        r, c = pixel(ax, ay, az, geo, rows, columns, wrap)
        if r < 0:
            continue
        r, c = filled(image, wrap, r, c)
        if r < 0 or not plane_at(image, geo[3], wrap, r, c, plane):
            continue
        nx, ny, nz = plane[3], plane[4], plane[5]
        d = nx * (ax - plane[0]) + ny * (ay - plane[1]) + nz * (az - plane[2])
        # the foot of the point must lie where the plane was seen
        fx, fy, fz = ax - d * nx - plane[0], ay - d * ny - plane[1], az - d * nz - plane[2]
        rho = math.sqrt(plane[0] ** 2 + plane[1] ** 2 + plane[2] ** 2)
        side = abs(plane[0] * nx + plane[1] * ny + plane[2] * nz) / max(rho, 1e-9)
        reach = (0.03 + 3.0 * geo[3] * rho) / max(side, 0.1)
        if abs(d) <= gate and fx * fx + fy * fy + fz * fz <= reach * reach:
            out[k] = d


@jit
def settled(image, geo, wrap, points, within, out):  # type: ignore[no-untyped-def]
    """Points (m, 3) of a station, each moved along the normal onto the surface that the station saw there when it lies within
    ``within`` metres of it, so that the noise of one ray does not count; others stay. out : (m, 3) float64."""
    rows, columns = image.shape[0], image.shape[1]
    plane = np.zeros(8)
    for k in range(len(points)):
        x, y, z = float(points[k, 0]), float(points[k, 1]), float(points[k, 2])
        out[k, 0], out[k, 1], out[k, 2] = x, y, z
        r, c = pixel(x, y, z, geo, rows, columns, wrap)
        if r < 0:
            continue
        r, c = filled(image, wrap, r, c)
        if r < 0 or not plane_at(image, geo[3], wrap, r, c, plane):
            continue
        d = plane[3] * (x - plane[0]) + plane[4] * (y - plane[1]) + plane[5] * (z - plane[2])
        if abs(d) <= within:
            out[k, 0], out[k, 1], out[k, 2] = x - d * plane[3], y - d * plane[4], z - d * plane[5]
