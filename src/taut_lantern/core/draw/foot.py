"""The line in plan that an unrolled wall stands on, straight from corner to corner or one arc, and the way onto it and back. Metres."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..errors import BadInput

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
MOST = 200  # corners
FINE = 0.001  # metres that an arc may be left by, where it is told as a line
SLACK = 0.01  # metres beyond a corner within which points are still of a piece: it is picked no better
ROUNDING = 1e-9


def arc_through(picks: Array) -> tuple[Array, float, float, float]:
    """(centre (2,), radius, first angle, signed sweep) of the arc through three picks (3, 2), from the first over the second to the last.
    BadInput when they lie in a row or on each other."""
    a, b, c = picks
    m = 2 * np.array([b - a, c - a])
    if abs(float(np.linalg.det(m))) < 1e-6:
        raise BadInput("these three picks lie in a row", subject="picks", remedy="pick the arc's beginning, a place on it, and its end")
    centre = np.linalg.solve(m, [float(b @ b - a @ a), float(c @ c - a @ a)])
    start, on, end = (math.atan2(*(p - centre)[::-1]) for p in (a, b, c))
    way = 1.0 if (on - start) % math.tau < (end - start) % math.tau else -1.0
    return centre, float(np.linalg.norm(a - centre)), start, way * ((way * (end - start)) % math.tau)


@dataclass(frozen=True)
class Foot:
    """corners (n, 2), of an arc its two ends; arc: centre, radius, first angle and signed sweep."""

    corners: Array
    arc: tuple[Array, float, float, float] | None = None

    @staticmethod
    def through(picks: Array, bent: bool) -> Foot:
        if bent:
            if len(picks) != 3:
                remedy = "pick its beginning, a place on it, and its end"
                raise BadInput(f"an arc goes through three picks; {len(picks)} came", subject="picks", remedy=remedy)
            return Foot(picks[[0, 2]], arc_through(picks))
        if not 2 <= len(picks) <= MOST or float(np.linalg.norm(np.diff(picks, axis=0), axis=1).min()) < 0.01:
            raise BadInput(
                "an unrolled wall needs two picks or more, each on its own", subject="picks", remedy="pick along the wall in plan"
            )
        return Foot(picks)

    @property
    def long(self) -> float:
        if self.arc is not None:
            return self.arc[1] * abs(self.arc[3])
        return float(np.linalg.norm(np.diff(self.corners, axis=0), axis=1).sum())

    def unrolled(self, points: Array) -> tuple[Array, Flags]:
        """Points (n, 3) as metres along the foot, up, and to the right of it; and which stand squarely before or behind a piece of it: what
        lies outside a corner is on none."""
        if self.arc is not None:
            centre, radius, start, sweep = self.arc
            d = points[:, :2] - centre
            way = math.copysign(1.0, sweep)
            turn = (way * (np.arctan2(d[:, 1], d[:, 0]) - start) + ROUNDING) % math.tau - ROUNDING
            right = way * (np.hypot(d[:, 0], d[:, 1]) - radius)
            return np.column_stack([turn * radius, points[:, 2], right]), np.asarray(turn <= abs(sweep) + ROUNDING)
        along, right = np.zeros(len(points)), np.full(len(points), np.inf)
        on, run = np.zeros(len(points), bool), 0.0
        last = len(self.corners) - 2
        for k, (a, b) in enumerate(zip(self.corners[:-1], self.corners[1:], strict=True)):
            long = float(np.linalg.norm(b - a))
            low, high = -(SLACK if k else ROUNDING), long + (SLACK if k < last else ROUNDING)
            u = (b - a) / long
            d = points[:, :2] - a
            t, off = d @ u, d @ np.array([u[1], -u[0]])
            nearer = (t >= low) & (t <= high) & (np.abs(off) < np.abs(right))
            along[nearer], right[nearer] = run + t[nearer], off[nearer]
            on |= nearer
            run += long
        return np.column_stack([along, points[:, 2], np.where(on, right, 0.0)]), on

    def rolled(self, points: Array) -> Array:
        """The way back: (n, 3) where points (n, 3) along, up and to the right stand."""
        along = np.clip(points[:, 0], 0, self.long)
        if self.arc is not None:
            centre, radius, start, sweep = self.arc
            way = math.copysign(1.0, sweep)
            angle, far = start + way * along / radius, radius + way * points[:, 2]
            return np.column_stack([centre[0] + far * np.cos(angle), centre[1] + far * np.sin(angle), points[:, 1]])
        step = np.diff(self.corners, axis=0)
        long = np.linalg.norm(step, axis=1)
        begin = np.concatenate([[0.0], np.cumsum(long)])
        k = np.clip(np.searchsorted(begin, along, side="right") - 1, 0, len(step) - 1)
        u = step[k] / long[k, None]
        flat = self.corners[k] + u * (along - begin[k])[:, None] + np.column_stack([u[:, 1], -u[:, 0]]) * points[:, 2:]
        return np.column_stack([flat, points[:, 1]])

    def away(self, points: Array) -> Array:
        """(n,) metres in plan from points (n, 3) to the foot."""
        line = self.line()
        out = np.full(len(points), np.inf)
        for (_, *a), (_, *b) in zip(line[:-1], line[1:], strict=True):
            d = np.subtract(b, a)
            t = np.clip((points[:, :2] - a) @ d / max(float(d @ d), 1e-12), 0, 1)
            np.minimum(out, np.linalg.norm(points[:, :2] - a - t[:, None] * d, axis=1), out=out)
        return out

    def line(self) -> list[tuple[float, float, float]]:
        """The foot as a line: metres along, x, y of each corner."""
        if self.arc is None:
            at = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(self.corners, axis=0), axis=1))])
        else:
            most = 2 * math.acos(max(1 - FINE / self.arc[1], 0.0))
            at = np.linspace(0, self.long, max(2, math.ceil(abs(self.arc[3]) / most) + 1))
        places = self.rolled(np.column_stack([at, np.zeros(len(at)), np.zeros(len(at))]))
        return [(float(t), float(x), float(y)) for t, (x, y, _) in zip(at, places, strict=True)]
