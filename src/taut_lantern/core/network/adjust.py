"""Adjustment of the network: least squares over station poses and target points.

Gauss-Markov model with a priori covariances (Teunissen, *Adjustment Theory*, ch. 2 and 4). One station of each part is
held: its datum; a body moves as one. Residual of a link: E = T_a^-1 T_b T_meas^-1, v = [log R_E, t_E]; a left motion d of a
pose moves it by J (d_b - d_a) with J = [[R^T, 0], [-R^T [t_a]x, R^T]]. A left motion of a body moves each of its stations by
the same d, so that a body takes the columns of one station.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray
from scipy.sparse.linalg import splu

from .. import frames
from ..errors import Finding, NotEnough
from .observations import Array, Body, LinkObservation, SightingObservation
from .parts import Part, assemble
from .reliability import GlobalTest, LinkResidual, global_test, link_residuals

STEPS = 30  # of Gauss-Newton; good networks take 4 to 6
STILL = 1e-8  # radians and metres: a step below this is the end
COARSE = 1e-4  # the same while blunders are still being weighed down
HUBER = 3.0  # times the common level of the links, from which on one counts less


@dataclass(frozen=True)
class TargetPoint:
    """A target as one part sees it: position (3,) m with covariance (3, 3) in the part's frame; spread: of its sightings, m."""

    target: str
    part: int
    position: Array
    covariance: Array
    sightings: int
    spread: float


@dataclass(frozen=True)
class Solution:
    """An adjusted network.

    poses T_part_station; covariance (6, 6) of their left motion about the part's datum, [rad, m]; sigma_position (3,) m and
    sigma_rotation (3,) rad of each station about itself, scaled by sigma0 when that is above one. parts: the largest first,
    datum of each beside it. findings: what does not connect, and that it did not converge.
    """

    poses: dict[str, Array]
    sigma_position: dict[str, Array]
    sigma_rotation: dict[str, Array]
    covariance: dict[str, Array]
    links: dict[str, LinkResidual]
    targets: list[TargetPoint]
    parts: list[list[str]]
    datum: list[str]
    test: GlobalTest
    iterations: int
    converged: bool
    findings: tuple[Finding, ...] = field(default=())

    @property
    def sigma0(self) -> float:
        return self.test.sigma0

    @property
    def passed(self) -> bool:
        return self.test.passed

    @property
    def degrees_of_freedom(self) -> int:
        return self.test.degrees_of_freedom


def adjust(
    stations: Sequence[str],
    links: Sequence[LinkObservation],
    sightings: Sequence[SightingObservation] | None = None,
    datum: Mapping[str, Array] | None = None,
    bodies: Sequence[Body] = (),
    robust: bool = True,
    confidence: float = 0.99,
) -> Solution:
    """Adjust the whole network. NotEnough when there is no station.

    datum : poses of stations that hold their part, those preferred first (see :func:`assemble`). robust : two rounds in
    which links far beyond the common level count less (Huber), then strict least squares.
    """
    if not stations:
        raise NotEnough("there is no station to adjust", remedy="bring in at least one scan")
    known = set(stations)
    links = [k for k in links if k.a in known and k.b in known]
    sightings = [s for s in sightings or () if s.station in known]
    bodies = [inside for b in bodies if len(inside := {s: t for s, t in b.items() if s in known}) > 1]
    parts, findings = assemble(stations, links, sightings, bodies, datum)
    network = _Network(parts, links, sightings, bodies)
    state, normal, iterations, converged = network.solve(network.start(), robust)
    if not converged:
        message = "the adjustment did not converge: its figures are not to be relied on; links contradict each other too much"
        findings.append(Finding("not_converged", "network", message, "fault"))
    return _described(network, state, normal, iterations, converged, tuple(findings), confidence)


@dataclass(frozen=True)
class _State:
    """pose (stations, 4, 4) and point (targets, 3), both about the origin of their part: the station that holds it."""

    pose: Array
    point: Array


@dataclass(frozen=True)
class _Rows:
    """Sparse rows of the design matrix and what is to be explained, both weighted."""

    matrix: sp.csr_matrix
    rhs: Array


