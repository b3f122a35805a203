"""Lines and circles found in a slab, with residuals.

Lines: the dominant directions by a Hough vote (Duda & Hart 1972) on thinned points, then total least squares
with trimming, split at gaps. Circles: votes of normals for centres, then a geometric fit (Coope 1993 start,
Gauss-Newton).
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..errors import BadInput, NotEnough
from .shapes import Shape, length, pieces

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Line:
    """From a (2,) to b (2,), metres in the section frame; rms of the points across it; how many."""

    a: tuple[float, float]
    b: tuple[float, float]
    rms: float
    points: int


@dataclass(frozen=True)
class Circle:
    centre: tuple[float, float]
    radius: float
    rms: float
    points: int
    share: float  # of the round that was seen


def thin(points: Array, cell: float = 0.01) -> Array:
    """Mean point per cell, so that near walls do not outvote far ones."""
    if len(points) == 0:
        return points[:, :2]
    key = np.floor(points[:, :2] / cell).astype(np.int64)
    _, label = np.unique(key[:, 0] * 4_000_037 + key[:, 1], return_inverse=True)
    count = np.bincount(label)
    return np.stack([np.bincount(label, points[:, k]) / count for k in range(2)], axis=1)


def _tls(p: Array) -> tuple[Array, Array, float]:
    """(centre, unit direction, rms across) of 2D points."""
    centre = p.mean(axis=0)
    value, vector = np.linalg.eigh(np.cov((p - centre).T) if len(p) > 2 else np.eye(2))
    return centre, vector[:, 1], float(np.sqrt(max(value[0], 0)))


LEAST = 8  # points of a line


def find_lines(
    points: Array,
    shortest: float = 0.35,
    tolerance: float = 0.012,
    gap: float = 0.30,
    most: int = 600,
    density: float = 12.5,
    least: int = 12,
) -> list[Line]:
    """Lines of at least ``shortest`` metres, longest support first. points (n, 2 or 3) in the section frame. density: points a metre,
    at most one a centimetre; least: points in all."""
    p = thin(points)
    if len(p) < least:
        return []
    origin = p.mean(axis=0)
    p = p - origin
    angles = np.radians(np.arange(0, 180, 1.0))
    normal = np.stack([np.cos(angles), np.sin(angles)], axis=1)
    reach = float(np.abs(p).max()) * 1.5 + 0.1
    bins = int(2 * reach / 0.02) + 1
    free = np.ones(len(p), bool)
    votes = np.zeros((len(angles), bins), np.int32)
    for k in range(len(angles)):
        votes[k] = np.bincount(((p @ normal[k] + reach) / 0.02).astype(int), minlength=bins)[:bins]
    found: list[Line] = []
    misses = 0
    while len(found) < most and misses < 60:
        k, offset = divmod(int(np.argmax(votes)), bins)
        if votes[k, offset] < least:
            break
        near = free & (np.abs(p @ normal[k] - (offset + 0.5) * 0.02 + reach) < 0.025)
        used = np.zeros(len(p), bool)
        for run in _runs(p, np.nonzero(near)[0], normal[k], gap):
            line, on = _fit_run(p, run, free, tolerance, gap, shortest, density)
            used |= on
            if line is not None:
                a, b = np.array(line.a) + origin, np.array(line.b) + origin
                found.append(Line((float(a[0]), float(a[1])), (float(b[0]), float(b[1])), line.rms, line.points))
        if not used.any():
            votes[max(0, k - 1) : k + 2, max(0, offset - 1) : offset + 2] = 0
            misses += 1
            continue
        for j in range(len(angles)):
            votes[j] -= np.bincount(((p[used & free] @ normal[j] + reach) / 0.02).astype(int), minlength=bins)[:bins].astype(np.int32)
        free &= ~used
    return sorted(found, key=lambda x: -x.points)


def _runs(p: Array, index: NDArray[np.int64], normal: Array, gap: float) -> list[NDArray[np.int64]]:
    """Split points near a line where a gap is wider than ``gap`` metres."""
    if len(index) == 0:
        return []
    along = p[index] @ np.array([-normal[1], normal[0]])
    order = np.argsort(along)
    cuts = np.nonzero(np.diff(along[order]) > gap)[0] + 1
    return [index[part] for part in np.split(order, cuts)]


def _fit_run(
    p: Array, run: NDArray[np.int64], free: NDArray[np.bool_], tolerance: float, gap: float, shortest: float, density: float
) -> tuple[Line | None, NDArray[np.bool_]]:
    nothing = np.zeros(len(p), bool)
    if len(run) < LEAST:
        return None, nothing
    q = p[run]
    centre, direction, rms = _tls(q)
    for limit in (0.03, 0.02, tolerance):
        across = np.abs((q - centre) @ np.array([-direction[1], direction[0]]))
        if (across < limit).sum() < LEAST:
            return None, nothing
        centre, direction, rms = _tls(q[across < limit])
    normal = np.array([-direction[1], direction[0]])
    pieces = _runs(p, np.nonzero(free & (np.abs((p - centre) @ normal) < tolerance))[0], normal, gap)
    best = max(pieces, key=lambda r: len(np.intersect1d(r, run, assume_unique=True)), default=run)
    if len(best) < LEAST:
        return None, nothing
    centre, direction, rms = _tls(p[best])
    along = (p[best] - centre) @ direction
    length = float(np.ptp(along))
    if length < shortest or len(best) < density * length:
        return None, nothing
    a, b = centre + direction * along.min(), centre + direction * along.max()
    on = nothing.copy()
    on[best] = True
    on |= (
        free
        & (np.abs((p - centre) @ np.array([-direction[1], direction[0]])) < 1.6 * tolerance)
        & (np.abs((p - (a + b) / 2) @ direction) < length / 2 + 0.02)
    )
    if _filled(p, (a + b) / 2, direction, length, len(best), tolerance):
        return None, on
    return Line((float(a[0]), float(a[1])), (float(b[0]), float(b[1])), rms, len(best)), on


def _filled(p: Array, middle: Array, direction: Array, length: float, own: int, tolerance: float) -> bool:
    """Whether the slab lies in a surface here (the face of a column, a window): points spread on both sides of the
    line at least a fifth as densely as on it, so that any line through them would be as good."""
    q = p - middle
    across = (q @ np.array([-direction[1], direction[0]]))[np.abs(q @ direction) < length / 2]
    each = own / (2 * tolerance)
    return all(((side > 0.03) & (side < 0.20)).sum() / 0.17 > 0.2 * each for side in (across, -across))


def fit_circle(p: Array) -> tuple[Array, float, float]:
    """Geometric circle through (n, 2) points: centre, radius, rms (Coope start, Gauss-Newton)."""
    centre0 = p.mean(axis=0)
    q = p - centre0
    s = np.linalg.lstsq(np.concatenate([2 * q, np.ones((len(q), 1))], axis=1), (q**2).sum(axis=1), rcond=None)[0]
    c, r = s[:2], math.sqrt(max(s[2] + s[0] ** 2 + s[1] ** 2, 1e-12))
    for _ in range(10):
        d = q - c
        rho = np.maximum(np.linalg.norm(d, axis=1), 1e-9)
        step = np.linalg.lstsq(np.concatenate([-d / rho[:, None], -np.ones((len(q), 1))], axis=1), -(rho - r), rcond=None)[0]
        c, r = c + step[:2], r + float(step[2])
        if np.abs(step).max() < 1e-9:
            break
    rms = float(np.sqrt(np.mean((np.linalg.norm(q - c, axis=1) - r) ** 2)))
    return c + centre0, r, rms


def find_circles(points: Array, smallest: float = 0.05, largest: float = 1.2, tolerance: float = 0.008) -> list[Circle]:
    """Circles (pipes, vessels, columns in the cut) of which at least a fifth of the round is seen."""
    p = thin(points)
    if len(p) < 20:
        return []
    tree = cKDTree(p)
    label = _clusters(tree, p, 0.06)
    found: list[Circle] = []
    for k in range(int(label.max()) + 1):
        q = p[label == k]
        if not 15 <= len(q) <= 3000 or np.ptp(q, axis=0).max() > 2.2 * largest:
            continue
        circle = _robust_circle(q, smallest, largest, tolerance)
        if circle is not None:
            found.append(circle)
    return sorted(found, key=lambda c: -c.points)


def _clusters(tree: cKDTree, p: Array, reach: float) -> NDArray[np.int64]:
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    pairs = tree.query_pairs(reach, output_type="ndarray")
    graph = coo_matrix((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(len(p), len(p)))
    return np.asarray(connected_components(graph, directed=False)[1])


def _robust_circle(q: Array, smallest: float, largest: float, tolerance: float) -> Circle | None:
    rng = np.random.default_rng(len(q))
    best, most = None, 0
    for _ in range(60):
        c, r, _ = fit_circle(q[rng.choice(len(q), 3, replace=False)])
        if not smallest <= r <= largest:
            continue
        on = np.abs(np.linalg.norm(q - c, axis=1) - r) < tolerance
        if on.sum() > most:
            best, most = on, int(on.sum())
    if best is None or most < 0.7 * len(q) or most < 15:
        return None
    c, r, rms = fit_circle(q[best])
    angle = np.arctan2(q[best][:, 1] - c[1], q[best][:, 0] - c[0])
    share = len(np.unique(np.floor((angle + math.pi) / math.radians(10)).astype(int) % 36)) / 36
    _, _, straight = _tls(q[best])
    if share < 0.2 or rms > tolerance / 1.5 or straight < 2.5 * rms or not smallest <= r <= largest:
        return None
    return Circle((float(c[0]), float(c[1])), r, rms, most, share)


def refitted(shape: Shape, points: Array, beside: float = 0.03) -> tuple[Shape, dict[str, float]]:
    """A line, straight polyline, arc or circle laid on the points (n, 2) within ``beside`` metres of it, and rms_mm, points, length and by
    how much its corners moved (moved_mm). NotEnough when hardly any lie there."""
    if shape.kind in ("circle", "arc"):
        off = np.abs(np.hypot(*(points - shape.points[0]).T) - shape.radius)
        on = points[off < beside]
        if shape.kind == "arc":
            turn = (np.arctan2(on[:, 1] - shape.points[0][1], on[:, 0] - shape.points[0][0]) - shape.more["start"]) % math.tau
            on = on[turn <= (shape.more["end"] - shape.more["start"]) % math.tau]
        _enough(len(on))
        on = thin(on, 0.005)
        centre, radius, rms = fit_circle(on)
        for _ in range(3):
            rest = np.abs(np.hypot(*(on - centre).T) - radius)
            centre, radius, rms = fit_circle(on[rest < max(3 * rms, 0.003)])
        new = Shape(shape.kind, ((float(centre[0]), float(centre[1])),), radius, shape.more)
        moved = max(math.dist(shape.points[0], new.points[0]), abs(shape.radius - radius))
        return new, {"rms_mm": 1000 * rms, "points": len(on), "length": length(new), "moved_mm": 1000 * moved}
    if shape.kind not in ("line", "polyline") or any(shape.more.get("bulges") or []):
        raise BadInput(
            f"a {shape.kind} cannot be fitted to points", subject="fit", remedy="choose a line, a straight polyline, an arc or a circle"
        )
    own, fitted, rms, count = pieces(shape), [], 0.0, 0
    for piece in own:
        a, b = np.array(piece.a), np.array(piece.b)
        along = (b - a) / max(piece.length, 1e-9)
        t, off = (points - a) @ along, (points - a) @ np.array([-along[1], along[0]])
        edge = min(0.02, piece.length / 4)
        on = points[(np.abs(off) < beside) & (t > edge) & (t < piece.length - edge)]
        _enough(len(on))
        on = thin(on, 0.005)
        centre, direction, own_rms = _tls(on)
        for _ in range(4):
            across = np.abs((on - centre) @ np.array([-direction[1], direction[0]]))
            centre, direction, own_rms = _tls(on[across < max(2.5 * own_rms, 0.003)])
        fitted.append((centre, direction))
        rms, count = rms + own_rms**2 * len(on), count + len(on)
    corners = list(shape.points)
    new_points = [_corner(k, corners, fitted, shape.closed) for k in range(len(corners))]
    new = Shape(shape.kind, tuple(new_points), 0.0, shape.more)
    moved = max(math.dist(p, q) for p, q in zip(corners, new_points, strict=True))
    return new, {"rms_mm": 1000 * math.sqrt(rms / count), "points": count, "length": length(new), "moved_mm": 1000 * moved}


def _enough(count: int) -> None:
    if count < 12:
        raise NotEnough("hardly any points lie beneath it", subject="fit", remedy="draw it nearer to the points, or make the cut deeper")


def _corner(k: int, corners: list[tuple[float, float]], fitted: list[tuple[Array, Array]], closed: bool) -> tuple[float, float]:
    """Where the fitted sides before and after a corner cross; at an end, or where they hardly turn, the foot of the old corner."""
    n = len(fitted)
    sides = [fitted[j % n] for j in (k - 1, k) if closed or 0 <= j < n]
    p = np.array(corners[k])
    feet = [c + d * ((p - c) @ d) for c, d in sides]
    if len(sides) == 2:
        (c, d), (e, f) = sides
        cross = float(d[0] * f[1] - d[1] * f[0])
        if abs(cross) > 0.15:
            r = e - c
            at = c + d * float(r[0] * f[1] - r[1] * f[0]) / cross
            return float(at[0]), float(at[1])
    at = np.mean(feet, axis=0)
    return float(at[0]), float(at[1])
