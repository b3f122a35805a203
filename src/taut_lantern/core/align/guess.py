"""Placements of one level scan against another with no first guess: a pair only proposes.

Yaw from the directions of walls, height from the histogram of level surfaces, plan position from the
correlation of wall-normal images (phase correlation: Kuglin & Hines 1975) and, for corridors, from histograms
of wall offsets along the dominant directions. All candidates are ranked on a 1-degree range pyramid, the best
are refined, and the dense see-through test speaks on what is left.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import fft

from .. import frames
from ..kernels import rays
from .evidence import UPRIGHT, Dense, dense
from .fine import refine
from .matches import hits
from .prepared import FEW, MANY, PYRAMID_STEP, Prepared

Array = NDArray[np.float64]
PROPOSALS = 4  # how proposals are computed: counts up when they would come out otherwise
OPEN = 1000  # balanced samples of a scan that stood in the open have fewer
CELL, SIZE = 0.2, 512  # plan image: at most 102.4 m square


@dataclass(frozen=True)
class Hypothesis:
    """One placement T_a_b of a pair with its dense evidence."""

    a: str
    b: str
    T_a_b: Array
    seen: Dense


def _peaks(values: Array, count: int, apart: int) -> list[int]:
    """Highest bins of a circular histogram, at least ``apart`` bins from each other."""
    work, found = values.astype(float).copy(), []
    for _ in range(count):
        k = int(np.argmax(work))
        if work[k] <= 0:
            break
        found.append(k)
        work[np.arange(k - apart, k + apart + 1) % len(work)] = -1
    return found


def _yaws(a: Prepared, b: Prepared) -> list[float]:
    """Turns (radians) that bring b's walls onto a's."""

    def smooth(h: Array) -> Array:
        h = np.sqrt(h)
        return h + 0.7 * (np.roll(h, 1) + np.roll(h, -1)) + 0.3 * (np.roll(h, 2) + np.roll(h, -2))

    fa, fb = np.fft.rfft(smooth(a.yaw) - smooth(a.yaw).mean()), np.fft.rfft(smooth(b.yaw) - smooth(b.yaw).mean())
    score = np.fft.irfft(fa * np.conj(fb), 720)
    return [math.radians(k / 2) for k in _peaks(score - score.min() + 1e-9, 6, 8)]


def _levels(a: Prepared) -> tuple[NDArray[np.int32], NDArray[np.int32]]:
    """Heights (10 cm bins, 128 stands for 0) of a's level surfaces in plan cells of 1 m: the ranges (2, 128, 128, 2) of the up- and
    the down-facing ones in a list, and that list."""
    keys = []
    for k, sign in enumerate((1, -1)):
        p = a.fine.points[sign * a.fine.normals[:, 2] > 0.9]
        ijk = np.floor(p / [1.0, 1.0, 0.1]).astype(np.int64) + [64, 64, 128]
        ijk = ijk[((ijk >= 0) & (ijk < [128, 128, 256])).all(axis=1)]
        keys.append(((k * 128 + ijk[:, 0]) * 128 + ijk[:, 1]) * 256 + ijk[:, 2])
    key = np.unique(np.concatenate(keys))
    cells = np.arange(2 * 128 * 128 + 1) * 256
    at = np.searchsorted(key, cells).astype(np.int32)
    return np.stack([at[:-1], at[1:]], axis=1).reshape(2, 128, 128, 2), (key % 256).astype(np.int32)


def _heights(levels: tuple[NDArray[np.int32], NDArray[np.int32]], b: Prepared, turn: Array, shifts: Array) -> Array:
    """Two height differences (metres) for each plan shift, by votes of level surfaces that would meet: (s, 2)."""
    up, down = b.balanced.normals[:, 2] > 0.9, b.balanced.normals[:, 2] < -0.9
    level = up | down
    votes = np.zeros((len(shifts), 256), np.int32)
    rays.height_votes(*levels, 1.0, 0.1, b.balanced.points[level] @ turn[:3, :3].T, down[level].astype(np.int64), shifts, votes)
    score = 2.0 * votes + np.roll(votes, 1, axis=1) + np.roll(votes, -1, axis=1)
    out = np.zeros((len(shifts), 2))
    rows = np.arange(len(shifts))
    for k in range(2):
        best = np.argmax(score, axis=1)
        near = np.stack([score[rows, np.clip(best + d, 0, 255)] for d in (-1, 0, 1)])
        out[:, k] = (best - 128 + (near[2] - near[0]) / np.maximum(near.sum(axis=0), 1)) * 0.1
        for d in (-2, -1, 0, 1, 2):
            score[rows, np.clip(best + d, 0, 255)] = -1
    return out


def _wide(points: Array, normals: Array) -> float:
    """How far from the scanner its walls reach in plan, metres; what lies beyond half the largest image counts no more."""
    far = np.abs(points[np.abs(normals[:, 2]) < 0.3][:, :2]).max(initial=1.0)
    return min(float(far), SIZE * CELL / 2)


def _plan(points: Array, normals: Array, size: int) -> NDArray[np.complex64]:
    """Complex image of wall normals on a size x size plan, whitened in part."""
    ij = np.floor(points[:, :2] / CELL).astype(int) + size // 2
    ok = (np.abs(normals[:, 2]) < 0.3) & (ij >= 0).all(axis=1) & (ij < size).all(axis=1)
    at = ij[ok, 1] * size + ij[ok, 0]
    cells, at = np.unique(at, return_inverse=True)
    sums = np.bincount(at, normals[ok, 0], len(cells)) + 1j * np.bincount(at, normals[ok, 1], len(cells))
    much = np.abs(sums)
    image = np.zeros(size * size, np.complex64)
    image[cells] = sums / np.maximum(much, 1e-9) * np.minimum(much, 4) ** 0.5
    return image.reshape(size, size)


def _shifts(fa: NDArray[np.complex64], points: Array, normals: Array, count: int) -> list[tuple[float, float]]:
    """Plan shifts (metres) of turned samples against a's transformed image."""
    size = len(fa)
    f = fa * np.conj(fft.fft2(_plan(points, normals, size)))
    f /= np.sqrt(np.maximum(np.abs(f), 1e-9))
    score = np.ascontiguousarray(fft.ifft2(f, overwrite_x=True).real)  # peaks are looked for in it again and again
    found = []
    for _ in range(count):
        k = int(np.argmax(score))
        y, x = divmod(k, size)
        if score[y, x] <= 0:
            break
        # centroid of the 3x3 round the peak, for a start good to half a cell
        ys, xs = (np.arange(y - 1, y + 2) % size), (np.arange(x - 1, x + 2) % size)
        w = np.clip(score[np.ix_(ys, xs)], 0, None)
        dy, dx = (w.sum(1) @ [-1, 0, 1]) / w.sum(), (w.sum(0) @ [-1, 0, 1]) / w.sum()
        sx, sy = x + dx, y + dy
        found.append(((sx - size if sx > size / 2 else sx) * CELL, (sy - size if sy > size / 2 else sy) * CELL))
        score[np.ix_(ys, xs)] = -1
    return found


