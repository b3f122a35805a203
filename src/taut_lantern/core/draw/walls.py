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
from scipy.spatial import cKDTree

from .fit import Circle, Line, find_circles, find_lines, fit_circle, thin

Array = NDArray[np.float64]
Ends = tuple[tuple[float, float], tuple[float, float]]
STEP = 0.05  # metres of a line in which one point says that it was seen
REACH = 0.30  # metres that an end may be moved to a corner
BESIDE = 0.15  # metres that an end may be moved to a face that goes on
TURN = math.radians(15)  # two lines that differ less have no corner
THICK = (0.03, 0.80)  # metres between the two faces of a wall
ALIKE = math.radians(1.0)
TALL = (0.85, 1.40)  # metres above the cut of a plan: what reaches there is no furniture
SAME = 0.012  # metres across within which points are of a face
SHORT: dict[str, Any] = {"shortest": 0.12, "tolerance": 0.008, "gap": 0.1, "density": 25.0, "least": 8}  # sides of columns, of niches
SPARSE: dict[str, Any] = {"shortest": 1.5, "tolerance": 0.02, "gap": 0.8, "density": 4.0, "least": 8}  # far walls, of few points


@dataclass(frozen=True)
class Face:
    """A straight face in the cut, from a to b (2,). side: +1 when what is free lies left of a → b, -1 right, 0 not known. seen, bridged:
    metres of its length with points, and without. lean: millimetres a metre out of plumb, towards the free side, nan when not known;
    tall: share of its length that goes on above furniture, nan when nothing was asked. ends: whether a and b are computed corners.
    error: one deviation of its place across, from its points alone, metres."""

    a: tuple[float, float]
    b: tuple[float, float]
    rms: float
    points: int
    side: int
    seen: float
    bridged: float
    error: float
    lean: float = math.nan
    tall: float = math.nan
    ends: tuple[bool, bool] = (False, False)
    stations: tuple[int, ...] = ()

    @property
    def length(self) -> float:
        return math.dist(self.a, self.b)

    @property
    def along(self) -> Array:
        return (np.array(self.b) - self.a) / max(self.length, 1e-9)

    @property
    def normal(self) -> Array:
        """Left of a → b."""
        return np.array([-self.along[1], self.along[0]])


@dataclass(frozen=True)
class Wall:
    """Two faces (their numbers) that look away from each other; thickness and its error, metres, over their common length."""

    one: int
    other: int
    thickness: float
    error: float


@dataclass(frozen=True)
class Arc:
    """Part of a circle, from start to end (radians, against the clock from ``along``)."""

    centre: tuple[float, float]
    radius: float
    start: float
    end: float
    rms: float
    points: int
    seen: float
    bridged: float


@dataclass(frozen=True)
class Found:
    faces: list[Face]
    walls: list[Wall]
    arcs: list[Arc]
    circles: list[Circle]


@dataclass(frozen=True)
class Around:
    """Points (n, 3) section frame round a cut, deeper than it; which instrument saw each (n,), and where those stood (m, 3)."""

    points: Array
    station: NDArray[np.int64]
    stands: Array

    def __post_init__(self) -> None:
        low = self.points[:, :2].min(axis=0, initial=0.0)
        key = _cell(np.floor((self.points[:, :2] - low) / CELL).astype(np.int64))
        order = np.argsort(key, kind="stable")
        object.__setattr__(self, "_kept", (low, key[order], order))

    def beside(self, a: Array, b: Array) -> NDArray[np.int64]:
        """The numbers of the points near the line from a to b (2,): all within 0.1 m of it, and some more."""
        low, keys, order = self._kept  # type: ignore[attr-defined]
        steps = np.linspace(0, 1, max(2, int(math.dist(a, b) / (CELL / 2)) + 2))[:, None]
        at = np.floor((a + (b - a) * steps - low) / CELL).astype(np.int64)
        cells = np.unique(_cell((at[:, None, :] + ROUND[None]).reshape(-1, 2)))
        first, last = np.searchsorted(keys, cells), np.searchsorted(keys, cells, side="right")
        pieces = [order[f:e] for f, e in zip(first, last, strict=True) if e > f]
        return np.concatenate(pieces) if pieces else np.zeros(0, np.int64)


CELL = 0.25
ROUND = np.array([(x, y) for x in (-1, 0, 1) for y in (-1, 0, 1)])


