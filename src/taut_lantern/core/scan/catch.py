"""What lies under the cursor: a plane, the edge between two planes, a pipe or a sphere, fitted to the points round a pick.

Terms: catch: the place that the fitted shape gives for a pick (its foot on the plane or the edge, the centre of the pipe's
section, the centre of the sphere); spread: one standard deviation of that place where it is worst known, from the fit.

The shapes are least squares fits in geometric distances; which one it is, is decided by their Bayesian information criterion
(Schwarz 1978) with truncated squares, so that clutter weighs the same for all.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares

from ..errors import NotEnough
from .surface import Plane, widest_plane

Array = NDArray[np.float64]
FEWEST = 30  # points that a shape is fitted to at least
MANY = 800  # points that are fitted at most: more make it slower, not better
SHARP = 20.0  # degrees that two planes turn from each other at least to make an edge
SIDE = 0.12  # share of the points that each side of an edge has at least
REACH = 0.04  # metres from a pick within which an edge is caught, or two of the gaps between points there
ROUND = (0.008, 0.6)  # metres: radii of pipes and spheres
SURE = 0.004  # metres: a centre that is known no better is not told
HELD = 0.7  # share of the points round a pick that the shape holds at least
RIM, BESIDE = 0.02, 12  # metres in depth, and points beside a pick, that tell whether it hangs between two surfaces
FLOOR = 3e-4  # metres: no scanner measures better, so that two fits closer than that are alike


@dataclass(frozen=True)
class Catch:
    """kind: point, plane, edge, pipe or sphere; at (3,): the caught place; all in the frame of the points, metres.

    rms of the points across the shape; spread (see above); points that hold it; normal of the plane towards the scanner;
    axis of an edge or a pipe (unit); angle of an edge between its surfaces, degrees; radius of a pipe or a sphere.
    """

    kind: str
    at: Array
    rms: float = 0.0
    spread: float = 0.0
    points: int = 0
    normal: Array | None = None
    axis: Array | None = None
    angle: float | None = None
    radius: float | None = None
    incidence: float | None = None  # degrees between the ray and the surface's normal


@dataclass(frozen=True)
class _Fit:
    cost: float  # n log(mean truncated square) + k log n
    caught: Catch


def catch(points: Array, pick: Array, towards: Array, noise: float = 0.0015) -> Catch:
    """What was picked at ``pick`` (3,) among points (n, 3) round it, seen from ``towards`` (3,); noise: of a point, metres.

    Never raises for what is there: too few points, or points that no shape holds, are a point.
    """
    p = np.asarray(points, float).reshape(-1, 3)
    if len(p) < FEWEST:
        return Catch("point", pick)
    if len(p) > MANY:
        p = p[np.random.default_rng(len(p)).choice(len(p), MANY, replace=False)]
    limit = max(4 * noise, 0.004)
    fits = list(_fits(p, pick, towards, limit))
    if not fits:
        return Catch("point", pick)
    return min(fits, key=lambda f: f.cost).caught


def hangs_between(points: Array, pick: Array, towards: Array) -> bool:
    """Whether a pick that no shape holds is a mixed point at the rim of the nearer of two surfaces: of the points (n, 3) seen beside it, some
    are clearly nearer, some clearly farther, and hardly one is as far away."""
    ray = (pick - towards) / max(float(np.linalg.norm(pick - towards)), 1e-9)
    off = points - pick
    depth = off @ ray
    aside = np.linalg.norm(off - depth[:, None] * ray, axis=1)
    beside = depth[np.argsort(aside)[: BESIDE + 1]]
    level = int((np.abs(beside) <= RIM).sum()) - 1  # itself
    return level <= 1 and min(int((beside < -RIM).sum()), int((beside > RIM).sum())) >= BESIDE // 4


def _fits(p: Array, pick: Array, towards: Array, limit: float) -> Iterator[_Fit]:
    try:
        plane = widest_plane(p, limit, through=pick).facing(towards)
    except NotEnough:
        return
    if (cost := _scored(plane.off(p), 3, limit)) is not None:
        yield _Fit(cost, _on_plane(plane, pick, towards))
    yield from _edge(p, pick, plane, towards, limit)
    yield from _round(p, pick, towards, limit)


def _on_plane(plane: Plane, pick: Array, towards: Array) -> Catch:
    ray = towards - pick
    incidence = float(np.degrees(np.arccos(np.clip(plane.normal @ ray / max(float(np.linalg.norm(ray)), 1e-9), -1, 1))))
    at = pick - plane.off(pick[None])[0] * plane.normal
    spread = plane.rms / np.sqrt(plane.points)
    return Catch("plane", at, plane.rms, spread, plane.points, normal=plane.normal, incidence=incidence)


def _scored(off: Array, unknowns: int, limit: float) -> float | None:
    """The criterion of a fit with residuals off (n,), metres; None when it does not hold the points."""
    n = len(off)
    if np.count_nonzero(np.abs(off) <= limit) < HELD * n:
        return None
    square = np.minimum(off**2, limit**2)
    return float(n * np.log(square.mean() + FLOOR**2) + unknowns * np.log(n))


def _edge(p: Array, pick: Array, first: Plane, towards: Array, limit: float) -> Iterator[_Fit]:
    rest = p[np.abs(first.off(p)) > limit]
    if len(rest) < max(SIDE * len(p), FEWEST / 2):
        return
    try:
        second = widest_plane(rest, limit).facing(towards)
    except NotEnough:
        return
    for _ in range(4):  # points go to the nearer plane, but for those at the edge itself, which would be chosen by their noise
        sides = _sides(p, first, second, limit)
        if min(len(x) for x in sides) < FEWEST / 2:
            return
        (first, c1, m1), (second, c2, m2) = (_fitted(x, towards) for x in sides)
    along = np.cross(first.normal, second.normal)
    turn = float(np.linalg.norm(along))
    if turn < np.sin(np.radians(SHARP)):
        return
    along /= turn
    # the foot of the pick on the line that both planes hold
    a = np.stack([first.normal, second.normal, along])
    at = np.linalg.solve(a, np.array([-first.offset, -second.offset, along @ pick]))
    both = np.minimum(np.abs(first.off(p)), np.abs(second.off(p)))
    cost = _scored(both, 6, limit)
    if cost is None:
        return
    wide = float(np.linalg.norm(p - pick, axis=1).max())
    if float(np.linalg.norm(at - pick)) > max(REACH, 2 * wide * np.sqrt(np.pi / len(p))):  # the edge is near, the pick on a plane
        yield _Fit(cost, _on_plane(min(first, second, key=lambda x: abs(x.off(pick[None])[0])), pick, towards))
        return
    held = both[both <= limit]
    rms = float(np.sqrt((held**2).mean()))
    # each plane is known at the edge as well as its tilt about its middle lets it be
    across = [float((at - m) @ tilt @ (at - m)) + level for (tilt, level), m in ((c1, m1), (c2, m2))]
    moves = np.linalg.inv(a)[:, :2]
    spread = float(np.sqrt(np.linalg.eigvalsh(moves @ np.diag(across) @ moves.T)[-1]))
    yield _Fit(cost, Catch("edge", at, rms, spread, len(held), axis=along, angle=_between(p, first, second, limit)))


def _sides(p: Array, first: Plane, second: Plane, limit: float) -> tuple[Array, Array]:
    """The points of each of two planes, without those that both hold."""
    a, b = np.abs(first.off(p)), np.abs(second.off(p))
    return p[(a <= limit) & (b > 2 * limit)], p[(b <= limit) & (a > 2 * limit)]


def _fitted(p: Array, towards: Array) -> tuple[Plane, tuple[Array, float], Array]:
    """(plane of total least squares, (covariance of its normal (3, 3), variance of its offset at the middle), middle)."""
    middle = p.mean(axis=0)
    _, s, axes = np.linalg.svd(p - middle, full_matrices=False)
    sigma2 = max(float(s[2] ** 2) / max(len(p) - 3, 1), FLOOR**2 / 4)
    plane = Plane(axes[2], -float(axes[2] @ middle), float(s[2] / np.sqrt(len(p))), len(p)).facing(towards)
    tilt = sigma2 * (np.outer(axes[0], axes[0]) / s[0] ** 2 + np.outer(axes[1], axes[1]) / s[1] ** 2)
    return plane, (tilt, sigma2 / len(p)), middle


def _between(p: Array, first: Plane, second: Plane, limit: float) -> float:
    """Degrees between the surfaces on the side of the scanner: above 180 where they turn away from it, as at a corner that juts."""
    turn = float(np.degrees(np.arccos(np.clip(first.normal @ second.normal, -1, 1))))
    on = p[np.abs(second.off(p)) <= limit]
    juts = float(np.median(first.off(on))) < 0  # the second surface falls back behind the first
    return 180 + turn if juts else 180 - turn


def _round(p: Array, pick: Array, towards: Array, limit: float) -> Iterator[_Fit]:
    """A sphere and a pipe."""
    origin = p.mean(axis=0)
    q = p - origin
    # sphere: |q|^2 = 2 c.q + k (algebraic), then geometric
    solution, *_ = np.linalg.lstsq(np.column_stack([2 * q, np.ones(len(q))]), (q**2).sum(axis=1), rcond=None)
    c = solution[:3]
    start = np.append(c, np.sqrt(max(float(solution[3] + c @ c), 1e-6)))
    for f in _refined(lambda x: np.linalg.norm(q - x[:3], axis=1) - x[3], start, limit):
        x, covariance, off, cost = f
        spread = float(np.sqrt(np.linalg.eigvalsh(covariance[:3, :3])[-1]))
        if ROUND[0] <= x[3] <= ROUND[1] and spread <= SURE:
            held = off[np.abs(off) <= limit]
            rms = float(np.sqrt((held**2).mean()))
            yield _Fit(cost, Catch("sphere", x[:3] + origin, rms, spread, len(held), radius=float(x[3])))
    yield from _pipe(q, origin, pick, limit)


def _pipe(q: Array, origin: Array, pick: Array, limit: float) -> Iterator[_Fit]:
    """Axis by the direction in which normals of neighbourhoods do not turn, then five unknowns: two of the axis' direction,
    two of its place, the radius."""
    axis = _axis_of(q)
    if axis is None:
        return
    u = np.linalg.svd(axis[None])[2][1:]  # two directions across
    flat = q @ u.T
    solution, *_ = np.linalg.lstsq(np.column_stack([2 * flat, np.ones(len(q))]), (flat**2).sum(axis=1), rcond=None)
    c = solution[:2]
    start = np.array([0.0, 0.0, c[0], c[1], np.sqrt(max(float(solution[2] + c @ c), 1e-6))])

    def turned(x: Array) -> Array:
        d = axis + x[0] * u[0] + x[1] * u[1]
        return d / np.linalg.norm(d)

    def off_of(x: Array) -> Array:
        d = turned(x)
        w = q - (x[2] * u[0] + x[3] * u[1])
        return np.linalg.norm(w - (w @ d)[:, None] * d, axis=1) - x[4]

    for x, covariance, off, cost in _refined(off_of, start, limit):
        d, through = turned(x), x[2] * u[0] + x[3] * u[1]
        along = float((pick - origin - through) @ d)
        by = np.zeros((2, 5))  # how the place across moves with the unknowns, at the pick
        by[0, 0], by[1, 1], by[0, 2], by[1, 3] = along, along, 1, 1
        spread = float(np.sqrt(np.linalg.eigvalsh(by @ covariance @ by.T)[-1]))
        if ROUND[0] <= x[4] <= ROUND[1] and spread <= SURE:
            held = off[np.abs(off) <= limit]
            at = origin + through + along * d
            rms = float(np.sqrt((held**2).mean()))
            yield _Fit(cost, Catch("pipe", at, rms, spread, len(held), axis=d, radius=float(x[4])))


def _axis_of(q: Array) -> Array | None:
    """(3,) the direction along which the surface does not turn; None when there are too few neighbourhoods."""
    seeds = q[:: max(1, len(q) // 60)]
    normals = []
    for s in seeds:
        near = q[np.argsort(((q - s) ** 2).sum(axis=1))[: max(12, len(q) // 12)]]
        _, size, axes = np.linalg.svd(near - near.mean(axis=0), full_matrices=False)
        if size[1] > 3 * size[2]:
            normals.append(axes[2])
    if len(normals) < 8:
        return None
    n = np.array(normals)
    axis: Array = np.linalg.eigh(n.T @ n)[1][:, 0]
    return axis


def _refined(off_of: Callable[[Array], Array], start: Array, limit: float) -> Iterator[tuple[Array, Array, Array, float]]:
    """(unknowns, covariance, residuals, criterion) of a robust fit from a start; nothing when it holds no points."""
    if not np.isfinite(start).all() or abs(start[-1]) > 10 * ROUND[1]:
        return
    found = least_squares(off_of, start, loss="soft_l1", f_scale=limit / 2, max_nfev=40)
    off = off_of(found.x)
    keep = np.abs(off) <= limit
    cost = _scored(off, len(start), limit)
    if cost is None:
        return
    jacobian = np.asarray(found.jac)[keep]
    n = jacobian.T @ jacobian
    if np.linalg.cond(n) > 1e12:
        return
    sigma2 = max(float((off[keep] ** 2).sum()) / max(int(keep.sum()) - len(start), 1), FLOOR**2 / 4)
    yield found.x, sigma2 * np.linalg.inv(n), off, cost