def _wall_offsets(points: Array, normals: Array, axis: Array) -> Array:
    """Signed histogram (2, 1024) of wall offsets along a plan direction, 10 cm bins."""
    out = np.zeros((2, 1024))
    along = normals[:, :2] @ axis
    for k, sign in enumerate((1, -1)):
        ok = sign * along > 0.94
        bins = np.floor(points[ok, :2] @ axis / 0.1).astype(int) + 512
        out[k] = np.bincount(bins[(bins >= 0) & (bins < 1024)], minlength=1024)
    return np.sqrt(out)


def _corridor_shifts(a: Prepared, points: Array, normals: Array, main: float) -> list[tuple[float, float]]:
    """Plan shifts from wall offsets along a's two dominant directions (5 x 14 combinations both ways)."""
    u = np.array([math.cos(main), math.sin(main)])
    v = np.array([-u[1], u[0]])
    lists = []
    for axis in (u, v):
        ha, hb = _wall_offsets(a.fine.points, a.fine.normals, axis), _wall_offsets(points, normals, axis)
        score = sum(np.fft.irfft(np.fft.rfft(ha[k]) * np.conj(np.fft.rfft(hb[k])), 1024) for k in range(2))
        lists.append([(k if k < 512 else k - 1024) * 0.1 for k in _peaks(np.asarray(score), 14, 2)])
    pairs = {(x, y) for x in lists[0][:5] for y in lists[1]} | {(x, y) for x in lists[0] for y in lists[1][:5]}
    return [tuple(x * u + y * v) for x, y in pairs]  # type: ignore[misc]


def candidates(a: Prepared, b: Prepared, peaks: int = 30) -> Array:
    """(k, 4, 4) placements to rank; ``peaks`` of the correlation of plans for each turn."""
    reach = _wide(a.fine.points, a.fine.normals) + _wide(b.fine.points, b.fine.normals)  # a shift beyond it shows no common wall
    size = min(SIZE, fft.next_fast_len(int(2 * reach / CELL) + 8))
    fa = fft.fft2(_plan(a.fine.points, a.fine.normals, size))
    main = math.radians(float(np.argmax(a.yaw[:180] + a.yaw[180:360] + a.yaw[360:540] + a.yaw[540:])) / 2)
    levels = _levels(a)
    out = []
    for yaw in _yaws(a, b):
        turn = frames.pose(yaw)
        p, n = b.fine.points @ turn[:3, :3].T, b.fine.normals @ turn[:3, :3].T
        shifts = np.array([*_shifts(fa, p, n, peaks), *_corridor_shifts(a, p, n, main)])
        for column in _heights(levels, b, turn, shifts).T:
            poses = np.tile(turn, (len(shifts), 1, 1))
            poses[:, :2, 3], poses[:, 2, 3] = shifts, column
            out.append(poses)
    return np.concatenate(out) if out else np.zeros((0, 4, 4))


