"""Bodies from picks: members of rolled steel along their axis, and boxes from two of their faces. Part frame, metres."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import least_squares
from scipy.spatial import cKDTree

from ..align.contradiction import clusters
from ..errors import NotEnough
from ..scan.catch import catch
from ..scan.surface import widest_plane
from .steel import Found, distances, fitted

Array = NDArray[np.float64]
LEVEL = 0.006  # metres by which the noise of a scan leaves a surface
LINK = 0.06  # metres between points that hang together
ROUND = 0.15  # metres round a pick that its face is told by
FACE = 1.2  # metres round a pick that the way of a member is told by
LONG = 1.25  # times its width that a face has to be long
WIDE = 0.45  # metres from the axis that a section may reach
WINDOWS = (0.3, 0.8, 2.0)  # metres to each side of the pick that a member is laid on, one after the other
ON = 0.008  # metres off its outline within which a point is of a member
NOISIER = 1.5  # times the noise of the face that was picked that points may leave their section by
MOST = 0.0025  # metres, the same at most
GAP = 0.6  # metres that are bridged along it
BIN = 0.05
LOOKS = math.cos(math.radians(35))
SQUARE = math.radians(4)  # that faces of a box leave a right angle at most
EDGE = 0.2  # percent of the points of a face that lie beyond its edge


@dataclass(frozen=True)
class Member:
    """From a to b (3,), with its section: x, y (3,) the section's own directions; rms metres over points."""

    section: Found
    a: Array
    b: Array
    x: Array
    y: Array
    rms: float
    points: int

    @property
    def corners(self) -> Array:
        """(k, 3) its outline at its first end."""
        p = self.section.profile.outline
        return np.asarray(self.a + p[:, :1] * self.x + p[:, 1:] * self.y)


@dataclass(frozen=True)
class Boxed:
    """corner (3,), and its three edges from there as rows (3, 3): the first along the edge between both faces, the second along the first
    face, the third along the other; rms of the points on both; error: how far apart they lie where they lie farthest apart, which an edge may be
    off by."""

    corner: Array
    edges: Array
    rms: float
    points: int
    error: float


def _face(points: Array, pick: Array, reach: float) -> tuple[Array, Array]:
    """(unit normal, points (n, 3) of the face that a pick lies on, as far as they hang together)."""
    near = points[np.linalg.norm(points - pick, axis=1) < reach]
    plane = widest_plane(near[np.linalg.norm(near - pick, axis=1) < ROUND], LEVEL, through=pick)
    on = near[np.abs(near @ plane.normal + plane.offset) < LEVEL]
    on = on[_looks(on, near, plane.normal)]
    label, _ = clusters(on, LINK)
    own = on[label == label[int(cKDTree(on).query(pick)[1])]]
    middle = own.mean(axis=0)
    normal = np.linalg.svd(own - middle, full_matrices=False)[2][2]
    return np.asarray(normal * np.sign(normal @ plane.normal)), own


def _looks(on: Array, near: Array, normal: Array) -> NDArray[np.bool_]:
    """(n,) which of the points (n, 3) of a plane lie on a surface that looks as it does: where another one crosses it some of its do not."""
    _, index = cKDTree(near).query(on, k=min(12, len(near)))
    p = near[index] - near[index].mean(axis=1, keepdims=True)
    value, way = np.linalg.eigh(np.einsum("nki,nkj->nij", p, p))
    row_like = value[:, 1] < 0.02 * value[:, 2]  # in a row, as along a line of a scan: they tell no direction
    return np.asarray((np.abs(way[:, :, 0] @ normal) > LOOKS) | row_like)


