"""Points that no surface has: beams that met two surfaces at an edge and tell a range between them, and points that stand alone.

Both are told in the range image, where neighbours are those of the scanner and not those in space.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..kernels import noise as kernel
from ..scan.grid import Grid

Flags = NDArray[np.bool_]
GAP = 0.02  # metres by which a mixed point is farther than the nearer surface, and nearer than the farther one
NEAR = 0.012  # metres within which a point is of the surface that two neighbours carry on
BESIDE = 0.02  # metres from two opposite neighbours within which it is of theirs: ranges of a floor far off scatter more
SLANT = 0.05  # of what two neighbours differ by, that the surface they carry on may miss besides
STEEP = 5.0  # pixels of depth between neighbours of one surface: incidence up to 79 degrees
ROUGH = 8  # points of the 5 x 5 round one that may be on no surface: of leaves and gratings most are


def mixed(grid: Grid, points: int) -> Flags:
    """(points,) which lie between two surfaces along the ray, on neither. Points that the grid left out have no say."""
    return _of(grid, points, 1)


def lone(grid: Grid, points: int) -> Flags:
    """(points,) which have no neighbour within their range, and stand before or behind all of them: birds, dust, rain."""
    return _of(grid, points, 2)


def _of(grid: Grid, points: int, what: int) -> Flags:
    found = kernel.between(grid.image, grid.wrap, GAP, NEAR, BESIDE, SLANT, STEEP * grid.step, ROUGH)
    out = np.zeros(points, bool)
    out[grid.index[found == what]] = True
    return out