class _Network:
    """Observations as arrays, and where each unknown stands in the system."""

    def __init__(
        self, parts: list[Part], links: Sequence[LinkObservation], sightings: Sequence[SightingObservation], bodies: Sequence[Body]
    ) -> None:
        self.parts, self.links = parts, list(links)
        self.stations = [s for part in parts for s in part.stations]
        self.number = {s: k for k, s in enumerate(self.stations)}
        self.part_of = {s: k for k, part in enumerate(parts) for s in part.stations}
        self.origin = np.array([part.poses[part.datum][:3, 3] for part in parts]).reshape(-1, 3)

        body_of = {s: f"body of {next(iter(b))}" for b in bodies for s in b}
        unit = [body_of.get(s, s) for s in self.stations]
        held = {body_of.get(part.datum, part.datum) for part in parts}
        column = {u: 6 * k for k, u in enumerate(dict.fromkeys(u for u in unit if u not in held))}
        self.moving = np.array([column.get(u, -1) for u in unit], int)  # first column of each station, -1 for what is held

        self.a = np.array([self.number[k.a] for k in self.links], int)
        self.b = np.array([self.number[k.b] for k in self.links], int)
        self.back = np.array([frames.inverse(k.T_a_b) for k in self.links]).reshape(-1, 4, 4)
        self.covariance = np.array([k.covariance for k in self.links]).reshape(-1, 6, 6)
        self.root = np.linalg.cholesky(np.linalg.inv(self.covariance)).transpose(0, 2, 1)

        of_target: dict[tuple[str, int], list[SightingObservation]] = {}
        for s in sightings:
            of_target.setdefault((s.target, self.part_of[s.station]), []).append(s)
        self.sightings_of = dict(sorted(of_target.items()))
        self.targets = [key for key, seen in self.sightings_of.items() if len(seen) > 1]  # one sighting alone ties nothing
        first = 6 * len(column)
        self.target_column = first + 3 * np.arange(len(self.targets))
        spots = [(s, t) for t, key in enumerate(self.targets) for s in self.sightings_of[key]]
        self.spots = [s for s, _ in spots]
        self.seen = np.array([self.number[s.station] for s in self.spots], int)
        self.of = np.array([t for _, t in spots], int)
        self.centre = np.array([s.centre for s in self.spots]).reshape(-1, 3)
        covariance = np.array([s.covariance for s in self.spots]).reshape(-1, 3, 3)
        self.spot_root = np.linalg.cholesky(np.linalg.inv(covariance)).transpose(0, 2, 1)
        self.size = first + 3 * len(self.targets)

    @property
    def observations(self) -> int:
        return 6 * len(self.links) + 3 * len(self.spots)

    def start(self) -> _State:
        pose = np.array([part.poses[s] for part in self.parts for s in part.stations])
        pose[:, :3, 3] -= self.origin[[self.part_of[s] for s in self.stations]]
        point = np.zeros((len(self.targets), 3))
        np.add.at(point, self.of, self.placed(pose))
        return _State(pose, point / np.maximum(np.bincount(self.of, minlength=len(self.targets)), 1)[:, None])

    def placed(self, pose: Array) -> Array:
        """(sightings, 3) where the stations see their targets."""
        return np.asarray(np.einsum("nij,nj->ni", pose[self.seen, :3, :3], self.centre) + pose[self.seen, :3, 3])

    def residuals(self, pose: Array) -> Array:
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

    def spot_residuals(self, state: _State) -> Array:
        """(sightings, 3) weighted distance of each sighting from its target, in the station's axes."""
        w = self.spot_root @ state.pose[self.seen, :3, :3].transpose(0, 2, 1)
        return np.asarray(np.einsum("nij,nj->ni", w, self.placed(state.pose) - state.point[self.of]))

    def linearised(self, state: _State, weight: Array) -> _Rows:
        """All observations about a state; weight (links,) from 0 to 1."""
        blocks = _Blocks()
        w = self.root * np.sqrt(weight)[:, None, None]
        j = w @ self.jacobians(state.pose)
        for end, sign in ((self.a, -1.0), (self.b, 1.0)):
            free = np.nonzero(self.moving[end] >= 0)[0]
            blocks.put(6 * free, self.moving[end[free]], sign * j[free])
        at = 6 * len(self.links) + 3 * np.arange(len(self.spots))
        w_spot = self.spot_root @ state.pose[self.seen, :3, :3].transpose(0, 2, 1)
        free = np.nonzero(self.moving[self.seen] >= 0)[0]
        turn = np.concatenate([-frames.skews(self.placed(state.pose)), np.broadcast_to(np.eye(3), (len(at), 3, 3))], axis=2)
        blocks.put(at[free], self.moving[self.seen[free]], (w_spot @ turn)[free])
        blocks.put(at, self.target_column[self.of], -w_spot)
        rhs = [np.einsum("nij,nj->ni", w, self.residuals(state.pose)).ravel(), self.spot_residuals(state).ravel()]
        return _Rows(blocks.matrix(self.observations, self.size), -np.concatenate(rhs))

    def solve(self, state: _State, robust: bool) -> tuple[_State, sp.csc_matrix | None, int, bool]:
        """Gauss-Newton from a state: (state, normal matrix, iterations, converged)."""
        if self.size == 0 or self.observations == 0:
            return state, None, 0, True
        weight, rounds = np.ones(len(self.links)), 2 if robust and self.links else 0
        normal = None
        for iteration in range(1, STEPS + 1):
            rows = self.linearised(state, weight)
            normal = (rows.matrix.T @ rows.matrix).tocsc()
            step = splu(normal, permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True}).solve(rows.matrix.T @ rows.rhs)
            length = float(np.abs(step).max())
            if not np.isfinite(length):
                break
            state = self.moved(state, step)
            if rounds == 0 and length < STILL:
                return state, normal, iteration, True
            if rounds and length < COARSE:
                rounds -= 1
                weight = np.ones(len(self.links)) if rounds == 0 else self.huber(state)
        return state, normal, STEPS, False

    def huber(self, state: _State) -> Array:
        """(links,) weights: 1 up to HUBER times the common level of the links' weighted residuals, then falling."""
        level = np.linalg.norm(np.einsum("nij,nj->ni", self.root, self.residuals(state.pose)), axis=1)
        limit = HUBER * max(float(np.median(level)), np.sqrt(6.0))
        return np.asarray(np.minimum(1, limit / np.maximum(level, 1e-12)) ** 2)

    def moved(self, state: _State, step: Array) -> _State:
        pose = state.pose.copy()
        for k in np.nonzero(self.moving >= 0)[0]:
            pose[k] = frames.orthonormal(frames.small(step[self.moving[k] : self.moving[k] + 6]) @ pose[k])
        return _State(pose, state.point + step[self.size - state.point.size :].reshape(-1, 3))


