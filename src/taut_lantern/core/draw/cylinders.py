"""Points round the axis of a cylinder: how far off it they lie, what of its round they cover, and the cylinder laid on them. Part frame,
metres."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares
from scipy.spatial import cKDTree

Array = NDArray[np.float64]
CLOSE = 0.008  # metres off a cylinder within which points are of it, of thin ones less
THIN = 0.006  # metres between points that a pipe is followed on


@dataclass(frozen=True)
class Axis:
    at: Array
    along: Array
    radius: float
    rms: float = 0.0


def close_to(radius: float) -> float:
    """Metres off a cylinder within which points are of it: a quarter of its radius at most, or a wall beside a thin pipe were part of it."""
    return min(CLOSE, max(0.004, radius / 4))


def thinned(points: Array, cell: float = THIN) -> Array:
    """One of the points (n, 3) of each cell of so many metres."""
    if not len(points):
        return points
    key = np.floor((points - points.min(axis=0)) / cell).astype(np.int64)
    _, first = np.unique(key @ np.array([1, 1 << 21, 1 << 42]), return_index=True)
    return np.asarray(points[np.sort(first)])


class Cloud:
    """Points (n, 3), thinned, with what lies near any place."""

    def __init__(self, points: Array, cell: float = THIN) -> None:
        self.points = thinned(points, cell)
        self.tree = cKDTree(self.points)

    def near(self, at: Array, reach: float) -> Array:
        return np.asarray(self.points[self.tree.query_ball_point(at, reach)])

    def beside(self, axis: Axis, low: float, high: float, reach: float) -> Array:
        """Points within ``reach`` of an axis between two places along it."""
        middle, half = axis.at + axis.along * (low + high) / 2, (high - low) / 2
        p = self.near(middle, math.hypot(half, reach))
        t = (p - axis.at) @ axis.along
        off = np.linalg.norm(p - axis.at - np.outer(t, axis.along), axis=1)
        return p[(t >= low) & (t <= high) & (off < reach)]


def normals(p: Array) -> Array:
    """Unit normals (n, 3) of points from the 12 nearest of them."""
    _, index = cKDTree(p).query(p, k=min(12, len(p)))
    near = p[index] - p[index].mean(axis=1, keepdims=True)
    return np.asarray(np.linalg.eigh(np.einsum("nki,nkj->nij", near, near))[1][:, :, 0])


def fitted(p: Array, axis: Axis, hold: float | None = None) -> Axis:
    """A cylinder refined on points; hold: its radius, kept."""
    u = np.cross(axis.along, [1.0, 0, 0] if abs(axis.along[0]) < 0.8 else [0, 1.0, 0])
    u /= np.linalg.norm(u)
    v = np.cross(axis.along, u)

    def made(x: Array) -> tuple[Array, Array, float]:
        along = axis.along + x[2] * u + x[3] * v
        return axis.at + x[0] * u + x[1] * v, along / np.linalg.norm(along), hold if hold is not None else float(x[4])

    def off(x: Array) -> Array:
        at, along, radius = made(x)
        d = p - at
        return np.asarray(np.linalg.norm(d - np.outer(d @ along, along), axis=1) - radius)

    start = np.array([0, 0, 0, 0, axis.radius])[: 4 if hold is not None else 5]
    found = least_squares(off, start, loss="soft_l1", f_scale=0.003, max_nfev=40)
    at, along, radius = made(found.x)
    rest = np.abs(off(found.x))
    return Axis(at, along, radius, float(np.sqrt(np.mean(np.minimum(rest, CLOSE) ** 2))))


def off_axis(p: Array, axis: Axis) -> Array:
    d = p - axis.at
    return np.asarray(np.linalg.norm(d - np.outer(d @ axis.along, axis.along), axis=1) - axis.radius)


def seen_round(p: Array, axis: Axis) -> float:
    """How much of the round of a cylinder points cover, radians."""
    d = p - axis.at
    u = np.cross(axis.along, [1.0, 0, 0] if abs(axis.along[0]) < 0.8 else [0, 1.0, 0])
    u /= np.linalg.norm(u)
    angle = np.arctan2(d @ np.cross(axis.along, u), d @ u)
    return len(np.unique(np.floor(angle / math.radians(10)))) * math.radians(10)


def apart(one: Axis, other: Axis) -> float:
    """Metres between two lines."""
    cross = np.cross(one.along, other.along)
    long = float(np.linalg.norm(cross))
    d = other.at - one.at
    return abs(float(d @ cross)) / long if long > 1e-6 else float(np.linalg.norm(d - one.along * (d @ one.along)))


def meeting(one: Axis, other: Axis) -> Array:
    """The middle of the shortest way between two lines."""
    d, c = other.at - one.at, float(one.along @ other.along)
    s = (float(d @ one.along) - c * float(d @ other.along)) / max(1 - c * c, 1e-9)
    t = (c * float(d @ one.along) - float(d @ other.along)) / max(1 - c * c, 1e-9)
    return np.asarray((one.at + s * one.along + other.at + t * other.along) / 2)
