"""Kinds of observations in one network: what each explains, and how that changes with the unknowns.

Every kind gives its weighted residuals and their derivatives about a state. A left motion d = [w, t] of a pose moves a point p
by w x p + t (Barfoot, *State Estimation for Robotics*, 7.1.8); directions up move in the plane they are normal to.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

from .. import frames
from .observations import (
    Array,
    ControlObservation,
    DistanceObservation,
    LevelObservation,
    LinkObservation,
    PlumbObservation,
    SightingObservation,
)

Index = NDArray[np.int_]


@dataclass(frozen=True)
class State:
    """pose (stations, 4, 4) and point (targets, 3), both about the origin of their part: the station that holds it; placing
    (parts, 4, 4): T_control_part about both origins; up (parts, 3): the direction up."""

    pose: Array
    point: Array
    placing: Array
    up: Array


@dataclass(frozen=True)
class Columns:
    """First column of each unknown in the system; -1 for what is held or not asked for. station, target, placing and up (of
    the parts)."""

    station: Index
    target: Index
    placing: Index
    up: Index
    size: int

    @property
    def border(self) -> Index:
        """Unknowns that many others meet: placings and directions up."""
        placing = (first + np.arange(6) for first in self.placing[self.placing >= 0])
        up = (first + np.arange(2) for first in self.up[self.up >= 0])
        return np.concatenate([np.zeros(0, int), *placing, *up])


class Blocks:
    """Blocks of a sparse matrix, gathered."""

    def __init__(self) -> None:
        self.rows: list[NDArray[Any]] = [np.zeros(0, int)]
        self.columns: list[NDArray[Any]] = [np.zeros(0, int)]
        self.values: list[Array] = [np.zeros(0)]

    def put(self, at: Index, column: Index, blocks: Array) -> None:
        """Blocks (n, r, c) at rows ``at`` and columns ``column``; those at column -1 are left out."""
        free = column >= 0
        at, column, blocks = at[free], column[free], blocks[free]
        n, r, c = blocks.shape
        self.rows.append(np.broadcast_to(at[:, None, None] + np.arange(r)[:, None], (n, r, c)).ravel())
        self.columns.append(np.broadcast_to(column[:, None, None] + np.arange(c), (n, r, c)).ravel())
        self.values.append(blocks.ravel())

    def matrix(self, rows: int, columns: int) -> sp.csr_matrix:
        where = (np.concatenate(self.rows), np.concatenate(self.columns))
        return sp.csr_matrix((np.concatenate(self.values), where), shape=(rows, columns))


class Term(Protocol):
    """One kind of observation. rows: how many numbers it observes."""

    rows: int

    def residuals(self, x: State) -> Array:
        """(rows,) weighted."""

    def derive(self, x: State, to: Columns, at: int, blocks: Blocks) -> None:
        """Put the derivatives of the weighted residuals from row ``at`` on."""


def _roots(covariance: Array) -> Array:
    """(n, k, k) square roots of weights: root^T root = covariance^-1."""
    return np.linalg.cholesky(np.linalg.inv(covariance)).transpose(0, 2, 1)


def _moved_points(p: Array) -> Array:
    """(n, 3, 6) how points move with a left motion of their frame."""
    return np.concatenate([-frames.skews(p), np.broadcast_to(np.eye(3), (len(p), 3, 3))], axis=2)


def _tangents(up: Array) -> Array:
    """(n, 3, 2) orthonormal axes across directions (n, 3)."""
    helper = np.where(np.abs(up[:, 2:]) < 0.9, [[0.0, 0.0, 1.0]], [[1.0, 0.0, 0.0]])
    first = np.cross(helper, up)
    first /= np.linalg.norm(first, axis=1, keepdims=True)
    return np.stack([first, np.cross(up, first)], axis=2)


class LinkTerm:
    """E = T_a^-1 T_b T_meas^-1, v = [log R_E, t_E]."""

    def __init__(self, links: Sequence[LinkObservation], number: dict[str, int]) -> None:
        self.a = np.array([number[k.a] for k in links], int)
        self.b = np.array([number[k.b] for k in links], int)
        self.back = np.array([frames.inverse(k.T_a_b) for k in links]).reshape(-1, 4, 4)
        self.covariance = np.array([k.covariance for k in links]).reshape(-1, 6, 6)
        self.root = _roots(self.covariance)
        self.weight = np.ones(len(links))
        self.rows = 6 * len(links)

    def plain(self, pose: Array) -> Array:
        """(links, 6) as :func:`link_residual`."""
        e = frames.inverses(pose[self.a]) @ pose[self.b] @ self.back
        return np.concatenate([frames.rotation_vectors(e[:, :3, :3]), e[:, :3, 3]], axis=1)

    def jacobians(self, pose: Array) -> Array:
        """(links, 6, 6) derivative of the residual by the left motion of b; that of a is its negative."""
        turn = pose[self.a, :3, :3].transpose(0, 2, 1)
        j = np.zeros((len(self.a), 6, 6))
        j[:, :3, :3] = j[:, 3:, 3:] = turn
        j[:, 3:, :3] = -turn @ frames.skews(pose[self.a, :3, 3])
        return j

    def level(self, x: State) -> Array:
        """(links,) size of each whitened residual, without its weight."""
        return np.asarray(np.linalg.norm(np.einsum("nij,nj->ni", self.root, self.plain(x.pose)), axis=1))

    def _roots(self) -> Array:
        return np.asarray(self.root * np.sqrt(self.weight)[:, None, None])

    def residuals(self, x: State) -> Array:
        return np.asarray(np.einsum("nij,nj->ni", self._roots(), self.plain(x.pose)).ravel())

    def derive(self, x: State, to: Columns, at: int, blocks: Blocks) -> None:
        j, rows = self._roots() @ self.jacobians(x.pose), at + 6 * np.arange(len(self.a))
        blocks.put(rows, to.station[self.a], -j)
        blocks.put(rows, to.station[self.b], j)


class SightingTerm:
    """Distance of each sighting from its target, in the station's axes."""

    def __init__(self, spots: Sequence[SightingObservation], of: Index, number: dict[str, int]) -> None:
        """of: number of each sighting's target."""
        self.of, self.seen = of, np.array([number[s.station] for s in spots], int)
        self.centre = np.array([s.centre for s in spots]).reshape(-1, 3)
        self.root = _roots(np.array([s.covariance for s in spots]).reshape(-1, 3, 3))
        self.rows = 3 * len(spots)

    def placed(self, pose: Array) -> Array:
        """(sightings, 3) where the stations see their targets."""
        return np.asarray(np.einsum("nij,nj->ni", pose[self.seen, :3, :3], self.centre) + pose[self.seen, :3, 3])

    def _turned(self, x: State) -> Array:
        return np.asarray(self.root @ x.pose[self.seen, :3, :3].transpose(0, 2, 1))

    def residuals(self, x: State) -> Array:
        return np.asarray(np.einsum("nij,nj->ni", self._turned(x), self.placed(x.pose) - x.point[self.of]).ravel())

    def derive(self, x: State, to: Columns, at: int, blocks: Blocks) -> None:
        w, rows = self._turned(x), at + 3 * np.arange(len(self.of))
        blocks.put(rows, to.station[self.seen], w @ _moved_points(self.placed(x.pose)))
        blocks.put(rows, to.target[self.of], -w)


