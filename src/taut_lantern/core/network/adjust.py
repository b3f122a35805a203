"""Adjustment of the network: least squares over station poses and target points, with reliability.

Gauss-Markov model with a priori covariances (Teunissen, *Adjustment Theory*; Baarda 1968 for the test of one
observation). Observations are relative poses (links) and sightings of targets. One station of each connected
part is held: the datum. Everything is in the project frame, metres and radians.

Residual of a link: E = T_a^-1 T_b T_meas^-1, v = [log R_E, t_E]; a left motion d of a pose moves it by
J (d_b - d_a) with J = [[R^T, 0], [-R^T [t_a]x, R^T]].
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray
from scipy.sparse.linalg import splu
from scipy.special import chdtri

from .. import frames
from ..errors import NotEnough

Array = NDArray[np.float64]


@dataclass(frozen=True)
class LinkObservation:
    """T_a_b measured, covariance (6, 6) of its left motion [rad, m] in a's frame."""

    key: str
    a: str
    b: str
    T_a_b: Array
    covariance: Array


@dataclass(frozen=True)
class SightingObservation:
    """A target seen from a station: centre (3,) in the station's frame with covariance (3, 3)."""

    station: str
    target: str
    centre: Array
    covariance: Array


@dataclass(frozen=True)
class LinkResidual:
    metres: float
    radians: float
    normalized: float  # square root of v' Qv^+ v / rank, in units of the a priori deviation
    redundancy: float  # 0..6: how far the others control it


@dataclass(frozen=True)
class Solution:
    """poses T_project_station; sigma_position (3,) m and sigma_rotation (3,) rad per station, scaled by
    sigma0 when that is above one; covariance (6, 6) of the left motion about the first datum; parts: connected stations, largest first, the first of each is its datum."""

    poses: dict[str, Array]
    sigma_position: dict[str, Array]
    sigma_rotation: dict[str, Array]
    covariance: dict[str, Array]
    links: dict[str, LinkResidual]
    targets: dict[str, tuple[Array, Array]]
    parts: list[list[str]]
    sigma0: float
    degrees_of_freedom: int
    statistic: float
    limit: float
    passed: bool
    iterations: int
    converged: bool
    downweighted: tuple[str, ...] = field(default=())


def connected_parts(stations: list[str], pairs: list[tuple[str, str]]) -> list[list[str]]:
    """Connected parts in the order of ``stations``, the largest first."""
    parent = {s: s for s in stations}

    def root(s: str) -> str:
        while parent[s] != s:
            parent[s] = parent[parent[s]]
            s = parent[s]
        return s

    for a, b in pairs:
        parent[root(a)] = root(b)
    parts: dict[str, list[str]] = {}
    for s in stations:
        parts.setdefault(root(s), []).append(s)
    return sorted(parts.values(), key=lambda p: -len(p))


def _spread(parts: list[list[str]], links: list[LinkObservation], start: dict[str, Array] | None) -> dict[str, Array]:
    """Starting poses: those given, else along a breadth-first tree from each datum."""
    poses: dict[str, Array] = {}
    for part in parts:
        inside = set(part)
        if start and all(s in start for s in part):
            poses.update({s: start[s].copy() for s in part})
            continue
        poses[part[0]] = start[part[0]].copy() if start and part[0] in start else np.eye(4)
        ready = [part[0]]
        while ready:
            s = ready.pop(0)
            for link in links:
                if link.a == s and link.b in inside and link.b not in poses:
                    poses[link.b] = poses[s] @ link.T_a_b
                    ready.append(link.b)
                elif link.b == s and link.a in inside and link.a not in poses:
                    poses[link.a] = poses[s] @ frames.inverse(link.T_a_b)
                    ready.append(link.a)
    return poses


def link_residual(T_a: Array, T_b: Array, T_a_b: Array) -> Array:
    e = frames.inverse(T_a) @ T_b @ frames.inverse(T_a_b)
    return np.concatenate([frames.rotation_vector(e[:3, :3]), e[:3, 3]])


def _link_jacobian(T_a: Array) -> Array:
    j = np.zeros((6, 6))
    rt = T_a[:3, :3].T
    j[:3, :3] = j[3:, 3:] = rt
    j[3:, :3] = -rt @ frames.skew(T_a[:3, 3])
    return j


