"""Fine alignment of two scans from a start within about half a metre.

Plane centroid to plane centroid, both ways, with projective association into the partner's range image (matches.py);
robust Gauss-Newton (Tukey weights, narrowing gates), truncated along directions the geometry does not hold.
The last steps set the limit by the noise that is there and give patches that are not part of a plane little say (a
curve or an edge is cut differently by the windows of two scans: without any noise that alone left 0.4 to 0.5 mm).
They are a generalised least squares in which the surfaces carry offsets of their own (offsets.py).

Terms: residual r = n . (T_a_b p_b - q_a), metres. Motion d = [rotation, translation], left perturbation of T_a_b
about the centroid of the matches.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..kernels import fit as kernels
from .matches import Hits, Matches, hits, match, noise_of, systems, tukey
from .offsets import HELD, solve_nested
from .prepared import Prepared

Array = NDArray[np.float64]
GATES = ((0.5, 16), (0.25, 8), (0.1, 4), (0.06, 4), (0.04, 2), (0.025, 2), (0.015, 2))  # (gate in metres, stride)
TUKEY = 4.685  # standard deviations at which a distance loses its say: 95 % as good as least squares on normal noise
FEWEST = 60  # patches that must agree: with fewer the start was too far away, or nothing is shared
JUMP = 0.05  # metres that a last step may be long: a longer one left the minimum it began in


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
    g = systems(m, w, np.zeros(len(w), np.int64), 1, centre, lever)[0] / total
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


def fine(a: Prepared, b: Prepared, start: Array, gates: tuple[tuple[float, int], ...] = GATES) -> Fine | None:
    """Align b to a. None when fewer than 60 patches agree: the start was too far away or nothing is shared."""
    both = hits(a, b)
    t, m, converged, steps, smallest = refine(a, b, start, gates, both=both)
    if m is None or len(m.distance) < FEWEST:
        return None
    cov, offset, size = np.eye(6), 0.0, 0.0
    for passes in (2, 6):
        m = match(both, t, gates[-1][0], 1, 0.85)
        if len(m.distance) < FEWEST:
            return None
        # where planes alone hold some direction badly, what stands off a little, curves and edges are needed
        for gate, curved in ((min(gates[-1][0], TUKEY * noise_of(m)), None), (gates[-1][0], 1.0)):
            step, scaled, centre, lever, offset = solve_nested(m, tukey(m.distance, gate), curved, passes)
            if np.linalg.eigvalsh(scaled[3:, 3:])[2] < HELD**2:
                break
        size = float(np.linalg.norm(step))
        if size > JUMP:
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
