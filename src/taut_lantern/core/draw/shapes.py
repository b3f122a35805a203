"""What can be drawn on a section: kinds, what each needs, and each as plain lines for a screen, a sheet or a crossing.

Section frame, metres; angles in radians against the clock from ``along``. Bulge of a segment: tan of a quarter of the angle that it
turns by, positive against the clock, 0 straight (as DXF has it).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.interpolate import BSpline, make_interp_spline

from ..errors import BadInput
from ..frames import METRE_PER_UNIT

Array = NDArray[np.float64]
Point = tuple[float, float]
NEED = {
    "line": (2, 2),
    "polyline": (2, 2000),
    "arc": (1, 1),
    "circle": (1, 1),
    "ellipse": (2, 2),
    "spline": (2, 500),
    "point": (1, 1),
    "text": (1, 1),
    "hatch": (3, 2000),
    "dimension": (2, 4),
    "picture": (2, 2),
}
MEASURES = ("linear", "aligned", "radius", "angle", "level", "leader")
ENDS = ("tick", "arrow", "dot")
FIGURES = {**METRE_PER_UNIT, "cm": 0.01}  # metres of a unit that figures are in
TEXT = 0.15  # metres: height of letters when nothing else is said
FINE = 2e-4  # metres that plain lines may leave a curve


@dataclass(frozen=True)
class Shape:
    """points (n, 2): corners; the centre of an arc or circle; of an ellipse centre and end of its longer half; of a dimension what it
    measures, then where it stands. more: closed and bulges of a polyline, start and end of an arc, ratio of an ellipse, text, height and
    turn of a text, measure (see ``MEASURES``) and ends (see ``ENDS``) of a dimension, pattern of a hatch. A picture stands on the line from its lower left to its lower
    right corner; more: picture, its id, and tall, how high it is of its width."""

    kind: str
    points: tuple[Point, ...]
    radius: float = 0.0
    more: dict[str, Any] = field(default_factory=dict)

    @property
    def closed(self) -> bool:
        return bool(self.more.get("closed")) or self.kind in ("circle", "ellipse", "hatch")


def checked(kind: str, points: Sequence[Sequence[float]], radius: float = 0.0, more: dict[str, Any] | None = None) -> Shape:
    """The shape when it can be drawn; else BadInput that says what is wanting."""
    if kind not in NEED:
        raise BadInput(f"unknown kind of trace {kind!r}", subject="kind", remedy=f"use one of {', '.join(NEED)}")
    given = dict(more or {})
    p = np.asarray(points, float).reshape(-1, 2) if len(points) else np.zeros((0, 2))
    low, high = NEED[kind]
    if not np.isfinite(p).all() or not low <= len(p) <= high:
        raise BadInput(
            f"a {kind} takes {low if low == high else f'{low} to {high}'} points; {len(p)} came", subject=kind, remedy="draw it again"
        )
    wrong = ""
    if kind in ("circle", "arc") and not 0 < radius < 1e4:
        wrong = "a radius above zero"
    elif kind == "arc" and not all(math.isfinite(float(given.get(k, math.nan))) for k in ("start", "end")):
        wrong = "the angles where it starts and ends"
    elif kind == "ellipse" and not 0 < float(given.get("ratio", 0)) <= 1:
        wrong = "the ratio of its shorter to its longer half"
    elif kind == "text" and not str(given.get("text", "")).strip():
        wrong = "some text"
    elif kind == "dimension" and (given.get("measure") not in MEASURES or len(p) < DIMENSIONED[given["measure"]]):
        wrong = "what it measures, two ends and where it stands"
    elif kind == "dimension" and given["measure"] == "leader" and not str(given.get("text") or "").strip():
        wrong = "words for what its arrow points at"
    elif kind == "polyline" and len(given.get("bulges") or []) not in (0, len(p), len(p) - 1):
        wrong = "one bulge for each segment"
    elif kind == "picture" and not (given.get("picture") and 0 < float(given.get("tall") or 0) < 1e3):
        wrong = "what it shows, and how high that is"
    elif kind in ("line", "ellipse", "polyline", "spline", "picture") and float(np.ptp(p, axis=0).max()) < 1e-6:
        wrong = "ends that do not lie on each other"
    if wrong:
        raise BadInput(f"a {kind} needs {wrong}", subject=kind, remedy="draw it again")
    kept = tuple((float(x), float(y)) for x, y in p)
    return Shape(kind, kept, float(radius) if kind in ("circle", "arc") else 0.0, given)


@dataclass(frozen=True)
class Style:
    """How the dimensions of a project look. ends: see ``ENDS``; unit of their figures, none: that of the coordinates; places behind the point,
    none: to the millimetre."""

    ends: str = "tick"
    unit: str | None = None
    places: int | None = None

    def of(self, shape: Shape) -> Shape:
        """A shape with the ends of a dimension as this style has them."""
        return replace(shape, more={**shape.more, "ends": self.ends}) if shape.kind == "dimension" else shape

    def figure(self, metres: float, unit: str, sign: str = "") -> str:
        """A length as a drawing has it, in the style's unit or else in ``unit``."""
        to = self.unit or unit
        places = ({"mm": 0, "cm": 1}.get(to, 3)) if self.places is None else self.places
        text = f"{metres / FIGURES[to]:{sign}.{places}f}"
        return text if float(text) or not text.startswith("-") else f"{sign}{text[1:]}"  # nothing is no less than nothing


