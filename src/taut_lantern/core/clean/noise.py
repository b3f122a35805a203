"""Points that no surface has: beams that met two surfaces at an edge and tell a range between them, points that stand alone, and what hangs
in the air before the scanner.

Both are told in the range image, where neighbours are those of the scanner and not those in space.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from ..kernels import noise as kernel
from ..scan.grid import Grid

Flags = NDArray[np.bool_]
GAP = 0.02  # metres by which a mixed point is farther than the nearer surface, and nearer than the farther one
NEAR = 0.012  # metres within which a point is of the surface that two neighbours carry on
BESIDE = 0.02  # metres from two opposite neighbours within which it is of theirs: ranges of a floor far off scatter more
SLANT = 0.05  # of what two neighbours differ by, that the surface they carry on may miss besides
STEEP = 5.0  # pixels of depth between neighbours of one surface: incidence up to 79 degrees
ROUGH = 8  # points of the 5 x 5 round one that may be on no surface: of leaves and gratings most are
JOIN = 0.012  # metres of range within which neighbours hang together: of a cloud of dust few do, of a leaf or a wire all
CLEAR = 0.03  # metres that surfaces beside it are farther than what hangs in the air
GRAIN = 0.015  # metres across that a drop or a grain with the beam round it may take, in pixels: LEAST to MOST of them
LEAST, MOST = 16, 64
WEAK = 0.7  # of the median intensity of a scan that comes back from drops and grains at most


def mixed(grid: Grid, points: int) -> Flags:
    """(points,) which lie between two surfaces along the ray, on neither. Points that the grid left out have no say."""
    return _of(grid, points, 1)


def lone(grid: Grid, points: int) -> Flags:
    """(points,) which have no neighbour within their range, and stand before or behind all of them: birds, dust, rain."""
    return _of(grid, points, 2)


def afloat(grid: Grid, points: int, far: float, intensity: NDArray[np.float32] | None = None) -> Flags:
    """(points,) nearer than ``far`` metres that hang in the air: rain, snow, dust, alone or as a cloud of them. Taken is what came back weak,
    as light from drops does; where no intensity (points,), 0 to 1, tells, what does not stand side by side with more: leaves do."""
    ranges = np.linalg.norm(grid.image, axis=2).astype(np.float32)
    bonds = kernel.joined(ranges, grid.wrap, JOIN, STEEP * grid.step, SLANT)
    found = kernel.afloat(ranges, bonds, grid.wrap, far, CLEAR, GRAIN / grid.step, LEAST, MOST)
    if intensity is None:
        beside = ndimage.uniform_filter(found.astype(np.float32), 5, mode=["constant", "wrap" if grid.wrap else "constant"])
        found &= beside * 25 < ROUGH + 0.5
    own = grid.index[found]
    out = np.zeros(points, bool)
    out[own if intensity is None else own[intensity[own] < WEAK * float(np.median(intensity))]] = True
    return out


def _of(grid: Grid, points: int, what: int) -> Flags:
    found = kernel.between(grid.image, grid.wrap, GAP, NEAR, BESIDE, SLANT, STEEP * grid.step, ROUGH)
    out = np.zeros(points, bool)
    out[grid.index[found == what]] = True
    return out
