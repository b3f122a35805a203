"""What a plan of a simulated site should show, from its boxes, and how much of it was found."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from taut_lantern.core import frames
from taut_lantern.core.draw.faces import Around
from taut_lantern.core.draw.walls import Found, find
from taut_lantern.standins.scanner import Scanner
from taut_lantern.standins.scene import Scene
from tests.truth.layouts import Layout

Array = NDArray[np.float64]
HIGH = 2.05  # metres from which a box is a wall and no furniture
WINDOW = 0.20  # metres of a wall that are told by themselves
LEAST = 5  # points within the metre round it that make it seen


@dataclass(frozen=True)
class Side:
    """A side of a box in the cut: ends (2,), outward normal (2,), whether the box is as tall as a wall, and as long as one (else it is a
    column, or a piece beside a door: neither asked for nor furniture)."""

    a: Array
    b: Array
    n: Array
    tall: bool
    wall: bool

    @property
    def long(self) -> float:
        return float(np.linalg.norm(self.b - self.a))

    @property
    def along(self) -> Array:
        return np.asarray((self.b - self.a) / max(self.long, 1e-9))


def sides(scene: Scene, height: float) -> list[Side]:
    """The sides of all boxes that a plan cuts. Several boxes make one wall (beside its doors): sides within others touch no point."""
    boxes = [v for vertices, *_ in scene._parts if len(v := np.asarray(vertices)) == 8]
    tall: dict[tuple[float, ...], float] = {}
    for v in boxes:  # what stands on each other, as below and above a window, is one
        tall[_foot(v)] = tall.get(_foot(v), 0.0) + float(np.ptp(v[:, 2]))
    out = []
    for v in boxes:
        if not v[:, 2].min() < height < v[:, 2].max():
            continue
        (x0, y0), (x1, y1) = v[:, :2].min(axis=0), v[:, :2].max(axis=0)
        high = tall[_foot(v)] >= HIGH
        for a, b, n in (
            ((x0, y0), (x1, y0), (0, -1)),
            ((x1, y0), (x1, y1), (1, 0)),
            ((x1, y1), (x0, y1), (0, 1)),
            ((x0, y1), (x0, y0), (-1, 0)),
        ):
            if np.hypot(b[0] - a[0], b[1] - a[1]) > 0.03:
                out.append(Side(np.array(a, float), np.array(b, float), np.array(n, float), high, high and max(x1 - x0, y1 - y0) >= 0.8))
    return out


def _foot(v: Array) -> tuple[float, ...]:
    return tuple(np.round([*v[:, :2].min(axis=0), *v[:, :2].max(axis=0)], 3).tolist())


@dataclass
class Score:
    """Metres of wall that points touch and that were found of them; offsets (m) of what was found; turn over the length (m) of each face;
    metres found in all and of nothing; metres of furniture found, and as walls; corners' distance (m); errors of thickness (m)."""

    touched: float = 0.0
    found: float = 0.0
    drawn: float = 0.0
    nothing: float = 0.0
    furniture: float = 0.0
    mistaken: float = 0.0
    off: list[float] = field(default_factory=list)
    turn: list[float] = field(default_factory=list)
    corner: list[float] = field(default_factory=list)
    thick: list[float] = field(default_factory=list)


def points_of(layout: Layout, seed: int, scanner: Scanner) -> tuple[Array, NDArray[np.int64], Array]:
    """All points of a layout (n, 3), which station saw each, and where those stood (m, 3), as truly placed."""
    scans = layout.scans(scanner, seed)
    p = [frames.apply(pose, cloud.xyz) for cloud, pose in scans.values()]
    which = np.concatenate([np.full(len(x), k) for k, x in enumerate(p)])
    return np.concatenate(p), which, np.array([pose[:3, 3] for _, pose in scans.values()])