def adjust(
    stations: list[str],
    links: list[LinkObservation],
    sightings: list[SightingObservation] | None = None,
    start: dict[str, Array] | None = None,
    robust: bool = True,
    confidence: float = 0.99,
) -> Solution:
    """Adjust the whole network. NotEnough when there is no station.

    robust: two rounds in which links far beyond the common level count less (Huber), then strict least squares.
    """
    if not stations:
        raise NotEnough("there is no station to adjust", remedy="bring in at least one scan")
    known = set(stations)
    links = [k for k in links if k.a in known and k.b in known]
    seen: dict[str, int] = {}
    for s in sightings or []:
        seen[s.target] = seen.get(s.target, 0) + 1
    spots = [s for s in sightings or [] if s.station in known and seen[s.target] >= 2]
    hub: dict[str, str] = {}
    ties = [(k.a, k.b) for k in links]
    parts = connected_parts(stations, ties)
    poses = _spread(parts, links, start)
    origin = poses[parts[0][0]][:3, 3].copy()  # solved about the first datum, whatever the size of the coordinates
    poses = {s: _moved(t, -origin) for s, t in poses.items()}
    part_of = {s: k for k, part in enumerate(parts) for s in part}
    spots = [s for s in spots if part_of[hub.setdefault(s.target, s.station)] == part_of[s.station]]
    names = sorted({s.target for s in spots})
    point: dict[str, Array] = {}
    for s in spots:
        point.setdefault(s.target, frames.apply(poses[s.station], s.centre[None])[0])

    held = {part[0] for part in parts}
    column = {s: 6 * k for k, s in enumerate([s for s in stations if s not in held])}
    first_point = 6 * len(column)
    column_point = {t: first_point + 3 * k for k, t in enumerate(names)}
    size = first_point + 3 * len(names)
    root = [np.linalg.cholesky(np.linalg.inv(k.covariance)).T for k in links]
    root_s = [np.linalg.cholesky(np.linalg.inv(s.covariance)).T for s in spots]
    weight = np.ones(len(links))
    normal: sp.csc_matrix | None = None
    iterations, converged, phase = 0, False, 0 if robust else 2
    for iterations in range(1, 31):
        rows: list[NDArray[Any]] = []
        cols: list[NDArray[Any]] = []
        vals: list[Array] = []
        rhs: list[Array] = []
        at = 0
        for k, link in enumerate(links):
            v = link_residual(poses[link.a], poses[link.b], link.T_a_b)
            j = _link_jacobian(poses[link.a])
            w = root[k] * np.sqrt(weight[k])
            for station, sign in ((link.a, -1.0), (link.b, 1.0)):
                if station in column:
                    _put(rows, cols, vals, at, column[station], sign * (w @ j))
            rhs.append(-w @ v)
            at += 6
        for k, s in enumerate(spots):
            x = frames.apply(poses[s.station], s.centre[None])[0]
            w = root_s[k] @ poses[s.station][:3, :3].T
            if s.station in column:
                _put(rows, cols, vals, at, column[s.station], w @ np.hstack([-frames.skew(x), np.eye(3)]))
            _put(rows, cols, vals, at, column_point[s.target], -w)
            rhs.append(-w @ (x - point[s.target]))
            at += 3
        if size == 0 or at == 0:
            converged = True
            break
        a = sp.csr_matrix((np.concatenate(vals), (np.concatenate(rows), np.concatenate(cols))), shape=(at, size))
        normal = (a.T @ a).tocsc()
        d = splu(normal, permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True}).solve(a.T @ np.concatenate(rhs))
        for name, c in column.items():
            poses[name] = frames.orthonormal(frames.small(d[c : c + 6]) @ poses[name])
        for t, c in column_point.items():
            point[t] = point[t] + d[c : c + 3]
        if float(np.abs(d).max()) < 1e-8 or (phase < 2 and float(np.abs(d).max()) < 1e-4):
            if phase == 2:
                converged = True
                break
            phase += 1
            level = np.array([np.linalg.norm(root[k] @ link_residual(poses[x.a], poses[x.b], x.T_a_b)) for k, x in enumerate(links)])
            limit = 3 * max(float(np.median(level)) if len(level) else 1.0, np.sqrt(6.0))
            weight = np.ones(len(links)) if phase == 2 else np.minimum(1, limit / np.maximum(level, 1e-12)) ** 2
    solved = _describe(
        stations, links, spots, poses, point, parts, column, column_point, normal, root, root_s, iterations, converged, confidence
    )
    return replace(
        solved,
        poses={s: _moved(t, origin) for s, t in solved.poses.items()},
        targets={t: (p + origin, c) for t, (p, c) in solved.targets.items()},
    )


def _moved(t: Array, by: Array) -> Array:
    out = t.copy()
    out[:3, 3] += by
    return out