def _cell(at: NDArray[np.int64]) -> NDArray[np.int64]:
    return np.asarray(at[:, 0] * 4_000_037 + at[:, 1])


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
    faces = [f for x in lines if (f := _face((x.a, x.b), x.rms, around, level)) is not None]
    faces, arcs = arcs_of(faces, flat)
    few = [x for x in find_lines(_beside(flat, lines), **SHORT) if not _edge_of_area(x, every)]
    short = [f for x in few if (f := _face((x.a, x.b), x.rms, around, level)) is not None]
    faces = corners(_attached(faces, short))
    faces += returns(faces, around, level)
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
    """Short faces between ends of two parallel ones, where points lie: the reveals of doors, the fourth side of a column. Their ends are
    those of the two."""
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
        face = _face(((float(p[0]), float(p[1])), (float(q[0]), float(q[1]))), 0.004, around, level, trim=False)
        if face is not None and face.seen > 0.4 * gap:
            used |= {one, other}
            out.append(replace(face, ends=(True, True)))
    return out


def _face(ends: Ends, rms: float, around: Around, level: bool, trim: bool = True) -> Face | None:
    """What the points round a line say of it: side, lean, height, instruments. None when hardly any lies on it. trim: leave out at its ends
    what a few points beyond a gap have drawn it to."""
    if trim:
        ends = _laid(_trimmed(ends, around) or ends, around)
    a, b = np.array(ends[0]), np.array(ends[1])
    length = float(np.linalg.norm(b - a))
    along = (b - a) / length
    normal = np.array([-along[1], along[0]])
    index = around.beside(a, b)
    points, station = around.points[index], around.station[index]
    t, off, up = (points[:, :2] - a) @ along, (points[:, :2] - a) @ normal, points[:, 2]
    near = (t > -0.01) & (t < length + 0.01) & (np.abs(off) < SAME + 0.03 * np.abs(up))
    on = near & (np.abs(off) < SAME) & (np.abs(up) < 0.06)
    if on.sum() < 6:
        return None
    cells = max(1, round(length / STEP))
    seen = len(np.unique(np.clip(t[on] / length * cells, 0, cells - 1).astype(int))) * length / cells
    count = np.bincount(station[on], minlength=len(around.stands))
    stands = around.stands[:, :2] @ normal - a @ normal
    view = float((np.sign(stands) * count).sum()) / on.sum()
    side = int(np.sign(view)) if abs(view) > 0.3 else 0
    apart = len(thin(points[on], STEP))  # neighbours share what errs in them
    lean, tall = math.nan, math.nan
    if level and near.sum() >= 40:
        lean = _lean(off[near], up[near]) * (side or 1)
        high = near & (up > TALL[0]) & (up < TALL[1])
        tall = _share_high(t[high] / length, up[high], length)
    stations = tuple(int(v) for v in np.argsort(-count) if count[v] > 0)
    error = rms / math.sqrt(max(apart, 1))
    return Face(ends[0], ends[1], rms, int(on.sum()), side, seen, max(0.0, length - seen), error, lean, tall, (False, False), stations)


def _laid(ends: Ends, around: Around) -> Ends:
    """A line laid on the means of its points, each few centimetres of it counting alike however many points they have."""
    a, b = np.array(ends[0]), np.array(ends[1])
    p = around.points[around.beside(a, b)]
    p = p[np.abs(p[:, 2]) < 0.06, :2]
    for _ in range(2):
        length = math.dist(a, b)
        along = (b - a) / length
        normal = np.array([-along[1], along[0]])
        t, off = (p - a) @ along, (p - a) @ normal
        on = (np.abs(off) < SAME) & (t > 0) & (t < length)
        cells = max(1, round(length / STEP))
        cell = np.clip(t[on] / length * cells, 0, cells - 1).astype(int)
        count = np.bincount(cell, minlength=cells)
        used = count > 0
        if used.sum() < 3:
            return ends
        at, by = (np.bincount(cell, v[on], cells)[used] / count[used] for v in (t, off))
        weight = np.sqrt(np.minimum(count[used], 20))
        slope, shift = np.polyfit(at, by, 1, w=weight)
        rest = np.abs(by - slope * at - shift)
        keep = rest <= max(3 * 1.4826 * float(np.median(rest)), 0.001)
        if keep.sum() >= 3:
            slope, shift = np.polyfit(at[keep], by[keep], 1, w=weight[keep])
        a, b = a + normal * shift, b + normal * (slope * length + shift)
    return (float(a[0]), float(a[1])), (float(b[0]), float(b[1]))


