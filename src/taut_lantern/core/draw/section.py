"""Sections: the cut plane, its frame, and the slab of points round it.

Terms: section frame = (along, across, towards): ``along`` runs along the cut, ``across`` is north for a plan and up for an
upright section, ``towards`` points from the cut to whoever looks at it; right-handed, so that T_section_base is a rotation
and a shift. What lies *before* the cut is on the viewer's side of it. Base = the frame that the cut was given in. Metres.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import BadInput
from .foot import Foot, arc_through

Array = NDArray[np.float64]
MOST = 60  # sections of a row
STEPS = 12  # of one cut


@dataclass(frozen=True)
class Cut:
    """T_section_base and the slab: from -behind to +before towards the viewer. low, high: limits along and across. steps: where the cut
    goes on, metres along, and how far on beyond its line, away from the viewer. foot: of a wall that is unrolled, the line in plan that it
    stands on; along runs on it, across is up, and towards is what lies to the right of it."""

    kind: str  # plan | ceiling | upright | unrolled
    T_section_base: Array
    before: float
    behind: float
    low: tuple[float, float] | None = None  # limits in the section frame
    high: tuple[float, float] | None = None
    steps: tuple[tuple[float, float], ...] = ()
    foot: Foot | None = None

    @property
    def legs(self) -> list[tuple[float, float, float]]:
        """From, to (metres along) and shift away from the viewer of each straight piece."""
        at = [-math.inf, *(x for x, _ in self.steps), math.inf]
        return [(low, high, shift) for low, high, shift in zip(at[:-1], at[1:], [0.0, *(y for _, y in self.steps)], strict=True)]

    def shift(self, along: Array) -> Array:
        """(n,) of the pieces that places along (n,) are on."""
        shifts = np.array([0.0, *(y for _, y in self.steps)])
        return np.asarray(shifts[np.searchsorted(np.array([x for x, _ in self.steps]), along, side="right")])


def plan(height: float, before: float = 0.0, behind: float = 0.05, turn: float = 0.0) -> Cut:
    """A level cut at ``height`` (z of the base), looking down: behind lies below the cut. turn: of ``along`` from x of the base, radians."""
    if not math.isfinite(height) or before + behind <= 0:
        raise BadInput("a plan needs a height and some depth", remedy="give a height in metres and a depth above zero")
    t = frames.pose(-turn)
    t[2, 3] = -height
    return Cut("plan", t, before, behind)


def ceiling(height: float, before: float = 0.0, behind: float = 0.05, turn: float = 0.0) -> Cut:
    """A level cut that looks up, drawn as in a mirror on the floor: laid out as a plan, and what is behind lies above the cut."""
    own = plan(height, behind, before, turn)
    return Cut("ceiling", own.T_section_base, own.before, own.behind)


def upright(
    a: tuple[float, float], b: tuple[float, float], before: float = 0.0, behind: float = 0.05, steps: Sequence[Sequence[float]] = ()
) -> Cut:
    """An upright cut through two plan picks, looking to the left of a -> b. along starts at a, across is z of the base. steps: see Cut."""
    d = np.array(b) - np.array(a)
    length = float(np.linalg.norm(d))
    if not length > 0.01 or before + behind <= 0:
        raise BadInput("the two picks of a section lie on each other", remedy="pick two points at least 1 cm apart")
    at = [float(x) for x, _ in steps]
    if len(at) > STEPS or any(not 0 < x < length for x in at) or sorted(set(at)) != at or not np.isfinite([y for _, y in steps]).all():
        raise BadInput(
            "the steps of a cut lie one after the other between its ends", subject="steps", remedy="pick the legs again, in order"
        )
    u = d / length
    t = np.eye(4)
    t[:3, :3] = [[u[0], u[1], 0], [0, 0, 1], [u[1], -u[0], 0]]
    t[:3, 3] = -t[:3, :3] @ np.array([a[0], a[1], 0.0])
    return Cut("upright", t, before, behind, (-0.5, -1e6), (length + 0.5, 1e6), tuple((float(x), float(y)) for x, y in steps))


def unrolled(line: Array, before: float, behind: float, bent: bool = False) -> Cut:
    """A wall unrolled along the line through picks (n, 2), or along the arc through three; one looks at it from the right of the way."""
    if before + behind <= 0:
        raise BadInput("an unrolled wall needs some depth", subject="depth", remedy="give a depth before or behind the line")
    foot = Foot.through(np.asarray(line, float).reshape(-1, 2), bent)
    return Cut("unrolled", np.eye(4), before, behind, (-1e-6, -1e6), (foot.long + 1e-6, 1e6), (), foot)


def stepped(line: Array) -> tuple[tuple[float, float], tuple[float, float], list[tuple[float, float]]]:
    """Ends a, b and steps of an upright cut from the ends of its legs, picked in turn (2n, 2): legs are laid parallel, each through the
    middle of its picks, and a step lies midway between the end of one leg and the beginning of the next."""
    if len(line) < 2 or len(line) % 2 or len(line) > 2 * STEPS + 2:
        raise BadInput("a cut in steps needs the two ends of each leg", subject="line", remedy="pick both ends of every leg, in order")
    legs = line.reshape(-1, 2, 2)
    way = (legs[:, 1] - legs[:, 0]).sum(axis=0)
    if not np.linalg.norm(way) > 0.01:
        raise BadInput(
            "the legs of this cut run against each other", subject="line", remedy="pick them one after the other, all in one way"
        )
    u = way / np.linalg.norm(way)
    off = ((legs - line[0]) @ np.array([-u[1], u[0]])).mean(axis=1)
    run = (legs - line[0]) @ u
    a = line[0] + off[0] * np.array([-u[1], u[0]])
    b = a + run[-1, 1] * u
    steps = [(float(run[k, 1] + run[k + 1, 0]) / 2, float(off[k + 1] - off[0])) for k in range(len(legs) - 1)]
    return (float(a[0]), float(a[1])), (float(b[0]), float(b[1])), steps


def along_arc(picks: Array, spacing: float) -> tuple[Array, Array]:
    """(places (n, 2), unit ways there (n, 2)) at equal spacing along the arc through three picks (3, 2), from the first to the last. BadInput when
    they lie in a row or on each other."""
    centre, radius, start, sweep = arc_through(picks)
    way, long = math.copysign(1.0, sweep), radius * abs(sweep)
    if not spacing > 0.01 or not long / spacing < MOST:
        raise BadInput("that makes too many sections", subject="sections", remedy=f"choose a wider spacing: at most {MOST} at once")
    angle = start + way * np.arange(0.0, long + 1e-6, spacing) / radius
    out = np.column_stack([np.cos(angle), np.sin(angle)])
    return centre + radius * out, way * np.column_stack([-out[:, 1], out[:, 0]])


def across(places: Array, ways: Array, width: float) -> list[tuple[tuple[float, float], tuple[float, float]]]:
    """Ends a, b of upright cuts square to ways (n, 2) at places (n, 2), each ``width`` wide; they look along the way."""
    left = np.column_stack([-ways[:, 1], ways[:, 0]]) * width / 2
    return [((float(p[0]), float(p[1])), (float(q[0]), float(q[1]))) for p, q in zip(places + left, places - left, strict=True)]


def series(line: Array, spacing: float, width: float) -> list[tuple[tuple[float, float], tuple[float, float]]]:
    """Ends a, b of upright cuts square to a polyline (n, 2) at equal spacing, from its start to its end, each ``width`` wide with the line
    in its middle; they look along it."""
    steps = np.linalg.norm(np.diff(line, axis=0), axis=1) if len(line) > 1 else np.zeros(0)
    if not spacing > 0.01 or not width > 0.02 or not len(steps) or steps.min() < 1e-6:
        raise BadInput("a row of sections needs two picks, a spacing and a width", subject="sections", remedy="give both above zero")
    run = np.concatenate([[0.0], np.cumsum(steps)])
    if not run[-1] / spacing < MOST:
        raise BadInput("that makes too many sections", subject="sections", remedy=f"choose a wider spacing: at most {MOST} at once")
    out = []
    for t in np.arange(0.0, run[-1] + 1e-6, spacing):
        k = min(int(np.searchsorted(run, t, side="right")) - 1, len(steps) - 1)
        u = (line[k + 1] - line[k]) / steps[k]
        at, left = line[k] + u * (t - run[k]), np.array([-u[1], u[0]])
        a, b = at + left * width / 2, at - left * width / 2  # what is left of a -> b lies ahead
        out.append(((float(a[0]), float(a[1])), (float(b[0]), float(b[1]))))
    return out


def slab(cut: Cut, points: Array) -> tuple[Array, NDArray[np.bool_]]:
    """(points in the section frame (n, 3), mask of those inside the slab), of points in the base. Of a cut in steps, towards is told from
    the leg that a point is on."""
    p = frames.apply(cut.T_section_base, points)
    on = np.ones(len(p), bool)
    if cut.foot is not None:
        p, on = cut.foot.unrolled(p)
    elif cut.steps:
        p[:, 2] += cut.shift(p[:, 0])
    inside = on & (p[:, 2] >= -cut.behind) & (p[:, 2] <= cut.before)
    if cut.low is not None and cut.high is not None:
        inside &= (p[:, 0] >= cut.low[0]) & (p[:, 0] <= cut.high[0]) & (p[:, 1] >= cut.low[1]) & (p[:, 1] <= cut.high[1])
    return p, inside


def about(cut: Cut, T_base_station: Array, points: NDArray[np.float32]) -> NDArray[np.int64]:
    """Which of points (n, 3) in a station's frame lie about between the planes of a slab: told in single precision, of those alone that
    :func:`slab` is asked about. All, of a cut in steps or an unrolled one."""
    if cut.steps or cut.foot is not None:
        return np.arange(len(points))
    t = (cut.T_section_base @ T_base_station)[2]
    off = points @ t[:3].astype(np.float32)
    slack = 1e-3 + 1e-5 * float(np.abs(points).max(initial=0.0))  # metres, above what single precision may err by
    return np.nonzero((off >= -cut.behind - t[3] - slack) & (off <= cut.before - t[3] + slack))[0]


def boxes_meet(cut: Cut, T_base_station: Array, low: Array, high: Array) -> NDArray[np.bool_]:
    """(n,) whether boxes from low (n, 3) to high (n, 3) along the axes of a station's frame can hold points of the slab."""
    p = frames.apply(cut.T_section_base @ T_base_station, frames.corners(low, high).reshape(-1, 3)).reshape(-1, 8, 3)
    least, most = p.min(axis=1), p.max(axis=1)
    if cut.foot is not None:
        middle = (least + most) / 2
        half = np.linalg.norm((most - least)[:, :2], axis=1) / 2
        return cut.foot.away(middle) <= half + max(abs(cut.before), abs(cut.behind))
    meets = np.zeros(len(p), bool)
    for begin, end, shift in cut.legs:
        on = (begin <= most[:, 0]) & (end >= least[:, 0])
        meets |= on & (least[:, 2] + shift <= cut.before) & (most[:, 2] + shift >= -cut.behind)
    if cut.low is not None and cut.high is not None:
        meets &= ((least[:, :2] <= cut.high) & (most[:, :2] >= cut.low)).all(axis=1)
    return meets
