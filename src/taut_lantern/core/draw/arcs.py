"""Arcs in a cut: chains of short chords that turn one way, followed as far as points go. Section frame, metres, radians."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from .faces import SAME, STEP, Face
from .fit import fit_circle, thin

Array = NDArray[np.float64]


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
