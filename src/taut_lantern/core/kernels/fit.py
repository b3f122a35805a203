"""Compiled loops of the fine alignment: rows of matches, normal equations, and systems of surface offsets."""

from __future__ import annotations

import math

import numpy as np

from .rays import jit


@jit
def rows(ok, plane, points, normals, t, forward, at, place, normal, distance, cos_a, cos_b):  # type: ignore[no-untyped-def]
    """Matches of ``associate`` as rows in a's frame, from row ``at`` on; t = T_a_b. Returns the row after the last.

    forward : points of b met planes of a, else points of a met planes of b. place (m, 3) of b's patch, normal (m, 3) the
    mean of both, distance (m,) along it; cos_a, cos_b (m,) of it with the rays.
    """
    for k in range(len(ok)):
        if not ok[k]:
            continue
        for i in range(3):
            if forward:
                normal[at, i] = plane[k, 3 + i] + t[i, 0] * normals[k, 0] + t[i, 1] * normals[k, 1] + t[i, 2] * normals[k, 2]
                place[at, i] = t[i, 0] * points[k, 0] + t[i, 1] * points[k, 1] + t[i, 2] * points[k, 2] + t[i, 3]
            else:
                normal[at, i] = normals[k, i] + t[i, 0] * plane[k, 3] + t[i, 1] * plane[k, 4] + t[i, 2] * plane[k, 5]
                place[at, i] = t[i, 0] * plane[k, 0] + t[i, 1] * plane[k, 1] + t[i, 2] * plane[k, 2] + t[i, 3]
        length = max(math.sqrt(normal[at, 0] ** 2 + normal[at, 1] ** 2 + normal[at, 2] ** 2), 1e-12)
        gap = along_a = along_b = far_a = far_b = 0.0
        for i in range(3):
            normal[at, i] /= length
            q = plane[k, i] if forward else points[k, i]
            p, from_b = place[at, i], place[at, i] - t[i, 3]
            gap += normal[at, i] * (p - q)
            along_a += normal[at, i] * q
            along_b += normal[at, i] * from_b
            far_a += q * q
            far_b += from_b * from_b
        distance[at] = gap
        cos_a[at] = along_a / max(math.sqrt(far_a), 1e-9)
        cos_b[at] = along_b / max(math.sqrt(far_b), 1e-9)
        at += 1
    return at


@jit
def about(place, weight):  # type: ignore[no-untyped-def]
    """Weighted centroid (3,) of places and their root mean square distance from it, at least 0.1."""
    total, centre = 0.0, np.zeros(3)
    for k in range(len(place)):
        total += weight[k]
        for i in range(3):
            centre[i] += weight[k] * place[k, i]
    centre /= max(total, 1e-9)
    spread = 0.0
    for k in range(len(place)):
        for i in range(3):
            spread += weight[k] * (place[k, i] - centre[i]) ** 2
    return centre, max(math.sqrt(spread / max(total, 1e-9)), 0.1)


@jit
def systems(place, normal, distance, cos_a, cos_b, weight, label, count, centre, lever):  # type: ignore[no-untyped-def]
    """Normal equations of each label: (count, 9, 9) over rotation about ``centre`` scaled by ``lever``, translation,
    offset along a's ray, offset along b's, and the distance to be explained (last row and column)."""
    out, row = np.zeros((count, 9, 9)), np.zeros(9)
    for k in range(len(place)):
        x, y, z = place[k, 0] - centre[0], place[k, 1] - centre[1], place[k, 2] - centre[2]
        n0, n1, n2 = normal[k, 0], normal[k, 1], normal[k, 2]
        row[0], row[1], row[2] = (y * n2 - z * n1) / lever, (z * n0 - x * n2) / lever, (x * n1 - y * n0) / lever
        row[3], row[4], row[5], row[6], row[7], row[8] = n0, n1, n2, cos_a[k], -cos_b[k], -distance[k]
        g = out[label[k]]
        for i in range(9):
            w = weight[k] * row[i]
            for j in range(i, 9):
                g[i, j] += w * row[j]
    for c in range(count):
        for i in range(9):
            for j in range(i):
                out[c, i, j] = out[c, j, i]
    return out


