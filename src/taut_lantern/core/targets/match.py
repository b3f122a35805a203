"""Which points are the same? Sightings over stations by place, control to targets by geometry.

Both frames are level, so a hypothesis needs two pairs of points: turn about the plumb line and a shift. The
best constellation is refused when a distinct one explains nearly as much.
"""

from __future__ import annotations

import itertools
import math
from dataclasses import dataclass, replace

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
    """pairs (source index, target index) and T_target_source found by geometry; runner_up: share of its score; worst: metres that
    the worst pair is off."""

    pairs: tuple[tuple[int, int], ...]
    T_target_source: Array
    runner_up: float
    worst: float


def _assign(s: Array, t: Array, pose: Array, within: float) -> tuple[tuple[int, int], ...]:
    d = np.linalg.norm(frames.apply(pose, s)[:, None] - t[None], axis=2)
    near_s, near_t = np.nonzero(d <= within)
    pairs, used_s, used_t = [], set(), set()
    for at in np.argsort(d[near_s, near_t], kind="stable"):
        i, k = int(near_s[at]), int(near_t[at])
        if i not in used_s and k not in used_t:
            pairs.append((i, k))
            used_s.add(i)
            used_t.add(k)
    return tuple(sorted(pairs))


MOST = 2000  # control points among which a constellation is looked for: their pairs fit into memory
HYPOTHESES = 60_000  # turns and shifts that are tried, those of the most telling target pairs first
CLOSER_LOOK = 400  # distinct ones that most targets agree with, and that are solved and scored
RIVAL = 0.7  # share of the score from which on another assignment is as good: lattices and near symmetries come that close
MANY = 8  # points that agree, most of the smaller side, from which on no mirror image need be looked at
CHANCE = 4  # points of the smaller side, beyond which three that agree may do so by chance


class Ambiguous(NotEnough):
    """Several assignments fit; ``readings`` holds the best of each, those that explain most first."""

    code = "ambiguous"

    def __init__(self, message: str, readings: list[Constellation], remedy: str) -> None:
        super().__init__(message, remedy=remedy, code="ambiguous")
        self.readings = readings


def by_geometry(source: Array, target: Array, tolerance: float = 0.012) -> Constellation:
    """Match two level constellations (n, 3), (m, 3) in metres, m at most 2000. NotEnough when fewer than 3 match, when three of many
    do, which may be chance, or when the mirror image explains more; Ambiguous when two assignments fit nearly equally well."""
    if len(target) > MOST:
        raise NotEnough(
            f"a constellation is looked for among at most {MOST:,} control points; there are {len(target):,}",
            code="too_many",
            remedy="give targets the names of their control points, or keep only the control near the site",
        )
    ranked, whole = _readings(source, target, tolerance)
    if not ranked:
        raise NotEnough(
            "no constellation of 3 or more points agrees between control and targets" + ("" if whole else ", of those that were tried"),
            code="no_constellation",
            remedy="match at least 3 points by hand, or check the column order and the unit of the control file",
        )
    (score, best), *others = ranked
    rival = next(((r, c) for r, c in others if len(set(c.pairs) & set(best.pairs)) < 2), None)
    if rival is not None and rival[0] > RIVAL * score:
        raise Ambiguous(
            "two different assignments fit equally well",
            [best, rival[1]],
            remedy="match one point by hand so that only one assignment is left",
        )
    if len(best.pairs) == 3 and min(len(source), len(target)) > CHANCE:
        raise NotEnough(
            f"only three of {min(len(source), len(target))} points agree between control and targets, which may be chance",
            code="no_constellation",
            remedy="match a point by hand, or check the column order and the unit of the control file",
        )
    few = len(best.pairs) < MANY or len(best.pairs) < 0.6 * min(len(source), len(target))
    mirrored = _readings(source * [1, -1, 1], target, tolerance)[0] if few else []
    if mirrored and mirrored[0][0] > RIVAL * score:
        image = len(mirrored[0][1].pairs)
        raise NotEnough(
            f"{len(best.pairs)} points agree between control and targets, and {image} with the mirror image: easting and northing may be exchanged",
            code="mirrored",
            remedy="check the column order, or match at least 3 points by hand",
        )
    return replace(best, runner_up=(rival[0] if rival is not None else 0.0) / max(score, 1e-9))


def _readings(source: Array, target: Array, tolerance: float) -> tuple[list[tuple[float, Constellation]], bool]:
    """Assignments with their scores, the best first, and whether all turns and shifts were tried. The score is the number of points
    that agree, less a price for how far they are off."""
    s, t = source - source.mean(axis=0), target - target.mean(axis=0)
    yaw, shift, whole = _hypotheses(s, t, 2 * tolerance)
    scored: dict[tuple[tuple[int, int], ...], tuple[float, Array]] = {}
    for k in _promising(s, t, yaw, shift, 3 * tolerance + 0.01):
        pose = frames.pose(float(yaw[k]))
        pose[:3, 3] = shift[k]
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
    out = []
    for pairs, (score, pose) in sorted(scored.items(), key=lambda x: -x[1][0]):
        pairs, pose, worst = _without_strays(s, t, pairs, pose, 0.5 * tolerance)
        if len(pairs) < 3:
            continue
        whole_pose = pose.copy()
        whole_pose[:3, 3] += target.mean(axis=0) - pose[:3, :3] @ source.mean(axis=0)
        out.append((score, Constellation(pairs, whole_pose, 0.0, worst)))
    return out, whole


