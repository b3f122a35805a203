"""Clearance: the shortest way between two things that were scanned, with what it is worth.

Both are told from the points that hang together with a pick. The nearest two of thousands of noisy points are nearer than the things are;
so each place is taken from a surface through what lies round it.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from ..errors import BadInput, NotEnough

Array = NDArray[np.float64]
ROUND, WIDEST = 0.03, 0.06  # metres round a place whose points tell it, at least, and at most where there are few
FEWEST, ENOUGH = 12, 60  # points of a thing, and round a place
SMOOTH = 3.0  # times the noise of a scan of 2 mm, by which points may leave what is fitted: else it is an edge
TURNS = 12
CHOICE = 0.0006  # metres: of many places alike along two pipes the one is found whose noise brings it nearest
SAME = 0.02  # metres: two picks whose things come as near to each other are on one


@dataclass(frozen=True)
class Clearance:
    """a, b (3,): the two places; length metres; error: its standard deviation by the scatter of the points round both."""

    a: Array
    b: Array
    length: float
    error: float


def clearance(one: Array, other: Array) -> Clearance:
    """Between the points (n, 3) of one thing and those (m, 3) of another; metres. BadInput when both are one, NotEnough with too few."""
    if min(len(one), len(other)) < FEWEST:
        raise NotEnough(
            "too little hangs together with a pick", subject="clearance", remedy="pick places on surfaces that were scanned well"
        )
    trees = cKDTree(one), cKDTree(other)
    far, at = (np.asarray(v) for v in trees[1].query(one))
    if float(far.min()) < SAME:
        raise BadInput("both picks are on things that touch", subject="clearance", remedy="pick two things with some space between them")
    a, b = one[int(np.argmin(far))], other[int(at[np.argmin(far)])]
    error = 0.0
    for _ in range(TURNS):  # the nearest place of each to the other's, off the noise
        way = (b - a) / np.linalg.norm(b - a)
        a_, e_a = _place(one, trees[0], b, way)
        b_, e_b = _place(other, trees[1], a_, -way)
        moved = np.linalg.norm(a_ - a) + np.linalg.norm(b_ - b)
        a, b, error = a_, b_, float(np.hypot(e_a, e_b))
        if moved < 1e-4:
            break
    return Clearance(a, b, float(np.linalg.norm(b - a)), float(np.hypot(error, CHOICE)))


def _place(points: Array, tree: cKDTree, towards: Array, way: Array) -> tuple[Array, float]:
    """(place (3,), its deviation along ``way``): of a thing, what is nearest to a place of another. way: unit, towards that. A surface of
    second order is laid through what lies round it, so that a pipe is no nearer and no farther than its skin; of an edge, the middle of
    the nearest points."""
    _, some = tree.query(towards, k=FEWEST)
    middle = points[some].mean(axis=0)
    radius = ROUND
    while len(inside := tree.query_ball_point(middle, radius)) < ENOUGH and radius < WIDEST:
        radius *= 1.25
    bare = len(inside) < ENOUGH // 3  # too few to see it bend
    near = points[tree.query(middle, k=min(2 * FEWEST, len(points)))[1] if bare else inside] - middle
    u = np.cross(way, [1.0, 0, 0] if abs(way[0]) < 0.7 else [0, 1.0, 0])
    u /= np.linalg.norm(u)
    axes = np.stack([u, np.cross(way, u), way])
    x, y, z = (near @ axes.T).T
    kept = np.abs(z - np.median(z)) <= 3 * np.median(np.abs(z - np.median(z))) + 0.003 if bare else np.ones(len(x), bool)
    terms = np.stack([np.ones(len(x)), x, y, x * x, x * y, y * y], axis=1)
    terms[:, 3 if bare else 6 :] = 0.0
    for _ in range(3):
        fit = np.linalg.lstsq(terms[kept], z[kept], rcond=None)[0]
        off = z - terms @ fit
        rms = float(np.sqrt(np.mean(off[kept] ** 2)))
        kept = np.abs(off) <= 3 * rms + 1e-6
    if rms > SMOOTH * 0.002:
        return middle, float(z.std())
    _, gx, gy, xx, xy, yy = fit
    to = axes @ (towards - middle)
    at, bent = np.zeros(2), np.array([[2 * xx, xy], [xy, 2 * yy]])
    for _ in range(8):  # the foot of the other place on that surface
        slope = np.array([gx, gy]) + bent @ at
        high = float(fit[0] + np.array([gx, gy]) @ at + 0.5 * at @ bent @ at)
        pull = at - to[:2] + (high - to[2]) * slope
        stiff = np.eye(2) + np.outer(slope, slope) + (high - to[2]) * bent
        if np.linalg.det(stiff) <= 0:
            break
        at = at - np.linalg.solve(stiff, pull)
        at *= min(1.0, float(np.hypot(x, y).max()) / max(float(np.linalg.norm(at)), 1e-9))
    at_terms = np.array([1.0, at[0], at[1], at[0] ** 2, at[0] * at[1], at[1] ** 2])
    spread = np.linalg.pinv(terms[kept].T @ terms[kept])
    deviation = rms * float(np.sqrt(max(at_terms @ spread @ at_terms, 0.0)))
    return np.asarray(middle + axes.T @ np.array([at[0], at[1], at_terms @ fit])), deviation
