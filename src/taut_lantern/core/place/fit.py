"""The motion that brings points of a project onto control, by weighted least squares, and what it leaves.

Terms: a gap is given minus found, control frame, metres; weight of a coordinate 1 / variance, 0 where it was not given (a point of
the plan has no height, a benchmark no position); tilt: deviation, radians, of what the project takes for up. Motions are left
motions about the middle of the points.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..targets.match import rigid

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
STEPS, STILL, WIDEST = 12, 1e-8, 0.3  # steps; radians and metres of the last one; radians of the widest
LEVEL, RIGID, SCALED = "level", "rigid", "scaled"  # 4, 6 and 7 unknowns


@dataclass(frozen=True)
class Points:
    """project, control : (n, 3) metres, NaN for what was not given; weight : (n, 3). tilt : None when nothing is known of up. more: unknowns
    that are solved for beside the motion."""

    project: Array
    control: Array
    weight: Array
    mode: str = RIGID
    tilt: float | None = None
    more: int = 0

    def of(self, chosen: Sequence[int]) -> Points:
        k = list(chosen)
        return replace(self, project=self.project[k], control=self.control[k], weight=self.weight[k])

    def given(self, control: Array) -> Points:
        """The same points with other control; what is given there and was not counts as the others do."""
        usual = float(self.weight[self.weight > 0].mean()) if (self.weight > 0).any() else 1.0
        weight = np.where(np.isfinite(control), np.where(self.weight > 0, self.weight, usual), 0.0)
        return replace(self, control=control, weight=weight)

    @property
    def free(self) -> list[int]:
        return [2, 3, 4, 5] if self.mode == LEVEL else list(range(6))

    @property
    def freedom(self) -> int:
        """How many more numbers are given than are solved for."""
        known = int((self.weight > 0).sum()) + (2 if self.mode != LEVEL and self.tilt is not None else 0)
        return max(known - len(self.free) - self.more, 0)


@dataclass(frozen=True)
class Fit:
    """T_control_project; gap (n, 3), 0 where nothing was given; cofactor (6, 6) of the left motion about centre (3,) at unit
    variance; alone (n, 3): the gap of each point to what all others say."""

    T: Array
    gap: Array
    cofactor: Array
    centre: Array
    alone: Array

    @property
    def distance(self) -> Array:
        return np.asarray(np.linalg.norm(self.gap, axis=1))


def fitted(p: Points) -> Fit:
    """The best motion of points that hold it (see :func:`held`)."""
    origin = np.nanmean(np.where(p.weight > 0, p.control, np.nan), axis=0)
    origin = np.where(np.isfinite(origin), origin, 0.0)  # large coordinates lose digits in what follows
    p = p.given(p.control - origin)
    t = _start(p)
    centre = frames.apply(t, p.project).mean(axis=0)
    about = frames.pose(0.0, tuple(centre))
    for _ in range(STEPS):
        normal, right = _normal(p, t, frames.apply(t, p.project), centre)
        step = np.zeros(6)
        step[p.free] = np.linalg.lstsq(normal, right, rcond=1e-14)[0]
        step[:3] *= min(1.0, WIDEST / max(float(np.abs(step[:3]).max()), 1e-12))
        t = about @ frames.small(step) @ frames.inverse(about) @ t
        t[:3, :3] = frames.rotation(frames.rotation_vector(t[:3, :3]))
        if np.abs(step).max() < STILL:
            break
    at = frames.apply(t, p.project)
    gap = np.where(p.weight > 0, np.nan_to_num(p.control - at), 0.0)
    cofactor = np.zeros((6, 6))
    inverse: Array = np.asarray(np.linalg.pinv(_normal(p, t, at, centre)[0], rcond=1e-14, hermitian=True), float)
    cofactor[np.ix_(p.free, p.free)] = inverse
    alone = _alone(p, at, centre, gap, inverse)
    t[:3, 3] += origin
    return Fit(t, gap, cofactor, centre + origin, alone)


def _jacobian(at: Array, centre: Array) -> Array:
    """(n, 3, 6) how points at (n, 3) move with a left motion about ``centre``."""
    return np.concatenate([-frames.skews(at - centre), np.broadcast_to(np.eye(3), (len(at), 3, 3))], axis=2)


def _normal(p: Points, t: Array, at: Array, centre: Array) -> tuple[Array, Array]:
    j = _jacobian(at, centre)[:, :, p.free]
    w = p.weight
    normal = np.einsum("nai,na,naj->ij", j, w, j)
    right = np.einsum("nai,na->i", j, w * np.nan_to_num(p.control - at))
    if p.mode != LEVEL and p.tilt is not None:  # up stays up, within what the scanners' levels are good for
        up = t[:3, 2]
        for axis, derivative in ((0, [0, up[2], -up[1], 0, 0, 0]), (1, [-up[2], 0, up[0], 0, 0, 0])):
            d = np.array(derivative)
            normal += np.outer(d, d) / p.tilt**2
            right -= d * up[axis] / p.tilt**2
    return normal, right


def _start(p: Points) -> Array:
    """By points that have all three coordinates, free in space when they hold that; else level, heights by what has one."""
    whole: Flags = np.all(p.weight > 0, axis=1)
    if p.mode != LEVEL and p.tilt is None and held(p.project[whole]) == "":
        return rigid(p.project[whole], p.control[whole])
    plan: Flags = np.all(p.weight[:, :2] > 0, axis=1)
    flat = np.where(plan[:, None], p.control, 0.0)
    flat[:, 2] = p.project[:, 2]
    t = rigid(p.project[plan], flat[plan], level=True)
    high: Flags = np.greater(p.weight[:, 2], 0)
    t[2, 3] = float(np.average((p.control - frames.apply(t, p.project))[high, 2], weights=p.weight[high, 2])) if high.any() else 0.0
    return t


ON_LINE = 0.05  # metres: points that lie closer to one line leave the turn about it free
ONE_PLACE = 0.3  # metres in plan: points that lie closer hold no direction


def held(points: Array) -> str:
    """Why points (n, 3) do not hold a motion in space, "" when they do."""
    if len(points) < 3:
        return "few"
    return "line" if np.linalg.svd(points - points.mean(axis=0), compute_uv=False)[1] < ON_LINE else ""


def _alone(p: Points, at: Array, centre: Array, gap: Array, inverse: Array) -> Array:
    """(n, 3) gaps of points to the fit without them, by their leverage: (I - J Q J^T W)^-1 v."""
    j = _jacobian(at, centre)[:, :, p.free]
    out = gap.copy()
    for k in range(len(at)):
        own = p.weight[k] > 0
        share = np.eye(int(own.sum())) - (j[k][own] @ inverse @ j[k][own].T) * p.weight[k][own][None, :]
        out[k][own] = np.linalg.lstsq(share, gap[k][own], rcond=1e-6)[0]
    return out


def scale_of(p: Points, fit: Fit) -> tuple[float, float]:
    """How much longer control is than the project, were that left free, and its cofactor's root: both without unit."""
    whole = (p.weight > 0).all(axis=1)
    at = frames.apply(fit.T, p.project)[whole] - fit.centre
    w = p.weight[whole]
    j = np.concatenate([_jacobian(at + fit.centre, fit.centre)[:, :, p.free], at[:, :, None]], axis=2)
    normal = np.einsum("nai,na,naj->ij", j, w, j)
    right = np.einsum("nai,na->i", j, w * fit.gap[whole])
    try:
        inverse = np.linalg.inv(normal)
    except np.linalg.LinAlgError:
        return 0.0, np.inf
    return float((inverse @ right)[-1]), float(np.sqrt(max(inverse[-1, -1], 0.0)))
