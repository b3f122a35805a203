"""Plain numpy references of the compiled loops, written for reading; tests hold both to the same truth.

They take and give what the loops of the same name in ``rays.py`` and ``order.py`` do.
"""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def pixel(x: float, y: float, z: float, geo: Array, rows: int, columns: int, wrap: bool) -> tuple[int, int]:
    r = math.floor((math.atan2(z, math.hypot(x, y)) - geo[2]) / geo[3] + 0.5)
    turn = math.atan2(y, x) - geo[0]
    turn = turn if wrap else (turn + geo[1] / 2) % (2 * math.pi) - geo[1] / 2  # a sector may lie across the half turn
    c = math.floor(turn / geo[1] + 0.5)
    c = c % columns if wrap else c
    return (r, c) if 0 <= r < rows and 0 <= c < columns else (-1, -1)


def _window(image: NDArray[np.float32], wrap: bool, r: int, c: int, stride: int) -> Array:
    """Points of the strided 5x5 window that exist, relative to the middle one."""
    rows, columns = image.shape[:2]
    out = []
    for i in range(-2, 3):
        for j in range(-2, 3):
            rr, cc = r + i * stride, c + j * stride
            cc = cc % columns if wrap else cc
            if 0 <= rr < rows and 0 <= cc < columns and image[rr, cc].any():
                out.append(image[rr, cc].astype(float) - image[r, c].astype(float))
    return np.array(out)


def window_plane(image: NDArray[np.float32], wrap: bool, r: int, c: int, stride: int, gate2: float) -> Array | None:
    """(8,) centroid, normal towards the origin, rms, count; None with fewer than 7 points."""
    middle = image[r, c].astype(float)
    p = _window(image, wrap, r, c, stride)
    p = p[(p**2).sum(axis=1) <= gate2]
    kept = p
    for attempt in range(2):
        if len(kept) < 7:
            return None
        centre = kept.mean(axis=0)
        value, vector = np.linalg.eigh(np.cov(kept.T, bias=True))
        normal, rms = vector[:, 0], math.sqrt(max(value[0], 0.0))
        if attempt == 1 or rms < 0.0022:
            break
        kept = p[np.abs((p - centre) @ normal) <= 2.2 * rms]
    normal = -normal if normal @ middle > 0 else normal
    return np.concatenate([middle + centre, normal, [rms, len(kept)]])


def plane_at(image: NDArray[np.float32], step: float, wrap: bool, r: int, c: int) -> Array | None:
    rho = float(np.linalg.norm(image[r, c].astype(float)))
    if rho == 0:
        return None
    stride = max(1, int(0.03 / (rho * step) / 2 + 0.5))
    limit = 0.003 + 0.01 * 2.9 * stride * step * rho
    tight = (max(0.09, 1.6 * step * rho) * 1.5) ** 2
    for gate2 in (tight, 36 * tight):
        plane = window_plane(image, wrap, r, c, stride, gate2)
        if plane is not None:
            return plane if plane[6] < limit else None
    return None


def solid(image: NDArray[np.float32], step: float, wrap: bool, rc: NDArray[np.int32]) -> NDArray[np.bool_]:
    rows, columns = image.shape[:2]
    ranges = np.linalg.norm(image.astype(float), axis=2)
    out = np.zeros(len(rc), bool)
    for k, (r, c) in enumerate(rc.tolist()):
        around = [(r + i, (c + j) % columns if wrap else c + j) for i in (-1, 0, 1) for j in (-1, 0, 1) if (i, j) != (0, 0)]
        seen = [ranges[i, j] for i, j in around if 0 <= i < rows and 0 <= j < columns and ranges[i, j] > 0]
        out[k] = sum(abs(q - ranges[r, c]) < 0.03 + 2 * ranges[r, c] * step for q in seen) >= 6
    return out


def say(
    image: NDArray[np.float32],
    geo: Array,
    wrap: bool,
    t: Array,
    points: Array,
    normals: Array,
    agree_m: float,
    behind_m: float,
    grazing: float,
) -> NDArray[np.int8]:
    """Of the image itself: the compiled loop reads what ``around`` made of it."""
    rows, columns = image.shape[:2]
    ranges = np.linalg.norm(image.astype(float), axis=2)
    out = np.zeros(len(points), np.int8)
    for k, (p, n) in enumerate(zip(points, normals, strict=True)):
        a, m = t[:3, :3] @ p + t[:3, 3], t[:3, :3] @ n
        rho = float(np.linalg.norm(a))
        r, c = pixel(a[0], a[1], a[2], geo, rows, columns, wrap)
        cosine = abs(float(m @ a)) / rho
        if rho < 0.3 or r < 1 or r >= rows - 1 or cosine < grazing:
            continue
        slack = agree_m + geo[3] * rho * (min(3.0, math.sqrt(max(0.0, 1 - cosine**2)) / cosine) if cosine > 0 else 3.0)
        around = [(r + i, (c + j) % columns if wrap else c + j) for i in (-1, 0, 1) for j in (-1, 0, 1)]
        seen = [ranges[i, j] for i, j in around if 0 <= j < columns and ranges[i, j] > 0]
        if seen and min(seen) - slack <= rho <= max(seen) + slack:
            out[k] = 1
        elif len(seen) == 9 and min(seen) > rho + slack + behind_m:
            out[k] = 2
        elif seen and rho > max(seen) + slack:
            out[k] = 3
    return out


