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

from .. import frames
from ..kernels import rays
from .evidence import Dense, dense
from .fine import refine
from .matches import hits
from .prepared import PYRAMID_STEP, Prepared

Array = NDArray[np.float64]
PROPOSALS = 1  # how proposals are computed: counts up when they would come out otherwise
OPEN = 1000  # balanced samples of a scan that stood in the open have fewer
CELL, SIZE = 0.2, 512  # plan image: 102.4 m square


@dataclass(frozen=True)
class Hypothesis:
    """One placement T_a_b of a pair with its score (agree - 4 violated, per sample) and dense evidence."""

    a: str
    b: str
    T_a_b: Array
    score: float
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


def _occupied(a: Prepared) -> NDArray[np.uint8]:
    """Level surfaces of a, up- and down-facing, in cells of 1 m by 1 m by 10 cm: (2, 128, 128, 256)."""
    out = np.zeros((2, 128, 128, 256), np.uint8)
    for k, sign in enumerate((1, -1)):
        p = a.fine.points[sign * a.fine.normals[:, 2] > 0.9]
        ijk = np.floor(p / [1.0, 1.0, 0.1]).astype(int) + [64, 64, 128]
        ijk = ijk[((ijk >= 0) & (ijk < [128, 128, 256])).all(axis=1)]
        out[k, ijk[:, 0], ijk[:, 1], ijk[:, 2]] = 1
    return out


def _heights(occupied: NDArray[np.uint8], b: Prepared, turn: Array, shifts: Array) -> Array:
    """Two height differences (metres) for each plan shift, by votes of level surfaces that would meet: (s, 2)."""
    up, down = b.balanced.normals[:, 2] > 0.9, b.balanced.normals[:, 2] < -0.9
    level = up | down
    votes = np.zeros((len(shifts), 256), np.int32)
    rays.height_votes(occupied, 1.0, 0.1, b.balanced.points[level] @ turn[:3, :3].T, down[level].astype(np.int64), shifts, votes)
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


def _plan(points: Array, normals: Array) -> NDArray[np.complex128]:
    """Complex image of wall normals on a SIZE x SIZE plan, whitened in part."""
    ij = np.floor(points[:, :2] / CELL).astype(int) + SIZE // 2
    ok = (np.abs(normals[:, 2]) < 0.3) & (ij >= 0).all(axis=1) & (ij < SIZE).all(axis=1)
    image = np.zeros(SIZE * SIZE, complex)
    np.add.at(image, ij[ok, 1] * SIZE + ij[ok, 0], normals[ok, 0] + 1j * normals[ok, 1])
    size = np.asarray(np.abs(image))
    return np.asarray(image / np.maximum(size, 1e-9) * np.minimum(size, 4) ** 0.5, complex).reshape(SIZE, SIZE)


def _shifts(fa: NDArray[np.complex128], points: Array, normals: Array) -> list[tuple[float, float]]:
    """Plan shifts (metres) of turned samples against a's transformed image."""
    f = fa * np.conj(np.fft.fft2(_plan(points, normals)))
    score = np.fft.ifft2(f / np.maximum(np.abs(f), 1e-9) ** 0.5).real
    found = []
    for _ in range(30):
        k = int(np.argmax(score))
        y, x = divmod(k, SIZE)
        if score[y, x] <= 0:
            break
        # centroid of the 3x3 round the peak, for a start good to half a cell
        ys, xs = (np.arange(y - 1, y + 2) % SIZE), (np.arange(x - 1, x + 2) % SIZE)
        w = np.clip(score[np.ix_(ys, xs)], 0, None)
        dy, dx = (w.sum(1) @ [-1, 0, 1]) / w.sum(), (w.sum(0) @ [-1, 0, 1]) / w.sum()
        sx, sy = x + dx, y + dy
        found.append(((sx - SIZE if sx > SIZE / 2 else sx) * CELL, (sy - SIZE if sy > SIZE / 2 else sy) * CELL))
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


