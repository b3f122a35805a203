"""An adjusted network: poses with covariances, residuals, targets, and parts placed on control."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from .. import frames
from ..errors import Finding
from .normal import Inverse
from .observations import Array
from .reliability import Checked, GlobalTest, LinkResidual


@dataclass(frozen=True)
class TargetPoint:
    """A target as one part sees it: position (3,) m with covariance (3, 3) in the part's frame; spread: of its sightings, m."""

    target: str
    part: int
    position: Array
    covariance: Array
    sightings: int
    spread: float


@dataclass(frozen=True)
class Placing:
    """A part placed on control together with the network: T_control_part, residuals (3,) m by target (placed minus given), and
    of each station the covariance (6, 6) of its left motion in control about ``centre`` (3,), [rad, m]."""

    part: int
    T_control_part: Array
    residuals: dict[str, Array]
    motions: dict[str, Array]
    centre: Array

    def position(self, station: str, T_control_station: Array) -> Array:
        """(3, 3) m2 of a station's position in control."""
        j = np.hstack([-frames.skew(T_control_station[:3, 3] - self.centre), np.eye(3)])
        return np.asarray(j @ self.motions[station] @ j.T)


@dataclass(frozen=True)
class Solution:
    """An adjusted network.

    poses T_part_station; covariance (6, 6) of their left motion about the part's datum, [rad, m]; sigma_position (3,) m and
    sigma_rotation (3,) rad of each station about itself, scaled by sigma0 when that is above one. parts: the largest first,
    datum of each beside it. up: direction (3,) by part, where levels say it. findings: what does not connect, and that it did not converge.
    """

    poses: dict[str, Array]
    sigma_position: dict[str, Array]
    sigma_rotation: dict[str, Array]
    covariance: dict[str, Array]
    links: dict[str, LinkResidual]
    targets: list[TargetPoint]
    up: dict[int, Array]
    placings: list[Placing]
    parts: list[list[str]]
    datum: list[str]
    test: GlobalTest
    iterations: int
    converged: bool
    findings: tuple[Finding, ...] = field(default=())
    known: Inverse | None = None  # covariance of the unknowns
    column: dict[str, int] = field(default_factory=dict)  # of each station's motion in it, -1 of one that holds its part
    others: dict[tuple[str, str], Checked] = field(default_factory=dict)  # by kind (sighting, level, tape, plumb) and key
    up_deviation: dict[int, float] = field(default_factory=dict)  # radians, by part

    def joint(self, stations: Sequence[str]) -> Array:
        """(6n, 6n) covariance of the motions of stations of one part, about its datum, [rad, m]."""
        own = np.array([self.column[x] for x in stations])
        at = (own[:, None] + np.arange(6)).ravel()
        free = np.repeat(own >= 0, 6)
        out = np.zeros((len(at), len(at)))
        if self.known is not None:
            out[np.ix_(free, free)] = self.known.whole[np.ix_(at[free], at[free])]
        return out

    @property
    def sigma0(self) -> float:
        return self.test.sigma0

    @property
    def passed(self) -> bool:
        return self.test.passed

    @property
    def degrees_of_freedom(self) -> int:
        return self.test.degrees_of_freedom
