"""What a network is made of.

Terms: a *link* measures one station from another; a *sighting* measures a target, or a picked point, from a station; a *level*
measures up from a station; a *distance* stands between two targets; a wall may be *plumb*; *control* gives the
place of a target in a frame of its own; a *body* is a set of
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
    """A target, or a natural point that somebody picked, seen from a station: centre (3,) in the station's frame with
    covariance (3, 3). kind: target | pick; key: names it among what is checked, "" to leave it out there."""

    station: str
    target: str
    centre: Array
    covariance: Array
    kind: str = "target"
    key: str = ""


@dataclass(frozen=True)
class LevelObservation:
    """What a scanner's own level says: the direction up (3,) in the station's frame, with deviation sigma, radians. All of a
    part share one direction up, which is unknown."""

    station: str
    sigma: float
    up: tuple[float, float, float] = (0.0, 0.0, 1.0)


@dataclass(frozen=True)
class DistanceObservation:
    """A distance between two targets of one part, measured beside the scans (by tape): metres with deviation sigma."""

    key: str
    a: str
    b: str
    metres: float
    sigma: float


@dataclass(frozen=True)
class PlumbObservation:
    """A wall that is known to be plumb: its normal (3,) in the frame of a station that saw it, square to up within sigma, radians.
    Counts where levels, or two walls that face apart, hold the direction up."""

    key: str
    station: str
    normal: tuple[float, float, float]
    sigma: float


@dataclass(frozen=True)
class ControlObservation:
    """A target's given position (3,) in control, with covariance (3, 3)."""

    target: str
    position: Array
    covariance: Array


def link_residual(T_a: Array, T_b: Array, T_a_b: Array) -> Array:
    """(6,) of E = T_a^-1 T_b T_a_b^-1: rotation vector, then translation; rad, m."""
    e = frames.inverse(T_a) @ T_b @ frames.inverse(T_a_b)
    return np.concatenate([frames.rotation_vector(e[:3, :3]), e[:3, 3]])