class LevelTerm:
    """How far the part's direction up leans from what each station's level says, across that direction."""

    def __init__(self, levels: Sequence[LevelObservation], number: dict[str, int], part_of: Index) -> None:
        """part_of: number of each station's part."""
        self.at = np.array([number[v.station] for v in levels], int)
        self.part = part_of[self.at]
        up = np.array([v.up for v in levels], float).reshape(-1, 3)
        self.up = up / np.linalg.norm(up, axis=1, keepdims=True)
        self.across = _tangents(self.up).transpose(0, 2, 1) / np.array([v.sigma for v in levels]).reshape(-1, 1, 1)
        self.rows = 2 * len(levels)

    def _turned(self, x: State) -> Array:
        return np.asarray(self.across @ x.pose[self.at, :3, :3].transpose(0, 2, 1))

    def residuals(self, x: State) -> Array:
        return np.asarray(np.einsum("nij,nj->ni", self._turned(x), x.up[self.part]).ravel())

    def derive(self, x: State, to: Columns, at: int, blocks: Blocks) -> None:
        w, rows = self._turned(x), at + 2 * np.arange(len(self.at))
        turn = np.concatenate([frames.skews(x.up[self.part]), np.zeros((len(self.at), 3, 3))], axis=2)
        blocks.put(rows, to.station[self.at], w @ turn)
        blocks.put(rows, to.up[self.part], w @ _tangents(x.up)[self.part])


class PlumbTerm:
    """How far walls lean from the direction up of their part."""

    def __init__(self, walls: Sequence[PlumbObservation], number: dict[str, int], part_of: Index) -> None:
        self.at = np.array([number[w.station] for w in walls], int)
        self.part = part_of[self.at]
        normal = np.array([w.normal for w in walls], float).reshape(-1, 3)
        self.normal = normal / np.linalg.norm(normal, axis=1, keepdims=True)
        self.weight = 1 / np.array([w.sigma for w in walls], float)
        self.rows = len(walls)

    def _turned(self, x: State) -> Array:
        """(walls, 3) normals in the part."""
        return np.asarray(np.einsum("nij,nj->ni", x.pose[self.at, :3, :3], self.normal))

    def residuals(self, x: State) -> Array:
        return np.asarray(self.weight * (self._turned(x) * x.up[self.part]).sum(axis=1))

    def derive(self, x: State, to: Columns, at: int, blocks: Blocks) -> None:
        n, up, rows = self._turned(x), x.up[self.part], at + np.arange(self.rows)
        turn = np.concatenate([np.cross(n, up), np.zeros((self.rows, 3))], axis=1)  # (w x n) . up = w . (n x up)
        blocks.put(rows, to.station[self.at], (self.weight[:, None] * turn)[:, None, :])
        across = np.einsum("ni,nik->nk", n, _tangents(x.up)[self.part])
        blocks.put(rows, to.up[self.part], (self.weight[:, None] * across)[:, None, :])


