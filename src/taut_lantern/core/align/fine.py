"""Fine alignment of two scans from a start within about half a metre.

Plane centroid to plane centroid, both ways, with projective association into the partner's range image;
robust Gauss-Newton (Tukey weights, narrowing gates), truncated along directions the geometry does not hold.
The last steps set the limit by the noise that is there and give patches that are not part of a plane little say (a
curve or an edge is cut differently by the windows of two scans: without any noise that alone left 0.4 to 0.5 mm).
They are a generalised least squares in which the surfaces carry offsets of their own (nested: cells of 1.5 m, then
whole surfaces, one per scan, acting along the ray), so that many points on one wall are not mistaken for many
independent observations. Linear mixed model: Harville, J. Am. Stat. Assoc. 72 (1977).

Terms: residual r = n . (T_a_b p_b - q_a), metres. Motion d = [rotation, translation], left perturbation of T_a_b
about the centroid of the matches.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..kernels import rays
from .prepared import Prepared, Samples

Array = NDArray[np.float64]
GATES = ((0.5, 16), (0.25, 8), (0.1, 4), (0.06, 4), (0.04, 2), (0.025, 2), (0.015, 2))  # (gate in metres, stride)
NOISE_FLOOR = 0.0002
HELD = 0.004  # metres: standard deviation above which a direction counts as not held
TUKEY = 4.685  # standard deviations at which a distance loses its say: 95 % as good as least squares on normal noise
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
    in_a, in_b = both
    r, origin_b = t[:3, :3], t[:3, 3]
    ok = in_a.find(t, gate, stride, min_cos)
    p1, n1 = frames.apply(t, in_a.samples.points[ok]), in_a.plane[ok, 3:6] + in_a.samples.normals[ok] @ r.T
    q1 = in_a.plane[ok, :3]
    ok2 = in_b.find(frames.inverse(t), gate, stride, min_cos)
    p2, n2 = frames.apply(t, in_b.plane[ok2, :3]), in_b.plane[ok2, 3:6] @ r.T + in_b.samples.normals[ok2]
    q2 = in_b.samples.points[ok2]
    p, q, n = np.concatenate([p1, p2]), np.concatenate([q1, q2]), np.concatenate([n1, n2])
    n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-12)
    ray_a = q / np.maximum(np.linalg.norm(q, axis=1, keepdims=True), 1e-9)
    ray_b = (p - origin_b) / np.maximum(np.linalg.norm(p - origin_b, axis=1, keepdims=True), 1e-9)
    return Matches(p, n, np.einsum("ij,ij->i", n, p - q), np.einsum("ij,ij->i", n, ray_a), np.einsum("ij,ij->i", n, ray_b))


def tukey(residual: Array, gate: float) -> Array:
    """Tukey's biweight of residuals, zero at the gate."""
    return np.clip(1 - (residual / gate) ** 2, 0, None) ** 2


def _columns(m: Matches, centre: Array, lever: float) -> Array:
    """Jacobian (m, 6) of the distances with rotations about ``centre`` scaled by ``lever``."""
    return np.concatenate([np.cross(m.place - centre, m.normal) / lever, m.normal], axis=1)


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
    centre = (w[:, None] * m.place).sum(axis=0) / total
    lever = max(float(np.sqrt((w * ((m.place - centre) ** 2).sum(axis=1)).sum() / total)), 0.1)
    j = _columns(m, centre, lever)
    value, vector = np.linalg.eigh((j * w[:, None]).T @ j / total)
    rhs = -(j * (w * m.distance)[:, None]).sum(axis=0) / total
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
    key = np.floor(m.place / size).astype(np.int64) + 500
    code = ((key[:, 0] * 1000 + key[:, 1]) * 1000 + key[:, 2]) * 6 + axis * 2 + sign
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


def surfaces(centre: Array, normal: Array, weight: Array) -> NDArray[np.int64]:
    """Join cells to whole surfaces: normals within 4 degrees, offsets within 3 cm."""
    label = np.full(len(centre), -1, np.int64)
    for number, k in enumerate(np.argsort(-weight)):
        if label[k] < 0:
            alike = (label < 0) & (normal @ normal[k] > np.cos(np.radians(4))) & (np.abs((centre - centre[k]) @ normal[k]) < 0.03)
            label[alike] = number
            label[k] = number
    return np.unique(label, return_inverse=True)[1].astype(np.int64)