def plan_of(points: Array, which: NDArray[np.int64], stands: Array, height: float, depth: float = 0.05) -> tuple[Found, Array]:
    """What is found in a plan at a height, and the points of its slab."""
    q = points - [0, 0, height]
    near = (q[:, 2] > -1.0) & (q[:, 2] < 1.45)
    slab = q[np.abs(q[:, 2]) < depth / 2]
    return find(slab, Around(q[near], which[near], stands - [0, 0, height]), True), slab


def scored(found: Found, slab: Array, true: list[Side], to: Score) -> None:
    """Add what was found to a score."""
    walls = [f for f in found.faces if not f.tall < 0.5]
    for side in true:
        t, off = (slab[:, :2] - side.a) @ side.along, (slab[:, :2] - side.a) @ side.n
        cells = max(1, int(side.long / WINDOW))
        on = (np.abs(off) < 0.02) & (t > 0) & (t < side.long)
        count = np.bincount(np.clip(t[on] / side.long * cells, 0, cells - 1).astype(int), minlength=cells)
        metre = np.convolve(count, np.ones(5, int))[2:-2]
        for k in np.nonzero((count > 0) & (metre >= LEAST))[0]:
            each = side.long / cells
            middle = side.a + side.along * (k + 0.5) * each
            by = [abs(float((middle - f.a) @ f.normal)) for f in (walls if side.wall else found.faces) if _covers(f, middle, side)]
            if side.wall:
                to.touched += each
                to.found += each * bool(by)
                to.off += [min(by)] if by else []
            elif by and not side.tall and not any(w.tall and _lies(w, middle) for w in true):
                to.furniture += each
                to.mistaken += each * any(_covers(f, middle, side) for f in walls)
    for f in walls:
        cells = max(1, int(f.length / 0.1))
        for k in range(cells):
            middle = np.array(f.a) + f.along * (k + 0.5) * f.length / cells
            to.drawn += f.length / cells
            to.nothing += f.length / cells * (not any(_lies(s, middle) for s in true))
        turns = [
            abs(float(f.normal @ s.along)) * f.length
            for s in true
            if s.wall and s.long > 0.3 and abs(s.along @ f.along) > 0.9 and _lies(s, (np.array(f.a) + f.b) / 2)
        ]
        to.turn += [min(turns)] if turns else []
    corners = _crossings(true)
    to.corner += [float(np.linalg.norm(corners - p, axis=1).min()) for f in walls for e, p in zip(f.ends, (f.a, f.b), strict=True) if e]
    for w in found.walls:
        one = found.faces[w.one]
        middle = (np.array(one.a) + one.b) / 2
        gaps = [abs(float((s.a - middle) @ one.normal)) for s in true if s.tall and abs(s.along @ one.along) > 0.999]
        to.thick += [min(abs(w.thickness - g) for g in gaps)] if gaps else []


def _covers(f: object, at: Array, side: Side) -> bool:
    t = float((at - f.a) @ f.along)  # type: ignore[attr-defined]
    off = float((at - np.array(f.a)) @ f.normal)  # type: ignore[attr-defined]
    return -0.02 < t < f.length + 0.02 and abs(off) < 0.012 and abs(f.along @ side.along) > 0.99  # type: ignore[attr-defined]


def _lies(side: Side, at: Array) -> bool:
    return -0.03 < (at - side.a) @ side.along < side.long + 0.03 and abs((at - side.a) @ side.n) < 0.03


def _crossings(true: list[Side]) -> Array:
    """Where sides cross, or would within 20 cm of their ends."""
    out = [np.array([1e9, 1e9])]
    for i, s in enumerate(true):
        for r in true[i + 1 :]:
            cross = s.along[0] * r.along[1] - s.along[1] * r.along[0]
            if abs(cross) < 0.2:
                continue
            d = r.a - s.a
            t = (d[0] * r.along[1] - d[1] * r.along[0]) / cross
            at = s.a + s.along * t
            if -0.2 < t < s.long + 0.2 and -0.2 < (at - r.a) @ r.along < r.long + 0.2:
                out.append(at)
    return np.array(out)
