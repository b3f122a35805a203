"""A first placement from what somebody picked in two scans: points, lines (edges, axes of pipes) and planes that are the same.

Terms: match: a place picked in both scans; what it holds: a point three directions, a line two across it, a plane one. Least squares
(Gauss-Newton) from starts all round, since nothing is known of the turn; scanners stood upright within some degrees.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .. import frames

Array = NDArray[np.float64]
PICKED = 0.02  # metres: how well somebody picks
TURNED = 0.02  # radians: how well a fitted plane or line gives its direction
STARTS = 24  # turns about the vertical that are tried
ROUNDS = 25
WIDE = 0.5  # metres: a placement that is known worse 10 m from the middle of its matches is not told
FAR = 10.0  # metres
OTHER = 9.0  # times the best sum of squares below which another placement explains the matches too
GROSS = 0.25  # metres: a match that is off by more was not the same place


@dataclass(frozen=True)
class Pick:
    """at (3,) metres and direction (3,) unit, normal towards the scanner or along the line, in the station's frame. kind: point, line
    or plane."""

    kind: str
    at: Array
    direction: Array | None = None


@dataclass(frozen=True)
class Match:
    a: Pick
    b: Pick

    @property
    def kind(self) -> str:
        """What both picks hold together."""
        return self.a.kind if self.a.kind == self.b.kind else "point"


@dataclass(frozen=True)
class Placed:
    """T_a_b (4, 4), None when the matches do not give one; residuals (n,) metres; wide: standard deviation in metres 10 m from
    the middle of the matches, in the worst direction; why: what is missing, "" when it may be used."""

    T_a_b: Array | None
    residuals: Array
    wide: float
    why: str


def _rows(m: Match, t: Array) -> tuple[Array, Array]:
    """(k,) residuals in standard deviations and their (k, 6) derivatives by a left motion (turn, shift) of b."""
    p = t[:3, :3] @ m.b.at + t[:3, 3]
    gap, by_motion = p - m.a.at, np.hstack([-frames.skew(p), np.eye(3)])
    if m.kind == "point" or m.a.direction is None or m.b.direction is None:
        return gap / PICKED, by_motion / PICKED
    d, e = m.a.direction, t[:3, :3] @ m.b.direction
    if m.kind == "line" and d @ e < 0:
        e = -e  # a line has no sense
    turn, by_turn = np.cross(d, e) / TURNED, np.hstack([-frames.skew(d) @ frames.skew(e), np.zeros((3, 3))]) / TURNED
    if m.kind == "plane" and d @ e < 0:
        turn = turn + 2 * d / TURNED  # facing away: no small turn is a way out
    across = d[None] if m.kind == "plane" else np.linalg.svd(d[None])[2][1:]
    return np.concatenate([across @ gap / PICKED, turn]), np.concatenate([across @ by_motion / PICKED, by_turn])


def _off(m: Match, t: Array) -> float:
    """Metres by which a match is off in what it holds."""
    gap = t[:3, :3] @ m.b.at + t[:3, 3] - m.a.at
    if m.kind == "point" or m.a.direction is None:
        return float(np.linalg.norm(gap))
    along = float(gap @ m.a.direction)
    return abs(along) if m.kind == "plane" else float(np.sqrt(max(float(gap @ gap) - along**2, 0.0)))


def _descend(matches: Sequence[Match], start: Array) -> tuple[Array, float, Array]:
    """(T_a_b, sum of squares, (6, 6) normal matrix about the middle of the matches) from a start."""
    t, middle = start, np.mean([m.a.at for m in matches], axis=0)
    shift = np.eye(4)
    shift[:3, 3] = middle
    n, cost = np.eye(6), np.inf
    for _ in range(ROUNDS):
        rows = [_rows(_about(m, middle), frames.inverse(shift) @ t) for m in matches]
        r, j = np.concatenate([x for x, _ in rows]), np.concatenate([x for _, x in rows])
        n, cost = j.T @ j, float(r @ r)
        step = -np.linalg.solve(n + 1e-9 * np.trace(n) * np.eye(6), j.T @ r)
        size = float(np.abs(step[:3]).max())
        t = shift @ frames.small(step * min(1.0, 0.5 / max(size, 1e-12))) @ frames.inverse(shift) @ t
        if np.abs(step).max() < 1e-9:
            break
    return t, cost, n


def _about(m: Match, middle: Array) -> Match:
    return Match(Pick(m.a.kind, m.a.at - middle, m.a.direction), m.b)


def place(matches: Sequence[Match]) -> Placed:
    """Where b stands as seen from a, by at least three matches that hold it in every direction."""
    none = np.full(len(matches), np.nan)
    if len(matches) < 3:
        more = 3 - len(matches)
        return Placed(None, none, np.inf, f"{more} more {'match is' if more == 1 else 'matches are'} needed, three at least")
    centre_b, centre_a = (np.mean([getattr(m, k).at for m in matches], axis=0) for k in ("b", "a"))
    found = []
    for k in range(STARTS):
        start = frames.pose(2 * np.pi * k / STARTS)
        start[:3, 3] = centre_a - start[:3, :3] @ centre_b
        found.append(_descend(matches, start))
    t, cost, n = min(found, key=lambda f: f[1])
    residuals = np.array([_off(m, t) for m in matches])
    values, vectors = np.linalg.eigh(n)
    weakest = vectors[:, 0]
    wide = float(np.sqrt(max(np.linalg.eigvalsh(_at_far(np.linalg.inv(n + 1e-12 * np.trace(n) * np.eye(6))))[-1], 0.0)))
    why = ""
    if wide > WIDE or values[0] <= 0:
        turns = np.linalg.norm(weakest[:3]) * FAR > np.linalg.norm(weakest[3:])
        why = (
            f"the matches let it still {'turn' if turns else 'shift'}: add one {'farther from the others' if turns else 'on another wall'}"
        )
    elif residuals.max() > GROSS:
        why = f"match {int(residuals.argmax()) + 1} is off by {residuals.max():.2f} m: it is not the same place, take it out"
    elif any(c < OTHER * max(cost, 3.0) and max(frames.difference(x, t)) > WIDE for x, c, _ in found):
        why = "the matches fit in two ways: add one that tells them apart"
    return Placed(t, residuals, wide, why)


def _at_far(covariance: Array) -> Array:
    """(3, 3) covariance of a point 10 m from the middle, in the direction where it is worst: level, to either side."""
    worst = np.zeros((3, 3))
    for k in range(4):
        arm = FAR * np.array([np.cos(k * np.pi / 2), np.sin(k * np.pi / 2), 0.0])
        j = np.hstack([-frames.skew(arm), np.eye(3)])
        own = j @ covariance @ j.T
        if np.trace(own) > np.trace(worst):
            worst = own
    return np.asarray(worst)