def _trimmed(ends: Ends, around: Around) -> Ends | None:
    """A line without pieces at its ends that are short and lie beyond a gap of some centimetres: where it crosses another thing."""
    a, b = np.array(ends[0]), np.array(ends[1])
    length = math.dist(a, b)
    along = (b - a) / length
    d = around.points[around.beside(a, b)]
    t, off = (d[:, :2] - a) @ along, (d[:, :2] - a) @ np.array([-along[1], along[0]])
    t = np.sort(t[(np.abs(off) < SAME) & (np.abs(d[:, 2]) < 0.06) & (t > -0.01) & (t < length + 0.01)])
    if len(t) < 20 or length < 0.6:
        return None
    cuts = np.nonzero(np.diff(t) > max(0.08, 4 * length / len(t)))[0]
    runs = np.split(t, cuts + 1)
    if len(runs) > 1 and np.ptp(runs[0]) < min(0.12, 0.6 * (runs[1][0] - runs[0][-1])):
        runs.pop(0)
    if len(runs) > 1 and np.ptp(runs[-1]) < min(0.12, 0.6 * (runs[-1][0] - runs[-2][-1])):
        runs.pop()
    low, high = a + along * runs[0][0], a + along * runs[-1][-1]
    return (float(low[0]), float(low[1])), (float(high[0]), float(high[1]))


def _share_high(place: Array, up: Array, length: float) -> float:
    """Share of a face's length (place 0 to 1) that has points so high up. Those of a ceiling, most of them at one height, are none of it."""
    if len(place) == 0:
        return 0.0
    count, edge = np.histogram(up, bins=np.arange(TALL[0], TALL[1] + 0.03, 0.02))
    if count.max() > 0.6 * len(up):
        at = edge[int(np.argmax(count))] + 0.01
        place = place[np.abs(up - at) > 0.02]
    wide = max(1, round(length / 0.2))
    return len(np.unique(np.clip(place * wide, 0, wide - 1).astype(int))) / wide


def _lean(off: Array, up: Array) -> float:
    """Millimetres a metre of height by which points go across; nan when they do not reach over 0.4 m of height."""
    if np.ptp(up) < 0.4:
        return math.nan
    keep, fit = np.ones(len(off), bool), np.zeros(2)
    for _ in range(4):
        fit = np.polyfit(up[keep], off[keep], 1)
        rest = off - np.polyval(fit, up)
        keep = np.abs(rest) < max(2.5 * 1.4826 * float(np.median(np.abs(rest[keep]))), 0.002)
        if keep.sum() < 20 or np.ptp(up[keep]) < 0.4:
            return math.nan
    return 1000 * float(fit[0])


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


def arcs_of(faces: list[Face], flat: Array, widest: float = 40.0) -> tuple[list[Face], list[Arc]]:
    """Chains of three and more short faces that turn one way as arcs, and the faces that stay. flat (n, 2): the points of the slab."""
    nexts: dict[int, int] = {}
    turns: dict[int, float] = {}
    near = 0.8  # what lies between two chords went to the first of them
    ordered = [f if f.side >= 0 else replace(f, a=f.b, b=f.a, side=1) for f in faces]  # all with what is free at their left
    for i, f in enumerate(ordered):
        best = near
        for j, g in enumerate(ordered):
            gap = math.dist(f.b, g.a)
            turn = math.atan2(float(f.along[0] * g.along[1] - f.along[1] * g.along[0]), float(f.along @ g.along))
            if i != j and gap < best and 0.02 < abs(turn) < 0.8 and max(f.length, g.length) < 4.0:
                best, nexts[i], turns[i] = gap, j, turn
    gone: set[int] = set()
    arcs: list[Arc] = []
    for first in range(len(ordered)):
        if first in gone or first in nexts.values():
            continue
        chain = [first]
        while (k := nexts.get(chain[-1])) is not None and k not in chain and k not in gone:
            if len(chain) > 1 and turns[chain[-1]] * turns[chain[-2]] < 0:
                break
            chain.append(k)
        arc = _arc([ordered[k] for k in chain], flat, widest) if len(chain) >= 3 else None
        if arc is not None:
            gone |= set(chain)
            arcs.append(arc)
    rest = [f for k, f in enumerate(faces) if k not in gone and not any(_on_arc(f, a) for a in arcs)]
    return rest, arcs


