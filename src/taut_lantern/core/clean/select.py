"""Selection shapes: which points are inside? Everything in the frame of one part, metres."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import BadInput
from ..kernels import outline
from .front import depth_of, front_of

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Box:
    """An oriented box: centre and yaw in its base, which stands in the part by T_part_base; |x|, |y|, |z| <= half in it."""

    centre: tuple[float, float, float]
    half: tuple[float, float, float]
    yaw: float = 0.0
    T_part_base: Array = field(default_factory=lambda: np.eye(4))

    @property
    def T_part_box(self) -> Array:
        return self.T_part_base @ frames.pose(self.yaw, self.centre)

    def inside(self, points: Array) -> NDArray[np.bool_]:
        """(n,) of points (n, 3), part frame."""
        return np.asarray((np.abs(frames.apply(frames.inverse(self.T_part_box), points)) <= np.array(self.half)).all(axis=1))


@dataclass(frozen=True)
class Lasso:
    """A drawn outline in normalised view coordinates (-1..1) with the view's projection.

    view : (4, 4) clip = view @ [x, y, z, 1], column vectors, as the pane had it (double precision).
    """

    view: Array
    outline: Array
    front: float | None = None  # metres: only things in front go, this deep; None: all through

    def __post_init__(self) -> None:
        if self.front is not None and not 0.005 <= self.front <= 20:
            raise BadInput("what goes is between 5 mm and 20 m deep", subject="front", remedy="set another depth")
        if self.outline.ndim != 2 or len(self.outline) < 3:
            raise BadInput("a lasso needs at least three corners", remedy="draw round the points")
        if self.view.shape != (4, 4) or not np.isfinite(self.view).all() or not np.isfinite(self.outline).all():
            raise BadInput("the lasso's view is not a finite 4x4 matrix", remedy="draw it again")

    def in_front(self, points: Array) -> NDArray[np.bool_]:
        """(n,) which of all points (n, 3) that are inside are of the front; every one when all through is meant."""
        if self.front is None or not len(points):
            return np.ones(len(points), bool)
        clip = points @ self.view[:, :3].T + self.view[:, 3]
        return front_of(points, clip[:, :2] / clip[:, 3:], depth_of(self.view, points), self.front)

    def inside(self, points: Array) -> NDArray[np.bool_]:
        clip = points @ self.view[:, :3].T + self.view[:, 3]
        front = clip[:, 3] > 1e-9
        flat = clip[:, :2] / np.where(front, clip[:, 3], 1.0)[:, None]
        depth = clip[:, 2] / np.where(front, clip[:, 3], 1.0)
        return np.asarray(front & (np.abs(depth) <= 1) & outline.inside(flat, self.outline))
