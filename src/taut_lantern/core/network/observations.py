"""What a network is made of.

Terms: a *link* measures one station from another; a *sighting* measures a target from a station; a *body* is a set of
stations whose inner shape is held: one unknown; a *part* is what links, bodies and shared targets connect: only its stations
share coordinates; the *datum* of a part is the station whose pose is held, and with it the part's coordinates.
Everything is in the frame of its part, metres and radians.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .. import frames

Array = NDArray[np.float64]
Body = Mapping[str, Array]  # T_body_station of its stations


@dataclass(frozen=True)
class LinkObservation:
    """T_a_b measured, covariance (6, 6) of its left motion [rad, m] in a's frame."""

    key: str
    a: str
    b: str
    T_a_b: Array
    covariance: Array


@dataclass(frozen=True)
class SightingObservation:
    """A target seen from a station: centre (3,) in the station's frame with covariance (3, 3)."""

    station: str
    target: str
    centre: Array
    covariance: Array


def link_residual(T_a: Array, T_b: Array, T_a_b: Array) -> Array:
    """(6,) of E = T_a^-1 T_b T_a_b^-1: rotation vector, then translation; rad, m."""
    e = frames.inverse(T_a) @ T_b @ frames.inverse(T_a_b)
    return np.concatenate([frames.rotation_vector(e[:3, :3]), e[:3, 3]])
