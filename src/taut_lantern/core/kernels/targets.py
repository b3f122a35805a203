"""Compiled gate for sphere candidates on a range image (see rays.py for the image's convention)."""

from __future__ import annotations

import math
from typing import Any

from numba import njit

jit: Any = njit(cache=True, nogil=True)


@jit
def _range(image, r, c, wrap):  # type: ignore[no-untyped-def]
    rows, columns = image.shape[0], image.shape[1]
    if wrap:
        c = c % columns
    if r < 0 or r >= rows or c < 0 or c >= columns:
        return -1.0
    return math.sqrt(float(image[r, c, 0]) ** 2 + float(image[r, c, 1]) ** 2 + float(image[r, c, 2]) ** 2)


@jit
def sphere_gate(image, geo, wrap, radius, out):  # type: ignore[no-untyped-def]
    """Pixels that may be the nearest point of a sphere; out (rows, columns) float32 gets the mean depth error
    (metres) where they are, -1 elsewhere. Returns how many."""
    rows, columns = image.shape[0], image.shape[1]
    step = geo[3]
    found = 0
    for r in range(2, rows - 2):
        cos_el = math.cos(geo[2] + r * geo[3])
        if cos_el < 0.15:
            continue
        for c in range(columns):
            r0 = _range(image, r, c, wrap)
            if r0 < 0.6:
                continue
            far = r0 + radius
            alpha = math.asin(radius / far)
            if alpha / step < 1.7:
                continue
            theta = 0.62 * alpha
            expected = far * math.cos(theta) - math.sqrt(radius * radius - (far * math.sin(theta)) ** 2) - r0
            good, error = 0, 0.0
            said = 0
            for k in range(4):
                dr = int(round(math.sin(k * math.pi / 4) * theta / step))
                dc = int(round(math.cos(k * math.pi / 4) * theta / (geo[1] * cos_el)))
                q1, q2 = _range(image, r + dr, c + dc, wrap), _range(image, r - dr, c - dc, wrap)
                if q1 <= 0 or q2 <= 0:
                    continue
                mean = (q1 + q2) / 2 - r0
                if mean < -0.02 - 0.2 * radius:
                    continue  # an occluder in front has no say
                said += 1
                if abs(mean - expected) < 0.006 + 0.12 * radius and abs(q1 - q2) < 0.9 * radius:
                    good += 1
                    error += abs(mean - expected)
            if said < 3 or good < said:
                continue
            clear = same = 0
            ring = 1.25 * alpha + 0.8 * step
            for k in range(16):
                dr = int(round(math.sin(k * math.pi / 8) * ring / step))
                dc = int(round(math.cos(k * math.pi / 8) * ring / (geo[1] * cos_el)))
                q = _range(image, r + dr, c + dc, wrap)
                if q <= 0 or q > r0 + 1.15 * radius + 0.02:
                    clear += 1
                elif q > r0 - 0.3 * radius:
                    same += 1
            if clear < 5 or same > 4:
                continue
            out[r, c] = error / good
            found += 1
    return found