def _on_arc(f: Face, arc: Arc) -> bool:
    middle = (np.array(f.a) + f.b) / 2
    off = abs(math.dist(middle, arc.centre) - arc.radius)
    angle = math.atan2(middle[1] - arc.centre[1], middle[0] - arc.centre[0])
    return off < 0.03 and f.length < 2.5 and (angle - arc.start) % math.tau <= (arc.end - arc.start) % math.tau


def _arc(chain: list[Face], flat: Array, widest: float) -> Arc | None:
    """The arc through a chain of chords, as far as points go on along it."""
    ends = np.array([p for f in chain for p in (f.a, f.b)])
    centre, radius, _ = fit_circle(ends)
    points, middle, rms = thin(flat), ends[len(ends) // 2], math.inf
    on, turn = points, np.zeros(0)
    for limit in (0.03, SAME, SAME):
        if not 0.3 < radius < widest:
            return None
        on = points[np.abs(np.hypot(*(points - centre).T) - radius) < limit]
        turn = np.arctan2(on[:, 1] - centre[1], on[:, 0] - centre[0]) - math.atan2(middle[1] - centre[1], middle[0] - centre[0])
        turn = (turn + math.pi) % math.tau - math.pi
        low, high = _reach(np.sort(turn), 0.35 / radius)
        run = (turn >= low) & (turn <= high)
        on, turn = on[run], turn[run]
        if len(on) < 20:
            return None
        centre, radius, rms = fit_circle(on)
    angle = np.arctan2(on[:, 1] - centre[1], on[:, 0] - centre[0])
    start, end = float(angle[int(np.argmin(turn))]), float(angle[int(np.argmax(turn))])
    round_ = (end - start) % math.tau * radius
    cells = max(1, round(round_ / STEP))
    place = ((angle - start) % math.tau) * radius / round_ * cells
    seen = len(np.unique(np.clip(place, 0, cells - 1).astype(int))) * round_ / cells
    chords = sum(f.length for f in chain)
    if rms > 0.006 or seen < 0.6 * round_ or round_ < 0.8 * chords or not 0.3 < radius < widest:
        return None
    return Arc((float(centre[0]), float(centre[1])), radius, start, end, rms, len(on), seen, max(0.0, round_ - seen))


def _reach(turn: Array, gap: float) -> tuple[float, float]:
    """The run of sorted angles round 0 that no gap parts."""
    k = int(np.searchsorted(turn, 0.0))
    steps = np.diff(turn)
    after = np.nonzero(steps[k:] > gap)[0]
    before = np.nonzero(steps[: max(k - 1, 0)] > gap)[0]
    high = turn[k + after[0]] if len(after) else turn[-1]
    low = turn[before[-1] + 1] if len(before) else turn[0]
    return float(low), float(high)


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


# Outside diameters of steel tubes, millimetres (ISO 4200, series 1).
SERIES = (21.3, 26.9, 33.7, 42.4, 48.3, 60.3, 76.1, 88.9, 114.3, 139.7, 168.3, 219.1, 273.0, 323.9, 355.6, 406.4, 457.0, 508.0, 610.0)


def nominal(circle: Circle) -> float | None:
    """The diameter (metres) of the standard series that a circle has, when its fit allows one and only one; else None."""
    error = max(circle.rms / math.sqrt(max(circle.points, 1)) * (4.0 if circle.share < 0.5 else 2.0), 0.0005)
    own = 1000 * 2 * circle.radius
    near = [d for d in SERIES if abs(d - own) < max(3 * 1000 * 2 * error, 0.01 * own)]
    return near[0] / 1000 if len(near) == 1 else None


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


def reaches_up(circle: Circle, around: Array) -> bool:
    """Whether what is round in a plan goes on above furniture and people. around (n, 3): points deeper than the cut."""
    off = np.abs(np.hypot(around[:, 0] - circle.centre[0], around[:, 1] - circle.centre[1]) - circle.radius)
    high = around[(off < 0.02) & (around[:, 2] > TALL[0]) & (around[:, 2] < TALL[1]), 2]
    return len(high) > 5 and float(np.ptp(high)) > 0.1
