"""A pipe grown from a pick: cylinders of one radius, followed both ways along the points and round elbows.

The axis of a piece is what its surface normals are square to; position and radius come from a circle across it and are refined together
(distances to the cylinder, robust). From there the pipe is followed step by step; where it ends, a piece of the same radius that starts
near by and turns off is an elbow. Frame of the part, metres.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field, replace

import numpy as np

from ..errors import NotEnough
from .bends import Bend, bend
from .cylinders import CLOSE, Array, Axis, Cloud, apart, close_to, fitted, meeting, normals, off_axis, seen_round
from .fit import Circle
from .series import nominal

SMALLEST, LARGEST = 0.010, 0.60  # metres of radius
GAP = 0.5  # metres that a run may be bridged over
ROUND = math.radians(50)  # of its skin that must be seen
MOST = 24  # runs of a pipe
MANY = 1500  # points that axes are tried on
WHOLE = 0.7  # of what lies beside a bend that has to be on its skin for a run to be a chord of it
TRIES = 40_000_000  # distances of points to axes that may be tried at one end


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
    bends: tuple[Bend | None, ...] = ()  # at each corner between runs; None where its points do not tell it


def _seed(cloud: Cloud, pick: Array, radius: float | None = None) -> Axis | None:
    """The cylinder that a place lies on the skin of; None when there is none. radius: the one that it must have, within 6 %."""
    best: tuple[float, Axis] | None = None
    for reach in (0.06, 0.12, 0.25, 0.5, 0.9):
        if radius is not None and not 1.2 * radius < reach < 12 * radius + 0.1:
            continue
        p = cloud.near(pick, reach)
        if len(p) < 25:
            continue
        if len(p) > 1500:
            p = p[np.random.default_rng(len(p)).permutation(len(p))[:1500]]
        normal = normals(p)
        flat = np.linalg.eigh(normal.T @ normal)
        spread = np.linalg.eigh(np.cov(p.T))
        ways = [flat[1][:, 0]] if flat[0][1] > 0.02 * len(p) else []  # not all one way, as of a plane
        if spread[0][2] > 9 * spread[0][1]:  # thin and long, hardly seen: its points lie along it
            ways.append(spread[1][:, 2])
        for along in ways:
            axis = _about(p, pick, along, radius)
            if axis is None:
                continue
            close = close_to(axis.radius)
            off = np.abs(off_axis(p, axis))
            share = float((off < close).mean())
            on_it = abs(float(off_axis(pick[None], axis)[0])) < 0.015
            fits = radius is None or abs(axis.radius - radius) < 0.06 * radius + 0.001
            if share > 0.45 and on_it and fits and SMALLEST <= axis.radius <= LARGEST and seen_round(p[off < close], axis) > ROUND:
                score = share * math.sqrt(len(p)) / (0.001 + axis.rms)
                if best is None or score > best[0]:
                    best = (score, axis)
    return best[1] if best else None


def _about(p: Array, pick: Array, along: Array, radius: float | None) -> Axis | None:
    """The cylinder of points (n, 3) whose axis goes about that way; None when they lie on no circle across it."""
    u = np.linalg.eigh(np.outer(along, along))[1][:, :2].T
    q = (p - pick) @ u.T
    found = _round(q, radius)
    if found is None:
        return None
    centre, r = found
    return fitted(p[np.abs(np.linalg.norm(q - centre, axis=1) - r) < 2 * CLOSE], Axis(pick + centre @ u, along, r))


def _round(q: Array, radius: float | None) -> tuple[Array, float] | None:
    """(centre (2,), radius) of the circle through three of the points (n, 2) that most of them lie on; None when fewer than two fifths do."""
    i = np.random.default_rng(len(q)).integers(0, len(q), (80, 3))
    a, b, c = q[i[:, 0]], q[i[:, 1]] - q[i[:, 0]], q[i[:, 2]] - q[i[:, 0]]
    twice = 2 * (b[:, 0] * c[:, 1] - b[:, 1] * c[:, 0])
    ok = np.abs(twice) > 1e-9
    b2, c2 = (b**2).sum(axis=1), (c**2).sum(axis=1)
    with np.errstate(divide="ignore", invalid="ignore"):
        u = np.column_stack([c[:, 1] * b2 - b[:, 1] * c2, b[:, 0] * c2 - c[:, 0] * b2]) / twice[:, None]
    r = np.linalg.norm(u, axis=1)
    ok &= (r >= SMALLEST) & (r <= LARGEST)
    if radius is not None:
        ok &= np.abs(r - radius) <= 0.15 * radius
    if not ok.any():
        return None
    centre, r = (a + u)[ok], r[ok]
    off = np.abs(np.linalg.norm(q[None] - centre[:, None], axis=2) - r[:, None])
    on = (off < CLOSE).sum(axis=1)
    k = int(np.argmax(on))
    return (centre[k], float(r[k])) if on[k] > 0.4 * len(q) else None


def _goes_on(cloud: Cloud, own: Axis, here: float, way: int, step: float) -> float:
    """How far from a place on its axis a pipe is seen to go on: a step, or where points lie far apart as many as have enough of them; else 0."""
    close = close_to(own.radius)
    for reach in (step, 2 * step, 4 * step):
        if reach > max(step, GAP):
            break
        low, high = sorted((here, here + way * reach))
        p = cloud.beside(own, low, high, own.radius + 0.03)
        on = p[np.abs(off_axis(p, own)) < close] if len(p) else p
        many, few = len(on) >= 8 and len(on) > 0.4 * len(p), len(on) >= 5 and len(on) > 0.8 * len(p)
        if (many and seen_round(on, own) > ROUND) or (few and len(on) < 40 and seen_round(on, own) > ROUND / 2):
            t = (on - own.at) @ own.along * way
            if t.max() - way * here > 0.6 * reach:
                return reach
    return 0.0


def _followed(cloud: Cloud, axis: Axis) -> tuple[Axis, float, float, list[tuple[float, float]]]:
    """(axis refined over its whole run, low, high: where it ends along it, the pieces of it that have points)."""
    step, close = max(0.08, min(1.5 * axis.radius, 0.25)), close_to(axis.radius)
    pieces: list[tuple[float, float]] = []
    ends = [0.0, 0.0]
    for way in (1, -1):
        here, own, gap = 0.0, axis, 0.0
        while gap <= GAP and abs(here) < 60:
            reach = _goes_on(cloud, own, here, way, step)
            if reach:
                pieces.append((min(here, here + way * reach), max(here, here + way * reach)))
                here, gap = here + way * reach, 0.0
                ends[0 if way < 0 else 1] = here
                back = sorted((here, here - way * max(1.0, 6 * reach)))
                some = cloud.beside(own, back[0], back[1], own.radius + close)
                some = some[np.abs(off_axis(some, own)) < close]
                if len(some) > 30 and abs(here) > 3 * step:
                    new = fitted(some[:: max(1, len(some) // 800)], own, own.radius)
                    if abs(float(new.along @ own.along)) > math.cos(math.radians(2)):
                        own = replace(new, at=new.at + new.along * float((axis.at - new.at) @ new.along))
            else:
                here, gap = here + way * step, gap + step
    low, high = ends
    p = cloud.beside(axis, low, high, axis.radius + 0.03)
    p = p[np.abs(off_axis(p, axis)) < 2 * CLOSE]
    if len(p) > 50:
        for within in (2 * CLOSE, CLOSE):
            rest = p[np.abs(off_axis(p, axis)) < within]
            new = fitted(rest[:: max(1, len(rest) // 3000)], axis) if len(rest) > 50 else axis
            if abs(new.radius - axis.radius) < 0.3 * axis.radius and abs(float(new.along @ axis.along)) > math.cos(math.radians(5)):
                axis = new
    t = (p - axis.at) @ axis.along
    held = t[np.abs(off_axis(p, axis)) < CLOSE]
    if len(held) > 20:
        low, high = float(np.percentile(held, 0.3)), float(np.percentile(held, 99.7))
    return axis, low, high, pieces


def grown(points: Array, pick: Array, hear: Callable[[float], None] | None = None) -> Pipe:
    """The pipe that a pick lies on. points (n, 3), pick (3,): part frame, metres. hear: told after each run how many metres there are; may
    raise. NotEnough when none is there."""
    cloud = Cloud(points) if len(points) else None
    seed = _seed(cloud, pick) if cloud else None
    if cloud is None or seed is None:
        raise NotEnough("no pipe is seen here", subject="pipe", remedy="pick the skin of a pipe where more of its round is seen")
    first = _run(cloud, seed)
    chain = [first]
    if hear:
        hear(first.length)
    for end in (1, 0):
        while len(chain) < MOST:
            last = chain[-1] if end else chain[0]
            found = _elbow(cloud, last, end == 1 if last is not first or len(chain) == 1 else bool(end), first.radius, chain)
            if found is None:
                break
            chain = [*chain, found] if end else [found, *chain]
            if hear:
                hear(sum(r.length for r in chain))
    chain, bends = _bent(cloud, chain, first.radius)
    corners = _corners(chain)
    weight = np.array([r.length for r in chain])
    radius = float(np.average([r.radius for r in chain], weights=weight))
    rms = float(np.sqrt(np.average([r.rms**2 for r in chain], weights=weight)))
    count = sum(r.points for r in chain)
    told = nominal(Circle((0.0, 0.0), radius, rms, count, 0.5))
    long = float(np.linalg.norm(np.diff(corners, axis=0), axis=1).sum())
    return Pipe(chain, corners, radius, rms, count, told, long, bends)


def _bent(cloud: Cloud, chain: list[Run], radius: float) -> tuple[list[Run], tuple[Bend | None, ...]]:
    """(the runs without chords of wide bends, the bends between those that stay)."""
    k = 1
    while k < len(chain) - 1:
        one, other = chain[k - 1], chain[k + 1]
        found = _bend_of(cloud, one, other, radius)
        wide = found is not None and chain[k].length < found.radius * found.turn + 2 * radius and found.share > WHOLE
        chain = [*chain[:k], *chain[k + 1 :]] if wide else chain
        k += not wide
    return chain, tuple(_bend_of(cloud, a, b, radius) for a, b in zip(chain, chain[1:], strict=False))


def _bend_of(cloud: Cloud, one: Run, other: Run, radius: float) -> Bend | None:
    first, second = Axis(one.a, one.along, radius), Axis(other.a, other.along, radius)
    if abs(float(one.along @ other.along)) > 0.99 or apart(first, second) > 0.25 * radius + 0.01:
        return None
    corner = meeting(first, second)
    return bend(cloud.near(corner, 8 * radius + 0.3), corner, one.along, other.along, radius)


def _run(cloud: Cloud, axis: Axis) -> Run:
    axis, low, high, pieces = _followed(cloud, axis)
    p = cloud.beside(axis, low, high, axis.radius + CLOSE)
    p = p[np.abs(off_axis(p, axis)) < CLOSE]
    rms = float(np.sqrt(np.mean(off_axis(p, axis) ** 2))) if len(p) else 0.0
    seen = min(1.0, sum(b - a for a, b in pieces) / max(high - low, 1e-6))
    return Run(axis.at + axis.along * low, axis.at + axis.along * high, axis.radius, rms, len(p), seen)


def _elbow(cloud: Cloud, last: Run, forward: bool, radius: float, known: list[Run]) -> Run | None:
    """The run of the same radius that begins near an end of another and turns off; its first end is the near one going forward, its last
    going back. Tried are axes that meet the other's near its end, in all directions: most points on the skin, none within."""
    end, way = (last.b, last.along) if forward else (last.a, -last.along)
    reach = 6 * radius + 0.2
    near = cloud.near(end + way * 1.5 * radius, reach)
    on_last = (np.abs(off_axis(near, Axis(last.a, last.along, last.radius))) < 2 * close_to(radius)) & ((near - end) @ way < 0.5 * radius)
    loose = near[~on_last]
    if len(loose) < 8:
        return None
    best: Run | None = None
    for axis in _tried(loose, end, way, radius, reach):
        if any(
            apart(Axis(k.a, k.along, radius), axis) < 0.01 and abs(float(k.along @ axis.along)) > 0.99
            for k in [*known, *([best] if best else [])]
        ):
            continue
        if not _clear(cloud, axis, -radius, 0.5 * radius):
            continue
        run = _run(cloud, axis)
        if not _is_pipe(cloud, run, radius) or abs(float(run.along @ way)) > math.cos(math.radians(12 if run.length > 3 * radius else 30)):
            continue
        one, other = Axis(end, last.along, radius), Axis(run.a, run.along, radius)
        meets = meeting(one, other)
        ends = min(float(np.linalg.norm(meets - run.a)), float(np.linalg.norm(meets - run.b)))
        joined = max(ends, float(np.linalg.norm(meets - end))) < reach + 0.05 and apart(one, other) < 0.25 * radius + 0.01
        if joined and run.length > 1.2 * radius and (best is None or run.points > best.points):
            best = run
    if best is None:
        return None
    meets = meeting(Axis(end, last.along, radius), Axis(best.a, best.along, radius))
    starts = float(np.linalg.norm(meets - best.a)) < float(np.linalg.norm(meets - best.b))
    return best if starts == forward else replace(best, a=best.b, b=best.a)


