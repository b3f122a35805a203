"""Surfaces carry offsets of their own, nested: cells, larger and larger parts, whole surfaces, the scan; one per scan, along
the ray. Many points on one wall are then not mistaken for many independent observations.

Linear mixed model (Harville, J. Am. Stat. Assoc. 72, 1977): offsets are random effects whose variances are estimated by
expectation and maximisation (his section 5.3); level after level is eliminated exactly (kernels.eliminate) and substituted back
(kernels.descend).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..kernels import fit as kernels
from .matches import Array, Matches, noise_of, systems

HELD = 0.004  # metres: standard deviation above which a direction counts as not held
CELL, PARTS = 0.75, 3  # metres; offsets of cells, of parts 1.5, 3 and 6 m wide, and of whole surfaces
OFFSET, WHOLE_OFFSET, LEAST_OFFSET = 0.0003, 0.0005, 0.0001  # metres: standard deviations to begin with, and the least
NU = 3  # weight of what is usual in the variance of one surface
PLANAR_TURN, PLANAR_OFF, PLANAR_FEWEST = np.radians(4.0), 0.008, 5  # a cell is planar: normals within, metres RMS, patches
CURVED, NATURAL = 0.02, 0.1  # weight of patches that are no part of a plane (windows of two scans cut a curve or an edge
# differently): among planes, and on ground, rock and leaves, where they are most of what there is
BUILT = 0.5  # share of patches on planes from which on a place counts as built
JOINED_OFF = 0.03  # metres within which two cells of one direction are one surface


def _cells(m: Matches, size: float) -> NDArray[np.int64]:
    """Label of the (cell, dominant axis with sign) of each match."""
    axis = np.argmax(np.abs(m.normal), axis=1)
    sign = (np.take_along_axis(m.normal, axis[:, None], 1)[:, 0] > 0).astype(np.int64)
    key = np.floor(m.place / size).astype(np.int64) + (1 << 15)  # 16 bits an axis: 24 km either way
    code = (key[:, 0] << 32 | key[:, 1] << 16 | key[:, 2]) * 6 + axis * 2 + sign
    return np.unique(code, return_inverse=True)[1].astype(np.int64)


def _cell_means(label: NDArray[np.int64], weight: Array, values: Array) -> Array:
    total = np.maximum(np.bincount(label, weight), 1e-12)
    return np.stack([np.bincount(label, weight * values[:, k]) / total for k in range(values.shape[1])], axis=1)


def pool_normals(m: Matches, label: NDArray[np.int64]) -> tuple[Matches, NDArray[np.bool_]]:
    """One normal per planar cell: the noise of 5x5 normals must not pass for geometry. Also says what lies in one."""
    w = np.ones(len(label))
    mean, centre = _cell_means(label, w, m.normal), _cell_means(label, w, m.place)
    length = np.linalg.norm(mean, axis=1)
    unit = mean / np.maximum(length, 1e-12)[:, None]
    off = np.einsum("ij,ij->i", unit[label], m.place - centre[label])
    spread = np.sqrt(np.bincount(label, off**2) / np.maximum(np.bincount(label), 1))
    planar = (length > np.cos(PLANAR_TURN)) & (spread < PLANAR_OFF) & (np.bincount(label) >= PLANAR_FEWEST)
    flat = planar[label]
    return Matches(m.place, np.where(flat[:, None], unit[label], m.normal), m.distance, m.cos_a, m.cos_b), flat


def surfaces(centre: Array, normal: Array, weight: Array) -> tuple[NDArray[np.int64], int]:
    """Join cells to whole surfaces: normals within 4 degrees, offsets within 3 cm. Returns (labels, how many)."""
    label, count = kernels.surfaces(centre, normal, np.argsort(-weight), np.cos(PLANAR_TURN), JOINED_OFF)
    return label, int(count)


def _levels(cell: NDArray[np.int64], whole: NDArray[np.int64]) -> list[NDArray[np.int64]]:
    """Parents of cells, level by level: parts of their whole surface (k,) two, four .. cells (k, 3) wide, then the whole."""
    out, key = [], cell
    for _ in range(PARTS):
        unique, label = np.unique(np.concatenate([whole[:, None], key // 2], axis=1), axis=0, return_inverse=True)
        out.append(label.reshape(-1).astype(np.int64))
        whole, key = unique[:, 0], unique[:, 1:]
    return [*out, whole]


def _tree(m: Matches, weight: Array, cell: NDArray[np.int64]) -> tuple[list[NDArray[np.int64]], list[NDArray[np.int64]]]:
    """(parents of the systems of each level, the whole surface of each): cells, their parts, whole surfaces, the scan."""
    normal = _cell_means(cell, weight, m.normal)
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-12)
    whole, count = surfaces(_cell_means(cell, weight, m.place), normal, np.bincount(cell, weight).astype(float))
    key = np.zeros((len(normal), 3), np.int64)
    key[cell] = np.floor(m.place / CELL)
    parents = [*_levels(key, whole), np.zeros(count, np.int64)]
    wholes = [whole]
    for up in parents[:-1]:
        of = np.zeros(int(up.max()) + 1, np.int64)
        of[up] = wholes[-1]
        wholes.append(of)
    return parents, wholes


def solve_nested(m: Matches, weight: Array, curved: float | None, passes: int) -> tuple[Array, Array, Array, float, float]:
    """Pose step with nested surface offsets. Returns (step, covariance, centre, lever, offset sigma).

    Every whole surface has its own variance at every level, drawn towards the usual one of that level as by NU
    observations: one wall of two parts must not be averaged with fifty that are whole.
    curved: weight of what is no plane; None: as the place is, built or natural.
    """
    total = float(weight.sum())
    centre, lever = kernels.about(m.place, weight)
    m, flat = pool_normals(m, _cells(m, 2 * CELL))
    if curved is None:
        curved = CURVED if float(weight[flat].sum()) > BUILT * total else NATURAL
    weight = np.where(flat, weight, curved * weight)
    cell = _cells(m, CELL)
    parents, wholes = _tree(m, weight, cell)
    last, count = len(parents) - 1, len(parents[-1])
    g = systems(m, weight, cell, len(parents[0]), centre, lever)
    noise2 = noise_of(m) ** 2
    spread = [np.full(count, (OFFSET if k < last else WHOLE_OFFSET) ** 2) for k in range(last + 1)]
    for _ in range(passes):
        tree = [g]
        for k in range(last + 1):
            tree.append(kernels.eliminate(tree[k], noise2 / spread[k][wholes[k]], parents[k], int(parents[k].max()) + 1))
        value, vector = np.linalg.eigh(tree[-1][0, :8, :8] + np.diag([0.0] * 6 + [noise2 / WHOLE_OFFSET**2] * 2))
        keep = value > 1e-7 * total
        state = (vector[:, keep] / value[keep]) @ vector[:, keep].T @ tree[-1][0, :8, 8]
        cov = noise2 * (vector / np.maximum(value, 1e-9 * total)) @ vector.T
        states, covs = state[None], cov[None]
        for k in range(last, -1, -1):
            states, covs, squares = kernels.descend(tree[k], noise2 / spread[k][wholes[k]], parents[k], states, covs, noise2, k > 0)
            usual = 1 / np.mean(1 / spread[k])
            n, some = np.bincount(wholes[k], minlength=count), np.bincount(wholes[k], squares, minlength=count)
            spread[k] = np.maximum((NU * usual + 2 * some) / (NU + 2 * n), LEAST_OFFSET**2)
    value, vector = np.linalg.eigh(cov[:6, :6])
    step = vector @ np.where(value < HELD**2, vector.T @ state[:6], 0.0)  # never along what the geometry does not hold
    return step, cov[:6, :6], centre, lever, float(np.sqrt(1 / np.mean(1 / spread[last])))
