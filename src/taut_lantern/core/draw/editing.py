"""What is done with drawn shapes: moved, copied, turned, mirrored, set off, trimmed, extended, rounded, joined, broken, stretched.

Each gives new shapes and leaves the old ones as they were. Section frame, metres, radians.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace

import numpy as np
import shapely

from ..errors import BadInput
from .shapes import Piece, Point, Shape, pieces

NEAR = 1e-6  # metres within which two places are one
CURVED = ("spline", "ellipse", "text", "dimension", "point", "hatch", "picture")


def _each(shape: Shape, to: Callable[[Point], Point]) -> tuple[Point, ...]:
    return tuple(to(p) for p in shape.points)


def moved(shape: Shape, by: Point) -> Shape:
    return replace(shape, points=_each(shape, lambda p: (p[0] + by[0], p[1] + by[1])))


def turned(shape: Shape, about: Point, angle: float) -> Shape:
    """Turned against the clock."""
    c, s = math.cos(angle), math.sin(angle)

    def to(p: Point) -> Point:
        x, y = p[0] - about[0], p[1] - about[1]
        return about[0] + c * x - s * y, about[1] + s * x + c * y

    more = dict(shape.more)
    for key in ("start", "end") if shape.kind == "arc" else ("turn",) if shape.kind == "text" or "turn" in more else ():
        more[key] = float(more.get(key) or 0.0) + angle
    return replace(shape, points=_each(shape, to), more=more)


def mirrored(shape: Shape, a: Point, b: Point) -> Shape:
    """Mirrored in the line through a and b."""
    if math.dist(a, b) < NEAR:
        raise BadInput("the two points of a mirror line lie on each other", subject="mirror", remedy="pick them farther apart")
    d = np.array([b[0] - a[0], b[1] - a[1]]) / math.dist(a, b)
    axis = math.atan2(d[1], d[0])

    def to(p: Point) -> Point:
        q = np.array([p[0] - a[0], p[1] - a[1]])
        x, y = 2 * (q @ d) * d - q
        return float(a[0] + x), float(a[1] + y)

    more = dict(shape.more)
    if shape.kind == "picture":  # it stands elsewhere, and stays readable
        ends = (to(shape.points[1]), to(shape.points[0]))
        return replace(shape, points=ends)
    if shape.kind == "arc":
        more["start"], more["end"] = 2 * axis - float(more["end"]), 2 * axis - float(more["start"])
    if more.get("bulges"):
        more["bulges"] = [-float(k) for k in more["bulges"]]
    if shape.kind == "text":  # stays readable
        more["turn"] = 2 * axis - float(more.get("turn") or 0.0)
    return replace(shape, points=_each(shape, to), more=more)


def stretched(shape: Shape, low: Point, high: Point, by: Point) -> Shape:
    """The corners within a rectangle moved, the others left."""

    def to(p: Point) -> Point:
        inside = low[0] <= p[0] <= high[0] and low[1] <= p[1] <= high[1]
        return (p[0] + by[0], p[1] + by[1]) if inside else p

    return replace(shape, points=_each(shape, to))


def arrayed(shape: Shape, step: Point, count: int, rows: int = 1, row_step: Point = (0.0, 0.0)) -> list[Shape]:
    """Copies at equal steps, without the shape itself."""
    if not 1 <= count * rows <= 1000:
        raise BadInput("an array has 2 to 1000 members", subject="array", remedy="ask for fewer")
    return [
        moved(shape, (k * step[0] + r * row_step[0], k * step[1] + r * row_step[1])) for r in range(rows) for k in range(count) if k or r
    ]


def offset(shape: Shape, distance: float, towards: Point) -> Shape:
    """The same at a distance (metres), on the side of a place."""
    if not 0 < distance < 1e4:
        raise BadInput("the distance of an offset must be above zero", subject="offset", remedy="type a distance")
    if shape.kind in ("circle", "arc"):
        inside = math.dist(towards, shape.points[0]) < shape.radius
        radius = shape.radius + (-distance if inside else distance)
        if radius <= NEAR:
            raise BadInput("nothing is left of the circle at this distance", subject="offset", remedy="type a shorter distance")
        return replace(shape, radius=radius)
    if shape.kind not in ("line", "polyline") or shape.more.get("bulges"):
        raise BadInput(
            f"a {shape.kind} cannot be set off", subject="offset", remedy="choose a line, a straight polyline, a circle or an arc"
        )
    ring = [*shape.points, shape.points[0]] if shape.closed else list(shape.points)
    line = shapely.LineString(ring)
    nearest = line.project(shapely.Point(towards))
    ahead, behind = line.interpolate(min(nearest + 1e-4, line.length)), line.interpolate(max(nearest - 1e-4, 0.0))
    way = (ahead.x - behind.x, ahead.y - behind.y)
    foot = line.interpolate(nearest)
    left = way[0] * (towards[1] - foot.y) - way[1] * (towards[0] - foot.x) > 0
    if shape.closed:
        body = shapely.Polygon(shape.points)
        grown = body.buffer(distance if not body.contains(shapely.Point(towards)) else -distance, join_style="mitre", mitre_limit=20)
        if grown.is_empty or grown.geom_type != "Polygon":
            raise BadInput("nothing whole is left at this distance", subject="offset", remedy="type a shorter distance")
        return replace(shape, points=tuple((float(x), float(y)) for x, y in grown.exterior.coords[:-1]))
    other = shapely.offset_curve(line, distance if left else -distance, join_style="mitre", mitre_limit=20)
    if other.is_empty or other.geom_type != "LineString":
        raise BadInput("nothing whole is left at this distance", subject="offset", remedy="type a shorter distance")
    return replace(shape, points=tuple((float(x), float(y)) for x, y in other.coords))


def _pair(p: Piece, q: Piece, within: tuple[bool, bool]) -> list[Point]:
    """Where two pieces cross; within: whether the place must lie on the first and on the second, or may lie on what they are part of."""
    if p.centre is not None and q.centre is None:
        return _pair(q, p, (within[1], within[0]))
    if p.centre is None and q.centre is None:
        d, e = np.subtract(p.b, p.a), np.subtract(q.b, q.a)
        cross = float(d[0] * e[1] - d[1] * e[0])
        if abs(cross) < 1e-12:
            return []
        r = np.subtract(q.a, p.a)
        t = float(r[0] * e[1] - r[1] * e[0]) / cross
        found = [(float(p.a[0] + t * d[0]), float(p.a[1] + t * d[1]))]
    elif p.centre is None and q.centre is not None:
        d, r = np.subtract(p.b, p.a), np.subtract(p.a, q.centre)
        a, b, c = float(d @ d), float(d @ r), float(r @ r) - q.radius**2
        root = b * b - a * c
        if root < 0:
            return []
        found = [(float(p.a[0] + t * d[0]), float(p.a[1] + t * d[1])) for t in ((-b - math.sqrt(root)) / a, (-b + math.sqrt(root)) / a)]
    else:
        assert p.centre is not None and q.centre is not None
        d = np.subtract(q.centre, p.centre)
        far = float(np.linalg.norm(d))
        if far < NEAR or not abs(p.radius - q.radius) <= far <= p.radius + q.radius:
            return []
        x = (far**2 + p.radius**2 - q.radius**2) / (2 * far)
        y = math.sqrt(max(p.radius**2 - x**2, 0.0))
        u = d / far
        found = [(float(p.centre[0] + x * u[0] - k * y * u[1]), float(p.centre[1] + x * u[1] + k * y * u[0])) for k in (1, -1)]
    return [at for at in found if (not within[0] or on_piece(p, at)) and (not within[1] or on_piece(q, at))]


def on_piece(piece: Piece, at: Point, near: float = NEAR) -> bool:
    """Whether a place lies on a piece."""
    if piece.centre is None:
        d = math.dist(piece.a, piece.b)
        t = ((at[0] - piece.a[0]) * (piece.b[0] - piece.a[0]) + (at[1] - piece.a[1]) * (piece.b[1] - piece.a[1])) / max(d, 1e-12)
        return -near <= t <= d + near
    turn = _turn(piece, at)
    return turn * piece.radius <= abs(piece.sweep) * piece.radius + near or (math.tau - turn) * piece.radius < near


def _turn(piece: Piece, at: Point) -> float:
    """How far round an arc a place lies from its start, the way it runs, radians."""
    assert piece.centre is not None
    angle = math.atan2(at[1] - piece.centre[1], at[0] - piece.centre[0])
    return (angle - piece.start) % math.tau if piece.sweep > 0 else (piece.start - angle) % math.tau


def _place(piece: Piece, at: Point) -> float:
    """Metres along a piece of the place on it that is nearest."""
    if piece.centre is None:
        d = np.subtract(piece.b, piece.a)
        n = max(float(np.linalg.norm(d)), 1e-12)
        return float(np.clip(np.subtract(at, piece.a) @ d / n, 0.0, n))
    turn = _turn(piece, at)
    if turn > abs(piece.sweep):
        turn = abs(piece.sweep) if turn - abs(piece.sweep) < math.tau - turn else 0.0
    return turn * piece.radius


def nearest(shape: Shape, at: Point) -> tuple[float, float]:
    """(metres along a shape of the place on it that is nearest, metres to it)."""
    best, place, run = math.inf, 0.0, 0.0
    for piece in pieces(shape):
        t = _place(piece, at)
        if (d := math.dist(_at(piece, t), at)) < best:
            best, place = d, run + t
        run += piece.length
    return place, best


def _at(piece: Piece, t: float) -> Point:
    if piece.centre is None:
        s = t / max(piece.length, 1e-12)
        return piece.a[0] + s * (piece.b[0] - piece.a[0]), piece.a[1] + s * (piece.b[1] - piece.a[1])
    turn = piece.start + math.copysign(t / piece.radius, piece.sweep)
    return piece.centre[0] + piece.radius * math.cos(turn), piece.centre[1] + piece.radius * math.sin(turn)


def crossings(shape: Shape, other: Shape, beyond: bool = False) -> list[Point]:
    """Where two shapes cross. beyond: also where the first would when it went on."""
    return [at for p in pieces(shape) for q in pieces(other) for at in _pair(p, q, (not beyond, True))]


def _part(shape: Shape, low: float, high: float) -> Shape:
    """What lies between two lengths along a shape."""
    if shape.kind == "line":
        piece = pieces(shape)[0]
        return replace(shape, points=(_at(piece, low), _at(piece, high)))
    if shape.kind in ("arc", "circle"):
        piece = pieces(shape)[0]
        more = {**shape.more, "start": piece.start + low / piece.radius, "end": piece.start + high / piece.radius}
        return Shape("arc", shape.points, shape.radius, more)
    out: list[Point] = []
    bulges: list[float] = []
    run = 0.0
    for piece in pieces(shape):
        a, b = max(low - run, 0.0), min(high - run, piece.length)
        run += piece.length
        if b - a < NEAR:
            continue
        out = out or [_at(piece, a)]
        out.append(_at(piece, b))
        bulges.append(math.tan((b - a) / piece.radius / 4) * math.copysign(1, piece.sweep) if piece.centre is not None else 0.0)
    more = {k: v for k, v in shape.more.items() if k not in ("closed", "bulges")}
    return Shape("polyline", tuple(out), 0.0, {**more, "bulges": bulges} if any(bulges) else more)


def _whole(shape: Shape) -> float:
    return sum(p.length for p in pieces(shape))


def _no(what: str, shape: Shape) -> BadInput:
    return BadInput(f"a {shape.kind} cannot be {what}", subject=what, remedy="choose a line, a polyline, an arc or a circle")


def trimmed(shape: Shape, cutters: Sequence[Shape], pick: Point) -> list[Shape]:
    """What stays when the piece at a pick goes, between what crosses it. Nothing stays when nothing crosses."""
    if shape.kind in CURVED:
        raise _no("trimmed", shape)
    whole = _whole(shape)
    places = sorted({round(nearest(shape, at)[0], 7) for c in cutters for at in crossings(shape, c)})
    here = nearest(shape, pick)[0]
    if shape.closed:
        if len(places) < 2:
            raise BadInput("nothing cuts it twice", subject="trimmed", remedy="draw what cuts it first")
        low = max((p for p in places if p <= here), default=places[-1] - whole)
        high = min((p for p in places if p > here), default=places[0] + whole)
        if shape.kind == "circle":
            return [_part(shape, high, low + whole)]
        start = high % whole
        return [_open(shape, start, (low % whole if low % whole > start else low % whole + whole))]
    inner = [p for p in places if NEAR < p < whole - NEAR]
    if not inner:
        raise BadInput("nothing crosses it here", subject="trimmed", remedy="draw what cuts it first, or delete it")
    low, high = max((p for p in inner if p <= here), default=0.0), min((p for p in inner if p > here), default=whole)
    kept = [(0.0, low)] * (low > NEAR) + [(high, whole)] * (high < whole - NEAR)
    return [_part(shape, a, b) for a, b in kept]


def _open(shape: Shape, start: float, end: float) -> Shape:
    """A closed polyline from one length along it to another, over its first corner when need be."""
    whole = _whole(shape)
    if end <= whole + NEAR:
        return _part(shape, start, end)
    return joined([_part(shape, start, whole), _part(shape, 0.0, end - whole)])


def extended(shape: Shape, targets: Sequence[Shape], pick: Point) -> Shape:
    """A line, or the last segment of a polyline, from the end nearer to a pick to the first thing that it meets."""
    if shape.kind not in ("line", "polyline") or shape.closed:
        raise BadInput(f"a {shape.kind} cannot be extended", subject="extended", remedy="choose a line or an open polyline")
    p = list(shape.points)
    last = math.dist(pick, p[-1]) <= math.dist(pick, p[0])
    end, before = (p[-1], p[-2]) if last else (p[0], p[1])
    ray = Shape("line", (before, end))
    d = np.subtract(end, before) / max(math.dist(end, before), 1e-12)
    ahead = [(float(np.subtract(at, end) @ d), at) for t in targets for at in crossings(ray, t, beyond=True)]
    ahead = [x for x in ahead if x[0] > NEAR]
    if not ahead:
        raise BadInput("nothing lies ahead of this end", subject="extended", remedy="draw what it should reach, or drag its end")
    p[-1 if last else 0] = min(ahead)[1]
    return replace(shape, points=tuple(p))


def rounded(one: Shape, other: Shape, radius: float) -> list[Shape]:
    """Two lines to their corner, or to an arc that touches both: line, line, and the arc when the radius is above zero."""
    if one.kind != "line" or other.kind != "line":
        raise BadInput("a corner is made of two lines", subject="rounded", remedy="choose two lines")
    corner = _pair(pieces(one)[0], pieces(other)[0], (False, False))
    if not corner:
        raise BadInput("these lines are parallel and have no corner", subject="rounded", remedy="choose two that cross")
    at = corner[0]
    far = [max(s.points, key=lambda p: math.dist(p, at)) for s in (one, other)]
    ways = [np.subtract(f, at) / max(math.dist(f, at), 1e-12) for f in far]
    between = math.acos(float(np.clip(ways[0] @ ways[1], -1, 1)))
    back = radius / math.tan(between / 2) if radius > 0 else 0.0
    if any(back > math.dist(f, at) - NEAR for f in far):
        raise BadInput("the radius is too large for these lines", subject="rounded", remedy="type a smaller one")
    feet = [(float(at[0] + w[0] * back), float(at[1] + w[1] * back)) for w in ways]
    out = [replace(s, points=(f, foot)) for s, f, foot in zip((one, other), far, feet, strict=True)]
    if radius > 0:
        middle = (ways[0] + ways[1]) / np.linalg.norm(ways[0] + ways[1]) * (radius / math.sin(between / 2))
        centre = (float(at[0] + middle[0]), float(at[1] + middle[1]))
        start, end = (math.atan2(f[1] - centre[1], f[0] - centre[0]) for f in feet)
        if (end - start) % math.tau > math.pi:
            start, end = end, start
        out.append(Shape("arc", (centre,), radius, {"start": start, "end": end}))
    return out


def joined(shapes: Sequence[Shape], near: float = 0.01) -> Shape:
    """Lines, arcs and open polylines whose ends meet within 1 cm as one polyline, closed when its ends meet."""
    chains: list[tuple[list[Point], list[float]]] = []
    for s in shapes:
        if s.kind not in ("line", "polyline", "arc") or s.closed:
            raise _no("joined", s)
        own = pieces(s)
        bulges = [math.tan(p.sweep / 4) if p.centre is not None else 0.0 for p in own]
        chains.append(([own[0].a, *(p.b for p in own)], bulges))
    points, bulges = chains.pop(0)
    while chains:
        for k, (other, theirs) in enumerate(chains):
            if math.dist(points[-1], other[0]) < near:
                points, bulges = points + other[1:], bulges + theirs
            elif math.dist(points[-1], other[-1]) < near:
                points, bulges = points + other[-2::-1], bulges + [-b for b in theirs[::-1]]
            elif math.dist(points[0], other[-1]) < near:
                points, bulges = other[:-1] + points, theirs + bulges
            elif math.dist(points[0], other[0]) < near:
                points, bulges = other[:0:-1] + points, [-b for b in theirs[::-1]] + bulges
            else:
                continue
            chains.pop(k)
            break
        else:
            raise BadInput("their ends do not meet", subject="joined", remedy="extend or trim them first, so that ends meet within 1 cm")
    more = {"bulges": bulges} if any(bulges) else {}
    if len(points) > 3 and math.dist(points[0], points[-1]) < near:
        return Shape("polyline", tuple(points[:-1]), 0.0, {**more, "closed": True})
    return Shape("polyline", tuple(points), 0.0, more)


def chained(shapes: Sequence[Shape], near: float = 0.01) -> list[list[int]]:
    """The numbers of lines, arcs and open polylines that hang together end to end within 1 cm, two and more each. Where three ends meet, the
    two that go on most nearly straight do, and the third stays."""
    ends = [
        (own[0].a, own[-1].b) if s.kind in ("line", "polyline", "arc") and not s.closed and (own := pieces(s)) else None for s in shapes
    ]
    places = [(k, e, np.array(both[e])) for k, both in enumerate(ends) if both is not None for e in (0, 1)]
    ways = []
    for n, (i, e, p) in enumerate(places):
        for j, h, q in places[n + 1 :]:
            if i != j and math.dist(p, q) < near:
                ways.append((_bend(shapes[i], e, shapes[j], h), i, e, j, h))
    met: dict[tuple[int, int], int] = {}
    for _, i, e, j, h in sorted(ways):
        if (i, e) not in met and (j, h) not in met:
            met[i, e], met[j, h] = j, i
    left: set[int] = set(range(len(shapes)))
    out: list[list[int]] = []
    while left:
        chain = [min(left)]
        left.discard(chain[0])
        for k in chain:  # which grows
            for j in (met[k, e] for e in (0, 1) if (k, e) in met):
                if j in left:
                    left.discard(j)
                    chain.append(j)
        if len(chain) > 1:
            out.append(sorted(chain))
    return out


def _bend(one: Shape, e: int, other: Shape, h: int) -> float:
    """By how much the way turns from one shape through its end to another, radians."""

    def outward(s: Shape, end: int) -> Point:
        own = pieces(s)
        p = own[-1] if end else own[0]
        at, before = (p.b, p.a) if end else (p.a, p.b)
        if p.centre is not None:
            d = (at[0] - p.centre[0], at[1] - p.centre[1])
            k = math.copysign(1.0, p.sweep) * (1 if end else -1)
            return -d[1] * k, d[0] * k
        return at[0] - before[0], at[1] - before[1]

    (x, y), (u, v) = outward(one, e), outward(other, h)
    return abs(math.atan2(x * -v - y * -u, x * -u + y * -v))


def broken(shape: Shape, at: Point) -> list[Shape]:
    """Two of one, at a place; a closed one is opened there."""
    if shape.kind in CURVED:
        raise _no("broken", shape)
    whole, here = _whole(shape), nearest(shape, at)[0]
    if shape.closed:
        return [_part(shape, here, here + whole)] if shape.kind == "circle" else [_open(shape, here, here + whole)]
    if not NEAR < here < whole - NEAR:
        raise BadInput("it ends here already", subject="broken", remedy="pick a place between its ends")
    return [_part(shape, 0.0, here), _part(shape, here, whole)]
