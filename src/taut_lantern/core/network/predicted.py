"""What the adjustment expects a point of a station to be off by: its pose's covariance, carried to wherever the point lies.

A small left motion (w, u) of a station about the datum moves a point that lies at y from the datum by u + w x y. The expected square of
that is a quadratic form in y (law of propagation; Teunissen, Adjustment Theory, ch. 1), so 16 numbers a station tell all its points.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Array = NDArray[np.float64]


def form(covariance: Array, T_part_station: Array, datum: Array) -> Array:
    """(4, 4) symmetric Q, so that [p, 1] Q [p, 1] is the expected square of the error (m2) of a point p of the station.

    covariance : (6, 6) of the left motion [rotation rad, shift m] about ``datum`` (3,), metres in the part; p : station frame, metres.
    """
    turning, mixed, shift = covariance[:3, :3], covariance[:3, 3:], covariance[3:, 3:]
    q = np.empty((4, 4))
    q[:3, :3] = np.trace(turning) * np.eye(3) - turning  # of |w x y|^2
    q[:3, 3] = q[3, :3] = [mixed[2, 1] - mixed[1, 2], mixed[0, 2] - mixed[2, 0], mixed[1, 0] - mixed[0, 1]]  # of u . (w x y)
    q[3, 3] = np.trace(shift)
    carry = np.eye(4)
    carry[:3, :3], carry[:3, 3] = T_part_station[:3, :3], T_part_station[:3, 3] - datum
    return np.asarray(carry.T @ q @ carry)


def errors(q: Array, points: Array) -> Array:
    """(n,) expected errors (m) of points (n, 3) of the station."""
    p = np.column_stack([points, np.ones(len(points))])
    return np.sqrt(np.clip(np.einsum("ni,ij,nj->n", p, q, p), 0, None))
