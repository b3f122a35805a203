"""Fine alignment of two scans from a start within about half a metre.

Plane centroid to plane centroid, both ways, with projective association into the partner's range image;
robust Gauss-Newton (Tukey weights, narrowing gates), truncated along directions the geometry does not hold.
The last steps set the limit by the noise that is there and give patches that are not part of a plane little say (a
curve or an edge is cut differently by the windows of two scans: without any noise that alone left 0.4 to 0.5 mm).
They are a generalised least squares in which the surfaces carry offsets of their own (nested: cells, larger and larger
parts, whole surfaces; one per scan, acting along the ray), so that many points on one wall are not mistaken for many
independent observations. Linear mixed model: Harville, J. Am. Stat. Assoc. 72 (1977).

Terms: residual r = n . (T_a_b p_b - q_a), metres. Motion d = [rotation, translation], left perturbation of T_a_b
about the centroid of the matches.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..kernels import fit as kernels
from ..kernels import rays
from .prepared import Prepared, Samples

Array = NDArray[np.float64]
GATES = ((0.5, 16), (0.25, 8), (0.1, 4), (0.06, 4), (0.04, 2), (0.025, 2), (0.015, 2))  # (gate in metres, stride)
NOISE_FLOOR = 0.0002
HELD = 0.004  # metres: standard deviation above which a direction counts as not held
TUKEY = 4.685  # standard deviations at which a distance loses its say: 95 % as good as least squares on normal noise
CELL, PARTS = 0.75, 3  # metres; offsets of cells, of parts 1.5, 3 and 6 m wide, and of whole surfaces
OFFSET, WHOLE_OFFSET, LEAST_OFFSET = 0.0003, 0.0005, 0.0001  # metres: standard deviations to begin with, and the least
NU = 3  # weight of what is usual in the variance of one surface
CURVED = 0.1  # weight of patches that are no part of a plane: windows of two scans cut a curve or an edge differently


@dataclass(frozen=True)
class Matches:
    """One row per matched pair of patches: place and normal in a's frame, signed distance, cosines of both rays."""

    place: Array  # (m, 3)
    normal: Array  # (m, 3)
    distance: Array  # (m,) metres
    cos_a: Array
    cos_b: Array


@dataclass(frozen=True)
class Fine:
    """Result of a fine alignment.

    covariance : (6, 6) of [rotation rad, translation m] left perturbation at a's origin; converged says that
    the last step was below 0.1 mm; held (6,) bool per eigen-direction; matches are those of the last gate.
    """

    T_a_b: Array
    covariance: Array
    matches: Matches
    converged: bool
    steps: int
    smallest: float  # smallest eigenvalue per weight, rotations scaled by the lever
    weak_sigma: float  # metres
    weak_direction: Array  # unit, a's frame
    offset_sigma: float  # metres, estimated spread of surface offsets


class Hits:
    """Samples of one scan in the other's image, and the planes fitted where they fell, kept between steps."""

    def __init__(self, image_of: Prepared, samples: Samples) -> None:
        self.grid, self.samples = image_of.grid, samples
        self.plane = np.empty((len(samples), 8))
        self.hit = np.full((len(samples), 2), -1, np.int32)

    def find(self, t: Array, gate: float, stride: int, min_cos: float) -> NDArray[np.bool_]:
        """Which samples, placed by t into the image's frame, lie on a plane there; it is then in ``plane``."""
        g, s = self.grid, self.samples
        return np.asarray(rays.associate(g.image, g.geo, g.wrap, t, s.points, s.normals, gate, min_cos, stride, self.hit, self.plane))


def hits(a: Prepared, b: Prepared, sa: Samples | None = None, sb: Samples | None = None) -> tuple[Hits, Hits]:
    """(samples of b in a's image, samples of a in b's image)."""
    return Hits(a, sb or b.fine), Hits(b, sa or a.fine)


def match(both: tuple[Hits, Hits], t: Array, gate: float, stride: int, min_cos: float) -> Matches:
    """Patches of b found in a's image and patches of a found in b's, all expressed in a's frame."""
    found = [(side, side.find(t if k == 0 else frames.inverse(t), gate, stride, min_cos)) for k, side in enumerate(both)]
    n, at = sum(int(ok.sum()) for _, ok in found), 0
    out = Matches(np.empty((n, 3)), np.empty((n, 3)), np.empty(n), np.empty(n), np.empty(n))
    rest = (out.place, out.normal, out.distance, out.cos_a, out.cos_b)
    for k, (side, ok) in enumerate(found):
        at = kernels.rows(ok, side.plane, side.samples.points, side.samples.normals, t, k == 0, at, *rest)
    return out


def tukey(residual: Array, gate: float) -> Array:
    """Tukey's biweight of residuals, zero at the gate."""
    return np.clip(1 - (residual / gate) ** 2, 0, None) ** 2


def _systems(m: Matches, weight: Array, label: NDArray[np.int64], count: int, centre: Array, lever: float) -> Array:
    return np.asarray(kernels.systems(m.place, m.normal, m.distance, m.cos_a, m.cos_b, weight, label, count, centre, lever))


def _motion(step: Array, centre: Array, lever: float) -> Array:
    w = step[:3] / lever
    t = np.eye(4)
    t[:3, :3] = frames.rotation(w)
    t[:3, 3] = centre - t[:3, :3] @ centre + step[3:]
    return t


