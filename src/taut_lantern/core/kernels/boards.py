"""Compiled loops that find quadrant boards by their pattern in the intensity image (see rays.py for the range image)."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numba import njit

jit: Any = njit(cache=True, nogil=True, error_model="numpy")
CIRCLE = 0.55  # of half the edge: where the pattern is looked at


@jit
def patched(image, value):  # type: ignore[no-untyped-def]
    """Copies in which a pixel where nothing came back has what its nearest neighbour of four has: dark fields lose single rays."""
    rows, columns = value.shape[0], value.shape[1]
    image, out = image.copy(), value.copy()
    for r in range(1, rows - 1):
        for c in range(1, columns - 1):
            if value[r, c] >= 0:
                continue
            for k in range(4):
                rr, cc = r + (0, 0, 1, -1)[k], c + (1, -1, 0, 0)[k]
                if value[rr, cc] >= 0:
                    out[r, c] = value[rr, cc]
                    x, y, z = image[rr, cc, 0], image[rr, cc, 1], image[rr, cc, 2]
                    other = (r - (0, 0, 1, -1)[k], c - (1, -1, 0, 0)[k])
                    if value[other] >= 0:  # between both, where they lie on one surface
                        ox, oy, oz = image[other[0], other[1], 0], image[other[0], other[1], 1], image[other[0], other[1], 2]
                        if abs(x * x + y * y + z * z - ox * ox - oy * oy - oz * oz) < 0.02 * (x * x + y * y + z * z):
                            x, y, z = 0.5 * (x + ox), 0.5 * (y + oy), 0.5 * (z + oz)
                    image[r, c, 0], image[r, c, 1], image[r, c, 2] = x, y, z
                    break
    return image, out


@jit
def sampled(value, r, c, wrap):  # type: ignore[no-untyped-def]
    """Intensity between pixels; negative when one of the four is missing."""
    rows, columns = value.shape[0], value.shape[1]
    r0, c0 = int(math.floor(r)), int(math.floor(c))
    if r0 < 0 or r0 + 1 >= rows:
        return -1.0
    c1 = c0 + 1
    if c0 < 0 or c1 >= columns:
        if not wrap:
            return -1.0
        c0 %= columns
        c1 %= columns
    a, b, p, q = value[r0, c0], value[r0, c1], value[r0 + 1, c0], value[r0 + 1, c1]
    if min(min(a, b), min(p, q)) < 0:
        return -1.0
    fr, fc = r - math.floor(r), c - math.floor(c)
    return (a * (1 - fc) + b * fc) * (1 - fr) + (p * (1 - fc) + q * fc) * fr


@jit
def _quadrants(image, value, wrap, half, r, c, high, wide, least, turn):  # type: ignore[no-untyped-def]
    """What :func:`board_gate` tells of one pixel, looking ``high`` rows and ``wide`` columns round it; -1 when it is no pattern."""
    columns = value.shape[1]
    left, right = c - wide, c + wide
    if left < 0 or right >= columns:
        if not wrap:
            return -1.0
        left, right = left % columns, right % columns
    # eight neighbours, of which opposite ones are alike and those between them not
    e, w, n, s = value[r, right], value[r, left], value[r + high, c], value[r - high, c]
    ne, sw, nw, se = value[r + high, right], value[r - high, left], value[r + high, left], value[r - high, right]
    one, other = e + w - n - s, ne + sw - nw - se
    if one * one + other * other < ((e + w + n + s + ne + sw + nw + se) / 16) ** 2:
        return -1.0
    if min(min(min(e, w), min(n, s)), min(min(ne, sw), min(nw, se))) < 0:
        return -1.0
    # what a step of a column and of a row moves in the plane there
    g00 = g01 = g11 = 0.0
    for k in range(3):
        a, b = (image[r, right, k] - image[r, left, k]) / (2 * wide), (image[r + high, c, k] - image[r - high, c, k]) / (2 * high)
        g00 += a * a
        g01 += a * b
        g11 += b * b
    if g00 > 16 * least or g11 > 16 * least or g00 * g11 - g01 * g01 < 0.05 * g00 * g11:
        return -1.0  # an edge, or seen at a glancing angle
    l00 = math.sqrt(g00)
    l10 = g01 / l00
    l11 = math.sqrt(g11 - l10 * l10)
    re = im = total = square = 0.0
    m = 0
    for k in range(16):
        dr = CIRCLE * half * turn[k, 1] / l11
        dc = (CIRCLE * half * turn[k, 0] - l10 * dr) / l00
        v = sampled(value, r + dr, c + dc, wrap)
        if v < 0:
            continue
        m += 1
        total += v
        square += v * v
        j = (2 * k) % 16
        re += v * turn[j, 0]
        im += v * turn[j, 1]
    if m < 15:
        return -1.0
    total /= m
    spread = square / m - total * total
    strength = 4 * (re * re + im * im) / (m * m)
    share = 0.42 if high < 2 or wide < 2 else 0.55  # the middle of a small one lies between pixels
    if strength < (0.3 * total) ** 2 or 0.5 * strength < share * spread:
        return -1.0
    return math.sqrt(strength) / total * (0.5 * strength / spread)


@jit
def board_gate(image, value, busy, geo, wrap, half, out):  # type: ignore[no-untyped-def]
    """How much of the change of intensity on a circle round each pixel, seen in the plane of what is there, is that of four
    quadrants: out (rows, columns) float32 gets its amplitude over the mean where that is most of it, -1 elsewhere.

    value: (rows, columns) float32 intensity, negative where nothing came back; busy: where it changes at all; half: of the edge,
    metres. Returns how many.
    """
    rows, columns = value.shape[0], value.shape[1]
    found = 0
    turn = np.empty((16, 2))
    for k in range(16):
        turn[k, 0], turn[k, 1] = math.cos(k * math.pi / 8), math.sin(k * math.pi / 8)
    for r in range(3, rows - 3):
        cos_el = math.cos(geo[2] + r * geo[3])
        if cos_el < 0.15:
            continue
        for c in range(columns):
            if not busy[r, c]:
                continue
            rho = math.sqrt(image[r, c, 0] ** 2 + image[r, c, 1] ** 2 + image[r, c, 2] ** 2)
            if rho < 0.5:
                continue
            for way in range(3):  # seen squarely, and at a glancing angle from the side, and from above or below
                high = int(0.45 * (0.45 if way == 2 else 1.0) * half / (rho * geo[3]) + 0.5)
                wide = int(0.45 * (0.45 if way == 1 else 1.0) * half / (rho * geo[1] * cos_el) + 0.5)
                if high < 1 or wide < 1 or r - high < 0 or r + high >= rows or 4 * wide > columns:
                    continue
                worth = _quadrants(image, value, wrap, half, r, c, high, wide, (rho * geo[3]) ** 2, turn)
                if worth > 0:
                    out[r, c] = worth
                    found += 1
                    break
    return found


@jit
def step_of(t, blur):  # type: ignore[no-untyped-def]
    """-1 to 1 over an edge at 0 that the beam blurs by ``blur`` (deviation)."""
    if t >= 2.4 * blur:
        return 1.0
    if t <= -2.4 * blur:
        return -1.0
    return math.erf(t / (1.41421356 * blur))


@jit
def densities(seen, levels, noise, out):  # type: ignore[no-untyped-def]
    """out (n, 6) how likely each intensity is of dark, pale, and what lies beyond the four sides."""
    for k in range(len(seen)):
        for j in range(6):
            s = noise[min(j, 2)]
            out[k, j] = math.exp(-((seen[k, 2] - levels[j]) ** 2) / (2 * s * s)) / s


@jit
def board_costs(seen, own, half, blur, levels, xs, ys, turns, out):  # type: ignore[no-untyped-def]
    """Minus the log-likelihood of a board at places and turns of a lattice: out (len(xs), len(ys), len(turns)).

    seen : (n, 4) of rays where they meet the plane: x, y (metres), intensity, and 1 when what they met lies behind the plane;
    own : (n, 6) of :func:`densities`. An intensity is of one of the fields, by how likely its place is in it; where fields meet it
    may be a mixture of them; and now and then it is anything.
    """
    contrast = levels[1] - levels[0]
    wide = 0.2 * contrast
    for i in range(len(xs)):
        for j in range(len(ys)):
            for m in range(len(turns)):
                c, s = math.cos(turns[m]), math.sin(turns[m])
                total, product = 0.0, 1.0
                for k in range(len(seen)):
                    x, y = seen[k, 0] - xs[i], seen[k, 1] - ys[j]
                    u, v = c * x + s * y, c * y - s * x
                    au, av = abs(u), abs(v)
                    inside = 0.25 * (1 + step_of(half - au, blur)) * (1 + step_of(half - av, blur))
                    if seen[k, 3] > 0.5:
                        product *= 1 - 0.88 * inside  # at an edge a ray may mix both
                    else:
                        pale = 0.5 * (1 + step_of(u, blur) * step_of(v, blur))
                        side = (2 if u > 0 else 3) if au > av else (4 if v > 0 else 5)
                        p1, p0, po = inside * pale, inside * (1 - pale), 1 - inside
                        p = p1 * own[k, 1] + p0 * own[k, 0] + po * own[k, side]
                        mixed = 1 - max(p1, max(p0, po))
                        if mixed > 0.02:
                            d = (seen[k, 2] - p1 * levels[1] - p0 * levels[0] - po * levels[side]) / wide
                            p = (1 - mixed) * p + mixed * math.exp(-0.5 * d * d) / wide
                        product *= 0.99 * p + 0.01 / contrast
                    if product < 1e-200 or product > 1e200:
                        total -= math.log(product)
                        product = 1.0
                out[i, j, m] = total - math.log(product)


@jit
def rough_place(seen, half, out):  # type: ignore[no-untyped-def]
    """Where in the plane the second harmonic of intensity round a place most outweighs the first; out (3,): x, y, and the turn of
    the pattern there. seen : (n, 3) x, y, intensity. Returns by how much, 0 when nowhere."""
    top = 0.0
    for i in range(9):
        for j in range(9):
            x0, y0 = (0.125 * i - 0.5) * half, (0.125 * j - 0.5) * half
            n = 0
            total = re1 = im1 = re2 = im2 = c1 = s1 = c2 = s2 = 0.0
            for k in range(len(seen)):
                x, y = seen[k, 0] - x0, seen[k, 1] - y0
                d2 = x * x + y * y
                if d2 >= (0.85 * half) ** 2 or d2 <= (0.1 * half) ** 2:
                    continue
                d = math.sqrt(d2)
                c, s, v = x / d, y / d, seen[k, 2]
                cc, ss = c * c - s * s, 2 * c * s
                n += 1
                total += v
                re1, im1, re2, im2 = re1 + v * c, im1 + v * s, re2 + v * cc, im2 + v * ss
                c1, s1, c2, s2 = c1 + c, s1 + s, c2 + cc, s2 + ss
            if n < 8:
                continue
            mean = total / n
            first = math.sqrt((re1 - mean * c1) ** 2 + (im1 - mean * s1) ** 2)
            re, im = re2 - mean * c2, im2 - mean * s2
            worth = (math.sqrt(re * re + im * im) - first) / n
            if worth > top:
                top = worth
                out[0], out[1], out[2] = x0, y0, math.atan2(im, re) / 2 - math.pi / 4
    return top
