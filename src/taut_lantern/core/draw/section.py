"""Sections: the cut plane, its frame, and the slab of points round it.

Terms: section frame = (along, across, depth): ``along`` runs along the cut, ``across`` is north for a plan and
up for an upright section, ``depth`` points towards the viewer's back (into what is looked at). Metres.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import BadInput

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Cut:
    """T_section_project and the slab: depth from -before to +behind. length: half extent along, None = all."""

    kind: str  # plan | upright
    T_section_project: Array
    before: float
    behind: float
    low: tuple[float, float] | None = None  # limits in the section frame
    high: tuple[float, float] | None = None


def plan(height: float, before: float = 0.0, behind: float = 0.05) -> Cut:
    """A level cut at ``height`` (project z), looking down: behind lies below the cut."""
    if not math.isfinite(height) or before + behind <= 0:
        raise BadInput("a plan needs a height and some depth", remedy="give a height in metres and a depth above zero")
    t = np.eye(4)
    t[2] = [0, 0, -1, height]  # depth grows downwards
    return Cut("plan", t, before, behind)


def upright(a: tuple[float, float], b: tuple[float, float], before: float = 0.0, behind: float = 0.05) -> Cut:
    """An upright cut through two plan picks, looking to the left of a -> b. along starts at a, across is project z."""
    d = np.array(b) - np.array(a)
    length = float(np.linalg.norm(d))
    if not length > 0.01 or before + behind <= 0:
        raise BadInput("the two picks of a section lie on each other", remedy="pick two points at least 1 cm apart")
    u = d / length
    n = np.array([-u[1], u[0]])
    t = np.eye(4)
    t[:3, :3] = [[u[0], u[1], 0], [0, 0, 1], [n[0], n[1], 0]]
    t[:3, 3] = -t[:3, :3] @ np.array([a[0], a[1], 0.0])
    return Cut("upright", t, before, behind, (-0.5, -1e6), (length + 0.5, 1e6))


def slab(cut: Cut, points: Array) -> tuple[Array, NDArray[np.bool_]]:
    """(points in the section frame (n, 3), mask of those inside the slab)."""
    p = frames.apply(cut.T_section_project, points)
    inside = (p[:, 2] >= -cut.before) & (p[:, 2] <= cut.behind)
    if cut.low is not None and cut.high is not None:
        inside &= (p[:, 0] >= cut.low[0]) & (p[:, 0] <= cut.high[0]) & (p[:, 1] >= cut.low[1]) & (p[:, 1] <= cut.high[1])
    return p, inside


def box_meets(cut: Cut, T_project_station: Array, low: Array, high: Array) -> bool:
    """Whether an axis-aligned box in a station's frame can hold points of the slab."""
    corner = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
    p = frames.apply(cut.T_section_project @ T_project_station, corner)
    if p[:, 2].min() > cut.behind or p[:, 2].max() < -cut.before:
        return False
    if cut.low is not None and cut.high is not None:
        for k in range(2):
            if p[:, k].min() > cut.high[k] or p[:, k].max() < cut.low[k]:
                return False
    return True
