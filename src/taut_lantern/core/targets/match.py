"""Which points are the same? Sightings over stations by place, control to targets by geometry.

Both frames are level, so a hypothesis needs two pairs of points: turn about the plumb line and a shift. The
best constellation is refused when a distinct one explains nearly as much.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import NotEnough

Array = NDArray[np.float64]


def group_by_place(points: Array, stations: list[str], within: float = 0.03) -> list[list[int]]:
    """Group sightings (n, 3), project frame, that lie within ``within`` metres; one per station in a group."""
    groups: list[list[int]] = []
    for k in range(len(points)):
        best, nearest = None, within
        for g in groups:
            gap = float(np.linalg.norm(points[g].mean(axis=0) - points[k]))
            if gap < nearest and stations[k] not in {stations[i] for i in g}:
                best, nearest = g, gap
        if best is None:
            groups.append([k])
        else:
            best.append(k)
    return groups


@dataclass(frozen=True)
class Constellation:
    """pairs (source index, target index) and T_target_source found by geometry; runner_up: share of its score."""

    pairs: tuple[tuple[int, int], ...]
    T_target_source: Array
    runner_up: float


def _hypothesis(s: Array, t: Array, i: int, j: int, k: int, m: int) -> Array:
    ds, dt = s[j] - s[i], t[m] - t[k]
    yaw = math.atan2(dt[1], dt[0]) - math.atan2(ds[1], ds[0])
    out = frames.pose(yaw)
    out[:3, 3] = (t[k] + t[m]) / 2 - out[:3, :3] @ ((s[i] + s[j]) / 2)
    return out


def _assign(s: Array, t: Array, pose: Array, within: float) -> tuple[tuple[int, int], ...]:
    d = np.linalg.norm(frames.apply(pose, s)[:, None] - t[None], axis=2)
    pairs, used_s, used_t = [], set(), set()
    for flat in np.argsort(d, axis=None):
        i, k = divmod(int(flat), len(t))
        if d[i, k] > within:
            break
        if i not in used_s and k not in used_t:
            pairs.append((i, k))
            used_s.add(i)
            used_t.add(k)
    return tuple(sorted(pairs))


def by_geometry(source: Array, target: Array, tolerance: float = 0.012) -> Constellation:
    """Match two level constellations (n, 3), (m, 3) in metres. NotEnough when fewer than 3 match or two
    assignments fit nearly equally well."""
    s, t = source - source.mean(axis=0), target - target.mean(axis=0)
    scored: dict[tuple[tuple[int, int], ...], tuple[float, Array]] = {}
    for i, j in itertools.combinations(range(len(s)), 2):
        level = math.hypot(*(s[j] - s[i])[:2])
        if level < 0.5:
            continue
        for k, m in itertools.permutations(range(len(t)), 2):
            d = t[m] - t[k]
            if abs(math.hypot(d[0], d[1]) - level) > 2 * tolerance or abs(d[2] - (s[j] - s[i])[2]) > 2 * tolerance:
                continue
            pose = _hypothesis(s, t, i, j, k, m)
            pairs = _assign(s, t, pose, 3 * tolerance + 0.01)
            if len(pairs) < 3:
                continue
            refined = rigid(s[[p for p, _ in pairs]], t[[q for _, q in pairs]], level=True)
            pairs = _assign(s, t, refined, 2.5 * tolerance)
            if len(pairs) < 3 or _spread(s[[p for p, _ in pairs]]) < 0.5:
                continue
            gap = np.linalg.norm(frames.apply(refined, s[[p for p, _ in pairs]]) - t[[q for _, q in pairs]], axis=1)
            score = len(pairs) - float(np.sum((gap / tolerance) ** 2)) / 6
            if score > scored.get(pairs, (-1.0, refined))[0]:
                scored[pairs] = (score, refined)
    if not scored:
        raise NotEnough(
            "no constellation of 3 or more points agrees between control and targets",
            code="no_constellation",
            remedy="match at least 3 points by hand, or check the column order and the unit of the control file",
        )
    ranked = sorted(scored.items(), key=lambda x: -x[1][0])
    pairs, (score, pose) = ranked[0]
    rival = next((r for p, (r, _) in ranked[1:] if len(set(p) & set(pairs)) < 2), 0.0)
    if rival > 0.9 * score:
        raise NotEnough(
            "two different assignments fit equally well",
            code="ambiguous",
            remedy="match one point by hand so that only one assignment is left",
        )
    t_full = pose.copy()
    t_full[:3, 3] += target.mean(axis=0) - pose[:3, :3] @ source.mean(axis=0)
    return Constellation(pairs, t_full, rival / max(score, 1e-9))


def _spread(p: Array) -> float:
    """Second largest extent (metres) of points: how far they are from lying on one line."""
    return float(np.linalg.svd(p - p.mean(axis=0), compute_uv=False)[1])


def rigid(source: Array, target: Array, level: bool = False, weights: Array | None = None) -> Array:
    """Least-squares rigid transform (Horn 1987; Umeyama 1991 without scale); level keeps the plumb line."""
    w = np.ones(len(source)) if weights is None else weights
    cs, ct = (w[:, None] * source).sum(0) / w.sum(), (w[:, None] * target).sum(0) / w.sum()
    h = ((source - cs) * w[:, None]).T @ (target - ct)
    if level:
        t = frames.pose(math.atan2(h[0, 1] - h[1, 0], h[0, 0] + h[1, 1]))
    else:
        u, _, vt = np.linalg.svd(h)
        t = np.eye(4)
        t[:3, :3] = vt.T @ np.diag([1, 1, np.linalg.det(vt.T @ u.T)]) @ u.T
    t[:3, 3] = ct - t[:3, :3] @ cs
    return t
