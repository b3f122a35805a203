"""A site grid from a wall that was picked."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import NotEnough

Array = NDArray[np.float64]
UPRIGHT = 0.2  # of the normal's unit length: a wall leans less
FLAT = 0.02  # metres RMS: what is rougher is no wall
FEWEST = 30  # points


def square_to_wall(
    points: Array, pick: Array, given: tuple[float, float, float], towards: Array, flip: bool = False
) -> tuple[Array, float, int]:
    """Site grid from a wall: as one stands before it, E runs to the right along it and N into it; flip turns both about.

    points : (n, 3) near the pick on the wall; pick gets the ``given`` coordinates; towards : (3,) where one stands, as the
    scanner that saw the wall; all in one frame, metres. Returns (T_grid_frame, rms of the wall plane, points used).
    NotEnough when what is there is no upright plane.
    """
    p = points
    normal, rms, centre = np.array([1.0, 0, 0]), 0.0, p.mean(axis=0) if len(p) else pick
    for _ in range(6):
        if len(p) < FEWEST:
            raise NotEnough(f"fewer than {FEWEST} points lie on the wall at the pick", remedy="pick a bare part of a wall")
        centre = p.mean(axis=0)
        _, s, vt = np.linalg.svd(p - centre, full_matrices=False)
        normal, rms = vt[2], float(s[2] / math.sqrt(len(p)))
        p = points[np.abs((points - centre) @ normal) < max(3 * rms, 0.003)]
    if abs(normal[2]) > UPRIGHT or rms > FLAT:
        raise NotEnough("what was picked is not an upright wall", remedy="pick a bare part of a wall")
    if float(normal @ (np.asarray(towards, float) - centre)) > 0:  # a fitted plane has no side: N runs into the wall
        normal = -normal
    north = math.atan2(normal[1], normal[0]) + (math.pi if flip else 0.0)
    t = frames.pose(math.pi / 2 - north)
    t[:3, 3] = np.array(given) - t[:3, :3] @ pick
    return t, rms, len(p)
