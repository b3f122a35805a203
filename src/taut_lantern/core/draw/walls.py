"""What a cut shows, put together: faces with both ends at corners, the walls between two faces, arcs, and what is only furniture.

Lines alone (fit.py) end where points end. Here two faces that meet get the corner where their lines cross; two faces that look away from
each other are one wall and have a thickness; a chain of short lines that turns steadily is an arc; and points above and below the cut
say whether a face leans and whether it goes on above the height of furniture. Section frame, metres; ``towards`` is up in a plan.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from .arcs import Arc, arcs_of
from .faces import SAME, Around, Face, face_of, steps_of
from .fit import Circle, Line, find_circles, find_lines, thin

Array = NDArray[np.float64]
REACH = 0.30  # metres that an end may be moved to a corner
BESIDE = 0.15  # metres that an end may be moved to a face that goes on
FEW = 0.50  # metres of a face that is too short to tell its direction
TURN = math.radians(15)  # two lines that differ less have no corner
THICK = (0.03, 0.80)  # metres between the two faces of a wall
ALIKE = math.radians(1.0)
DOOR = (5.0, 0.15)  # metres along of a gap in a wall, and across that its pieces may be off one another
SHORT: dict[str, Any] = {"shortest": 0.12, "tolerance": 0.008, "gap": 0.1, "density": 25.0, "least": 8}  # sides of columns, of niches
SPARSE: dict[str, Any] = {"shortest": 1.5, "tolerance": 0.02, "gap": 0.8, "density": 4.0, "least": 8}  # far walls, of few points


@dataclass(frozen=True)
class Wall:
    """Two faces (their numbers) that look away from each other; thickness and its error, metres, over their common length."""

    one: int
    other: int
    thickness: float
    error: float


@dataclass(frozen=True)
class Found:
    faces: list[Face]
    walls: list[Wall]
    arcs: list[Arc]
    circles: list[Circle]


def find(slab: Array, around: Around, level: bool) -> Found:
    """Faces, walls, arcs and circles of a slab (n, 3). level: the cut is a plan, so that what stands above it tells of lean and height."""
    circles = find_circles(slab)
    flat = slab[:, :2]
    for k in circles:  # what a circle explains is not offered as short lines again
        flat = flat[np.abs(np.hypot(flat[:, 0] - k.centre[0], flat[:, 1] - k.centre[1]) - k.radius) > 0.015]
    every = thin(flat)
    flat = _thin_ones(every)
    lines = find_lines(flat)
    lines += find_lines(_beside(flat, lines), **SPARSE)
    lines = [x for x in lines if not _edge_of_area(x, every)]
    faces = [f for x in lines if (f := face_of((x.a, x.b), around, level)) is not None]
    faces = [piece for f in faces for piece in steps_of(f, around, level)]
    faces, arcs = arcs_of(faces, flat)
    few = [x for x in find_lines(_beside(flat, lines), **SHORT) if not _edge_of_area(x, every)]
    short = [f for x in few if (f := face_of((x.a, x.b), around, level)) is not None]
    faces = corners(squared(_attached(faces, short), around))
    faces = returns(faces, around, level)
    return Found(faces, walls_of(faces), arcs, circles)


def _thin_ones(flat: Array, reach: float = 0.06) -> Array:
    """The points (n, 2) that do not lie amid a filled area, as where a cut grazes the top of a cupboard or goes through leaves."""
    if len(flat) < 30:
        return flat
    distance, index = cKDTree(flat).query(flat, k=min(32, len(flat)), distance_upper_bound=reach)
    there = np.isfinite(distance)
    near = np.where(there[..., None], flat[np.minimum(index, len(flat) - 1)] - flat[:, None, :], 0.0)
    count = there.sum(axis=1)
    mean = near.sum(axis=1) / count[:, None]
    spread = np.einsum("nki,nkj->nij", near, near) / count[:, None, None] - mean[:, :, None] * mean[:, None, :]
    low, high = np.linalg.eigvalsh(spread).T
    area = (count >= 26) & (low > 0.2 * high)  # more than two lines that cross would have
    return flat[~area]


def _edge_of_area(line: Line, flat: Array) -> bool:
    """Whether one side of a line is filled throughout, a fifth as densely as itself: the edge of a table top that the cut grazes, or leaves."""
    a = np.array(line.a)
    length = math.dist(line.a, line.b)
    along = (np.array(line.b) - a) / length
    d = flat - a
    t, off = d @ along, d @ np.array([-along[1], along[0]])
    over = (t > 0) & (t < length)
    own = (over & (np.abs(off) < SAME)).sum() / (2 * SAME)
    beside = np.stack([np.histogram(side[over], bins=[0.03, 0.06, 0.09, 0.12, 0.15])[0] for side in (off, -off)]) / 0.03
    return bool((beside > 0.2 * own).all(axis=1).any())


def _beside(flat: Array, lines: list[Line]) -> Array:
    """The points (n, 2) that no line explains."""
    left = np.ones(len(flat), bool)
    for x in lines:
        a, along = np.array(x.a), (np.array(x.b) - x.a) / math.dist(x.a, x.b)
        d = flat - a
        t = d @ along
        left &= ~((np.abs(d @ np.array([-along[1], along[0]])) < 0.03) & (t > -0.1) & (t < math.dist(x.a, x.b) + 0.1))
    return flat[left]


def _attached(faces: list[Face], short: list[Face]) -> list[Face]:
    """The faces, and those of the short ones that begin or end at the end of one of them, or of each other high up, and turn off squarely:
    nothing else of a few centimetres is taken for more than what lies about."""
    out = list(faces)
    for s in sorted(short, key=lambda f: -f.points):
        ends = [p for f in out if abs(float(f.along @ s.along)) < 0.17 for p in (f.a, f.b)]
        if any(math.dist(p, q) < 0.05 for p in ends for q in (s.a, s.b)):
            out.append(s)
    loose = [s for s in short if s not in out and s.points >= 20 and s.tall >= 0.5 and s.length > 0.18]
    for s in loose:  # two sides of a column that stands alone
        square = [r for r in loose if abs(float(r.along @ s.along)) < 0.07]
        if any(math.dist(p, q) < 0.05 for r in square for p in (r.a, r.b) for q in (s.a, s.b)):
            out.append(s)
    return out


def returns(faces: list[Face], around: Around, level: bool) -> list[Face]:
    """The faces, and short ones between ends of two parallel ones, where points lie: the reveals of doors, the fourth side of a column. Where
    those lie, the two end."""
    faces = list(faces)
    free = [(k, e) for k, f in enumerate(faces) for e in (0, 1) if not f.ends[e]]
    out: list[Face] = []
    used: set[tuple[int, int]] = set()
    ways = []
    for n, (i, e) in enumerate(free):
        for j, h in free[n + 1 :]:
            f, g = faces[i], faces[j]
            p, q = np.array((f.a, f.b)[e]), np.array((g.a, g.b)[h])
            gap = float(np.linalg.norm(q - p))
            if i == j or not 0.04 < gap < 1.2 or abs(float(f.along @ g.normal)) > 0.05 or abs(float((q - p) @ f.along)) > 0.35 * gap:
                continue
            outward = f.along * (1 if e else -1)
            if float(outward @ g.along * (1 if h else -1)) > 0.9:  # both end here
                ways.append((gap, (i, e), (j, h), p, q))
    for gap, one, other, p, q in sorted(ways, key=lambda w: w[0]):
        if one in used or other in used:
            continue
        face = face_of(((float(p[0]), float(p[1])), (float(q[0]), float(q[1]))), around, level, trim=False)
        if face is not None and face.seen > 0.4 * gap:
            used |= {one, other}
            (face,) = _square(face, [faces[one[0]], faces[other[0]]], around)
            at = [_crossing(face, faces[k]) for k, _ in (one, other)]
            if at[0] is not None and at[1] is not None and all(np.linalg.norm(x - y) < 0.04 for x, y in zip(at, (p, q), strict=True)):
                for x, (k, e) in zip(at, (one, other), strict=True):
                    faces[k] = _moved(faces[k], None if e else x, x if e else None)
                face = _moved(face, at[0], at[1])
            out.append(replace(face, ends=(True, True)))
    return faces + out


def squared(faces: list[Face], around: Around) -> list[Face]:
    """The faces, those of a few centimetres laid square to a long one that they begin or end at: over so short a way points do not tell a
    direction, and at its ends points of its neighbours lie among its own."""
    long = [f for f in faces if f.length >= FEW]
    out = []
    for f in faces:
        near = [g for g in long if g.length > 2 * f.length and abs(float(f.along @ g.along)) < 0.17]
        near = [g for g in near if min(math.dist(p, q) for p in (f.a, f.b) for q in (g.a, g.b)) < 0.05]
        out += _square(f, near, around) if f.length < FEW and near else [f]
    return out


def _square(f: Face, beside: list[Face], around: Around) -> list[Face]:
    """A face laid square to the first of its neighbours on the points that are not of any of them; as it is when those are few."""
    g = beside[0]
    points = around.points[around.beside(np.array(f.a), np.array(f.b))]
    d = points[:, :2] - f.a
    t = d @ f.along
    on = (np.abs(d @ f.normal) < 0.02) & (t > -0.01) & (t < f.length + 0.01) & (np.abs(points[:, 2]) < 0.15)
    for other in beside:
        on &= np.abs((points[:, :2] - other.a) @ other.normal) > 0.012
    place = (points[on, :2] - g.a) @ g.along
    if len(place) < 8:
        return [f]
    middle = float(np.median(place))
    rest = np.abs(place - middle)
    middle = float(np.mean(place[rest <= max(2.5 * float(np.median(rest)), 0.002)]))
    ends = [p + g.along * (middle - float((p - g.a) @ g.along)) for p in (np.array(f.a), np.array(f.b))]
    return [replace(f, a=(float(ends[0][0]), float(ends[0][1])), b=(float(ends[1][0]), float(ends[1][1])))]


def _crossing(f: Face, g: Face) -> Array | None:
    cross = float(f.along[0] * g.along[1] - f.along[1] * g.along[0])
    if abs(cross) < math.sin(TURN):
        return None
    d = np.array(g.a) - f.a
    return np.array(f.a) + f.along * float((d[0] * g.along[1] - d[1] * g.along[0]) / cross)


def _gap(f: Face, end: int, at: Array) -> float:
    """Metres that an end (0: a, 1: b) is moved outward to a place on its line; negative when it lies within."""
    return float((at - f.a) @ f.along * (1 if end else -1) - (f.length if end else 0.0))


def corners(faces: list[Face], reach: float = REACH) -> list[Face]:
    """The faces with their ends where lines cross. Two ends meet when both faces look to the same side of the corner; an end that meets
    no other end goes to the face that it runs into, within ``BESIDE``. What is added counts as bridged."""
    ways: list[tuple[float, int, int, int, int, Array]] = []
    for i, f in enumerate(faces):
        for j in range(i + 1, len(faces)):
            at = _crossing(f, faces[j])
            if at is None:
                continue
            for e in (0, 1):
                gap = _gap(f, e, at)
                if not -0.06 < gap < reach:
                    continue
                for h in (0, 1):
                    other = _gap(faces[j], h, at)
                    if -0.06 < other < reach and _agree(f, e, faces[j], h):
                        ways.append((abs(gap) + abs(other), i, e, j, h, at))
    moved: dict[tuple[int, int], Array] = {}
    for _, i, e, j, h, at in sorted(ways, key=lambda w: w[0]):
        if (i, e) not in moved and (j, h) not in moved:
            moved[i, e] = moved[j, h] = at
    for i, f in enumerate(faces):
        for e in (0, 1):
            if (i, e) not in moved and (found := _runs_into(faces, i, e)) is not None:
                moved[i, e] = found
    return [_moved(f, moved.get((i, 0)), moved.get((i, 1))) for i, f in enumerate(faces)]


def _agree(f: Face, e: int, g: Face, h: int) -> bool:
    """Whether two faces can share a corner: seen from inside or outside alike."""
    if not f.side or not g.side:
        return True
    out_f, out_g = f.along * (1 if e else -1), g.along * (1 if h else -1)
    return bool((g.normal * g.side) @ out_f * ((f.normal * f.side) @ out_g) > 0)


def _runs_into(faces: list[Face], i: int, e: int) -> Array | None:
    best, found = BESIDE, None
    for j, g in enumerate(faces):
        at = None if j == i else _crossing(faces[i], g)
        if at is None or not -0.03 < (gap := _gap(faces[i], e, at)) < best:
            continue
        if min(-_gap(g, 0, at), -_gap(g, 1, at)) > -0.05:
            best, found = max(gap, 0.0), at
    return found


def _moved(f: Face, a: Array | None, b: Array | None) -> Face:
    if a is None and b is None:
        return f
    new = replace(
        f,
        a=f.a if a is None else (float(a[0]), float(a[1])),
        b=f.b if b is None else (float(b[0]), float(b[1])),
        ends=(f.ends[0] or a is not None, f.ends[1] or b is not None),
    )
    return replace(new, bridged=max(0.0, new.length - f.seen))


def walls_of(faces: list[Face]) -> list[Wall]:
    """Faces that look away from each other at most ``THICK`` apart, along at least 0.3 m; each has one other at most, the nearest."""
    ways: list[tuple[float, int, int, float]] = []
    for i, f in enumerate(faces):
        for j in range(i + 1, len(faces)):
            g = faces[j]
            if min(f.tall, g.tall) < 0.5:  # two sides of a cupboard
                continue
            if not f.side or not g.side or abs(float(f.along @ g.normal)) > math.sin(ALIKE):
                continue
            t = sorted(((np.array(g.a) - f.a) @ f.along, (np.array(g.b) - f.a) @ f.along))
            low, high = max(0.0, float(t[0])), min(f.length, float(t[1]))
            if high - low < 0.3:
                continue
            middle = np.array(f.a) + f.along * (low + high) / 2
            off = -float((middle - np.array(g.a)) @ g.normal) * float(np.sign(f.normal @ g.normal))  # from f to g, along the normal of f
            away = off * f.side < 0 and (f.side * float(np.sign(f.normal @ g.normal))) == -g.side
            if away and THICK[0] < abs(off) < THICK[1]:
                ways.append((abs(off), i, j, math.hypot(f.error, g.error)))
    out, used = [], set[int]()
    for thick, i, j, error in sorted(ways):
        if i not in used and j not in used:
            used |= {i, j}
            out.append(Wall(i, j, thick, error))
    return out


def regularised(faces: list[Face], limit: float) -> tuple[list[Face], float]:
    """The faces turned about their middles to the nearest of the main directions (parallel and square to the longest), where no end moves
    by more than ``limit`` metres; and the largest movement."""
    if not faces:
        return [], 0.0
    angle = np.array([math.atan2(f.along[1], f.along[0]) for f in faces])
    length = np.array([f.length for f in faces])
    longest = angle[int(np.argmax(length))]
    near = np.abs((angle - longest + math.pi / 4) % (math.pi / 2) - math.pi / 4) < math.radians(2)
    four = np.angle((np.exp(4j * angle[near]) * length[near]).sum()) / 4
    out, most = [], 0.0
    for f, own in zip(faces, angle, strict=True):
        turn = -((own - four + math.pi / 4) % (math.pi / 2) - math.pi / 4)
        move = abs(math.sin(turn)) * f.length / 2
        if move > limit:
            out.append(f)
            continue
        c, s = math.cos(turn), math.sin(turn)
        middle = (np.array(f.a) + f.b) / 2
        a, b = (middle + np.array([[c, -s], [s, c]]) @ (np.array(p) - middle) for p in (f.a, f.b))
        out.append(replace(f, a=(float(a[0]), float(a[1])), b=(float(b[0]), float(b[1]))))
        most = max(most, move)
    met = corners([replace(f, ends=(False, False)) for f in out], 0.05)
    moved = [max(math.dist(f.a, g.a), math.dist(f.b, g.b)) for f, g in zip(faces, met, strict=True)]
    kept = [g if m <= limit else f for f, g, m in zip(faces, met, moved, strict=True)]
    return kept, max((min(m, limit) for m, f, g in zip(moved, faces, kept, strict=True) if f is not g), default=most)


def columns(faces: list[Face], widest: float = 1.2) -> set[int]:
    """The numbers of faces that are sides of a rectangular column: three or four short ones that follow each other round corners, seen
    from outside."""
    at: dict[tuple[float, float], list[int]] = {}
    for k, f in enumerate(faces):
        if f.length < widest and f.side and not f.tall < 0.5:
            for p, corner in zip((f.a, f.b), f.ends, strict=True):
                if corner:
                    at.setdefault((round(p[0], 4), round(p[1], 4)), []).append(k)
    beside: dict[int, set[int]] = {}
    for met in at.values():
        if len(met) == 2:
            beside.setdefault(met[0], set()).add(met[1])
            beside.setdefault(met[1], set()).add(met[0])
    out: set[int] = set()
    for first in beside:
        chain, ready = {first}, [first]
        while ready:
            for k in beside[ready.pop()] - chain:
                chain.add(k)
                ready.append(k)
        middle = np.mean([np.add(faces[k].a, faces[k].b) / 2 for k in chain], axis=0)
        outward = all((np.add(faces[k].a, faces[k].b) / 2 - middle) @ faces[k].normal * faces[k].side > 0 for k in chain)
        if 3 <= len(chain) <= 4 and outward:
            out |= chain
    return out


def hanging_together(lines: Array, reach: float = REACH, thick: float = THICK[1]) -> NDArray[np.int64]:
    """(n,) numbers of the groups that wall lines (n, 2, 2) fall into: those whose ends meet, that end at another, that are both faces of
    one wall, or go on in a row beyond a door or a gate hang together."""
    n = len(lines)
    ends = lines.reshape(-1, 2)
    d = lines[:, 1] - lines[:, 0]
    long = np.maximum(np.linalg.norm(d, axis=1), 1e-9)
    u = d / long[:, None]
    off = ends[None, :, :] - lines[:, 0][:, None, :]  # of each end from each line
    along = np.einsum("ijk,ik->ij", off, u)
    away = np.abs(off[..., 0] * -u[:, None, 1] + off[..., 1] * u[:, None, 0])
    beyond = np.maximum(np.maximum(-along, along - long[:, None]), 0.0)
    ends_at = (np.hypot(beyond, away) < reach).reshape(n, n, 2).any(axis=2)
    level = np.abs(u @ u.T) > math.cos(ALIKE)
    beside = level & ((away < thick) & (beyond == 0)).reshape(n, n, 2).any(axis=2)
    on = level & (away.reshape(n, n, 2).max(axis=2) < DOOR[1]) & (beyond.reshape(n, n, 2).min(axis=2) < DOOR[0])
    return np.asarray(connected_components(csr_matrix(ends_at | beside | on), directed=False)[1], np.int64)
