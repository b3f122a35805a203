"""Gauss-Newton steps of an alignment over narrowing gates, compiled as one: many starts are refined for every pair.

A side is what samples of one scan meet in the other's image: see ``associate`` and ``associate_known``. t = T_a_b.
"""

from __future__ import annotations

import math

import numpy as np

from .fit import about, rows, systems
from .rays import associate, associate_known, jit

FEWEST = 30  # matches of a step


@jit
def turned_back(t):  # type: ignore[no-untyped-def]
    """Inverse (4, 4) of a rigid transform."""
    out = np.eye(4)
    for i in range(3):
        out[i, 3] = 0.0
        for j in range(3):
            out[i, j] = t[j, i]
            out[i, 3] -= t[j, i] * t[j, 3]
    return out


@jit
def rotation(w):  # type: ignore[no-untyped-def]
    """(3, 3) rotation of a rotation vector (Rodrigues 1840)."""
    angle = math.sqrt(w[0] * w[0] + w[1] * w[1] + w[2] * w[2])
    s, c = 1.0 - angle * angle / 6, 0.5 - angle * angle / 24  # sin x / x and (1 - cos x) / x^2 near zero
    if angle > 1e-4:
        s, c = math.sin(angle) / angle, (1 - math.cos(angle)) / (angle * angle)
    out = np.empty((3, 3))
    across = np.array([[0.0, -w[2], w[1]], [w[2], 0.0, -w[0]], [-w[1], w[0], 0.0]])
    for i in range(3):
        for j in range(3):
            twice = 0.0
            for k in range(3):
                twice += across[i, k] * across[k, j]
            out[i, j] = (1.0 if i == j else 0.0) + s * across[i, j] + c * twice
    return out


@jit
def moved(step, centre, lever, t):  # type: ignore[no-untyped-def]
    """t after a motion (6,) of its target frame about a centre, rotations scaled by the lever, without drift from a rigid transform."""
    r = rotation(step[:3] / lever)
    out = np.eye(4)
    for i in range(3):
        out[i, 3] = centre[i] + step[3 + i]
        for j in range(3):
            out[i, 3] += r[i, j] * (t[j, 3] - centre[j])
            out[i, j] = 0.0
            for k in range(3):
                out[i, j] += r[i, k] * t[k, j]
    u, _, vt = np.linalg.svd(out[:3, :3])
    sign = 1.0 if np.linalg.det(u @ vt) > 0 else -1.0
    u[:, 2] *= sign
    out[:3, :3] = u @ vt
    return out


@jit
def solved(place, normal, distance, cos_a, cos_b, gate, floor):  # type: ignore[no-untyped-def]
    """One robust step, not taken along directions whose eigenvalue per weight is at most ``floor``: (step (6,), centre, lever, smallest)."""
    w = np.empty(len(distance))
    total = 0.0
    for k in range(len(w)):
        left = max(1.0 - (distance[k] / gate) ** 2, 0.0)
        w[k] = left * left
        total += w[k]
    centre, lever = about(place, w)
    g = systems(place, normal, distance, cos_a, cos_b, w, np.zeros(len(w), np.int64), 1, centre, lever)[0] / max(total, 1e-9)
    value, vector = np.linalg.eigh(np.ascontiguousarray(g[:6, :6]))
    step = np.zeros(6)
    for k in range(6):
        if value[k] > floor:
            along = 0.0
            for i in range(6):
                along += vector[i, k] * g[i, 8]
            for i in range(6):
                step[i] += vector[i, k] * along / value[k]
    return step, centre, lever, value[0]


@jit
def taken(ok_b, plane_a, points_b, normals_b, ok_a, plane_b, points_a, normals_a, t, gate, floor):  # type: ignore[no-untyped-def]
    """A step from what met: (t, matches, size of the step, smallest eigenvalue); with too few matches t as it was."""
    n = ok_b.sum() + ok_a.sum()
    if n < FEWEST:
        return t, n, np.inf, 0.0
    place, normal, distance, cos_a, cos_b = np.empty((n, 3)), np.empty((n, 3)), np.empty(n), np.empty(n), np.empty(n)
    at = rows(ok_b, plane_a, points_b, normals_b, t, True, 0, place, normal, distance, cos_a, cos_b)
    rows(ok_a, plane_b, points_a, normals_a, t, False, at, place, normal, distance, cos_a, cos_b)
    step, centre, lever, smallest = solved(place, normal, distance, cos_a, cos_b, gate, floor)
    return moved(step, centre, lever, t), n, math.sqrt((step * step).sum()), smallest


@jit
def refined(  # type: ignore[no-untyped-def]
    a, geo_a, wrap_a, b, geo_b, wrap_b, points_a, normals_a, points_b, normals_b, hit_a, plane_a, hit_b, plane_b,
    start, gates, strides, floors, min_cos,
):  # fmt: skip
    """Steps over the gates in images a and b. hit_a, plane_a: of samples of b in a's image. (t, matches, size, smallest, steps taken)."""
    t, n, size, smallest = start, 0, np.inf, 0.0
    for k in range(len(gates)):
        ok_b = associate(a, geo_a, wrap_a, t, points_b, normals_b, gates[k], min_cos, strides[k], hit_a, plane_a)
        ok_a = associate(b, geo_b, wrap_b, turned_back(t), points_a, normals_a, gates[k], min_cos, strides[k], hit_b, plane_b)
        t, n, size, smallest = taken(ok_b, plane_a, points_b, normals_b, ok_a, plane_b, points_a, normals_a, t, gates[k], floors[k])
        if n < FEWEST:
            return t, n, size, smallest, k
    return t, n, size, smallest, len(gates)


@jit
def refined_known(  # type: ignore[no-untyped-def]
    a, known_a, geo_a, b, known_b, geo_b, points_a, normals_a, points_b, normals_b, plane_a, plane_b,
    start, gates, strides, floors, min_cos,
):  # fmt: skip
    """``refined`` with images whose planes are known."""
    t, n, size, smallest = start, 0, np.inf, 0.0
    for k in range(len(gates)):
        ok_b = associate_known(a, known_a, geo_a, True, t, points_b, normals_b, gates[k], min_cos, strides[k], plane_a)
        ok_a = associate_known(b, known_b, geo_b, True, turned_back(t), points_a, normals_a, gates[k], min_cos, strides[k], plane_b)
        t, n, size, smallest = taken(ok_b, plane_a, points_b, normals_b, ok_a, plane_b, points_a, normals_a, t, gates[k], floors[k])
        if n < FEWEST:
            return t, n, size, smallest, k
    return t, n, size, smallest, len(gates)
