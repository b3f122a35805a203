"""What would hold the network better: the next link, and one more set-up.

A link between two stations that is as good as the others takes its share from the covariance of all stations (Kalman update; Teunissen,
Dynamic Data Processing, ch. 2): no adjustment is needed to say what it would bring. A new set-up that links with several stations acts on
them like the links that are left when its own pose is eliminated.

Terms: motion: left motion [rad, m] of a station about the datum of its part, as in the solution; information: inverse of a covariance.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from .. import frames
from .observations import Array

NOTICED = 0.1  # of a deviation: one that falls by less is no gain that anybody would set up for


@dataclass(frozen=True)
class Gain:
    """What a link a to b, or a set-up (b is "") that links with those in ``with_``, would bring: the deviation (m) of the station that
    gains most, before and after; total: the fall of the mean variance of positions, of one."""

    a: str
    b: str
    station: str
    before: float
    after: float
    total: float
    with_: tuple[str, ...] = ()


class Held:
    """A part's stations with their joint covariance: (6n, 6n) of motions about the datum, [rad, m]; zero for the datum itself."""

    def __init__(self, stations: Sequence[str], poses: Mapping[str, Array], datum: str, joint: Array) -> None:
        self.stations, self.joint = list(stations), joint
        self.number = {x: k for k, x in enumerate(self.stations)}
        self.at = np.array([(poses[x] if x in poses else np.eye(4))[:3, 3] - poses[datum][:3, 3] for x in self.stations])
        own = np.tile(np.eye(6), (len(self.stations), 1, 1))  # a motion about the datum as one about the station itself: of its position
        own[:, 3:, :3] = [-frames.skew(p) for p in self.at]
        self._position = own[:, 3:]
        self.variance = self._of(joint.reshape(len(self.stations), 6, -1))

    def _of(self, rows: Array) -> Array:
        """(n,) trace of the position covariance of each station. rows: (n, 6, 6n) of a joint covariance."""
        n = len(self.stations)
        blocks = rows.reshape(n, 6, n, 6)[np.arange(n), :, np.arange(n)]
        return np.asarray(np.einsum("nij,njk,nik->n", self._position, blocks, self._position))

    def gain(self, information: Array, members: Sequence[str]) -> tuple[Array, float]:
        """((n,) fall of each station's position variance, its mean share). information: (6m, 6m) on motions of the members."""
        value, vector = np.linalg.eigh((information + information.T) / 2)
        root = vector * np.sqrt(np.clip(value, 0, None))
        columns = np.concatenate([np.arange(6 * (k := self.number[x]), 6 * k + 6) for x in members])
        reach = self.joint[:, columns] @ root
        middle = np.eye(root.shape[1]) + root.T @ reach[columns]
        factor = np.linalg.cholesky(np.linalg.inv((middle + middle.T) / 2))
        taken = (reach @ factor).reshape(len(self.stations), 6, -1)
        fall = (np.einsum("nij,njk->nik", self._position, taken) ** 2).sum(axis=(1, 2))
        return fall, float(fall.sum() / max(self.variance.sum(), 1e-18))

    def told(self, information: Array, members: Sequence[str]) -> Gain | None:
        """What observations of the members would bring; None where nobody gains."""
        fall, total = self.gain(information, members)
        before = np.sqrt(self.variance)
        after = np.sqrt(np.clip(self.variance - fall, 0, None))
        best = int(np.argmax(before - after))
        if before[best] - after[best] < NOTICED * before[best]:
            return None
        b = members[1] if len(members) == 2 else ""
        return Gain(members[0], b, self.stations[best], float(before[best]), float(after[best]), total, tuple(members))

    def link(self, a: str, b: str, sigma: tuple[float, float]) -> Gain | None:
        """What a link between two stations with these deviations (rad, m) would bring."""
        return self.told(between(self.middle(a, b), sigma), (a, b))

    def middle(self, *members: str) -> Array:
        """(3,) the middle of stations, from the datum."""
        return np.asarray(np.mean([self.at[self.number[x]] for x in members], axis=0))

    def set_up(self, place: Array, members: Sequence[str], sigma: tuple[float, float]) -> Gain | None:
        """What a station at ``place`` (3,) from the datum would bring that links with all members."""
        return self.told(star(place, len(members), sigma), members)


def weight(place: Array, sigma: tuple[float, float]) -> Array:
    """(6, 6) information of a link that stands at ``place``, on the difference of two motions about the datum."""
    about = np.eye(6)
    about[3:, :3] = -frames.skew(place)
    return np.asarray(about.T @ np.diag([1 / sigma[0] ** 2] * 3 + [1 / sigma[1] ** 2] * 3) @ about)


def between(place: Array, sigma: tuple[float, float]) -> Array:
    """(12, 12) information of a link on the motions of its two stations."""
    w = weight(place, sigma)
    return np.block([[w, -w], [-w, w]])


def star(place: Array, count: int, sigma: tuple[float, float]) -> Array:
    """(6m, 6m) information of links from one new station to ``count`` others, once its own pose is eliminated (Schur complement)."""
    w = weight(place, sigma)
    return np.asarray(np.kron(np.eye(count) - np.ones((count, count)) / count, w), float)
