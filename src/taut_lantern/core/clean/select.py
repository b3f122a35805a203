"""Selection shapes: which points are inside? Everything in the frame of one part, metres.

A shape says of boxes with eight corners each which may hold points that are inside (``meets``), and of which all that they hold are
(``covers``), so that only tiles at its rim are read, and of points which are (``inside``).
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import BadInput
from ..kernels import outline
from .front import depth_of, front_of

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
WHOLE = 1e9  # metres: beyond it is nothing
ROUNDING = 1e-9  # of a view, by which a place may be told otherwise


@dataclass(frozen=True)
class Points:
    """xyz (n, 3) in the part; range (n,) from their own station, metres, for shapes that look at it; intensity (n,), 0 to 1, where it is
    read and there."""

    xyz: Array
    range: Array | None = None
    intensity: Array | None = None


class Shape(Protocol):
    @property
    def reads(self) -> tuple[str, ...]:
        """Layers of the points that it looks at."""

    def meets(self, corners: Array) -> Flags:
        """(n,) whether boxes with these corners (n, 8, 3), in the part, may hold points that are inside."""

    def holds(self, points: Points) -> Flags:
        """(n,) which of the points are inside."""


class Solid:
    """A shape that looks at places alone."""

    reads: tuple[str, ...] = ()

    def inside(self, points: Array) -> Flags:
        """(n,) of points (n, 3), part frame."""
        raise NotImplementedError

    def inside_from(self, T_part_source: Array, points: NDArray[np.float32]) -> Flags:
        """(n,) of points (n, 3) in another frame."""
        return self.inside(frames.apply(T_part_source, points))

    def covers(self, corners: Array) -> Flags:
        """(n,) whether every point of boxes with these corners (n, 8, 3) is surely inside; told is, of shapes without dents, whether their
        corners are."""
        return np.asarray(self.inside(corners.reshape(-1, 3)).reshape(-1, 8).all(axis=1))

    def holds(self, points: Points) -> Flags:
        return self.inside(points.xyz)


@dataclass(frozen=True)
class Box(Solid):
    """An oriented box: centre and yaw in its base, which stands in the part by T_part_base; |x|, |y|, |z| <= half in it. outline (k, 2): of
    a prism, its corners in plan, in the base; its height is that of the box."""

    centre: tuple[float, float, float]
    half: tuple[float, float, float]
    yaw: float = 0.0
    T_part_base: Array = field(default_factory=lambda: np.eye(4))
    outline: Array | None = None

    @property
    def T_part_box(self) -> Array:
        return self.T_part_base @ frames.pose(self.yaw, self.centre)

    def meets(self, corners: Array) -> Flags:
        p = frames.apply(frames.inverse(self.T_part_box), corners)
        half = np.array(self.half)
        return np.asarray(((p.min(axis=1) <= half) & (p.max(axis=1) >= -half)).all(axis=1))

    def covers(self, corners: Array) -> Flags:
        return super().covers(corners) if self.outline is None else np.zeros(len(corners), bool)

    def inside(self, points: Array) -> Flags:
        within = np.asarray((np.abs(frames.apply(frames.inverse(self.T_part_box), points)) <= np.array(self.half)).all(axis=1))
        if self.outline is not None and within.any():
            flat = frames.apply(frames.inverse(self.T_part_base), points[within])[:, :2]
            within[within] = outline.inside(flat, self.outline)
        return within


@dataclass(frozen=True)
class Clip:
    """Crop boxes that are on: what lies in any of the one kind, and in none of the other."""

    kept: tuple[Box, ...] = ()
    cut: tuple[Box, ...] = ()

    def inside(self, points: Array) -> Flags:
        """(n,) of points (n, 3), part frame; all when no box is on."""
        out = np.ones(len(points), bool) if not self.kept else np.zeros(len(points), bool)
        for box in self.kept:
            out |= box.inside(points)
        for box in self.cut:
            out &= ~box.inside(points)
        return out


@dataclass(frozen=True)
class Sphere(Solid):
    centre: Array
    radius: float

    def __post_init__(self) -> None:
        if not 0.005 <= self.radius <= 1000:
            raise BadInput("a sphere has a radius between 5 mm and 1 km", subject="radius", remedy="give it in metres, as 0.5")

    def meets(self, corners: Array) -> Flags:
        nearest = np.clip(self.centre, corners.min(axis=1), corners.max(axis=1))
        return np.asarray(np.linalg.norm(nearest - self.centre, axis=1) <= self.radius)

    def inside(self, points: Array) -> Flags:
        return np.asarray(((points - self.centre) ** 2).sum(axis=1) <= self.radius**2)


@dataclass(frozen=True)
class Slab(Solid):
    """From ``low`` to ``high`` metres along the unit normal, from a place that lies on its plane."""

    at: Array
    normal: Array
    low: float = -WHOLE
    high: float = WHOLE

    def __post_init__(self) -> None:
        if abs(float(np.linalg.norm(self.normal)) - 1) > 1e-3:
            raise BadInput(
                "a slab needs a direction of length one", subject="normal", remedy="pick a surface, or give 0, 0, 1 for a level one"
            )
        _ordered(self.low, self.high, "a slab")

    def _off(self, points: Array) -> Array:
        return np.asarray((points - self.at) @ self.normal)

    def meets(self, corners: Array) -> Flags:
        off = self._off(corners)
        return np.asarray((off.min(axis=1) <= self.high) & (off.max(axis=1) >= self.low))

    def inside(self, points: Array) -> Flags:
        off = self._off(points)
        return np.asarray((off >= self.low) & (off <= self.high))


@dataclass(frozen=True)
class Bright:
    """Points whose intensity, 0 to 1, lies between two values; of scans without intensity none."""

    low: float
    high: float
    reads: tuple[str, ...] = ("intensity",)

    def __post_init__(self) -> None:
        _ordered(self.low, self.high, "an intensity")

    def meets(self, corners: Array) -> Flags:
        return np.ones(len(corners), bool)

    def holds(self, points: Points) -> Flags:
        if points.intensity is None:
            return np.zeros(len(points.xyz), bool)
        return np.asarray((points.intensity >= self.low) & (points.intensity <= self.high))


@dataclass(frozen=True)
class Away:
    """Points between two ranges, metres from their own station."""

    low: float
    high: float
    reads: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        _ordered(self.low, self.high, "a range")

    def meets(self, corners: Array) -> Flags:
        return np.ones(len(corners), bool)

    def holds(self, points: Points) -> Flags:
        assert points.range is not None
        return np.asarray((points.range >= self.low) & (points.range <= self.high))


@dataclass(frozen=True)
class All:
    """Every point."""

    reads: tuple[str, ...] = ()

    def meets(self, corners: Array) -> Flags:
        return np.ones(len(corners), bool)

    def holds(self, points: Points) -> Flags:
        return np.ones(len(points.xyz), bool)


@dataclass(frozen=True)
class _Drawn(Solid):
    """What is drawn in a view: normalised coordinates (-1..1) with the view's projection.

    view : (4, 4) clip = view @ [x, y, z, 1], column vectors, as the pane had it (double precision).
    """

    view: Array
    outline: Array
    front: float | None = None  # metres: only things in front go, this deep; None: all through

    def __post_init__(self) -> None:
        if self.front is not None and not 0.005 <= self.front <= 20:
            raise BadInput("what goes is between 5 mm and 20 m deep", subject="front", remedy="set another depth")
        if self.view.shape != (4, 4) or not np.isfinite(self.view).all() or not np.isfinite(self.outline).all():
            raise BadInput("the lasso's view is not a finite 4x4 matrix", remedy="draw it again")

    def _bounds(self) -> tuple[Array, Array]:
        return self.outline.min(axis=0), self.outline.max(axis=0)

    def _seen(self, corners: Array) -> tuple[Flags, Flags, Array]:
        """(n,) which boxes are before the eye in part, (n,) which are as a whole, and where these are seen, (n, 8, 3)."""
        clip = corners @ self.view[:, :3].T + self.view[:, 3]
        ahead = clip[..., 3] > 1e-6
        whole = np.asarray(ahead.all(axis=1))
        return np.asarray(ahead.any(axis=1)), np.asarray(whole), clip[..., :3] / np.where(whole[:, None], clip[..., 3], 1.0)[..., None]

    def meets(self, corners: Array) -> Flags:
        some, whole, flat = self._seen(corners)
        low, high = self._bounds()
        beside = (flat[..., :2].max(axis=1) < low).any(axis=1) | (flat[..., :2].min(axis=1) > high).any(axis=1)
        if abs(self.view[3, :3]).max() < 1e-12:
            beside |= (flat[..., 2].min(axis=1) > 1) | (flat[..., 2].max(axis=1) < -1)
        return np.asarray(some & ~(whole & beside))

    def covers(self, corners: Array) -> Flags:
        return np.zeros(len(corners), bool)

    def in_front(self, points: Array) -> Flags:
        """(n,) which of all points (n, 3) that are inside are of the front; every one when all through is meant."""
        if self.front is None or not len(points):
            return np.ones(len(points), bool)
        clip = points @ self.view[:, :3].T + self.view[:, 3]
        return front_of(points, clip[:, :2] / clip[:, 3:], depth_of(self.view, points), self.front)

    def _drawn(self, flat: Array) -> Flags:
        raise NotImplementedError

    def inside(self, points: Array) -> Flags:
        clip = points @ self.view[:, :3].T + self.view[:, 3]
        ahead = clip[:, 3] > 1e-9
        w = np.where(ahead, clip[:, 3], 1.0)
        flat = clip[:, :2] / w[:, None]
        return np.asarray(ahead & (np.abs(clip[:, 2] / w) <= 1) & self._drawn(flat))


@dataclass(frozen=True)
class Lasso(_Drawn):
    """A drawn outline (k, 2)."""

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.outline.ndim != 2 or len(self.outline) < 3:
            raise BadInput("a lasso needs at least three corners", remedy="draw round the points")

    def inside(self, points: Array) -> Flags:
        return outline.in_view(points, self.view, self.outline)

    def inside_from(self, T_part_source: Array, points: NDArray[np.float32]) -> Flags:
        return outline.in_view(points, self.view @ T_part_source, self.outline)

    def covers(self, corners: Array) -> Flags:
        """No line of the outline crosses the rectangle of the view that a box is seen in, whose middle is inside."""
        _, whole, flat = self._seen(corners)
        whole &= (np.abs(flat[..., 2]) <= 1).all(axis=1)
        low, high = flat[..., :2].min(axis=1) - ROUNDING, flat[..., :2].max(axis=1) + ROUNDING
        whole[whole] = outline.inside((low[whole] + high[whole]) / 2, self.outline)
        whole[whole] = ~outline.crossing(low[whole], high[whole], self.outline)
        return whole


@dataclass(frozen=True)
class Stroke(_Drawn):
    """A brush that was drawn along a line (k, 2), this wide to each side in the view's two directions."""

    radius: tuple[float, float] = (0.05, 0.05)

    def __post_init__(self) -> None:
        super().__post_init__()
        if self.outline.ndim != 2 or not len(self.outline) or not all(0 < r <= 2 for r in self.radius):
            raise BadInput("a brush needs a place and a width", subject="brush", remedy="draw over the points")

    def _bounds(self) -> tuple[Array, Array]:
        low, high = super()._bounds()
        return low - self.radius, high + self.radius

    def _drawn(self, flat: Array) -> Flags:
        low, high = self._bounds()
        out = np.asarray(((flat >= low) & (flat <= high)).all(axis=1))
        some = np.nonzero(out)[0]
        p, line = flat[some] / self.radius, self.outline / self.radius
        near = np.full(len(p), np.inf)
        for a, b in zip(line, np.vstack([line[1:], line[-1:]]), strict=True):
            d = b - a
            along = np.clip(((p - a) @ d) / max(float(d @ d), 1e-12), 0, 1)
            np.minimum(near, ((p - a - along[:, None] * d) ** 2).sum(axis=1), out=near)
        out[some] = near <= 1
        return out


def _ordered(low: float, high: float, what: str) -> None:
    if not low <= high:
        raise BadInput(f"{what} runs from a lower value to a higher one", subject=what, remedy="exchange the two values")