def candidates(a: Prepared, b: Prepared) -> Array:
    """(k, 4, 4) placements to rank."""
    fa = np.fft.fft2(_plan(a.fine.points, a.fine.normals))
    main = math.radians(float(np.argmax(a.yaw[:180] + a.yaw[180:360] + a.yaw[360:540] + a.yaw[540:])) / 2)
    occupied = _occupied(a)
    out = []
    for yaw in _yaws(a, b):
        turn = frames.pose(yaw)
        p, n = b.fine.points @ turn[:3, :3].T, b.fine.normals @ turn[:3, :3].T
        shifts = np.array([*_shifts(fa, p, n), *_corridor_shifts(a, p, n, main)])
        for column in _heights(occupied, b, turn, shifts).T:
            poses = np.tile(turn, (len(shifts), 1, 1))
            poses[:, :2, 3], poses[:, 2, 3] = shifts, column
            out.append(poses)
    return np.concatenate(out) if out else np.zeros((0, 4, 4))


def _ranked(a: Prepared, b: Prepared, poses: Array, tol: float, every: int = 1) -> tuple[NDArray[np.int64], Array]:
    """Order of placements, best first, and their scores: agree - 4 violated - 0.5 near, both ways, per sample; ``every`` n-th sample
    speaks. Every second place is given by agree - violated: where cars drive and leaves move the right one is seen through, too."""
    out = np.zeros((len(poses), 3))
    pa, na, pb, nb = (
        np.ascontiguousarray(x[::every]) for x in (a.balanced.points, a.balanced.normals, b.balanced.points, b.balanced.normals)
    )
    rays.rank(a.pyramid, PYRAMID_STEP, poses, pb, nb, tol, out)
    back = np.array([frames.inverse(t) for t in poses])
    rays.rank(b.pyramid, PYRAMID_STEP, back, pa, na, tol, out)
    out /= len(pa) + len(pb)
    strict, restless = out[:, 0] - 4 * out[:, 1] - 0.5 * out[:, 2], out[:, 0] - out[:, 1]
    return _in_turn(np.argsort(-strict), np.argsort(-restless)), strict


def _in_turn(first: NDArray[np.int64], second: NDArray[np.int64]) -> NDArray[np.int64]:
    """One of the first order, one of the second, and so on, each once."""
    mixed = np.stack([first, second], axis=1).ravel()
    _, at = np.unique(mixed, return_index=True)
    return np.asarray(mixed[np.sort(at)])


def propose(a: Prepared, b: Prepared, name_a: str = "a", name_b: str = "b", keep: int = 6) -> list[Hypothesis]:
    """Up to ``keep`` distinct placements, best first. Empty when nothing holds together."""
    poses = candidates(a, b)
    if len(poses) == 0:
        return []
    poses = poses[_ranked(a, b, poses, 0.15, 4)[0][:400]]
    many = 1.0 if min(len(a.balanced), len(b.balanced)) > OPEN else 1.6  # what stands in the open is little, and much of it moves
    best = [poses[k] for k in _ranked(a, b, poses, 0.15)[0][: int(60 * many)]]
    both = hits(a, b, a.balanced, b.balanced)
    for gates, count, tol in (
        (((0.5, 1), (0.3, 1), (0.2, 1)), int(18 * many), 0.1),
        (((0.2, 1), (0.1, 1), (0.08, 1)), int(12 * many), 0.06),
    ):
        moved = [refine(a, b, t, gates, 0.6, both)[0] for t in best]
        order, score = _ranked(a, b, np.array(moved), tol)
        best, scores = [], []
        for k in order:
            if all(np.linalg.norm(moved[k][:3, 3] - t[:3, 3]) > 0.1 or frames.difference(moved[k], t)[1] > 0.02 for t in best):
                best.append(moved[k])
                scores.append(float(score[k]))
            if len(best) == count:
                break
    found = [Hypothesis(name_a, name_b, t, s, dense(a, b, t, 25_000)) for t, s in zip(best, scores, strict=True)]
    seen = np.array([(h.seen.agree_m2, h.seen.violated_m2) for h in found]).reshape(-1, 2)
    order = _in_turn(np.argsort(12 * seen[:, 1] - seen[:, 0]), np.argsort(2 * seen[:, 1] - seen[:, 0]))
    return [found[k] for k in order[: int(keep * many)]]
