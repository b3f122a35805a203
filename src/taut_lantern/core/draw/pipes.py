"""A pipe grown from a pick: cylinders of one radius, followed both ways along the points and round elbows.

The axis of a piece is what its surface normals are square to; position and radius come from a circle across it and are refined together
(distances to the cylinder, robust). From there the pipe is followed step by step; where it ends, a piece of the same radius that starts
near by and turns off is an elbow. Frame of the part, metres.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares
from scipy.spatial import cKDTree

from ..errors import NotEnough
from .fit import Circle, fit_circle
from .series import nominal

Array = NDArray[np.float64]
SMALLEST, LARGEST = 0.010, 0.60  # metres of radius
GAP = 0.5  # metres that a run may be bridged over
ROUND = math.radians(50)  # of its skin that must be seen
CLOSE = 0.008  # metres off a cylinder within which points are of it
MOST = 24  # runs of a pipe


@dataclass(frozen=True)
class Run:
    """A straight piece from a to b (3,), its radius, rms of its points (m) and how many; seen: share of its length with points."""

    a: Array
    b: Array
    radius: float
    rms: float
    points: int
    seen: float

    @property
    def along(self) -> Array:
        return np.asarray((self.b - self.a) / max(float(np.linalg.norm(self.b - self.a)), 1e-9))

    @property
    def length(self) -> float:
        return float(np.linalg.norm(self.b - self.a))


@dataclass(frozen=True)
class Pipe:
    """runs in their order along the pipe; corners (n + 1, 3): its ends, and where the axes of runs meet; nominal: the diameter of the standard
    series, when the fit allows one."""

    runs: list[Run]
    corners: Array
    radius: float
    rms: float
    points: int
    nominal: float | None
    length: float = field(default=0.0)


@dataclass(frozen=True)
class _Axis:
    at: Array
    along: Array
    radius: float
    rms: float = 0.0


class _Cloud:
    """Points (n, 3), thinned, with what lies near any place."""

    def __init__(self, points: Array, cell: float = 0.006) -> None:
        key = np.floor((points - points.min(axis=0)) / cell).astype(np.int64)
        _, first = np.unique(key @ np.array([1, 1 << 21, 1 << 42]), return_index=True)
        self.points = points[np.sort(first)]
        self.tree = cKDTree(self.points)

    def near(self, at: Array, reach: float) -> Array:
        return np.asarray(self.points[self.tree.query_ball_point(at, reach)])

    def beside(self, axis: _Axis, low: float, high: float, reach: float) -> Array:
        """Points within ``reach`` of an axis between two places along it."""
        middle, half = axis.at + axis.along * (low + high) / 2, (high - low) / 2
        p = self.near(middle, math.hypot(half, reach))
        t = (p - axis.at) @ axis.along
        off = np.linalg.norm(p - axis.at - np.outer(t, axis.along), axis=1)
        return p[(t >= low) & (t <= high) & (off < reach)]


def _normals(p: Array) -> Array:
    """Unit normals (n, 3) of points from the 12 nearest of them."""
    _, index = cKDTree(p).query(p, k=min(12, len(p)))
    near = p[index] - p[index].mean(axis=1, keepdims=True)
    return np.asarray(np.linalg.eigh(np.einsum("nki,nkj->nij", near, near))[1][:, :, 0])


def _fitted(p: Array, axis: _Axis, hold: float | None = None) -> _Axis:
    """A cylinder refined on points; hold: its radius, kept."""
    u = np.cross(axis.along, [1.0, 0, 0] if abs(axis.along[0]) < 0.8 else [0, 1.0, 0])
    u /= np.linalg.norm(u)
    v = np.cross(axis.along, u)

    def made(x: Array) -> tuple[Array, Array, float]:
        along = axis.along + x[2] * u + x[3] * v
        return axis.at + x[0] * u + x[1] * v, along / np.linalg.norm(along), hold if hold is not None else float(x[4])

    def off(x: Array) -> Array:
        at, along, radius = made(x)
        d = p - at
        return np.asarray(np.linalg.norm(d - np.outer(d @ along, along), axis=1) - radius)

    start = np.array([0, 0, 0, 0, axis.radius])[: 4 if hold is not None else 5]
    found = least_squares(off, start, loss="soft_l1", f_scale=0.003, max_nfev=40)
    at, along, radius = made(found.x)
    rest = np.abs(off(found.x))
    return _Axis(at, along, radius, float(np.sqrt(np.mean(np.minimum(rest, CLOSE) ** 2))))


def _seed(cloud: _Cloud, pick: Array, radius: float | None = None) -> _Axis | None:
    """The cylinder that a place lies on the skin of; None when there is none. radius: the one that it must have, within 6 %."""
    best: tuple[float, _Axis] | None = None
    for reach in (0.06, 0.12, 0.25, 0.5, 0.9):
        if radius is not None and not 1.2 * radius < reach < 12 * radius + 0.1:
            continue
        p = cloud.near(pick, reach)
        if len(p) < 25:
            continue
        if len(p) > 1500:
            p = p[np.random.default_rng(len(p)).permutation(len(p))[:1500]]
        normal = _normals(p)
        flat = np.linalg.eigh(normal.T @ normal)
        along = flat[1][:, 0]
        if flat[0][1] < 0.02 * len(p):  # all one way: a plane
            continue
        u = np.linalg.eigh(np.outer(along, along))[1][:, :2].T
        q = (p - pick) @ u.T
        found = _round(q, radius)
        if found is None:
            continue
        centre, r = found
        axis = _fitted(p[np.abs(np.linalg.norm(q - centre, axis=1) - r) < 2 * CLOSE], _Axis(pick + centre @ u, along, r))
        off = np.abs(_off(p, axis))
        share = float((off < CLOSE).mean())
        on_it = abs(float(_off(pick[None], axis)[0])) < 0.015
        fits = radius is None or abs(axis.radius - radius) < 0.06 * radius + 0.001
        if share > 0.45 and on_it and fits and SMALLEST <= axis.radius <= LARGEST and _seen(p[off < CLOSE], axis) > ROUND:
            score = share * math.sqrt(len(p)) / (0.001 + axis.rms)
            if best is None or score > best[0]:
                best = (score, axis)
    return best[1] if best else None


def _round(q: Array, radius: float | None) -> tuple[Array, float] | None:
    rng = np.random.default_rng(len(q))
    best, most = None, 0
    for _ in range(80):
        c, r, _ = fit_circle(q[rng.choice(len(q), 3, replace=False)])
        if not SMALLEST <= r <= LARGEST or (radius is not None and abs(r - radius) > 0.15 * radius):
            continue
        on = int((np.abs(np.linalg.norm(q - c, axis=1) - r) < CLOSE).sum())
        if on > most:
            best, most = (c, r), on
    return best if most > 0.4 * len(q) else None


def _off(p: Array, axis: _Axis) -> Array:
    d = p - axis.at
    return np.asarray(np.linalg.norm(d - np.outer(d @ axis.along, axis.along), axis=1) - axis.radius)


def _seen(p: Array, axis: _Axis) -> float:
    """How much of the round of a cylinder points cover, radians."""
    d = p - axis.at
    u = np.cross(axis.along, [1.0, 0, 0] if abs(axis.along[0]) < 0.8 else [0, 1.0, 0])
    u /= np.linalg.norm(u)
    angle = np.arctan2(d @ np.cross(axis.along, u), d @ u)
    return len(np.unique(np.floor(angle / math.radians(10)))) * math.radians(10)


def _followed(cloud: _Cloud, axis: _Axis) -> tuple[_Axis, float, float, list[tuple[float, float]]]:
    """(axis refined over its whole run, low, high: where it ends along it, the pieces of it that have points)."""
    step = max(0.08, min(1.5 * axis.radius, 0.25))
    pieces: list[tuple[float, float]] = []
    ends = [0.0, 0.0]
    for way in (1, -1):
        here, own, gap = 0.0, axis, 0.0
        while gap <= GAP and abs(here) < 60:
            low, high = sorted((here, here + way * step))
            p = cloud.beside(own, low, high, own.radius + 0.03)
            off = np.abs(_off(p, own)) if len(p) else np.zeros(0)
            on = p[off < CLOSE]
            if len(on) >= 8 and len(on) > 0.4 * len(p) and _seen(on, own) > ROUND:
                pieces.append((low, high))
                here, gap = here + way * step, 0.0
                ends[0 if way < 0 else 1] = here
                back = sorted((here, here - way * max(1.0, 6 * step)))
                some = cloud.beside(own, back[0], back[1], own.radius + CLOSE)
                some = some[np.abs(_off(some, own)) < CLOSE]
                if len(some) > 30 and abs(here) > 3 * step:
                    new = _fitted(some[:: max(1, len(some) // 800)], own, own.radius)
                    if abs(float(new.along @ own.along)) > math.cos(math.radians(2)):
                        own = replace(new, at=new.at + new.along * float((axis.at - new.at) @ new.along))
            else:
                here, gap = here + way * step, gap + step
    low, high = ends
    p = cloud.beside(axis, low, high, axis.radius + 0.03)
    p = p[np.abs(_off(p, axis)) < 2 * CLOSE]
    if len(p) > 50:
        axis = _fitted(p[:: max(1, len(p) // 3000)], axis)
        axis = _fitted(p[np.abs(_off(p, axis)) < CLOSE][:: max(1, len(p) // 3000)], axis)
    t = (p - axis.at) @ axis.along
    held = t[np.abs(_off(p, axis)) < CLOSE]
    if len(held) > 20:
        low, high = float(np.percentile(held, 0.3)), float(np.percentile(held, 99.7))
    return axis, low, high, pieces


def grown(points: Array, pick: Array) -> Pipe:
    """The pipe that a pick lies on. points (n, 3), pick (3,): part frame, metres. NotEnough when none is there."""
    cloud = _Cloud(points) if len(points) else None
    seed = _seed(cloud, pick) if cloud else None
    if cloud is None or seed is None:
        raise NotEnough("no pipe is seen here", subject="pipe", remedy="pick the skin of a pipe where more of its round is seen")
    first = _run(cloud, seed)
    chain = [first]
    for end in (1, 0):
        while len(chain) < MOST:
            last = chain[-1] if end else chain[0]
            found = _elbow(cloud, last, end == 1 if last is not first or len(chain) == 1 else bool(end), first.radius, chain)
            if found is None:
                break
            chain = [*chain, found] if end else [found, *chain]
    corners = _corners(chain)
    weight = np.array([r.length for r in chain])
    radius = float(np.average([r.radius for r in chain], weights=weight))
    rms = float(np.sqrt(np.average([r.rms**2 for r in chain], weights=weight)))
    count = sum(r.points for r in chain)
    told = nominal(Circle((0.0, 0.0), radius, rms, count, 0.5))
    long = float(np.linalg.norm(np.diff(corners, axis=0), axis=1).sum())
    return Pipe(chain, corners, radius, rms, count, told, long)


def _run(cloud: _Cloud, axis: _Axis) -> Run:
    axis, low, high, pieces = _followed(cloud, axis)
    p = cloud.beside(axis, low, high, axis.radius + CLOSE)
    p = p[np.abs(_off(p, axis)) < CLOSE]
    rms = float(np.sqrt(np.mean(_off(p, axis) ** 2))) if len(p) else 0.0
    seen = min(1.0, sum(b - a for a, b in pieces) / max(high - low, 1e-6))
    return Run(axis.at + axis.along * low, axis.at + axis.along * high, axis.radius, rms, len(p), seen)


def _elbow(cloud: _Cloud, last: Run, forward: bool, radius: float, known: list[Run]) -> Run | None:
    """The run of the same radius that begins near an end of another and turns off; its first end is the near one going forward, its last
    going back."""
    end, way = (last.b, last.along) if forward else (last.a, -last.along)
    near = cloud.near(end + way * 2.5 * radius, 6 * radius + 0.1)
    axis = _Axis(last.a, last.along, last.radius)
    loose = near[(np.abs(_off(near, axis)) > 2 * CLOSE) | ((near - end) @ way > 1.2 * radius)]
    if len(loose) < 30:
        return None
    rng = np.random.default_rng(len(loose))
    best: Run | None = None
    for pick in loose[rng.permutation(len(loose))[:14]]:
        seed = _seed(cloud, pick, radius)
        if seed is None or abs(float(seed.along @ last.along)) > math.cos(math.radians(12)):
            continue
        gap = _apart(_Axis(end, last.along, radius), seed)
        if gap > 0.5 * radius + 0.01 or any(
            _apart(_Axis(k.a, k.along, radius), seed) < 0.005 and abs(float(k.along @ seed.along)) > 0.99 for k in known
        ):
            continue
        run = _run(cloud, seed)
        meets = _meeting(_Axis(end, last.along, radius), _Axis(run.a, run.along, radius))
        reach = min(float(np.linalg.norm(meets - run.a)), float(np.linalg.norm(meets - run.b)))
        meets_both = max(reach, float(np.linalg.norm(meets - end))) < 6 * radius + 0.15
        if run.length > 2 * radius and meets_both and (best is None or run.points > best.points):
            best = run
    if best is None:
        return None
    meets = _meeting(_Axis(end, last.along, radius), _Axis(best.a, best.along, radius))
    starts = float(np.linalg.norm(meets - best.a)) < float(np.linalg.norm(meets - best.b))
    return best if starts == forward else replace(best, a=best.b, b=best.a)


def _apart(one: _Axis, other: _Axis) -> float:
    """Metres between two lines."""
    cross = np.cross(one.along, other.along)
    long = float(np.linalg.norm(cross))
    d = other.at - one.at
    return abs(float(d @ cross)) / long if long > 1e-6 else float(np.linalg.norm(d - one.along * (d @ one.along)))


def _meeting(one: _Axis, other: _Axis) -> Array:
    """The middle of the shortest way between two lines."""
    d, c = other.at - one.at, float(one.along @ other.along)
    s = (float(d @ one.along) - c * float(d @ other.along)) / max(1 - c * c, 1e-9)
    t = (c * float(d @ one.along) - float(d @ other.along)) / max(1 - c * c, 1e-9)
    return np.asarray((one.at + s * one.along + other.at + t * other.along) / 2)


def _corners(chain: list[Run]) -> Array:
    out = [chain[0].a]
    for one, other in zip(chain, chain[1:], strict=False):
        out.append(_meeting(_Axis(one.b, one.along, one.radius), _Axis(other.a, other.along, other.radius)))
    return np.array([*out, chain[-1].b])
