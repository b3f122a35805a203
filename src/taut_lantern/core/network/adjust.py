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


class _Links:
    """All links of a network as arrays, so that one step is a handful of array operations."""

    def __init__(self, links: list[LinkObservation], stations: list[str]) -> None:
        number = {s: k for k, s in enumerate(stations)}
        self.a = np.array([number[k.a] for k in links], int)
        self.b = np.array([number[k.b] for k in links], int)
        self.back = np.array([frames.inverse(k.T_a_b) for k in links]).reshape(-1, 4, 4)
        self.covariance = np.array([k.covariance for k in links]).reshape(-1, 6, 6)
        self.root = np.linalg.cholesky(np.linalg.inv(self.covariance)).transpose(0, 2, 1)

    def residuals(self, poses: Array) -> Array:
        """(n, 6) as :func:`link_residual`, for poses (stations, 4, 4)."""
        e = frames.inverses(poses[self.a]) @ poses[self.b] @ self.back
        return np.concatenate([frames.rotation_vectors(e[:, :3, :3]), e[:, :3, 3]], axis=1)

    def jacobians(self, poses: Array) -> Array:
        """(n, 6, 6) derivative of the residual by the left motion of b; that of a is its negative."""
        turn = poses[self.a, :3, :3].transpose(0, 2, 1)
        j = np.zeros((len(self.a), 6, 6))
        j[:, :3, :3] = j[:, 3:, 3:] = turn
        j[:, 3:, :3] = -turn @ frames.skews(poses[self.a, :3, 3])
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

    number = {s: k for k, s in enumerate(stations)}
    held = {part[0] for part in parts}
    column = {s: 6 * k for k, s in enumerate([s for s in stations if s not in held])}
    first_point = 6 * len(column)
    column_point = {t: first_point + 3 * k for k, t in enumerate(names)}
    size = first_point + 3 * len(names)
    tied = _Links(links, stations)
    pose = np.array([poses[s] for s in stations])
    moving = np.array([column.get(s, -1) for s in stations])
    root_s = [np.linalg.cholesky(np.linalg.inv(s.covariance)).T for s in spots]
    weight = np.ones(len(links))
    normal: sp.csc_matrix | None = None
    iterations, converged, phase = 0, False, 0 if robust else 2
    for iterations in range(1, 31):
        rows: list[NDArray[Any]] = []
        cols: list[NDArray[Any]] = []
        vals: list[Array] = []
        v = tied.residuals(pose)
        w_links = tied.root * np.sqrt(weight)[:, None, None]
        wj = w_links @ tied.jacobians(pose)
        for end, sign in ((tied.a, -1.0), (tied.b, 1.0)):
            free = np.nonzero(moving[end] >= 0)[0]
            _put(rows, cols, vals, 6 * free, moving[end[free]], sign * wj[free])
        rhs = [-np.einsum("nij,nj->ni", w_links, v).ravel()]
        at = 6 * len(links)
        for k, s in enumerate(spots):
            t = pose[number[s.station]]
            x = frames.apply(t, s.centre[None])[0]
            w = root_s[k] @ t[:3, :3].T
            if s.station in column:
                _put(rows, cols, vals, np.array([at]), np.array([column[s.station]]), (w @ np.hstack([-frames.skew(x), np.eye(3)]))[None])
            _put(rows, cols, vals, np.array([at]), np.array([column_point[s.target]]), -w[None])
            rhs.append(-w @ (x - point[s.target]))
            at += 3
        if size == 0 or at == 0:
            converged = True
            break
        a = sp.csr_matrix((np.concatenate(vals), (np.concatenate(rows), np.concatenate(cols))), shape=(at, size))
        normal = (a.T @ a).tocsc()
        d = splu(normal, permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True}).solve(a.T @ np.concatenate(rhs))
        for name, c in column.items():
            k = number[name]
            pose[k] = frames.orthonormal(frames.small(d[c : c + 6]) @ pose[k])
        for target, c in column_point.items():
            point[target] = point[target] + d[c : c + 3]
        if float(np.abs(d).max()) < 1e-8 or (phase < 2 and float(np.abs(d).max()) < 1e-4):
            if phase == 2:
                converged = True
                break
            phase += 1
            level = np.linalg.norm(np.einsum("nij,nj->ni", tied.root, tied.residuals(pose)), axis=1)
            limit = 3 * max(float(np.median(level)) if len(level) else 1.0, np.sqrt(6.0))
            weight = np.ones(len(links)) if phase == 2 else np.minimum(1, limit / np.maximum(level, 1e-12)) ** 2
    poses = {s: pose[k] for k, s in enumerate(stations)}
    solved = _describe(
        stations, links, spots, poses, point, parts, column, column_point, normal, tied, root_s, iterations, converged, confidence
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


def _put(rows: list[NDArray[Any]], cols: list[NDArray[Any]], vals: list[Array], at: NDArray[Any], col: NDArray[Any], blocks: Array) -> None:
    """Blocks (n, r, c) at rows ``at`` and columns ``col`` of a sparse matrix."""
    n, r, c = blocks.shape
    rows.append(np.broadcast_to(at[:, None, None] + np.arange(r)[:, None], (n, r, c)).ravel())
    cols.append(np.broadcast_to(col[:, None, None] + np.arange(c), (n, r, c)).ravel())
    vals.append(blocks.ravel())


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
    tied: _Links,
    root_s: list[Array],
    iterations: int,
    converged: bool,
    confidence: float,
) -> Solution:
    """Covariances, residuals, redundancy and the global test of an adjusted network."""
    size = 6 * len(column) + 3 * len(column_point)
    q = np.linalg.inv(normal.toarray()) if normal is not None and size else np.zeros((0, 0))
    residuals, total = _link_residuals(
        links, tied, np.array([poses[s] for s in stations]), np.array([column.get(s, -1) for s in stations]), q
    )
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