def _put(rows: list[NDArray[Any]], cols: list[NDArray[Any]], vals: list[Array], at: int, col: int, block: Array) -> None:
    r, c = np.indices(block.shape)
    rows.append((r + at).ravel())
    cols.append((c + col).ravel())
    vals.append(block.ravel())


def _describe(
    stations: list[str],
    links: list[LinkObservation],
    spots: list[SightingObservation],
    poses: dict[str, Array],
    point: dict[str, Array],
    parts: list[list[str]],
    column: dict[str, int],
    column_point: dict[str, int],
    normal: sp.csc_matrix | None,
    root: list[Array],
    root_s: list[Array],
    iterations: int,
    converged: bool,
    confidence: float,
) -> Solution:
    """Covariances, residuals, redundancy and the global test of an adjusted network."""
    size = 6 * len(column) + 3 * len(column_point)
    q = np.linalg.inv(normal.toarray()) if normal is not None and size else np.zeros((0, 0))
    total, residuals, redundancy_sum = 0.0, {}, 0.0
    for k, link in enumerate(links):
        v = link_residual(poses[link.a], poses[link.b], link.T_a_b)
        j = _link_jacobian(poses[link.a])
        picks = [(column[s], sign) for s, sign in ((link.a, -1.0), (link.b, 1.0)) if s in column]
        ax = np.hstack([sign * j for _, sign in picks]) if picks else np.zeros((6, 0))
        at = np.concatenate([np.arange(c, c + 6) for c, _ in picks]) if picks else np.zeros(0, int)
        qv = link.covariance - ax @ q[np.ix_(at, at)] @ ax.T
        white = root[k] @ qv @ root[k].T
        redundancy = float(np.trace(white))
        value, vector = np.linalg.eigh((white + white.T) / 2)
        good = value > 1e-3
        u = vector[:, good].T @ (root[k] @ v)
        normalized = float(np.sqrt((u**2 / value[good]).sum() / good.sum())) if good.any() else 0.0
        residuals[link.key] = LinkResidual(float(np.linalg.norm(v[3:])), float(np.linalg.norm(v[:3])), normalized, redundancy)
        total += float(np.sum((root[k] @ v) ** 2))
        redundancy_sum += redundancy
    for k, s in enumerate(spots):
        at_point = frames.apply(poses[s.station], s.centre[None])[0]
        total += float(np.sum((root_s[k] @ poses[s.station][:3, :3].T @ (at_point - point[s.target])) ** 2))
    dof = 6 * len(links) + 3 * len(spots) - size
    sigma0 = float(np.sqrt(total / dof)) if dof > 0 else 1.0
    scale = max(sigma0, 1.0) ** 2
    cov = {x: scale * q[column[x] : column[x] + 6, column[x] : column[x] + 6] if x in column else np.zeros((6, 6)) for x in stations}
    position, turn = {}, {}
    for x in stations:  # from motion about the project origin to motion about the station
        shift = np.eye(6)
        shift[3:, :3] = -frames.skew(poses[x][:3, 3])
        own = shift @ cov[x] @ shift.T
        position[x], turn[x] = np.sqrt(np.clip(np.diag(own)[3:], 0, None)), np.sqrt(np.clip(np.diag(own)[:3], 0, None))
    targets = {t: (point[t], scale * q[c : c + 3, c : c + 3]) for t, c in column_point.items()}
    limit = float(chdtri(dof, 1 - confidence)) if dof > 0 else 0.0
    return Solution(
        poses, position, turn, cov, residuals, targets, parts, sigma0, dof, total, limit, dof <= 0 or total <= limit, iterations, converged
    )


def snoop(
    stations: list[str],
    links: list[LinkObservation],
    sightings: list[SightingObservation] | None = None,
    start: dict[str, Array] | None = None,
    level: float = 3.5,
) -> tuple[Solution, list[str]]:
    """Adjust, then leave out one link after another whose normalized residual exceeds ``level`` times the common
    one and that the others control (iterated data snooping, Baarda 1968). Returns (solution, keys left out)."""
    left_out: list[str] = []
    current = list(links)
    while True:
        solution = adjust(stations, current, sightings, start)
        level_now = level * max(float(np.median([r.normalized for r in solution.links.values()] or [1.0])), 1.0)
        suspects = [k for k, r in solution.links.items() if r.normalized > level_now and r.redundancy > 1.0]
        if not suspects:
            return solution, left_out
        worst = max(suspects, key=lambda k: solution.links[k].normalized)
        rest = [k for k in current if k.key != worst]
        if len(connected_parts(stations, [(k.a, k.b) for k in rest])) > len(solution.parts):
            return solution, left_out
        left_out.append(worst)
        current = rest