def _step(m: Matches, gate: float, floor: float) -> tuple[Array, Array, float, float]:
    """One truncated Gauss-Newton step: (step, centre, lever, smallest eigenvalue per weight)."""
    w = tukey(m.distance, gate)
    total = max(float(w.sum()), 1e-9)
    centre, lever = kernels.about(m.place, w)
    g = _systems(m, w, np.zeros(len(w), np.int64), 1, centre, lever)[0] / total
    value, vector = np.linalg.eigh(g[:6, :6])
    rhs = g[:6, 8]
    along = vector.T @ rhs
    step = vector @ np.where(value > floor, along / np.maximum(value, 1e-12), 0.0)
    return step, centre, lever, float(value[0])


def refine(
    a: Prepared,
    b: Prepared,
    start: Array,
    gates: tuple[tuple[float, int], ...],
    min_cos: float = 0.7,
    both: tuple[Hits, Hits] | None = None,
) -> tuple[Array, Matches | None, bool, int, float]:
    """Gauss-Newton over the gates. Returns (T_a_b, last matches, converged, steps, smallest eigenvalue)."""
    both = both or hits(a, b)
    t, m, steps, size, smallest = start.copy(), None, 0, np.inf, 0.0
    for k, (gate, stride) in enumerate(gates):
        m = match(both, t, gate, stride, min_cos)
        if len(m.distance) < 30:
            return t, None, False, steps, 0.0
        step, centre, lever, smallest = _step(m, gate, 2e-4 if k >= len(gates) - 2 else 2e-3)
        t = frames.orthonormal(_motion(step, centre, lever) @ t)
        steps, size = steps + 1, float(np.linalg.norm(step))
    return t, m, size < 1e-3, steps, smallest


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


def noise_of(m: Matches) -> float:
    """Standard deviation of the distances, metres, from their median size: what is far off has no say."""
    return max(1.4826 * float(np.median(np.abs(m.distance))), NOISE_FLOOR)


def pool_normals(m: Matches, label: NDArray[np.int64]) -> tuple[Matches, NDArray[np.bool_]]:
    """One normal per planar cell: the noise of 5x5 normals must not pass for geometry. Also says what lies in one."""
    w = np.ones(len(label))
    mean, centre = _cell_means(label, w, m.normal), _cell_means(label, w, m.place)
    length = np.linalg.norm(mean, axis=1)
    unit = mean / np.maximum(length, 1e-12)[:, None]
    off = np.einsum("ij,ij->i", unit[label], m.place - centre[label])
    spread = np.sqrt(np.bincount(label, off**2) / np.maximum(np.bincount(label), 1))
    planar = (length > np.cos(np.radians(4.0))) & (spread < 0.008) & (np.bincount(label) >= 5)
    flat = planar[label]
    return Matches(m.place, np.where(flat[:, None], unit[label], m.normal), m.distance, m.cos_a, m.cos_b), flat


def surfaces(centre: Array, normal: Array, weight: Array) -> tuple[NDArray[np.int64], int]:
    """Join cells to whole surfaces: normals within 4 degrees, offsets within 3 cm. Returns (labels, how many)."""
    label, count = kernels.surfaces(centre, normal, np.argsort(-weight), np.cos(np.radians(4)), 0.03)
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


def _solve_nested(m: Matches, weight: Array, curved: float, passes: int) -> tuple[Array, Array, Array, float, float]:
    """Pose step with nested surface offsets. Returns (step, covariance, centre, lever, offset sigma).

    Every whole surface has its own variance at every level, drawn towards the usual one of that level as by NU
    observations: one wall of two parts must not be averaged with fifty that are whole.
    """
    total = float(weight.sum())
    centre, lever = kernels.about(m.place, weight)
    m, flat = pool_normals(m, _cells(m, 2 * CELL))
    weight = np.where(flat, weight, curved * weight)
    cell = _cells(m, CELL)
    parents, wholes = _tree(m, weight, cell)
    last, count = len(parents) - 1, len(parents[-1])
    g = _systems(m, weight, cell, len(parents[0]), centre, lever)
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


def fine(a: Prepared, b: Prepared, start: Array, gates: tuple[tuple[float, int], ...] = GATES) -> Fine | None:
    """Align b to a. None when fewer than 60 patches agree: the start was too far away or nothing is shared."""
    both = hits(a, b)
    t, m, converged, steps, smallest = refine(a, b, start, gates, both=both)
    if m is None or len(m.distance) < 60:
        return None
    cov, offset, size = np.eye(6), 0.0, 0.0
    for passes in (2, 6):
        m = match(both, t, gates[-1][0], 1, 0.85)
        if len(m.distance) < 60:
            return None
        # where planes alone hold some direction badly, what stands off a little, curves and edges are needed
        for gate, curved in ((min(gates[-1][0], TUKEY * noise_of(m)), CURVED), (gates[-1][0], 1.0)):
            step, scaled, centre, lever, offset = _solve_nested(m, tukey(m.distance, gate), curved, passes)
            if np.linalg.eigvalsh(scaled[3:, 3:])[2] < HELD**2:
                break
        size = float(np.linalg.norm(step))
        if size > 0.05:
            return None
        t = frames.orthonormal(_motion(step, centre, lever) @ t)
        cov = scaled
    unscale = np.diag([1 / lever] * 3 + [1.0] * 3)
    cov = unscale @ cov @ unscale.T
    value, vector = np.linalg.eigh(cov[3:, 3:])
    shift = np.eye(6)  # from the centroid to a's origin: t0 = t_c - w x c
    shift[3:, :3] = frames.skew(centre)
    return Fine(
        t, shift @ cov @ shift.T, m, converged and size < 0.002, steps + 2, smallest, float(np.sqrt(value[2])), vector[:, 2], offset
    )