def _link_residuals(
    links: list[LinkObservation], tied: _Links, pose: Array, moving: NDArray[Any], q: Array
) -> tuple[dict[str, LinkResidual], float]:
    """Residuals with redundancy and normalized size (Baarda 1968), and their weighted square sum."""
    if not links:
        return {}, 0.0
    v, j = tied.residuals(pose), tied.jacobians(pose)
    padded = np.zeros((len(q) + 6, len(q) + 6))  # what is held does not move: its columns are zero
    padded[: len(q), : len(q)] = q
    ends = np.stack([np.where(moving[e] >= 0, moving[e], len(q)) for e in (tied.a, tied.b)], axis=1)
    at = (ends[:, :, None] + np.arange(6)).reshape(len(links), 12)
    ax = np.concatenate([-j, j], axis=2)
    qv = tied.covariance - ax @ padded[at[:, :, None], at[:, None, :]] @ ax.transpose(0, 2, 1)
    white = tied.root @ qv @ tied.root.transpose(0, 2, 1)
    redundancy = np.trace(white, axis1=1, axis2=2)
    value, vector = np.linalg.eigh((white + white.transpose(0, 2, 1)) / 2)
    good = value > 1e-3
    scaled = np.einsum("nij,nj->ni", tied.root, v)
    u = np.einsum("nij,ni->nj", vector, scaled)
    normalized = np.sqrt(np.where(good, u**2 / np.where(good, value, 1.0), 0.0).sum(axis=1) / np.maximum(good.sum(axis=1), 1))
    metres, radians = np.linalg.norm(v[:, 3:], axis=1), np.linalg.norm(v[:, :3], axis=1)
    rows = zip(links, metres, radians, normalized, redundancy, strict=True)
    return {k.key: LinkResidual(float(m), float(r), float(n), float(f)) for k, m, r, n, f in rows}, float((scaled**2).sum())


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