def _way(own: Array, normal: Array) -> tuple[Array, float, float]:
    """(unit direction that a face is longest in, its length, its width): the turn in which it is least wide."""
    middle = own.mean(axis=0)
    u = np.linalg.svd(own - middle, full_matrices=False)[2][0]
    u = u - normal * float(u @ normal)
    u /= np.linalg.norm(u)
    v = np.cross(normal, u)
    q = np.column_stack([(own - middle) @ u, (own - middle) @ v])

    def wide(angle: float) -> float:
        across = -math.sin(angle) * q[:, 0] + math.cos(angle) * q[:, 1]
        return float(np.subtract(*np.percentile(across, [98, 2])))

    angles = np.radians(np.arange(-20, 20.1, 0.25))
    best = float(angles[int(np.argmin([wide(float(a)) for a in angles]))])
    along = math.cos(best) * q[:, 0] + math.sin(best) * q[:, 1]
    return math.cos(best) * u + math.sin(best) * v, float(np.subtract(*np.percentile(along, [98, 2]))), wide(best)


def member(points: Array, pick: Array, stands: Array) -> Member:
    """The steel member that a pick lies on. points (n, 3), pick (3,), stands (m, 3): where instruments stood. NotEnough when no long face is
    there, or no standard section fits."""
    round_ = catch(points[np.linalg.norm(points - pick, axis=1) < ROUND], pick, stands.mean(axis=0))
    if round_.kind in ("pipe", "sphere"):
        raise NotEnough("this is round", subject="profile", remedy="measure it as a pipe, or pick a flat side of a member")
    normal, own = _face(points, pick, FACE)
    noise = float(np.std((own - own.mean(axis=0)) @ normal))
    along, long, wide = _way(own, normal)
    if long < LONG * wide or len(own) < 60:
        raise NotEnough(
            "no long face of a member is seen here", subject="profile", remedy="pick a flange or a web where it is seen over half a metre"
        )
    frame = np.stack([normal, np.cross(along, normal), along])  # rows: across the face, along its width, along the member
    origin = pick.copy()
    d = (points - origin) @ frame.T
    there = (stands - origin) @ frame[:2].T
    near = d[(np.abs(d[:, 2]) < WINDOWS[0]) & (np.hypot(d[:, 0], d[:, 1]) < WIDE)]
    section = fitted(near[:, :2], there, 0.0, np.zeros(2))
    x = _laid(d, section, np.array([*section.middle, 0.0, 0.0, section.turn]), WINDOWS[:2])
    straight = near[:, :2] - near[:, 2:] * x[2:4]  # cut again square to the axis as it is known now
    section = fitted(straight, there, x[4], None, section.tried)
    x = _laid(d, section, np.array([*section.middle, x[2], x[3], section.turn]), WINDOWS)
    outline = section.profile.outline
    off = distances(outline, _across(d, x))
    on_it = off < ON
    own = np.hypot(*(_across(d, x) - outline.mean(axis=0)).T) < np.linalg.norm(outline, axis=1).max()
    low, high = _ends(d[on_it, 2], d[own & (off > 2 * ON), 2])
    mine = on_it & (d[:, 2] >= low) & (d[:, 2] <= high)
    rms = float(np.sqrt(np.mean(off[mine] ** 2)))
    if rms > min(NOISIER * max(noise, 0.0005), MOST):
        words = (
            f"no standard section fits what lies here: {1000 * rms:.1f} mm RMS, where the face that was picked has {1000 * noise:.1f} mm"
        )
        raise NotEnough(words, subject="profile", remedy="pick another face of it, where more of its round was seen")
    way = np.array([x[2], x[3], 1.0]) @ frame
    start = origin + np.array([x[0], x[1], 0.0]) @ frame
    axis = way / np.linalg.norm(way)
    c, s = math.cos(x[4]), math.sin(x[4])
    right = np.array([c, s, 0.0]) @ frame
    right = right - axis * float(right @ axis)
    right /= np.linalg.norm(right)
    told = replace(section, rms=rms, points=int(mine.sum()))
    return Member(told, start + low * way, start + high * way, right, np.cross(axis, right), rms, int(mine.sum()))


def _across(p: Array, x: Array) -> Array:
    """Points (n, 3) about a member in the coordinates of its section. x: middle (2,) at 0, how it moves a metre along (2,), turn."""
    q = p[:, :2] - x[:2] - p[:, 2:] * x[2:4]
    c, s = math.cos(x[4]), math.sin(x[4])
    return np.column_stack([c * q[:, 0] + s * q[:, 1], -s * q[:, 0] + c * q[:, 1]])