DIMENSIONED = {"linear": 3, "aligned": 3, "radius": 2, "angle": 4, "level": 2, "leader": 2}


@dataclass(frozen=True)
class Piece:
    """A straight piece from a to b, or an arc of it: centre, radius, start and sweep (negative with the clock)."""

    a: Point
    b: Point
    centre: Point | None = None
    radius: float = 0.0
    start: float = 0.0
    sweep: float = 0.0

    @property
    def length(self) -> float:
        return math.dist(self.a, self.b) if self.centre is None else abs(self.sweep) * self.radius


def bulged(a: Point, b: Point, bulge: float) -> Piece:
    """A segment of a polyline."""
    if abs(bulge) < 1e-9 or math.dist(a, b) < 1e-12:
        return Piece(a, b)
    sweep = 4 * math.atan(bulge)
    chord = math.dist(a, b)
    radius = abs(chord / (2 * math.sin(sweep / 2)))
    high = chord / (2 * math.tan(sweep / 2))  # of the centre over the chord, to its left
    centre = ((a[0] + b[0]) / 2 - (b[1] - a[1]) / chord * high, (a[1] + b[1]) / 2 + (b[0] - a[0]) / chord * high)
    return Piece(a, b, centre, radius, math.atan2(a[1] - centre[1], a[0] - centre[0]), sweep)


def pieces(shape: Shape) -> list[Piece]:
    """A shape as straight pieces and arcs; ellipses and splines as many straight ones; nothing for texts, points and dimensions."""
    p = list(shape.points)
    if shape.kind == "line":
        return [Piece(p[0], p[1])]
    if shape.kind in ("polyline", "hatch"):
        bulges = list(shape.more.get("bulges") or [])
        if shape.closed:
            p.append(p[0])
        bulges += [0.0] * (len(p) - 1 - len(bulges))
        return [bulged(a, b, float(k)) for a, b, k in zip(p, p[1:], bulges, strict=False)]
    if shape.kind in ("circle", "arc"):
        start = float(shape.more.get("start", 0.0)) if shape.kind == "arc" else 0.0
        sweep = ((float(shape.more["end"]) - start) % math.tau or math.tau) if shape.kind == "arc" else math.tau
        (x, y), r = p[0], shape.radius
        ends = [(x + r * math.cos(t), y + r * math.sin(t)) for t in (start, start + sweep)]
        return [Piece(ends[0], ends[1], p[0], r, start, sweep)]
    if shape.kind == "picture":
        p = corners_of(shape)
        return [Piece(a, b) for a, b in zip(p, [*p[1:], p[0]], strict=True)]
    if shape.kind == "ellipse":
        at = _ellipse(shape)
    elif shape.kind == "spline":
        at = _on_spline(shape)
    else:
        return []
    return [Piece((float(a[0]), float(a[1])), (float(b[0]), float(b[1]))) for a, b in zip(at, at[1:], strict=False)]


def _ellipse(shape: Shape, count: int = 96) -> Array:
    centre, end = np.array(shape.points)
    major = end - centre
    minor = np.array([-major[1], major[0]]) * float(shape.more["ratio"])
    t = np.linspace(0, math.tau, count + 1)[:, None]
    return np.asarray(centre + np.cos(t) * major + np.sin(t) * minor)


def spline(shape: Shape) -> BSpline:
    """The curve through the points of a spline: cubic, along the chords; less steep through fewer than four."""
    p = np.array(shape.points)
    steps = np.linalg.norm(np.diff(p, axis=0), axis=1)
    p = p[np.concatenate([[True], steps > 1e-9])]
    t = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(p, axis=0), axis=1))])
    return make_interp_spline(t / t[-1], p, k=min(3, len(p) - 1))


def _on_spline(shape: Shape) -> Array:
    return np.asarray(spline(shape)(np.linspace(0, 1, 16 * (len(shape.points) - 1) + 1)))


def _along(piece: Piece, fine: float) -> list[Point]:
    """The points of a piece after its first one."""
    if piece.centre is None:
        return [piece.b]
    step = 2 * math.acos(max(-1.0, 1 - min(fine / piece.radius, 1.0)))
    n = max(2, min(720, math.ceil(abs(piece.sweep) / max(step, 1e-3))))
    turn = [piece.start + piece.sweep * k / n for k in range(1, n)]
    (x, y), r = piece.centre, piece.radius
    return [*((x + r * math.cos(t), y + r * math.sin(t)) for t in turn), piece.b]