def _eliminate(g: Array, ratio: float) -> tuple[Array, Array]:
    """Marginalise the two offset columns (6, 7) of systems g (k, 9, 9); ratio = noise^2 / offset^2.

    Returns (reduced systems, expected squared offset per system in units of noise^2 and metres^2 mixed: mean part).
    """
    m = g[:, :, 6:8]
    d = g[:, 6:8, 6:8] + ratio * np.eye(2)
    inv = np.linalg.inv(d)
    reduced = g - m @ inv @ np.swapaxes(m, 1, 2)
    mean = np.einsum("kij,kj->ki", inv, g[:, 6:8, 8])
    return reduced, np.stack([mean[:, 0] ** 2 + mean[:, 1] ** 2, inv[:, 0, 0] + inv[:, 1, 1]], axis=1) / 2


def _solve_nested(m: Matches, weight: Array, curved: float, passes: int = 6) -> tuple[Array, Array, Array, float, float]:
    """Pose step with nested surface offsets. Returns (step, covariance, centre, lever, offset sigma)."""
    total = float(weight.sum())
    centre = (weight[:, None] * m.place).sum(axis=0) / total
    lever = max(float(np.sqrt((weight * ((m.place - centre) ** 2).sum(axis=1)).sum() / total)), 0.1)
    cell = _cells(m, 1.5)
    pooled, flat = pool_normals(m, cell)
    weight = np.where(flat, weight, curved * weight)
    row = np.concatenate([_columns(pooled, centre, lever), m.cos_a[:, None], -m.cos_b[:, None], -m.distance[:, None]], axis=1)
    order = np.argsort(cell, kind="stable")
    first = np.searchsorted(cell[order], np.arange(cell.max() + 1))
    outer = np.einsum("mi,mj->mij", row[order] * weight[order, None], row[order])
    g = np.add.reduceat(outer, first, axis=0)
    mean_n = _cell_means(cell, weight, pooled.normal)
    mean_n /= np.maximum(np.linalg.norm(mean_n, axis=1, keepdims=True), 1e-12)
    whole = surfaces(_cell_means(cell, weight, m.place), mean_n, np.bincount(cell, weight).astype(float))
    noise2, s_cell2, s_whole2 = noise_of(m) ** 2, 0.0003**2, 0.0005**2
    step, cov = np.zeros(6), np.eye(6)
    for _ in range(passes):
        moved = g.copy()  # residuals after the current step: shift the right-hand side
        moved[:, :, 8] -= np.einsum("kij,j->ki", g[:, :, :6], step)
        moved[:, 8, :] = moved[:, :, 8]
        reduced, cell_u = _eliminate(moved, noise2 / s_cell2)
        big = np.zeros((int(whole.max()) + 1, 9, 9))
        np.add.at(big, whole, reduced)
        top, whole_u = _eliminate(big, noise2 / s_whole2)
        system = top.sum(axis=0)
        h = system[:8, :8].copy()
        h[6, 6] += noise2 / 0.0005**2
        h[7, 7] += noise2 / 0.0005**2
        value, vector = np.linalg.eigh(h)
        keep = value > 1e-7 * total
        inv = (vector[:, keep] / value[keep]) @ vector[:, keep].T
        step = step + (inv @ system[:8, 8])[:6]
        cov = noise2 * (vector / np.maximum(value, 1e-9 * total)) @ vector.T
        s_cell2 = max(float(np.mean(cell_u[:, 0] + noise2 * cell_u[:, 1])), 0.0001**2)
        s_whole2 = max(float(np.mean(whole_u[:, 0] + noise2 * whole_u[:, 1])), 0.0002**2)
    value, vector = np.linalg.eigh(cov[:6, :6])
    step = vector @ np.where(value < HELD**2, vector.T @ step, 0.0)  # never along what the geometry does not hold
    return step, cov[:6, :6], centre, lever, float(np.sqrt(s_whole2))


def fine(a: Prepared, b: Prepared, start: Array, gates: tuple[tuple[float, int], ...] = GATES) -> Fine | None:
    """Align b to a. None when fewer than 60 patches agree: the start was too far away or nothing is shared."""
    both = hits(a, b)
    t, m, converged, steps, smallest = refine(a, b, start, gates, both=both)
    if m is None or len(m.distance) < 60:
        return None
    cov, offset, size = np.eye(6), 0.0, 0.0
    for _ in range(2):
        m = match(both, t, gates[-1][0], 1, 0.85)
        if len(m.distance) < 60:
            return None
        # where planes alone hold some direction badly, what stands off a little, curves and edges are needed
        for gate, curved in ((min(gates[-1][0], TUKEY * noise_of(m)), CURVED), (gates[-1][0], 1.0)):
            step, scaled, centre, lever, offset = _solve_nested(m, tukey(m.distance, gate), curved)
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