class _Blocks:
    """Blocks of a sparse matrix, gathered."""

    def __init__(self) -> None:
        self.rows: list[NDArray[Any]] = []
        self.columns: list[NDArray[Any]] = []
        self.values: list[Array] = []

    def put(self, at: NDArray[Any], column: NDArray[Any], blocks: Array) -> None:
        """Blocks (n, r, c) at rows ``at`` and columns ``column``."""
        n, r, c = blocks.shape
        self.rows.append(np.broadcast_to(at[:, None, None] + np.arange(r)[:, None], (n, r, c)).ravel())
        self.columns.append(np.broadcast_to(column[:, None, None] + np.arange(c), (n, r, c)).ravel())
        self.values.append(blocks.ravel())

    def matrix(self, rows: int, columns: int) -> sp.csr_matrix:
        where = (np.concatenate(self.rows), np.concatenate(self.columns))
        return sp.csr_matrix((np.concatenate(self.values), where), shape=(rows, columns))


def _described(
    network: _Network,
    state: _State,
    normal: sp.csc_matrix | None,
    iterations: int,
    converged: bool,
    findings: tuple[Finding, ...],
    confidence: float,
) -> Solution:
    """Covariances, residuals and the global test of an adjusted network, back in the coordinates of its parts."""
    q = np.zeros((0, 0)) if normal is None else np.linalg.inv(normal.toarray())
    v, j = network.residuals(state.pose), network.jacobians(state.pose)
    links = link_residuals(network.links, v, j, network.covariance, network.root, network.a, network.b, network.moving, q)
    total = float((np.einsum("nij,nj->ni", network.root, v) ** 2).sum() + (network.spot_residuals(state) ** 2).sum())
    test = global_test(total, network.observations - network.size, confidence)
    q = q * max(test.sigma0, 1.0) ** 2
    poses, covariance, position, turn = {}, {}, {}, {}
    for k, s in enumerate(network.stations):
        c = int(network.moving[k])
        covariance[s] = q[c : c + 6, c : c + 6] if c >= 0 else np.zeros((6, 6))
        about_itself = np.eye(6)
        about_itself[3:, :3] = -frames.skew(state.pose[k, :3, 3])
        deviation = np.sqrt(np.clip(np.diag(about_itself @ covariance[s] @ about_itself.T), 0, None))
        turn[s], position[s] = deviation[:3], deviation[3:]
        poses[s] = state.pose[k].copy()
        poses[s][:3, 3] += network.origin[network.part_of[s]]
    return Solution(
        poses,
        position,
        turn,
        covariance,
        links,
        _targets(network, state, poses, covariance, q),
        [part.stations for part in network.parts],
        [part.datum for part in network.parts],
        test,
        iterations,
        converged,
        findings,
    )


def _targets(network: _Network, state: _State, poses: dict[str, Array], covariance: dict[str, Array], q: Array) -> list[TargetPoint]:
    """Where each part sees each of its targets; one seen once stands where that station sees it."""
    out = []
    adjusted = {key: k for k, key in enumerate(network.targets)}
    for (target, part), seen in network.sightings_of.items():
        at = np.array([frames.apply(poses[s.station], s.centre[None])[0] for s in seen])
        if (k := adjusted.get((target, part))) is not None:
            c = int(network.target_column[k])
            position, spread = state.point[k] + network.origin[part], q[c : c + 3, c : c + 3]
        else:
            position, turn = at[0], poses[seen[0].station][:3, :3]
            j = np.hstack([-frames.skew(position - network.origin[part]), np.eye(3)])
            spread = turn @ seen[0].covariance @ turn.T + j @ covariance[seen[0].station] @ j.T
        off = float(np.linalg.norm(at - position, axis=1).max()) if len(at) > 1 else 0.0
        out.append(TargetPoint(target, part, position, spread, len(seen), off))
    return out
