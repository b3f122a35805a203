"""The bend between two runs of a pipe: how far round it turns, told by the points on its skin. Part frame, metres."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import minimize_scalar

from .cylinders import Array

ON = 0.004  # metres off the skin within which a point is of it
LONGEST = 12.0  # times the radius of the pipe that the bend's own is at most
FEW = 30  # points of the bend that tell its radius
SURE = 0.06  # of the radius that it may be known to at worst


@dataclass(frozen=True)
class Bend:
    """turn in radians; radius of its axis; points on its skin, and the share of what lies within two radii of its axis that they are."""

    turn: float
    radius: float
    points: int
    share: float


def bend(points: Array, corner: Array, before: Array, after: Array, radius: float) -> Bend | None:
    """The bend of a pipe of a radius at a corner (3,) between unit directions before it and after it (3,), from points (n, 3). None when they
    do not tell it: too few, or as good with another radius."""
    turn = math.acos(max(-1.0, min(1.0, float(before @ after))))
    if not math.radians(8) < turn < math.radians(150):
        return None
    across = after - before * float(before @ after)
    across /= np.linalg.norm(across)
    side = np.cross(before, across)
    d = points - corner
    q = np.column_stack([d @ before, d @ across, d @ side])
    half = math.tan(turn / 2)
    most = LONGEST * radius
    near = q[np.linalg.norm(q, axis=1) < most * half + 3 * radius]
    if len(near) < FEW:
        return None

    def off(big: float) -> tuple[Array, NDArray[np.bool_]]:
        """(how far points are off the skin of both runs and a bend of that radius between them, which lie beside the bend)."""
        reach = big * half
        along = near[:, 0] * math.cos(turn) + near[:, 1] * math.sin(turn)
        first = near[:, 0] < -reach
        last = along > reach
        arc = np.hypot(np.hypot(near[:, 0] + reach, near[:, 1] - big) - big, near[:, 2])
        one = np.hypot(near[:, 1], near[:, 2])
        other = np.hypot(-near[:, 0] * math.sin(turn) + near[:, 1] * math.cos(turn), near[:, 2])
        return np.abs(np.where(first, one, np.where(last, other, arc)) - radius), ~first & ~last

    def cost(big: float) -> float:
        return float(np.mean(np.minimum(off(big)[0] / ON, 2.0) ** 2))

    tried = np.linspace(0.6 * radius, most, 60)
    found = [cost(float(b)) for b in tried]
    k = int(np.argmin(found))
    low, high = float(tried[max(k - 1, 0)]), float(tried[min(k + 1, len(tried) - 1)])
    big = float(minimize_scalar(cost, bounds=(low, high), method="bounded", options={"xatol": 1e-4}).x)
    away, beside = off(big)
    on = beside & (away < ON)
    wide = beside & (away < 2 * radius)
    worse = min(cost(big * (1 + SURE)), cost(max(big * (1 - SURE), 0.5 * radius)))
    if on.sum() < FEW or k == 0 or k == len(tried) - 1 or worse < cost(big) + 1e-3:
        return None
    return Bend(turn, big, int(on.sum()), float(on.sum() / max(int(wide.sum()), 1)))
