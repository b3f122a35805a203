"""What is wrong when control does not fit: a blundered point, two that were swapped, exchanged axes, another unit, another height datum.

Each suspicion is tried: it is told only when everything fits once it is put right.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from .. import frames
from ..errors import Finding
from ..targets.match import rigid
from .fit import Array, Points, fitted

CLEARLY = 5.0  # times better, from which on a reading is told
LEAST = 3  # points that stay
PAIRS = 45  # points among which swapped ones are looked for
UNITS = {  # how much longer control is than the project
    0.3048: ("ft", "it is written in feet and was read as metres"),
    1 / 0.3048: ("m", "it is written in metres and was read as feet"),
    0.001: ("mm", "it is written in millimetres and was read as metres"),
    1000.0: ("m", "it is written in metres and was read as millimetres"),
}


@dataclass(frozen=True)
class Suspicion:
    """points: numbers of those that are left out for it; off: metres that each of them is off by; the finding for people."""

    points: tuple[int, ...]
    off: tuple[float, ...]
    finding: Finding


def _worst(p: Points) -> float:
    return float(fitted(p).distance.max())


def blundered(p: Points, used: Sequence[int], names: Sequence[str], tolerance: float) -> tuple[list[int], list[Suspicion]]:
    """Leave out one point after another whose removal explains what is over the tolerance, and two that were swapped. Returns
    (the rest, suspicions); at least LEAST stay: of fewer, another one might as well be wrong."""
    used, found = list(used), []
    while len(used) > LEAST and (worst := _worst(p.of(used))) > tolerance:
        single = _single(p, used, names, tolerance)
        pair = _swapped(p, used, names, tolerance, worst)
        if pair is not None and (single is None or single[1] > tolerance):
            found.append(pair)
            used = [k for k in used if k not in pair.points]
            break
        if single is None:
            break
        found.append(single[0])
        used.remove(single[0].points[0])
    return used, found


def _single(p: Points, used: list[int], names: Sequence[str], tolerance: float) -> tuple[Suspicion, float] | None:
    """The point whose removal explains most, with the largest gap that is left; None when it stands out too little."""
    left = {k: fitted(p.of([m for m in used if m != k])) for k in used if _still_held(p, [m for m in used if m != k])}
    if not left:
        return None
    k = min(left, key=lambda x: float(left[x].distance.max()))
    at = frames.apply(left[k].T, p.project[k][None])[0]
    own = float(np.linalg.norm(np.where(p.weight[k] > 0, np.nan_to_num(p.control[k] - at), 0.0)))
    rest = float(left[k].distance.max())
    if own < 2 * tolerance or own < 3 * rest:
        return None
    message = f"{names[k]} is off by {1000 * own:.0f} mm while the others agree: suspected blunder, left out"
    return Suspicion((k,), (own,), Finding("blunder", names[k], message, "fault")), rest


def _still_held(p: Points, used: list[int]) -> bool:
    own = p.of(used)
    plan = own.project[(own.weight[:, :2] > 0).all(axis=1)]
    return len(plan) >= 2 and float(np.ptp(plan[:, :2], axis=0).max()) > 0.3


def _swapped(p: Points, used: list[int], names: Sequence[str], tolerance: float, worst: float) -> Suspicion | None:
    """Two points that everything fits with once they are exchanged."""
    if not LEAST + 2 <= len(used) <= PAIRS:
        return None
    off = fitted(p.of(used)).distance
    likely = [used[k] for k in np.argsort(-off)[: max(8, len(used) // 2)]]
    best, left = None, min(2 * tolerance, worst / CLEARLY)
    for a, b in combinations(likely, 2):
        if np.linalg.norm(np.nan_to_num(p.control[a] - p.control[b])) < 4 * tolerance:
            continue
        control = p.control.copy()
        control[[a, b]] = control[[b, a]]
        rest = _worst(p.given(control).of(used))
        if rest < left:
            best, left = (a, b), rest
    if best is None:
        return None
    a, b = best
    subject = f"{names[a]} and {names[b]}"
    message = f"{subject} look swapped: swapping brings the largest residual from {_length(worst)} to {_length(left)}; left out"
    own = tuple(float(np.linalg.norm(np.nan_to_num(p.control[a] - p.control[b]))) for _ in best)
    return Suspicion((a, b), own, Finding("swapped", subject, message, "fault"))


def of_all(p: Points, used: Sequence[int], tolerance: float) -> list[Finding]:
    """What is wrong with control as a whole: axes, unit, heights of another datum."""
    own = p.of(used)
    worst = _worst(own)
    if worst <= max(5 * tolerance, 0.03):
        return []
    limit = max(3 * tolerance, 1e-4 * float(np.ptp(own.project, axis=0).max()))
    exchanged = own.given(own.control[:, [1, 0, 2]])
    if len(used) >= 3 and (left := _worst(exchanged)) < min(limit, worst / CLEARLY):
        within = f"{1000 * left:.0f} mm instead of {_length(worst)}"
        message = f"easting and northing are exchanged: the other way round the points agree within {within}"
        return [Finding("axes_exchanged", "control", message, "fault")]
    if (unit := _unit(own, limit, worst)) is not None:
        return [unit]
    heights = _heights(own, limit, worst)
    return [heights] if heights is not None else []


def _unit(p: Points, limit: float, worst: float) -> Finding | None:
    plan = (p.weight[:, :2] > 0).all(axis=1)
    if plan.sum() < 2:
        return None
    a, b = (x[plan][:, :2] - x[plan][:, :2].mean(axis=0) for x in (p.project, p.control))
    ratio = float(np.sqrt((b**2).sum() / max((a**2).sum(), 1e-12)))
    for factor, (_, words) in UNITS.items():
        if abs(ratio * factor - 1) < 0.003 and (left := _worst(p.given(p.control * factor))) < min(limit, worst / CLEARLY):
            message = f"control is {ratio:.4g} times as large as the project, and fits within {1000 * left:.0f} mm if {words}"
            if "feet" in words:
                message += "; whether international or US survey feet, which differ by 2 ppm, is for the surveyor to say"
            return Finding("unit", "control", message, "fault")
    return None


def _heights(p: Points, limit: float, worst: float) -> Finding | None:
    """Two groups of heights that differ by one number, while the plan fits."""
    plan, high = (p.weight[:, :2] > 0).all(axis=1), p.weight[:, 2] > 0
    if plan.sum() < 2 or high.sum() < 4:
        return None
    flat = p.control.copy()
    flat[:, 2] = p.project[:, 2]
    t = rigid(p.project[plan], flat[plan], level=True)
    off = p.control - frames.apply(t, p.project)
    if np.linalg.norm(off[plan][:, :2], axis=1).max() > limit:
        return None
    heights = np.sort(off[high, 2])
    cut = int(np.argmax(np.diff(heights))) + 1
    low, up = heights[:cut], heights[cut:]
    if min(len(low), len(up)) < 2 or max(np.ptp(low), np.ptp(up)) > 2 * limit:
        return None
    apart = float(up.mean() - low.mean())
    if apart < CLEARLY * limit:
        return None
    message = (
        f"the heights of {len(up)} points lie {_length(apart)} above those of the other {len(low)}, while all agree in plan: "
        "two height datums in one file"
    )
    return Finding("height_datum", "control", message, "fault")


def _length(metres: float) -> str:
    return f"{1000 * metres:.0f} mm" if metres < 1 else f"{metres:.2f} m"


__all__ = ["Array", "Suspicion", "blundered", "of_all"]
