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
from ..kernels import steps
from .matches import Hits, Matches, hits, match, noise_of, tukey
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


def refine(
    a: Prepared,
    b: Prepared,
    start: Array,
    gates: tuple[tuple[float, int], ...],
    min_cos: float = 0.7,
    both: tuple[Hits, Hits] | None = None,
) -> tuple[Array, int, bool, int, float]:
    """Gauss-Newton over the gates, truncated where the geometry holds nothing: (T_a_b, matches of the last step, converged, steps,
    smallest eigenvalue). With fewer than 30 matches it ends where it is, and has none."""
    in_a, in_b = both or hits(a, b)
    gate, stride = np.array([g for g, _ in gates], float), np.array([n for _, n in gates], np.int64)
    floor = np.where(np.arange(len(gates)) >= len(gates) - 2, 2e-4, 2e-3)
    samples = (in_b.samples.points, in_b.samples.normals, in_a.samples.points, in_a.samples.normals)
    how = (np.ascontiguousarray(start, float), gate, stride, floor, min_cos)
    if in_a.coarse is not None and in_b.coarse is not None:
        found = steps.refined_known(*in_a.coarse, *in_b.coarse, *samples, in_a.plane, in_b.plane, *how)
    else:
        one, other = (side.grid for side in (in_a, in_b))
        images = (one.image, one.geo, one.wrap, other.image, other.geo, other.wrap)
        found = steps.refined(*images, *samples, in_a.hit, in_a.plane, in_b.hit, in_b.plane, *how)
    t, n, size, smallest, taken = found
    enough = n >= steps.FEWEST
    return t, int(n) if enough else 0, bool(enough and size < 1e-3), int(taken), float(smallest)


def fine(a: Prepared, b: Prepared, start: Array, gates: tuple[tuple[float, int], ...] = GATES) -> Fine | None:
    """Align b to a. None when fewer than 60 patches agree: the start was too far away or nothing is shared."""
    both = hits(a, b)
    t, n, converged, taken, smallest = refine(a, b, start, gates, both=both)
    if n < FEWEST:
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
        t = steps.moved(step, centre, lever, t)
        cov = scaled
    unscale = np.diag([1 / lever] * 3 + [1.0] * 3)
    cov = unscale @ cov @ unscale.T
    value, vector = np.linalg.eigh(cov[3:, 3:])
    shift = np.eye(6)  # from the centroid to a's origin: t0 = t_c - w x c
    shift[3:, :3] = frames.skew(centre)
    return Fine(
        t, shift @ cov @ shift.T, m, converged and size < 0.002, taken + 2, smallest, float(np.sqrt(value[2])), vector[:, 2], offset
    )
