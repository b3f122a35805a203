"""Compiled loops that find spheres on a range image (see rays.py for the image's convention)."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import njit

jit: Any = njit(cache=True, nogil=True, error_model="numpy")
LIMB = 0.97  # of the silhouette, from which on a beam sees what lies beside the sphere, too


@jit
def ranges(image):  # type: ignore[no-untyped-def]
    """(rows, columns) float32 ranges of an image, 0 where nothing came back."""
    rows, columns = image.shape[0], image.shape[1]
    out = np.empty((rows, columns), np.float32)
    for r in range(rows):
        for c in range(columns):
            x, y, z = image[r, c, 0], image[r, c, 1], image[r, c, 2]
            out[r, c] = math.sqrt(x * x + y * y + z * z)
    return out


@jit
def _at(rho, r, c, wrap):  # type: ignore[no-untyped-def]
    columns = rho.shape[1]
    if r < 0 or r >= rho.shape[0]:
        return -1.0
    if c < 0 or c >= columns:
        if not wrap:
            return -1.0
        c %= columns
    return rho[r, c]


@jit
def sphere_gate(rho, geo, wrap, radius, out):  # type: ignore[no-untyped-def]
    """Pixels that may be the nearest point of a sphere; out (rows, columns) float32 gets the mean depth error
    (metres) where they are, -1 elsewhere. rho: :func:`ranges`. Returns how many."""
    rows, columns = rho.shape[0], rho.shape[1]
    step = geo[3]
    found = 0
    rise, turn = np.empty(16), np.empty(16)
    for k in range(16):
        rise[k], turn[k] = math.sin(k * math.pi / 8), math.cos(k * math.pi / 8)
    for r in range(2, rows - 2):
        cos_el = math.cos(geo[2] + r * geo[3])
        if cos_el < 0.15:
            continue
        for c in range(columns):
            r0 = rho[r, c]
            if r0 < 0.6:
                continue
            far = r0 + radius
            sine = radius / far
            alpha = sine * (1 + sine * sine / 6)
            if alpha / step < 1.7:
                continue
            theta = 0.62 * alpha
            good, said, error, bad = 0, 0, 0.0, 0
            for k in range(4):
                dr = int(math.floor(abs(rise[2 * k]) * theta / step + 0.25))
                dc = int(math.floor(abs(turn[2 * k]) * theta / (geo[1] * cos_el) + 0.25))
                if turn[2 * k] < 0:
                    dc = -dc
                own2 = far * far * ((dr * step) ** 2 + (dc * geo[1] * cos_el) ** 2)  # of the pixels that were taken
                depth = radius - math.sqrt(max(radius * radius - own2, 0.0))
                q1, q2 = _at(rho, r + dr, c + dc, wrap), _at(rho, r - dr, c - dc, wrap)
                if q1 <= 0 or q2 <= 0:
                    continue
                mean = (q1 + q2) / 2 - r0
                if mean < -0.02 - 0.2 * radius:
                    continue  # an occluder in front has no say
                said += 1
                if abs(mean - depth) < 0.006 + 0.12 * radius and abs(q1 - q2) < 0.9 * radius:
                    good += 1
                    error += abs(mean - depth)
                else:
                    bad += 1
                    if bad > 1 or alpha > 3 * step:  # where it is three pixels wide, one pair may miss it
                        break
            if good < 3 or bad > (alpha < 3 * step):
                continue
            clear = same = 0
            ring = 1.25 * alpha + 0.8 * step
            for k in range(16):
                dr = int(round(rise[k] * ring / step))
                dc = int(round(turn[k] * ring / (geo[1] * cos_el)))
                q = _at(rho, r + dr, c + dc, wrap)
                if q <= 0 or q > r0 + 1.15 * radius + 0.02:
                    clear += 1
                elif q > r0 - 0.3 * radius:
                    same += 1
            if clear < 5 or same > 4:
                continue
            out[r, c] = error / good
            found += 1
    return found


@jit
def sphere_pixels(image, rho, geo, wrap, x, y, z, radius, share, out):  # type: ignore[no-untyped-def]
    """Rays within ``share`` of the silhouette of a sphere at (x, y, z): rows of out get unit ray, range and the cosine between
    silhouette and ray as a share of the silhouette. Returns (how many came back, how many did not)."""
    rows, columns = rho.shape[0], rho.shape[1]
    distance = math.sqrt(x * x + y * y + z * z)
    if distance <= radius:
        return 0, 0
    alpha = math.asin(min(0.99, radius / distance))
    el, cos_el = math.asin(z / distance), max(math.sqrt(x * x + y * y) / distance, 0.1)
    r0, turn = (el - geo[2]) / geo[3], math.atan2(y, x) - geo[0]
    if wrap:
        turn %= 2 * math.pi
    else:
        turn -= 2 * math.pi * math.floor((turn + 0.5 * geo[1]) / (2 * math.pi))
    c0 = turn / geo[1]
    high, wide = int(alpha / geo[3]) + 2, min(int(alpha / (geo[1] * cos_el)) + 2, columns // 2 - 1)
    limit = math.cos(share * alpha)
    n = missing = 0
    for r in range(max(0, int(r0) - high), min(rows, int(r0) + high + 2)):
        e = geo[2] + r * geo[3]
        for k in range(int(c0) - wide, int(c0) + wide + 2):
            c = k
            if c < 0 or c >= columns:
                if not wrap:
                    continue
                c %= columns
            q = rho[r, c]
            if q == 0:
                a = geo[0] + c * geo[1]
                if (math.cos(e) * (math.cos(a) * x + math.sin(a) * y) + math.sin(e) * z) / distance > limit:
                    missing += 1
                continue
            ux, uy, uz = image[r, c, 0] / q, image[r, c, 1] / q, image[r, c, 2] / q
            if (ux * x + uy * y + uz * z) / distance > limit and n < len(out):
                out[n, 0], out[n, 1], out[n, 2], out[n, 3] = ux, uy, uz, q
                n += 1
    return n, missing


@jit
def _solve3(a, b, out):  # type: ignore[no-untyped-def]
    """Solve a symmetric 3x3 system; False when it is singular."""
    c00, c01, c02 = a[1, 1] * a[2, 2] - a[1, 2] ** 2, a[0, 2] * a[1, 2] - a[0, 1] * a[2, 2], a[0, 1] * a[1, 2] - a[0, 2] * a[1, 1]
    det = a[0, 0] * c00 + a[0, 1] * c01 + a[0, 2] * c02
    if abs(det) < 1e-18:
        return False
    c11, c12, c22 = a[0, 0] * a[2, 2] - a[0, 2] ** 2, a[0, 1] * a[0, 2] - a[0, 0] * a[1, 2], a[0, 0] * a[1, 1] - a[0, 1] ** 2
    out[0] = (c00 * b[0] + c01 * b[1] + c02 * b[2]) / det
    out[1] = (c01 * b[0] + c11 * b[1] + c12 * b[2]) / det
    out[2] = (c02 * b[0] + c12 * b[1] + c22 * b[2]) / det
    return True


@jit
def fit_centre(image, rho, geo, wrap, centre, radius, noise, pixels, kept):  # type: ignore[no-untyped-def]
    """Centre of a sphere of known radius by least squares in range, from a start within half a radius; changed in place.

    Weights fall with the glancing angle: range noise grows with it (variance over the cosine). pixels : (m, 4) gets the rays of
    the last step, kept : (m,) which of them take part. Returns (rays, taking part, missing), 0 rays when nothing holds.
    """
    clip = max(0.5 * radius, 0.02)
    normal, right, step = np.zeros((3, 3)), np.zeros(3), np.zeros(3)
    n = used = missing = 0
    for turn in range(16):
        n, missing = sphere_pixels(image, rho, geo, wrap, centre[0], centre[1], centre[2], radius, LIMB, pixels)
        if n < 7:
            return 0, 0, 0
        normal[:], right[:] = 0.0, 0.0
        total, used = 0.0, 0
        d2 = centre[0] ** 2 + centre[1] ** 2 + centre[2] ** 2
        for k in range(n):
            u0, u1, u2 = pixels[k, 0], pixels[k, 1], pixels[k, 2]
            b = u0 * centre[0] + u1 * centre[1] + u2 * centre[2]
            root = math.sqrt(max(b * b - d2 + radius * radius, 1e-10))
            v = pixels[k, 3] - (b - root)
            cosine = root / radius
            if abs(v) * math.sqrt(cosine) >= clip:
                kept[k] = False
                continue
            kept[k] = True
            used += 1
            total += v * v * cosine
            g = (u0 - (b * u0 - centre[0]) / root, u1 - (b * u1 - centre[1]) / root, u2 - (b * u2 - centre[2]) / root)
            for i in range(3):
                right[i] += cosine * g[i] * v
                for j in range(3):
                    normal[i, j] += cosine * g[i] * g[j]
        if used < 7 or not _solve3(normal, right, step):
            return 0, 0, 0
        longest = 0.0
        for i in range(3):
            s = min(max(step[i], -0.5 * radius), 0.5 * radius)
            centre[i] += s
            longest = max(longest, abs(s))
        clip = max(4 * noise, 0.6 * clip, 3 * math.sqrt(total / used) if turn > 9 else 0.0)
        if turn > 9 and longest < 1e-7:
            break
    return n, used, missing