@jit
def eliminate(g, ratio, label, count):  # type: ignore[no-untyped-def]
    """Marginalise the two offsets (6, 7) of each of the systems (k, 9, 9) and add up what is left by label: (count, 9, 9).
    ratio : (k,) noise variance over the offsets' prior variance."""
    out = np.zeros((count, 9, 9))
    for c in range(len(g)):
        left, big = g[c], out[label[c]]
        d0, d1, d2 = left[6, 6] + ratio[c], left[6, 7], left[7, 7] + ratio[c]
        det = d0 * d2 - d1 * d1
        for i in range(9):
            e, f = (d2 * left[i, 6] - d1 * left[i, 7]) / det, (d0 * left[i, 7] - d1 * left[i, 6]) / det
            for j in range(9):
                big[i, j] += left[i, j] - e * left[j, 6] - f * left[j, 7]
    return out


@jit
def descend(g, ratio, label, state, cov, noise2, on):  # type: ignore[no-untyped-def]
    """Offsets of systems (k, 9, 9) from the solution one level up, the way back of ``eliminate``.

    state (p, 8), cov (p, 8, 8) : motion, and the sum of the offsets from there up, with their covariance; label (k,) says
    whose child each system is. Returns the same of the systems (for children of their own: only when ``on``), and the
    expected mean square of each one's own offsets.
    """
    deep = len(g) if on else 0
    out, spread, squares = np.zeros((deep, 8)), np.zeros((deep, 8, 8)), np.zeros(len(g))
    gain, mixed = np.zeros((2, 8)), np.zeros((2, 8))
    for c in range(len(g)):
        left, s, p = g[c], state[label[c]], cov[label[c]]
        d0, d1, d2 = left[6, 6] + ratio[c], left[6, 7], left[7, 7] + ratio[c]
        det = d0 * d2 - d1 * d1
        for j in range(8):
            gain[0, j] = (d2 * left[6, j] - d1 * left[7, j]) / det
            gain[1, j] = (d0 * left[7, j] - d1 * left[6, j]) / det
        u = (d2 * left[6, 8] - d1 * left[7, 8]) / det
        v = (d0 * left[7, 8] - d1 * left[6, 8]) / det
        for j in range(8):
            u -= gain[0, j] * s[j]
            v -= gain[1, j] * s[j]
        own = np.array([[d2, -d1], [-d1, d0]]) * (noise2 / det)
        for a in range(2):
            for j in range(8):
                mixed[a, j] = 0.0
                for i in range(8):
                    mixed[a, j] += gain[a, i] * p[i, j]
        for a in range(2):
            for b in range(2):
                for i in range(8):
                    own[a, b] += mixed[a, i] * gain[b, i]
        squares[c] = (u * u + v * v + own[0, 0] + own[1, 1]) / 2
        if not on:
            continue
        out[c] = s
        out[c, 6] += u
        out[c, 7] += v
        spread[c] = p
        for a in range(2):
            for j in range(6):
                spread[c, 6 + a, j] -= mixed[a, j]
                spread[c, j, 6 + a] = spread[c, 6 + a, j]
            for b in range(2):
                spread[c, 6 + a, 6 + b] += own[a, b] - mixed[a, 6 + b] - mixed[b, 6 + a]
    return out, spread, squares


@jit
def surfaces(centre, normal, order, cosine, apart):  # type: ignore[no-untyped-def]
    """Label (k,) of the whole surface each cell belongs to, and how many: from the first of ``order`` on, a cell takes in
    those not yet taken whose normals are within ``cosine`` and whose centres lie within ``apart`` metres of its plane."""
    label, count = np.full(len(centre), -1, np.int64), 0
    for k in order:
        if label[k] >= 0:
            continue
        label[k] = count
        for j in range(len(centre)):
            if label[j] >= 0 or normal[j, 0] * normal[k, 0] + normal[j, 1] * normal[k, 1] + normal[j, 2] * normal[k, 2] <= cosine:
                continue
            off = 0.0
            for i in range(3):
                off += (centre[j, i] - centre[k, i]) * normal[k, i]
            if abs(off) < apart:
                label[j] = count
        count += 1
    return label, count
