"""The corner where three planes meet, fitted through what stands before them."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from ..errors import NotEnough
from ..scan.surface import FEWEST, Plane, widest_plane

Array = NDArray[np.float64]
ROUGH = 0.008  # metres by which points leave the plane that they are of
STEEP = np.radians(30.0)  # that two of the planes turn from each other at least
SHARE = 0.06  # of the points round the pick that each plane holds at least
PLANES = 6  # that are looked for: leaves and boxes before a wall are among them
NEAR = 0.15  # metres from the pick within which they meet
OFFSET = 0.0003  # metres that a surface may be off as a whole, which no point of it shows


@dataclass(frozen=True)
class Corner:
    """at : (3,) metres with covariance (3, 3); the planes, those with most points first; square : degrees by which the worst two of
    them miss a right angle; plumb: degrees by which the worst leans from upright or from level, whichever is nearer."""

    at: Array
    covariance: Array
    planes: tuple[Plane, Plane, Plane]
    square: float
    plumb: float


def corner_of(points: Array, pick: Array, towards: Array) -> Corner:
    """The corner near ``pick`` (3,) among points (n, 3) round it; towards : (3,) where one stands who sees it. NotEnough when no
    three planes meet there."""
    found = _planes(points, towards)
    best = None
    for three in combinations(found, 3):
        normal = np.array([p.normal for p in three])
        if min(abs(np.sin(np.arccos(np.clip(a.normal @ b.normal, -1, 1)))) for a, b in combinations(three, 2)) < np.sin(STEEP):
            continue
        if abs(np.linalg.det(normal)) < 0.2:
            continue
        at = np.linalg.solve(normal, [-p.offset for p in three])
        worth = sum(p.points for p in three)
        if np.linalg.norm(at - pick) <= NEAR and (best is None or worth > best[0]):
            best = worth, at, three
    if best is None:
        raise NotEnough("no three planes meet at that pick", remedy="pick a corner of which all three sides are seen")
    _, at, three = best
    return _described(at, three, points)


@dataclass(frozen=True)
class Edge:
    """at : (3,) metres, the place of the edge nearest to the pick, with covariance (3, 3): along the edge it is as good as the hand
    that picked; the two planes that meet."""

    at: Array
    covariance: Array
    planes: tuple[Plane, Plane]


ALONG = 0.05  # metres: deviation of a pick along an edge


def edge_of(points: Array, pick: Array, towards: Array) -> Edge:
    """Where two planes meet near ``pick``, among points (n, 3) round it. NotEnough when no two do."""
    best = None
    for a, b in combinations(_planes(points, towards), 2):
        along = np.cross(a.normal, b.normal)
        size = float(np.linalg.norm(along))
        if size < np.sin(STEEP):
            continue
        along /= size
        at = np.linalg.solve(np.array([a.normal, b.normal, along]), [-a.offset, -b.offset, float(along @ pick)])
        gap = float(np.linalg.norm(at - pick))
        if gap <= NEAR and (best is None or gap < best[0]):
            best = gap, at, (a, b), along
    if best is None:
        raise NotEnough("no two planes meet at that pick", remedy="pick on an edge of which both sides are seen")
    _, at, (a, b), along = best
    inverse = np.linalg.inv(np.array([a.normal, b.normal, along]))
    variance = [*(_variance(p, points, at) for p in (a, b)), ALONG**2]
    return Edge(at, inverse @ np.diag(variance) @ inverse.T, (a, b))


def _planes(points: Array, towards: Array) -> list[Plane]:
    """The planes round a pick, those with most points first."""
    left, found = np.asarray(points, float), []
    for _ in range(PLANES):
        if len(left) < FEWEST:
            break
        try:
            plane = widest_plane(left, ROUGH)
        except NotEnough:
            break
        if plane.points < SHARE * len(points):
            break
        found.append(plane.facing(towards))
        left = left[np.abs(plane.off(left)) > 2 * ROUGH]
    return found


def _variance(p: Plane, points: Array, at: Array) -> float:
    """Of a plane at a place that it is carried on to."""
    own = points[np.abs(p.off(points)) <= ROUGH]
    middle = own.mean(axis=0)
    wide2 = float(((own - middle) ** 2).sum(axis=1).mean()) / 2
    return float(p.rms**2 / len(own) * (1 + float(((at - middle) ** 2).sum()) / max(wide2, 1e-6)) + OFFSET**2)


def _described(at: Array, planes: tuple[Plane, ...], points: Array) -> Corner:
    inverse = np.linalg.inv(np.array([p.normal for p in planes]))
    variance = [_variance(p, points, at) for p in planes]
    angles = [np.degrees(np.arccos(np.clip(abs(a.normal @ b.normal), 0, 1))) for a, b in combinations(planes, 2)]
    lean = [np.degrees(np.arcsin(np.clip(abs(p.normal[2]), 0, 1))) for p in planes]
    ordered = sorted(planes, key=lambda p: -p.points)
    return Corner(
        at,
        inverse @ np.diag(variance) @ inverse.T,
        (ordered[0], ordered[1], ordered[2]),
        float(max(90.0 - a for a in angles)),
        float(max(min(v, 90.0 - v) for v in lean)),
    )