def _ranked(a: Prepared, b: Prepared, poses: Array, tol: float, every: int = 1) -> NDArray[np.int64]:
    """Order of placements, best first, by agree, violated and near misses on the pyramids, both ways; ``every`` n-th sample speaks.

    In turn: agree - 4 violated - 0.5 near; agree - violated, since where cars drive and leaves move the right one is seen through,
    too; and that of upright surfaces alone, since in the open one ground lies on any other.
    """
    sides = [np.abs(x.balanced.normals[:, 2]) < UPRIGHT for x in (a, b)]
    back = frames.inverses(np.asarray(poses))
    counts = np.zeros((2, len(poses), 3))
    for out, level in zip(counts, (False, True), strict=True):
        for seer, seen, own, side in ((a, b, poses, sides[1]), (b, a, back, sides[0])):
            chosen = np.nonzero(side != level)[0][::every]
            points, normals = seen.balanced.points[chosen], seen.balanced.normals[chosen]
            rays.rank(seer.pyramid, PYRAMID_STEP, own, points, normals, tol, out)
    upright, both = counts[0], counts.sum(axis=0)
    strict, restless = both[:, 0] - 4 * both[:, 1] - 0.5 * both[:, 2], both[:, 0] - both[:, 1]
    return _in_turn(np.argsort(-strict), np.argsort(-restless), np.argsort(upright[:, 1] - upright[:, 0]))


def _in_turn(*orders: NDArray[np.int64]) -> NDArray[np.int64]:
    """One of the first order, one of the second, and so on, each once."""
    mixed = np.stack(orders, axis=1).ravel()
    _, at = np.unique(mixed, return_index=True)
    return np.asarray(mixed[np.sort(at)])


def _weighed(a: Prepared, b: Prepared, poses: list[Array], most: int) -> tuple[NDArray[np.int64], list[Dense]]:
    """Order of placements by the dense test with ``most`` points of each scan: strict and restless in turn, as in ``_ranked``;
    in the open the last by what is more than ground and bare walls."""
    seen = [dense(a, b, t, most) for t in poses]
    agree, violated, upright = (
        np.array([(d.agree_m2, d.violated_m2, d.distinct_m2 if a.open and b.open else d.upright_m2) for d in seen]).reshape(-1, 3).T
    )
    return _in_turn(np.argsort(12 * violated - agree), np.argsort(2 * violated - agree), np.argsort(2 * violated - upright)), seen


def _distinct(poses: list[Array], order: NDArray[np.int64], count: int) -> list[Array]:
    """The first ``count`` in an order that are not all but the same (0.1 m, 0.02 rad)."""
    out: list[Array] = []
    for k in order:
        if all(np.linalg.norm(poses[k][:3, 3] - t[:3, 3]) > 0.1 or frames.difference(poses[k], t)[1] > 0.02 for t in out):
            out.append(poses[k])
        if len(out) == count:
            break
    return out


def propose(a: Prepared, b: Prepared, name_a: str = "a", name_b: str = "b", keep: int = 6) -> list[Hypothesis]:
    """Up to ``keep`` distinct placements, best first. Empty when nothing holds together."""
    many = 1.0 if min(len(a.balanced), len(b.balanced)) > OPEN else 1.6  # what stands in the open is little, and much of it moves
    poses = candidates(a, b, 30 if many == 1.0 else 60)
    if len(poses) == 0:
        return []
    poses = poses[_ranked(a, b, poses, 0.15, 8)[: int(300 * many)]]
    best = [poses[k] for k in _ranked(a, b, poses, 0.15)[: int(60 * many)]]
    for coarse, gates, count, most in (
        (True, ((0.5, 2), (0.3, 2), (0.2, 2)), 18, FEW),
        (False, ((0.2, 1), (0.1, 1), (0.08, 1)), 12, MANY),
    ):
        both = hits(a, b, a.balanced, b.balanced, coarse)
        moved = [refine(a, b, t, gates, 0.6, both)[0] for t in best]
        order, seen = _weighed(a, b, moved, most)
        best = _distinct(moved, order, int(count * many))
    weighed = [seen[next(k for k, t in enumerate(moved) if t is own)] for own in best]
    found = [Hypothesis(name_a, name_b, t, d) for t, d in zip(best[: int(keep * many)], weighed, strict=False)]
    if a.open and b.open:  # one ground lies on any other, and one long wall; what else is there does not
        found.sort(key=lambda h: h.seen.violated_m2 - h.seen.distinct_m2)
    return found