@dataclass(frozen=True)
class Letters:
    """A text at a place: its height in metres, and how it is turned, radians; from its lower left, or about its middle."""

    at: Point
    text: str
    height: float
    turn: float = 0.0
    middle: bool = False


@dataclass(frozen=True)
class Plain:
    """A shape as plain lines (each (n, 2)) and texts."""

    lines: list[list[Point]]
    letters: list[Letters]


def plain(shape: Shape, fine: float = FINE, words: str = "") -> Plain:
    """A shape as it is seen. fine: metres that a curve may be left by; words: the text of a dimension (see ``dimension``)."""
    if shape.kind == "text":
        height, turn = float(shape.more.get("height") or TEXT), float(shape.more.get("turn") or 0.0)
        return Plain([], [Letters(shape.points[0], str(shape.more["text"]), height, turn)])
    if shape.kind == "dimension":
        return _dimensioned(shape, words or f"{dimension(shape):.3f}")
    if shape.kind == "point":
        (x, y), d = shape.points[0], 0.03
        return Plain([[(x - d, y - d), (x + d, y + d)], [(x - d, y + d), (x + d, y - d)]], [])
    own = pieces(shape)
    line = [own[0].a]
    for piece in own:
        line += _along(piece, fine)
    return Plain([line, *(_hatched(shape) if shape.kind == "hatch" else [])], [])


def length(shape: Shape) -> float:
    """Metres along a shape, 0 for texts and the like."""
    return 0.0 if shape.kind in ("hatch", "picture") else sum(p.length for p in pieces(shape))


def corners_of(picture: Shape) -> list[Point]:
    """The corners of a picture, from its lower left one against the clock."""
    (x, y), (u, v) = picture.points
    k = float(picture.more["tall"])
    up = (-(v - y) * k, (u - x) * k)
    return [(x, y), (u, v), (u + up[0], v + up[1]), (x + up[0], y + up[1])]


def _hatched(shape: Shape, apart: float = 0.15) -> list[list[Point]]:
    """Lines at 45 degrees within an outline, as it is seen on a screen; a solid one has none."""
    if shape.more.get("pattern") == "solid":
        return []
    p = np.array(shape.points)
    c = math.sqrt(0.5)
    q = p @ np.array([[c, c], [-c, c]]).T  # turned so that the lines run along x
    apart = max(apart, float(np.ptp(q[:, 1])) / 400)
    out: list[list[Point]] = []
    edges = list(zip(q, np.roll(q, -1, axis=0), strict=True))
    for y in np.arange(math.ceil(q[:, 1].min() / apart) * apart, q[:, 1].max(), apart):
        xs = sorted(float(a[0] + (y - a[1]) / (b[1] - a[1]) * (b[0] - a[0])) for a, b in edges if (a[1] <= y) != (b[1] <= y))
        for x0, x1 in zip(xs[::2], xs[1::2], strict=False):
            ends = np.array([[x0, y], [x1, y]]) @ np.array([[c, c], [-c, c]])
            out.append([(float(a), float(b)) for a, b in ends])
    return out


def dimension(shape: Shape) -> float:
    """What a dimension measures: metres, or radians of an angle. Of a level mark: the height of its point across."""
    p, measure = np.array(shape.points), shape.more["measure"]
    if measure == "aligned":
        return math.dist(p[0], p[1])
    if measure == "linear":
        return abs(float((p[1] - p[0]) @ _way(shape)))
    if measure == "radius":
        return math.dist(p[0], p[1])
    if measure == "leader":  # it says words
        return 0.0
    if measure == "angle":
        a, b = p[1] - p[0], p[2] - p[0]
        return abs(math.atan2(float(a[0] * b[1] - a[1] * b[0]), float(a @ b)))
    return float(p[0, 1])


def _way(shape: Shape) -> Array:
    """Unit direction along which a linear dimension measures: level or upright, as its place says, or its own turn."""
    p = np.array(shape.points)
    if "turn" in shape.more:
        return np.array([math.cos(float(shape.more["turn"])), math.sin(float(shape.more["turn"]))])
    off = p[2] - (p[0] + p[1]) / 2
    beside = np.abs(off) - np.abs(p[1] - p[0]) / 2
    return np.array([0.0, 1.0]) if beside[0] > beside[1] else np.array([1.0, 0.0])


def linear_turn(shape: Shape) -> float:
    """The direction that a linear dimension measures along, radians."""
    way = _way(shape)
    return math.atan2(way[1], way[0])