def _laid(d: Array, section: Found, x: Array, windows: tuple[float, ...]) -> Array:
    """A member laid on points (n, 3) within longer and longer windows, see ``_across``."""
    outline = section.profile.outline
    for half in windows:
        near = d[(np.abs(d[:, 2]) < half) & (np.hypot(d[:, 0], d[:, 1]) < 2 * WIDE)]
        on = near[distances(outline, _across(near, x)) < ON + 0.004]
        if len(on) >= 40:
            own = on[:: max(1, len(on) // 6000)]
            x = least_squares(_off, x, loss="soft_l1", f_scale=0.002, x_scale=[1, 1, 1, 1, 10], args=(outline, own)).x
    return x


def _off(x: Array, outline: Array, own: Array) -> Array:
    return distances(outline, _across(own, x))


def _ends(t: Array, other: Array) -> tuple[float, float]:
    """Where a member begins and ends round 0, from places along it of its points and of what lies within its round but not on it (a floor that
    it stands on, a wall); gaps of ``GAP`` are bridged."""
    low, bins = t.min(), int((t.max() - t.min()) / BIN) + 1
    count, against = (np.bincount(np.floor((v[(v >= low) & (v <= t.max())] - low) / BIN).astype(int), minlength=bins) for v in (t, other))
    enough = (count >= max(3.0, 0.05 * float(np.median(count[count > 0])))) & (count > against)
    if not enough.any():
        raise NotEnough("too few points lie on one section", subject="profile", remedy="pick where more of it was seen")
    full = np.nonzero(enough)[0] * BIN + low
    here = int(np.argmin(np.abs(full)))
    low = high = here
    while low > 0 and full[low] - full[low - 1] <= GAP:
        low -= 1
    while high < len(full) - 1 and full[high + 1] - full[high] <= GAP:
        high += 1
    own = t[(t >= full[low]) & (t <= full[high] + BIN)]
    return float(np.percentile(own, 0.1)), float(np.percentile(own, 99.9))


def boxed(points: Array, picks: Array, reach: float = 4.0) -> Boxed:
    """The box that two picks (2, 3) on two of its faces tell, which share an edge: the faces as far as they hang together. NotEnough when they
    do not lie square to each other."""
    (n1, one), (n2, other) = (_face(points, p, reach) for p in picks)
    if abs(float(n1 @ n2)) > math.sin(SQUARE):
        raise NotEnough(
            "these two faces do not lie square to each other", subject="box", remedy="pick two faces of the box that share an edge"
        )
    n2 = n2 - n1 * float(n1 @ n2)
    n2 /= np.linalg.norm(n2)
    edge = np.cross(n1, n2)
    h1, h2 = float(np.median(one @ n1)), float(np.median(other @ n2))
    along = np.concatenate([one, other]) @ edge
    e0, e1 = np.percentile(along, [EDGE, 100 - EDGE])
    inner = h2 - (one @ n2)  # of the first face, how far behind the other one
    depth = float(np.percentile(np.abs(inner), 100 - EDGE)) * np.sign(np.median(inner))
    down = h1 - (other @ n1)
    deep = float(np.percentile(np.abs(down), 100 - EDGE)) * np.sign(np.median(down))
    if min(abs(depth), abs(deep), float(e1 - e0)) < 0.02:
        raise NotEnough("one of the faces is seen on no more than its edge", subject="box", remedy="pick two faces that are seen well")
    corner = edge * e0 + n1 * h1 + n2 * h2
    rest = np.concatenate([one @ n1 - h1, other @ n2 - h2])
    wide = float(e1 - e0)
    error = max(math.sqrt(wide * abs(depth) / len(one)), math.sqrt(wide * abs(deep) / len(other)))
    return Boxed(corner, np.stack([edge * wide, -n2 * depth, -n1 * deep]), float(np.sqrt(np.mean(rest**2))), len(rest), error)
