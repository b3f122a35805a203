"""Placing on control: rigid, with what it leaves at every point and what it will do to places far from control.

Terms: easting, northing, height in metres of the control frame; role control | check | off. Spread that counts is the one
that holds every rotation: the moment of the points about their best line.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import Finding, NotEnough
from ..targets.match import rigid

Array = NDArray[np.float64]
ON_LINE = 0.05  # metres: points that lie closer to one line leave the turn about it free
PRIOR_SHARE = 0.2  # of the tolerance: standard deviation of a surveyed coordinate, before the residuals have told
PRIOR_WEIGHT = 3.0  # degrees of freedom that this is worth: few residuals tell little
GROSS = 3.0  # times the tolerance: from here on a figure is a fault, not a doubt


@dataclass(frozen=True)
class PointResidual:
    """residual : east, north, height; given minus found, metres."""

    name: str
    role: str
    residual: tuple[float, float, float]
    distance: float
    status: str
    reasons: tuple[Finding, ...]


@dataclass(frozen=True)
class Placement:
    """T_control_project with what is left at every point.

    sigma : deviation of one coordinate of control, metres, from the residuals and what is expected beforehand; covariance :
    (6, 6) of the left motion about ``centre`` (3,), control frame; far : predicted error, metres, at the place asked for
    that is held worst, ``far_from`` metres from the middle of control.
    """

    T_control_project: Array
    points: tuple[PointResidual, ...]
    sigma: float
    covariance: Array
    centre: Array
    far: float
    far_from: float
    findings: tuple[Finding, ...]

    def covariance_at(self, at: Array) -> Array:
        """(n, 3, 3) of what placing adds at points (n, 3), control frame, metres."""
        return placed_covariance(self.covariance, self.centre, at)


def placed_covariance(covariance: Array, centre: Array, at: Array) -> Array:
    """(n, 3, 3) at points (n, 3) of a motion with covariance (6, 6) about ``centre``."""
    j = np.concatenate([-frames.skews(np.atleast_2d(at) - centre), np.broadcast_to(np.eye(3), (len(np.atleast_2d(at)), 3, 3))], axis=2)
    return np.asarray(j @ covariance @ j.transpose(0, 2, 1))


def solve(
    names: Sequence[str],
    roles: Sequence[str],
    project: Array,
    control: Array,
    tolerance: float,
    level: bool = False,
    reach: Array | None = None,
) -> Placement:
    """Rigid placement without scale from the points whose role is control (at least 3 that hold every turn).

    project, control : (n, 3) metres, the same points in both frames; reach : (m, 3) project frame, the places that are to be
    placed. A point over the tolerance whose removal explains it (others fit within the tolerance, itself off by over 3 times
    that) is named as blunder and left out. Nothing is taut when the predicted error at the far end exceeds the tolerance.
    """
    used = _enough(names, roles, project)
    used, blundered = _without_blunders(used, project, control, tolerance, level)
    t = rigid(project[used], control[used], level)
    gap = control - frames.apply(t, project)
    sigma = _deviation(gap[used], 4 if level else 6, tolerance)
    covariance, centre = _covariance(frames.apply(t, project[used]), sigma, level)
    ends = frames.apply(t, project if reach is None or not len(reach) else reach)
    errors = np.sqrt(np.trace(placed_covariance(covariance, centre, ends), axis1=1, axis2=2))
    worst = int(np.argmax(errors))
    far, far_from = float(errors[worst]), float(np.linalg.norm(ends[worst] - centre))
    general = _about_all(far, far_from, len(used), tolerance)
    limited = any(f.code == "weak_geometry" for f in general)
    points = tuple(_point(names[k], roles[k], gap[k], blundered.get(k), tolerance, limited) for k in range(len(names)))
    findings = (*general, *(r for p in points for r in p.reasons))
    return Placement(t, points, sigma, covariance, centre, far, far_from, findings)


def _enough(names: Sequence[str], roles: Sequence[str], project: Array) -> list[int]:
    used = [k for k, r in enumerate(roles) if r == "control"]
    if len(used) < 3:
        have = ", ".join(names[k] for k in used) or "none"
        raise NotEnough(
            f"placing on control needs at least 3 matched points; {len(used)} are matched ({have})",
            remedy="match one more, or square the project to a wall instead",
        )
    if np.linalg.svd(project[used] - project[used].mean(axis=0), compute_uv=False)[1] < ON_LINE:
        raise NotEnough("the matched control points lie on one line", remedy="match a point to the side of that line")
    return used


def _without_blunders(used: list[int], project: Array, control: Array, tolerance: float, level: bool) -> tuple[list[int], dict[int, float]]:
    """Leave out one point after another whose removal explains what is over the tolerance. Returns (rest, metres off)."""
    used, blundered = list(used), {}

    def off(fit: list[int], at: list[int]) -> Array:
        t = rigid(project[fit], control[fit], level)
        return np.asarray(np.linalg.norm(control[at] - frames.apply(t, project[at]), axis=1))

    while len(used) > 3 and off(used, used).max() > tolerance:
        without = {k: [m for m in used if m != k] for k in used}
        left = {k: float(off(rest, rest).max()) for k, rest in without.items()}
        k = min(left, key=left.__getitem__)
        own = float(off(without[k], [k])[0])
        if own < 2 * tolerance or own < 3 * left[k]:
            break
        blundered[k] = own
        used.remove(k)
    return used, blundered


def _deviation(gap: Array, unknowns: int, tolerance: float) -> float:
    """Metres per coordinate: the residuals' own deviation, and what is expected beforehand where they are few. The root of the mean
    variance that both leave (scaled inverse chi-square; Gelman et al., Bayesian Data Analysis, 2.6): few residuals make it larger."""
    freedom = max(gap.size - unknowns, 0)
    prior = PRIOR_WEIGHT * (PRIOR_SHARE * tolerance) ** 2
    return float(np.sqrt((float((gap**2).sum()) + prior) / (freedom + PRIOR_WEIGHT - 2)))


def _covariance(at: Array, sigma: float, level: bool) -> tuple[Array, Array]:
    """((6, 6) of the motion about the middle of the points (n, 3), that middle (3,))."""
    centre = at.mean(axis=0)
    j = np.concatenate([-frames.skews(at - centre), np.broadcast_to(np.eye(3), (len(at), 3, 3))], axis=2)
    normal = (j.transpose(0, 2, 1) @ j).sum(axis=0)
    free = [2, 3, 4, 5] if level else list(range(6))
    out = np.zeros((6, 6))
    out[np.ix_(free, free)] = sigma**2 * np.linalg.inv(normal[np.ix_(free, free)])
    return out, centre


def _about_all(far: float, far_from: float, used: int, tolerance: float) -> tuple[Finding, ...]:
    out = []
    if far > tolerance:
        message = (
            f"control holds one turn weakly: {far_from:.0f} m from its middle the predicted error is ±{1000 * far:.0f} mm, "
            f"tolerance {1000 * tolerance:.0f} mm; match a point to the side of the others"
        )
        out.append(Finding("weak_geometry", "placement", message, "fault" if far > GROSS * tolerance else "doubt"))
    if used == 3:
        message = "three points place the project but control little: a fourth would prove it"
        out.append(Finding("no_redundancy", "placement", message, "doubt"))
    return tuple(out)


def _point(name: str, role: str, gap: Array, blunder: float | None, tolerance: float, limited: bool) -> PointResidual:
    d = float(np.linalg.norm(gap))
    reasons: tuple[Finding, ...] = ()
    if blunder is not None:
        message = f"{name} is off by {1000 * blunder:.0f} mm while the others agree: suspected blunder, left out"
        reasons = (Finding("blunder", name, message, "fault"),)
    elif d > tolerance:
        message = f"{name} is off by {1000 * d:.1f} mm, tolerance {1000 * tolerance:.1f} mm"
        reasons = (Finding("over_tolerance", name, message, "doubt"),)
    status = "parted" if blunder is not None or d > GROSS * tolerance else "slack" if d > tolerance or limited else "taut"
    return PointResidual(name, role, (float(gap[0]), float(gap[1]), float(gap[2])), d, status, reasons)