class DistanceTerm:
    """How far the distance of two targets is from what was measured beside the scans."""

    def __init__(self, tapes: Sequence[DistanceObservation], a: Index, b: Index) -> None:
        """a, b: numbers of the targets."""
        self.a, self.b = a, b
        self.metres = np.array([t.metres for t in tapes], float)
        self.weight = 1 / np.array([t.sigma for t in tapes], float)
        self.rows = len(tapes)

    def residuals(self, x: State) -> Array:
        return np.asarray(self.weight * (np.linalg.norm(x.point[self.b] - x.point[self.a], axis=1) - self.metres))

    def derive(self, x: State, to: Columns, at: int, blocks: Blocks) -> None:
        apart, rows = x.point[self.b] - x.point[self.a], at + np.arange(self.rows)
        along = self.weight[:, None] * apart / np.maximum(np.linalg.norm(apart, axis=1, keepdims=True), 1e-6)
        blocks.put(rows, to.target[self.a], -along[:, None, :])
        blocks.put(rows, to.target[self.b], along[:, None, :])


class UprightTerm:
    """How far a placing tips a part's direction up from the height axis of control: two numbers of each part."""

    SIGMA = 2e-5  # radians: the plumb line's own deflection from the normal of a map's grid

    def __init__(self, parts: Index) -> None:
        self.part = parts
        self.rows = 2 * len(parts)

    def _placed(self, x: State) -> Array:
        return np.asarray(np.einsum("nij,nj->ni", x.placing[self.part, :3, :3], x.up[self.part]))

    def residuals(self, x: State) -> Array:
        return np.asarray(self._placed(x)[:, :2].ravel() / self.SIGMA)

    def derive(self, x: State, to: Columns, at: int, blocks: Blocks) -> None:
        rows = at + 2 * np.arange(len(self.part))
        turn = np.concatenate([-frames.skews(self._placed(x)), np.zeros((len(self.part), 3, 3))], axis=2)
        blocks.put(rows, to.placing[self.part], turn[:, :2] / self.SIGMA)
        across = x.placing[self.part, :3, :3] @ _tangents(x.up)[self.part]
        blocks.put(rows, to.up[self.part], across[:, :2] / self.SIGMA)


class ControlTerm:
    """Where placing puts a target, and where control gives it."""

    def __init__(self, given: Sequence[ControlObservation], of: Index, part: Index, origin: Array) -> None:
        """of, part: numbers of the targets and of their parts; origin (3,): what positions in control are taken from."""
        self.of, self.part = of, part
        self.given = np.array([c.position for c in given]).reshape(-1, 3) - origin
        self.root = _roots(np.array([c.covariance for c in given]).reshape(-1, 3, 3))
        self.rows = 3 * len(given)

    def plain(self, x: State) -> Array:
        """(points, 3) placed minus given, metres."""
        t = x.placing[self.part]
        return np.asarray(np.einsum("nij,nj->ni", t[:, :3, :3], x.point[self.of]) + t[:, :3, 3] - self.given)

    def residuals(self, x: State) -> Array:
        return np.asarray(np.einsum("nij,nj->ni", self.root, self.plain(x)).ravel())

    def derive(self, x: State, to: Columns, at: int, blocks: Blocks) -> None:
        t, rows = x.placing[self.part], at + 3 * np.arange(len(self.of))
        blocks.put(rows, to.placing[self.part], self.root @ _moved_points(self.plain(x) + self.given))
        blocks.put(rows, to.target[self.of], self.root @ t[:, :3, :3])


def moved(x: State, step: Array, to: Columns) -> State:
    """The state after a step of all unknowns."""

    def motions(pose: Array, column: Index) -> Array:
        pose, free = pose.copy(), np.nonzero(column >= 0)[0]
        if len(free):
            d = step[column[free][:, None] + np.arange(6)]
            turn = Rotation.from_rotvec(d[:, :3]).as_matrix()
            pose[free, :3, 3] = np.einsum("nij,nj->ni", turn, pose[free, :3, 3]) + d[:, 3:]
            pose[free, :3, :3] = Rotation.from_matrix(turn @ pose[free, :3, :3]).as_matrix()  # the nearest rotations
        return pose

    point, up, across = x.point.copy(), x.up.copy(), _tangents(x.up)
    point += step[to.target[:, None] + np.arange(3)] if len(point) else 0.0
    for k in np.nonzero(to.up >= 0)[0]:
        up[k] += across[k] @ step[to.up[k] : to.up[k] + 2]
        up[k] /= np.linalg.norm(up[k])
    return State(motions(x.pose, to.station), point, motions(x.placing, to.placing), up)