def _is_pipe(cloud: Cloud, run: Run, radius: float) -> bool:
    """A run of the radius wanted, on whose skin most of what lies near it is, and hardly anything within."""
    if run.points < 12 or abs(run.radius - radius) > 0.06 * radius + 0.001 or run.rms > 0.0035:
        return False
    axis, close = Axis(run.a, run.along, run.radius), close_to(radius)
    if run.length < 3 * radius:
        p = cloud.beside(axis, 0.0, run.length, radius + close)
        if seen_round(p[np.abs(off_axis(p, axis)) < close], axis) < math.radians(140):
            return False
    return _clear(cloud, axis, 0.0, run.length)


def _clear(cloud: Cloud, axis: Axis, low: float, high: float) -> bool:
    """Between two places on an axis most points near a cylinder are on its skin, and hardly any within it."""
    p = cloud.beside(axis, low, high, axis.radius + 0.03)
    off, close = off_axis(p, axis), close_to(axis.radius)
    on = int((np.abs(off) < close).sum())
    return on > 0.6 * int((off > -0.03).sum()) and int((off < -2 * close).sum()) < 0.2 * on


def _tried(loose: Array, end: Array, way: Array, radius: float, reach: float) -> list[Axis]:
    """Up to ten axes that meet another's near its end and that points (n, 3) lie round, refined; those with most points first."""
    tol, near_by = 0.35 * radius, min(reach, 4 * radius + 0.12)
    turned = normals(loose) if radius > 0.04 else None  # of thin ones the nearest points lie all round
    even = np.unique(np.floor(loose / (radius / 5)).astype(np.int64), axis=0, return_index=True)[1]
    even = even[np.random.default_rng(len(even)).permutation(len(even))[:MANY]]
    some, normal = loose[even], turned[even] if turned is not None else None
    places = np.arange(-radius, max(4.6 * radius, 0.2), 0.6 * radius)
    step = min(max(math.degrees(tol / near_by), math.degrees(math.sqrt(9.4 * len(some) * len(places) / TRIES))), 6.0)
    u = np.cross(way, [1.0, 0, 0] if abs(way[0]) < 0.8 else [0, 1.0, 0])
    u /= np.linalg.norm(u)
    v = np.cross(way, u)
    turns = []
    for angle in np.radians(np.arange(15, 121, step)):
        round_ = np.radians(np.arange(0, 360, step / max(math.sin(angle), 0.2)))
        turns.append(math.cos(angle) * way + math.sin(angle) * (np.outer(np.cos(round_), u) + np.outer(np.sin(round_), v)))
    along = np.concatenate(turns)
    found: list[tuple[float, Array, Array]] = []
    for t in places:
        d = some - (end + way * t)
        f = d @ along.T
        off = np.sqrt(np.maximum((d**2).sum(axis=1)[:, None] - f**2, 1e-12))
        here = (f > radius) & (f < near_by)
        skin = here & (np.abs(off - radius) < tol)
        if normal is not None:
            skin &= np.abs((normal * d).sum(axis=1)[:, None] - f * (normal @ along.T)) > 0.85 * off
        score = skin.sum(axis=0) - 3.0 * (here & (f < 2.5 * radius) & (off < radius - tol)).sum(axis=0)
        found += [(float(score[k]), end + way * t, along[k]) for k in np.argsort(score)[-12:] if score[k] >= 5]
    out: list[Axis] = []
    looked: list[Array] = []
    for _, at, to in sorted(found, key=lambda x: -x[0]):
        if any(float(to @ o) > math.cos(math.radians(10)) for o in looked):
            continue
        looked.append(to)
        d = loose - at
        f = d @ to
        own = loose[(f > 0.5 * radius) & (f < reach) & (np.abs(np.linalg.norm(d - np.outer(f, to), axis=1) - radius) < 1.5 * tol)]
        if len(own) >= 5:
            axis = fitted(own, Axis(at, to, radius), radius)
            place = float((at + to * 2 * radius - axis.at) @ axis.along)
            out.append(replace(axis, at=axis.at + axis.along * place))
        if len(looked) == 10:
            break
    return out


def _corners(chain: list[Run]) -> Array:
    out = [chain[0].a]
    for one, other in zip(chain, chain[1:], strict=False):
        out.append(meeting(Axis(one.b, one.along, one.radius), Axis(other.a, other.along, other.radius)))
    return np.array([*out, chain[-1].b])