def _without_strays(
    s: Array, t: Array, pairs: tuple[tuple[int, int], ...], pose: Array, floor: float
) -> tuple[tuple[tuple[int, int], ...], Array, float]:
    """Pairs without those that are off by more than 2.5 times what the others are, seen from a fit without them: another point may
    stand there. Also the pose by the rest, and metres that the worst of them is off."""

    def off(fit: Array, those: list[tuple[int, int]]) -> Array:
        return np.asarray(np.linalg.norm(frames.apply(fit, s[[p for p, _ in those]]) - t[[q for _, q in those]], axis=1))

    left = list(pairs)
    while len(left) > 3:
        k = int(np.argmax(off(pose, left)))
        rest = left[:k] + left[k + 1 :]
        fit = rigid(s[[p for p, _ in rest]], t[[q for _, q in rest]], level=True)
        if float(off(fit, [left[k]])[0]) <= max(floor, 2.5 * float(off(fit, rest).max())):
            break
        left, pose = rest, fit
    return tuple(left), pose, float(off(pose, left).max())


def _hypotheses(s: Array, t: Array, within: float) -> tuple[Array, Array, bool]:
    """(turns (h,), shifts (h, 3), whether all were made) that carry one pair of s onto one of t of equal level length and
    height difference. Pairs of s with the fewest equals speak first."""
    k, m = np.triu_indices(len(t), 1)
    d = t[m] - t[k]
    level = np.hypot(d[:, 0], d[:, 1])
    order = np.argsort(level)
    level, d, k, m = level[order], d[order], k[order], m[order]
    found: list[tuple[int, int, int, NDArray[np.intp], bool]] = []
    for i, j in itertools.combinations(range(len(s)), 2):
        own = s[j] - s[i]
        length = math.hypot(own[0], own[1])
        if length < 0.5:
            continue
        first, last = np.searchsorted(level, (length - within, length + within))
        for turned in (False, True):
            equal = first + np.nonzero(np.abs((-d if turned else d)[first:last, 2] - own[2]) <= within)[0]
            if len(equal):
                found.append((len(equal), i, j, equal, turned))
    found.sort(key=lambda x: x[:3])
    yaws, shifts, count = [], [], 0
    for n, i, j, equal, turned in found:
        if count + n > HYPOTHESES and count:
            break
        own, other = s[j] - s[i], -d[equal] if turned else d[equal]
        yaw = np.arctan2(other[:, 1], other[:, 0]) - math.atan2(own[1], own[0])
        middle = (s[i] + s[j]) / 2
        c, z = np.cos(yaw), np.sin(yaw)
        carried = np.stack([c * middle[0] - z * middle[1], z * middle[0] + c * middle[1], np.full(n, middle[2])], axis=1)
        yaws.append(yaw)
        shifts.append((t[k[equal]] + t[m[equal]]) / 2 - carried)
        count += n
    if not yaws:
        return np.zeros(0), np.zeros((0, 3)), True
    return np.concatenate(yaws), np.concatenate(shifts), count == sum(x[0] for x in found)


def _promising(s: Array, t: Array, yaw: Array, shift: Array, within: float) -> list[int]:
    """Distinct hypotheses with at least three points of s near ones of t, most first. Near is told by cells of ``within``."""

    def cells(p: Array) -> NDArray[np.int64]:
        q = np.floor(p / within).astype(np.int64) + (1 << 20)
        return (q[..., 0] << 42) | (q[..., 1] << 21) | q[..., 2]

    around = np.array(list(itertools.product((-1, 0, 1), repeat=3))) * within
    known = np.unique(cells(t[:, None] + around[None]))
    count = np.zeros(len(yaw), np.int64)
    for begin in range(0, len(yaw), 8192):
        part = slice(begin, begin + 8192)
        c, z = np.cos(yaw[part])[:, None], np.sin(yaw[part])[:, None]
        at = np.stack([c * s[:, 0] - z * s[:, 1], z * s[:, 0] + c * s[:, 1], np.broadcast_to(s[:, 2], (len(c), len(s)))], axis=2)
        key = cells(np.clip(at + shift[part, None], -4e4, 4e4))
        where = np.minimum(np.searchsorted(known, key), len(known) - 1)
        count[part] = (known[where] == key).sum(axis=1)
    reach = max(1.0, float(np.linalg.norm(s, axis=1).max()))
    turn = np.round(np.mod(yaw, 2 * math.pi) * reach / within)
    alike = np.column_stack([turn, np.round(shift / within)])
    order = np.argsort(-count, kind="stable")
    order = order[count[order] >= 3]
    _, first = np.unique(alike[order], axis=0, return_index=True)
    return [int(x) for x in order[np.sort(first)][:CLOSER_LOOK]]


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
