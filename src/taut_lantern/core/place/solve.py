"""Placing on control: what it leaves at every point and what it will do to places far from control.

Terms: easting, northing, height in metres of the control frame; role control | check | off. Spread that counts is the one
that holds every rotation: the moment of the points about their best line.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import Finding, NotEnough
from .fit import LEVEL, ONE_PLACE, RIGID, SCALED, Fit, Points, fitted, held, scale_of
from .suspects import Suspicion, blundered, of_all

Array = NDArray[np.float64]
PRIOR_SHARE = 0.2  # of the tolerance: standard deviation of a surveyed coordinate, before the residuals have told
PRIOR_WEIGHT = 3.0  # degrees of freedom that this is worth: few residuals tell little
GROSS = 3.0  # times the tolerance: from here on a figure is a fault, not a doubt
EXPECTED = 3.5  # deviations of a coordinate, up to which a gap is none
SURE = 2.6  # deviations of a scale, from which on it is no chance
LEANS = 4.0  # the same of a tilt
STRETCHED = 20e-6  # scale below which nobody needs to hear of it


@dataclass(frozen=True)
class PointResidual:
    """residual : east, north, height; given minus found, metres, NaN for what was not given; alone: distance from where all others
    would have it, NaN for what takes no part or is alone."""

    name: str
    role: str
    residual: tuple[float, float, float]
    distance: float
    alone: float
    status: str
    reasons: tuple[Finding, ...]

    def left_with(self, gap: Array, tolerance: float) -> PointResidual:
        """The point with what another adjustment leaves of it, (3,) metres; what is suspected of it stays."""
        kept = tuple(r for r in self.reasons if r.code != "over_tolerance")
        limited = self.status == "slack" and self.reasons == ()
        new = _point(self.name, self.role, gap, None, self.alone, tolerance, limited, False)
        return replace(new, status=self.status, reasons=kept) if kept else new


@dataclass(frozen=True)
class Placement:
    """T_control_project with what is left at every point.

    sigma : deviation of one coordinate of control, metres, from the residuals and what is expected beforehand; factor: by how much
    the residuals exceed the deviations that were given (1: as expected); covariance : (6, 6) of the left motion about ``centre``
    (3,), control frame; far : predicted error, metres, at the place asked for that is held worst, ``far_from`` metres from the
    middle of control; scale: how much longer control is, were that left free, and its deviation.
    """

    T_control_project: Array
    points: tuple[PointResidual, ...]
    sigma: float
    factor: float
    covariance: Array
    centre: Array
    far: float
    far_from: float
    scale: tuple[float, float]
    findings: tuple[Finding, ...]
    mode: str = RIGID

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
    mode: str = RIGID,
    reach: Array | None = None,
    sigma: Array | None = None,
    tilt: float | None = None,
    up: Array | None = None,
) -> Placement:
    """Placement from the points whose role is control.

    project, control : (n, 3) metres, the same points in both frames, NaN in control for what was not given; mode: rigid (6
    unknowns), level (4) or scaled (7: T_control_project holds the scale); sigma : (n, 3) deviations of control, metres, NaN
    where unknown; tilt: deviation, radians, of what the project takes for up, None when its scanners may lean; up : (3,) that
    direction, z when left out; reach : (m, 3) project frame, the places that are to be placed. What a suspicion explains (see ``suspects``) is named and left out. Nothing is taut when the predicted error at the far end exceeds
    the tolerance. NotEnough when the points do not hold the placement, with what is missing.
    """
    stand = np.eye(4) if up is None else frames.upright(up)
    project = frames.apply(stand, project)
    reach = None if reach is None else frames.apply(stand, reach)
    if mode == SCALED:
        return _scaled(names, roles, project, control, tolerance, reach, sigma, tilt, stand)
    placement = _solved(names, roles, project, control, tolerance, mode, reach, sigma, tilt)
    return replace(placement, T_control_project=placement.T_control_project @ stand)


STRETCH = 0.003  # of the length: more is no projection and no scanner out of calibration, but a unit


def _scaled(
    names: Sequence[str],
    roles: Sequence[str],
    project: Array,
    control: Array,
    tolerance: float,
    reach: Array | None,
    sigma: Array | None,
    tilt: float | None,
    stand: Array,
) -> Placement:
    """Seven unknowns: the project is stretched until nothing of the scale is left, and placed as it then is."""
    stretch, deviation = 1.0, np.inf
    for _ in range(6):
        there = None if reach is None else stretch * reach
        found = _solved(names, roles, stretch * project, control, tolerance, RIGID, there, sigma, tilt, more=1)
        value, deviation = found.scale
        if not np.isfinite(deviation):
            raise NotEnough("fewer than three points with all coordinates are matched, so nothing holds a scale", remedy="match one more")
        if any(f.subject == "control" and f.severity == "fault" for f in found.findings) or abs(value) < 1e-10:
            break
        stretch *= 1 + value
    if abs(stretch - 1) > STRETCH:
        message = f"a scale of {1e6 * (stretch - 1):.0f} ppm is no scale but another unit, or a wrong match"
        raise NotEnough(message, remedy="place it without scale, and see what is said of the points")
    far = float(np.hypot(found.far, deviation * found.far_from))
    message = (
        f"the scans are {'stretched' if stretch > 1 else 'shrunk'} by {1e6 * abs(stretch - 1):.0f} ppm (±{1e6 * deviation:.0f}): "
        "distances in coordinates are no longer those that were scanned"
    )
    said = [f for f in found.findings if f.code not in ("scale", "weak_geometry")]
    findings = (Finding("scaled", "placement", message, "doubt"), *_about_all(far, found.far_from, 4, RIGID, tolerance), *said)
    t = found.T_control_project.copy()
    t[:3, :3] *= stretch
    return replace(found, T_control_project=t @ stand, scale=(stretch - 1, deviation), far=far, findings=findings, mode=SCALED)


def _solved(
    names: Sequence[str],
    roles: Sequence[str],
    project: Array,
    control: Array,
    tolerance: float,
    mode: str,
    reach: Array | None,
    sigma: Array | None,
    tilt: float | None,
    more: int = 0,
) -> Placement:
    """As :func:`solve` with 4 or 6 unknowns, of a project that stands upright."""
    prior = PRIOR_SHARE * tolerance
    expected = np.full(control.shape, prior) if sigma is None else np.where(np.isfinite(sigma), sigma, prior)
    given = np.isfinite(control)
    points = Points(project, control, np.where(given, 1 / np.maximum(expected, 1e-5) ** 2, 0.0), mode, tilt, more)
    used = _enough(names, roles, points)
    leaning: tuple[Finding, ...] = ()
    if mode != LEVEL and tilt is not None:
        points, leaning = _upright(points, used)
    whole = of_all(points, used, tolerance) if len(used) > 2 else []
    own = points.of(used)
    limit = max(tolerance, EXPECTED * float(np.sqrt(np.max(1 / own.weight[own.weight > 0]))))  # what was expected is no blunder
    used, suspicions = (used, []) if whole else blundered(points, used, names, limit)
    own = points.of(used)
    fit = fitted(own)
    factor2 = _variance(own, fit)
    gap = np.where(given, control - frames.apply(fit.T, project), np.nan)
    covariance = factor2 * fit.cofactor
    ends = frames.apply(fit.T, project if reach is None or not len(reach) else reach)
    errors = np.sqrt(np.trace(placed_covariance(covariance, fit.centre, ends), axis1=1, axis2=2))
    worst = int(np.argmax(errors))
    far, far_from = float(errors[worst]), float(np.linalg.norm(ends[worst] - fit.centre))
    scale = _scale(own, fit, factor2)
    general = (*_about_all(far, far_from, len(used), mode, tolerance), *_about_scale(scale), *leaning, *whole)
    limited = any(f.code in ("weak_geometry", "two_points") for f in general)
    by_point = {k: (s, off) for s in suspicions for k, off in zip(s.points, s.off, strict=True)}
    alone = {k: float(np.linalg.norm(a)) for k, a in zip(used, fit.alone, strict=True)} if own.freedom > 0 else {}
    out = tuple(
        _point(names[k], roles[k], gap[k], by_point.get(k), alone.get(k, np.nan), tolerance, limited, bool(whole))
        for k in range(len(names))
    )
    findings = (*general, *(s.finding for s in suspicions), *(r for p in out for r in p.reasons if r.code == "over_tolerance"))
    typical = float(np.sqrt(factor2 * np.mean(1 / own.weight[own.weight > 0])))
    return Placement(fit.T, out, typical, float(np.sqrt(factor2)), covariance, fit.centre, far, far_from, scale, findings, mode)


def _enough(names: Sequence[str], roles: Sequence[str], p: Points) -> list[int]:
    used = [k for k, r in enumerate(roles) if r == "control" and (p.weight[k] > 0).any()]
    own = p.of(used)
    upright = p.mode == LEVEL or p.tilt is not None
    plan = own.project[(own.weight[:, :2] > 0).all(axis=1)]
    have = ", ".join(names[k] for k in used) or "none"
    if len(plan) < (2 if p.mode == LEVEL else 3):
        few = "2 matched points" if p.mode == LEVEL else "at least 3 matched points"
        more = "" if p.mode == LEVEL or len(plan) < 2 else ", or keep the project level, for which two are enough and prove nothing"
        raise NotEnough(
            f"placing on control needs {few}; {len(used)} are matched ({have})",
            remedy=f"match one more{more}, or square the project to a wall instead",
        )
    if not (own.weight[:, 2] > 0).any():
        raise NotEnough("no matched point has a height", remedy="match a point or a benchmark with a height")
    if float(np.linalg.norm(plan[:, :2] - plan[:, :2].mean(axis=0), axis=1).max()) < ONE_PLACE / 2:
        raise NotEnough("the matched control points lie above each other and hold no direction", remedy="match a point to the side")
    if not upright:
        whole = own.project[(own.weight > 0).all(axis=1)]
        if (why := held(whole)) == "few":
            raise NotEnough("fewer than 3 matched points have a height, so nothing holds the tilt", remedy="keep the project level")
        if why == "line":
            ends = [names[used[k]] for k in _ends(own.project)]
            raise NotEnough(
                f"the matched control points lie on one line: the turn about {ends[0]} – {ends[1]} stays free",
                remedy="match a point to the side of that line, or keep the project level",
            )
    return used


def _upright(p: Points, used: list[int]) -> tuple[Points, tuple[Finding, ...]]:
    """The points without what is said of up, when control itself says clearly that the scans lean."""
    free = replace(p, tilt=None)
    own = free.of(used)
    if p.tilt is None or held(own.project[(own.weight > 0).all(axis=1)]) != "" or len(used) < 4:
        return p, ()
    fit = fitted(own)
    lean = float(np.hypot(*fit.T[:2, 2]))
    deviation = float(np.sqrt(p.tilt**2 + _variance(own, fit) * np.diag(fit.cofactor)[:2].max()))
    if lean < LEANS * deviation:
        return p, ()
    message = f"by control the scans lean by {np.degrees(lean):.2f} degrees, although their scanners are said to stand level"
    return free, (Finding("leans", "placement", message, "doubt"),)


def _ends(points: Array) -> tuple[int, int]:
    along = (points - points.mean(axis=0)) @ np.linalg.svd(points - points.mean(axis=0))[2][0]
    return int(np.argmin(along)), int(np.argmax(along))


def _variance(p: Points, fit: Fit) -> float:
    """By how much the residuals' variance exceeds what was expected, blended with that expectation where they are few: the mean
    that both leave (scaled inverse chi-square; Gelman et al., Bayesian Data Analysis, 2.6), so that few residuals make it larger."""
    total = float((p.weight * fit.gap**2).sum())
    return (total + PRIOR_WEIGHT) / (p.freedom + PRIOR_WEIGHT - 2)


def _scale(p: Points, fit: Fit, factor2: float) -> tuple[float, float]:
    if int((p.weight > 0).all(axis=1).sum()) < 3:
        return 0.0, np.inf
    scale, root = scale_of(p, fit)
    return scale, float(root * np.sqrt(factor2))


def _about_all(far: float, far_from: float, used: int, mode: str, tolerance: float) -> tuple[Finding, ...]:
    out = []
    if far > tolerance:
        message = (
            f"control holds one turn weakly: {far_from:.0f} m from its middle the predicted error is ±{1000 * far:.0f} mm, "
            f"tolerance {1000 * tolerance:.0f} mm; match a point to the side of the others"
        )
        out.append(Finding("weak_geometry", "placement", message, "fault" if far > GROSS * tolerance else "doubt"))
    if used == 2:
        message = "two points place a level project and prove nothing: a third would show a blunder"
        out.append(Finding("two_points", "placement", message, "doubt"))
    elif used == 3 and mode != LEVEL:
        message = "three points place the project but control little: a fourth would prove it"
        out.append(Finding("no_redundancy", "placement", message, "doubt"))
    return tuple(out)


def _about_scale(scale: tuple[float, float]) -> tuple[Finding, ...]:
    value, deviation = scale
    if not np.isfinite(deviation) or abs(value) < max(SURE * deviation, STRETCHED):
        return ()
    message = (
        f"control is {1e6 * abs(value):.0f} ppm {'longer' if value > 0 else 'shorter'} than the scans (±{1e6 * deviation:.0f}): coordinates "
        "reduced to a projection, a scanner out of calibration, or a point that is off; the placement keeps the size of the scans"
    )
    return (Finding("scale", "placement", message, "doubt"),)


def _point(
    name: str,
    role: str,
    gap: Array,
    suspected: tuple[Suspicion, float] | None,
    alone: float,
    tolerance: float,
    limited: bool,
    wrong: bool,
) -> PointResidual:
    d = float(np.linalg.norm(np.nan_to_num(gap)))
    reasons: tuple[Finding, ...] = ()
    if suspected is not None:
        reasons = (suspected[0].finding,)
    elif d > tolerance:
        message = f"{name} is off by {1000 * d:.1f} mm, tolerance {1000 * tolerance:.1f} mm"
        reasons = (Finding("over_tolerance", name, message, "doubt"),)
    bad = suspected is not None or wrong or d > GROSS * tolerance
    status = "parted" if bad else "slack" if d > tolerance or limited else "taut"
    return PointResidual(name, role, (float(gap[0]), float(gap[1]), float(gap[2])), d, alone, status, reasons)