def joined(ranges: NDArray[np.float32], wrap: bool, join: float, steep: float, slant: float) -> NDArray[np.int32]:
    rows, columns = ranges.shape
    padded = np.zeros((rows + 4, columns + 4))
    padded[2:-2, 2:-2] = ranges
    if wrap:
        padded[:, :2], padded[:, -2:] = padded[:, -4:-2], padded[:, 2:4]
    rho, out = padded[2:-2, 2:-2], np.zeros((rows, columns), np.int32)
    with np.errstate(divide="ignore", invalid="ignore"):
        for bit in (0, 1, 2, 3, 5, 6, 7, 8):
            i, j = bit // 3 - 1, bit % 3 - 1
            q, beyond, before = (padded[2 + k * i : 2 + k * i + rows, 2 + k * j : 2 + k * j + columns] for k in (1, 2, -1))
            gap = np.abs(q - rho)
            straight = [
                (third > 0) & (inverse > 0) & (np.abs(1 / inverse - third) <= join + slant * gap)
                for third, inverse in ((beyond, 2 / q - 1 / rho), (before, 2 / rho - 1 / q))
            ]
            one = (gap <= join) | ((gap <= steep * np.minimum(q, rho)) & (straight[0] | straight[1]))
            out[(rho > 0) & (q > 0) & one] |= 1 << bit
    return out


