"""A site grid from a wall that was picked."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import NotEnough
from ..scan.surface import widest_plane

Array = NDArray[np.float64]
UPRIGHT = 0.2  # of the normal's unit length: a wall leans less
ROUGH = 0.012  # metres by which the faces of bricks and their joints leave the plane of a wall
BARE = 0.25  # share of what lies round the pick that is on the wall: on plants, or along a pipe, it is a tenth at most
FEWEST = 30  # points


def square_to_wall(
    points: Array, pick: Array, given: tuple[float, float, float], towards: Array, flip: bool = False
) -> tuple[Array, float, int, float]:
    """Site grid from a wall: as one stands before it, E runs to the right along it and N into it; flip turns both about.

    points : (n, 3) round the pick on the wall, with what stands before it; pick gets the ``given`` coordinates; towards : (3,)
    where one stands, as the scanner that saw the wall; all in one frame, metres. Returns (T_grid_frame, rms of the wall plane,
    points used, radians by which the wall leans, positive when its top leans away).
    NotEnough when what is there is no upright plane.
    """
    if len(points) < FEWEST:
        raise NotEnough(f"fewer than {FEWEST} points lie on the wall at the pick", remedy="pick a bare part of a wall")
    no_wall = NotEnough("what was picked is not an upright wall", remedy="pick a bare part of a wall")
    try:
        wall = widest_plane(points, ROUGH, through=pick)
    except NotEnough as nothing_flat:
        raise no_wall from nothing_flat
    if abs(wall.normal[2]) > UPRIGHT or wall.points < BARE * len(points):
        raise no_wall
    normal = -wall.facing(np.asarray(towards, float)).normal  # a fitted plane has no side: N runs into the wall
    north = math.atan2(normal[1], normal[0]) + (math.pi if flip else 0.0)
    t = frames.pose(math.pi / 2 - north)
    t[:3, 3] = np.array(given) - t[:3, :3] @ pick
    return t, wall.rms, wall.points, math.asin(float(np.clip(normal[2], -1, 1)))