def _dimensioned(shape: Shape, words: str) -> Plain:
    p, measure = np.array(shape.points), shape.more["measure"]
    height, ends = float(shape.more.get("height") or TEXT), str(shape.more.get("ends") or "tick")
    round_ = "dot" if ends == "dot" else "arrow"  # a tick across an arc, or at the end of a radius, is not read as an end
    if measure == "level":
        (x, y), (px, py) = shape.points[0], shape.points[1]
        d = height * 0.6
        lines = [[(x, y), (x - d, y + d), (x + d, y + d), (x, y)], [(x, y + d), (px, y + d)], [(px, y + d), (px, py)]]
        return Plain([[(float(a), float(b)) for a, b in line] for line in lines], [Letters((px, py + 0.2 * height), words, height)])
    if measure == "leader":
        return _leader(p, words, height)
    if measure == "radius":
        mark = [shape.points[0], shape.points[1]]
        way = (p[1] - p[0]) / max(math.dist(p[0], p[1]), 1e-9)
        return Plain([mark, _end(p[1], way, height, round_)], [Letters(_mid(mark), words, height, _upright(p[1] - p[0]), True)])
    if measure == "angle":
        r = math.dist(p[0], p[3])
        start, end = (math.atan2(*(q - p[0])[::-1]) for q in (p[1], p[2]))
        if (end - start) % math.tau > math.pi:
            start, end = end, start
        sweep = (end - start) % math.tau
        arc = [(float(p[0][0] + r * math.cos(t)), float(p[0][1] + r * math.sin(t))) for t in np.linspace(start, start + sweep, 25)]
        middle = arc[12]
        heads = [
            _end(np.array(arc[k]), turned * np.array([-math.sin(t), math.cos(t)]), height, round_)
            for k, t, turned in ((0, start, -1.0), (24, start + sweep, 1.0))
        ]
        return Plain([arc, *heads], [Letters(middle, words, height, 0.0, True)])
    along = _way(shape) if measure == "linear" else (p[1] - p[0]) / max(math.dist(p[0], p[1]), 1e-9)
    across = np.array([-along[1], along[0]])
    feet = [q + across * float((p[2] - q) @ across) for q in p[:2]]
    lines = [[feet[0], feet[1]]]
    for q, foot, other in zip(p[:2], feet, feet[::-1], strict=True):
        way = along if float((foot - other) @ along) >= 0 else -along
        lines += [[q, foot], _end(foot, way, height, ends)]
    own = [[(float(x), float(y)) for x, y in line] for line in lines]
    turn = _upright(along)
    up = np.array([-math.sin(turn), math.cos(turn)]) * height * 0.8
    at = np.array(_mid(own[0])) + up
    return Plain(own, [Letters((float(at[0]), float(at[1])), words, height, turn, True)])


def _end(at: Array, way: Array, height: float, ends: str) -> list[Point]:
    """What a line of a dimension has at an end that it reaches in a direction."""
    side = np.array([-way[1], way[0]])
    if ends == "dot":
        line = [at + 0.2 * height * np.array([math.cos(t), math.sin(t)]) for t in np.linspace(0, math.tau, 13)]
    elif ends == "arrow":
        barbs = [at - height * 0.8 * (way * math.cos(0.2) + k * side * math.sin(0.2)) for k in (1, -1)]
        line = [at, *barbs, at]
    else:
        tick = (way + side) * height * 0.35
        line = [at - tick, at + tick]
    return [(float(x), float(y)) for x, y in line]


def _leader(p: Array, words: str, height: float) -> Plain:
    """An arrow whose tip is the first place, a shelf at the second, and words that go on from it away from the tip."""
    way = (p[1] - p[0]) / max(math.dist(p[0], p[1]), 1e-9)
    side = np.array([-way[1], way[0]])
    barbs = [p[0] + height * 0.8 * (way * math.cos(0.3) + k * side * math.sin(0.3)) for k in (1, -1)]
    ahead = 1.0 if p[1, 0] >= p[0, 0] else -1.0
    shelf = p[1] + [ahead * height, 0.0]
    lines = [[p[0], p[1], shelf], [barbs[0], p[0], barbs[1]]]
    wide = 0.62 * height * len(words)  # about; letters begin so far left of a shelf that goes left
    at = shelf + [0.3 * height if ahead > 0 else -0.3 * height - wide, -0.4 * height]
    return Plain([[(float(x), float(y)) for x, y in line] for line in lines], [Letters((float(at[0]), float(at[1])), words, height)])


def _mid(line: list[Point]) -> Point:
    return (line[0][0] + line[1][0]) / 2, (line[0][1] + line[1][1]) / 2


def _upright(way: Array) -> float:
    """The turn of a text along a direction, so that it is read from below or from the right."""
    turn = math.atan2(way[1], way[0])
    return turn if -math.pi / 2 + 1e-6 < turn <= math.pi / 2 + 1e-6 else turn - math.copysign(math.pi, turn)