def afloat(
    ranges: NDArray[np.float32], bonds: NDArray[np.int32], wrap: bool, far: float, gap: float, size: float, least: int, most: int
) -> NDArray[np.bool_]:
    rows, columns = ranges.shape
    ranges = ranges.astype(float)  # as the compiled loop reckons
    small, clumps = np.zeros((rows, columns), bool), {}

    def around(a: int, b: int, bits: int) -> list[tuple[int, int]]:
        near = [(a + k // 3 - 1, (b + k % 3 - 1) % columns if wrap else b + k % 3 - 1) for k in range(9) if bits & 1 << k]
        return [(r, c) for r, c in near if 0 <= r < rows and 0 <= c < columns and ranges[r, c] > 0]

    for r, c in zip(*np.nonzero((ranges > 0) & (ranges <= far)), strict=True):
        limit = min(max(int((size / ranges[r, c]) ** 2), least), most)
        clump, grown = {(r, c)}, [(r, c)]
        while grown and len(clump) <= limit:
            a, b = grown.pop()
            fresh = [p for p in around(a, b, bonds[a, b]) if p not in clump]
            clump.update(fresh)
            grown += fresh
        if len(clump) <= limit:
            small[r, c], clumps[r, c] = True, clump
    out = np.zeros((rows, columns), bool)
    for at, clump in clumps.items():
        out[at] = all(small[q] or ranges[q] >= ranges[p] + gap for p in clump for q in around(*p, 0b111101111))
    return out


def apart(image: NDArray[np.float32], geo: Array, wrap: bool, t: Array, points: Array, gate: float) -> Array:
    """(m,) signed distances of points placed by t from the surfaces of the image, NaN where there is none within ``gate``."""
    rows, columns = image.shape[:2]
    out = np.full(len(points), np.nan)
    for k, p in enumerate(points):
        a = t[:3, :3] @ p + t[:3, 3]
        r, c = pixel(a[0], a[1], a[2], geo, rows, columns, wrap)
        around = [(r + i, (c + j) % columns if wrap else c + j) for i in (0, 1, -1) for j in (0, 1, -1)] if r >= 0 else []
        seen = [(i, j) for i, j in around if 0 <= i < rows and 0 <= j < columns and image[i, j].any()]
        plane = plane_at(image, geo[3], wrap, *seen[0]) if seen else None
        if plane is None:
            continue
        middle, normal = plane[:3], plane[3:6]
        d = float(normal @ (a - middle))
        rho = float(np.linalg.norm(middle))
        reach = (0.03 + 3 * geo[3] * rho) / max(abs(float(middle @ normal)) / rho, 0.1)
        if abs(d) <= gate and np.linalg.norm(a - d * normal - middle) <= reach:
            out[k] = d
    return out


def associate(
    image: NDArray[np.float32], geo: Array, wrap: bool, t: Array, points: Array, normals: Array, gate: float, min_cos: float
) -> tuple[Array, NDArray[np.bool_]]:
    """((m, 6) centroid and normal in a's frame, (m,) bool)."""
    rows, columns = image.shape[:2]
    out, ok = np.zeros((len(points), 6)), np.zeros(len(points), bool)
    for k, (p, n) in enumerate(zip(points, normals, strict=True)):
        a, m = t[:3, :3] @ p + t[:3, 3], t[:3, :3] @ n
        r, c = pixel(a[0], a[1], a[2], geo, rows, columns, wrap)
        if r < 0 or not image[r, c].any() or abs(float(m @ (a - image[r, c]))) > gate + 0.02:
            continue
        plane = plane_at(image, geo[3], wrap, r, c)
        if plane is None or plane[3:6] @ m < min_cos or abs(float(plane[3:6] @ (a - plane[:3]))) > gate:
            continue
        out[k], ok[k] = plane[:6], True
    return out, ok


def take(
    columns: Array, invalid: NDArray[np.bool_], brightness: Array, scale: Array, factor: float, nearest: float, farthest: float
) -> tuple[Array, Array, NDArray[np.int64]]:
    """Places (3, kept), intensity (kept,) and the counts of what was kept and left out for which reason."""
    finite = np.isfinite(columns).all(axis=0)
    with np.errstate(invalid="ignore", over="ignore"):
        rho = np.sqrt(((columns * factor) ** 2).sum(axis=0))
    kind = np.select([invalid, ~finite, rho < nearest, rho > farthest], [1, 2, 3, 4], 0)
    kept = kind == 0
    value = np.nan_to_num(np.clip((brightness - scale[0]) / scale[1], 0, 1))
    return columns[:, kept] * factor, value[kept], np.bincount(kind, minlength=5)


def morton(points: NDArray[np.float32], low: Array, cell: float) -> NDArray[np.uint64]:
    top = (1 << 20) - 1
    out = []
    for p in points:
        code = 0
        for axis in range(3):
            v = min(max(int((float(p[axis]) - low[axis]) * (1 / cell)), 0), top)
            for bit in range(20):
                code |= ((v >> bit) & 1) << (3 * bit + axis)
        out.append(code)
    return np.array(out, np.uint64)


def height_votes(
    occupied: NDArray[np.uint8], cell: float, bin_m: float, points: Array, kind: NDArray[np.int64], shifts: Array
) -> NDArray[np.int32]:
    _, nx, ny, nz = occupied.shape
    out = np.zeros((len(shifts), nz), np.int32)
    for s, shift in enumerate(shifts):
        for p, up in zip(points, kind, strict=True):
            i, j = (math.floor((p[a] + shift[a]) / cell) + (nx, ny)[a] // 2 for a in (0, 1))
            if 0 <= i < nx and 0 <= j < ny:
                d = np.nonzero(occupied[up, i, j])[0] - (math.floor(p[2] / bin_m) + nz // 2) + nz // 2
                np.add.at(out[s], d[(d >= 0) & (d < nz)], 1)
    return out


def in_outline(points: Array, corners: Array) -> NDArray[np.bool_]:
    """Even-odd rule (Shimrat 1962) for (n, 2) points and (k, 2) corners."""
    inside = np.zeros(len(points), bool)
    x, y = points[:, 0], points[:, 1]
    for (x0, y0), (x1, y1) in zip(corners, np.roll(corners, -1, axis=0), strict=True):
        if y0 != y1:
            inside ^= ((y0 > y) != (y1 > y)) & (x < (x1 - x0) * (y - y0) / (y1 - y0) + x0)
    return inside


def beside(image: NDArray[np.float32], geo: Array, wrap: bool, p: Array, slack: float) -> list[tuple[int, int]]:
    """Pixels of the nine that pass a place (3,) nearest, that ended within slack and one pixel of it."""
    rows, columns = image.shape[:2]
    row = math.floor((math.atan2(p[2], math.hypot(p[0], p[1])) - geo[2]) / geo[3] + 0.5)
    turn = (math.atan2(p[1], p[0]) - geo[0] + 0.5 * geo[1]) % (2 * math.pi) - 0.5 * geo[1]
    column = math.floor(turn / geo[1] + 0.5)
    out = []
    for r in range(max(row - 1, 0), min(row + 2, rows)):
        for c in range(column - 1, column + 2):
            c = c % columns if wrap else c
            if 0 <= c < columns and image[r, c].any() and np.linalg.norm(image[r, c] - p) <= slack + geo[3] * np.linalg.norm(p):
                out.append((r, c))
    return out
