"""Points that no surface has: beams that met two surfaces at an edge and tell a range between them, points that stand alone, and what hangs
in the air before the scanner.

All are told in the range image, where neighbours are those of the scanner and not those in space. Beams on two surfaces are told by
gradient boosted trees (Friedman, Ann. Stat. 29, 2001) that were grown on simulated scans (`measures/beams.py`).
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from ..kernels import beams
from ..kernels import noise as kernel
from ..scan.grid import Grid
from .trees import Trees

Flags = NDArray[np.bool_]
GAP = 0.02  # metres by which a neighbour is nearer or farther where there is anything to ask
NEAR = 0.006  # metres within which two of the eight directions that carry on to a pixel hold it
GOOD = 0.0009  # share of a scan's points that may be expected to be good among those taken, at middle strength; a fourth and four times at the ends
LEAST, EAGER = -1.0, 5.0  # log odds of being on no surface that all that is taken has, at no strength; by how much less at full strength
HOPELESS = -7.5  # log odds by the first trees, at which the rest is not asked
ASKED = 200_000  # pixels that are looked at in one go
SLANT = 0.05  # of what two neighbours differ by, that the surface they carry on may miss besides
STEEP = 5.0  # pixels of depth between neighbours of one surface: incidence up to 79 degrees
ROUGH = 8  # points of the 5 x 5 round one that may hang in the air: of leaves most would
JOIN = 0.012  # metres of range within which neighbours hang together: of a cloud of dust few do, of a leaf or a wire all
CLEAR = 0.03  # metres that surfaces beside it are farther than what hangs in the air
GRAIN = 0.015  # metres across that a drop or a grain with the beam round it may take, in pixels: FEWEST to MOST of them
FEWEST, MOST = 16, 64
WEAK = 0.7  # of the median intensity of a scan that comes back from drops and grains at most


@dataclass(frozen=True)
class Stray:
    """between, alone (points,): what lies between two surfaces along the ray, on neither, and what stands by itself before or behind all that
    is round it (birds, drops, what is left of a wire); good (points,) float32: the chance of each of these of being good all the same."""

    between: Flags
    alone: Flags
    good: NDArray[np.float32]


def stray(grid: Grid, points: int, trees: Trees, strength: float = 0.5) -> Stray:
    """What lies on no surface, of the points of a scan; the likeliest first, until as many good ones have to be expected among them as strength,
    0 to 1, allows. Points that the grid left out have no say."""
    looks = [(grid.index[where[:, 0], where[:, 1]], trees.said(seen, HOPELESS), _both(seen)) for where, seen in looked_at(grid)]
    out = Stray(np.zeros(points, bool), np.zeros(points, bool), np.zeros(points, np.float32))
    if not looks:
        return out
    own, odds, both = (np.concatenate(v) for v in zip(*looks, strict=True))
    good, order = 1 / (1 + np.exp(odds)), np.argsort(-odds, kind="stable")
    allowed = np.cumsum(good[order]) <= GOOD * 4 ** (2 * strength - 1) * points
    taken = order[allowed & (odds[order] > LEAST - EAGER * strength)]
    out.between[own[taken[both[taken]]]], out.alone[own[taken[~both[taken]]]] = True, True
    out.good[own[taken]] = good[taken]
    return out


def _both(seen: NDArray[np.float32]) -> Flags:
    return np.asarray((seen[:, beams.NEARER] > 0) & (seen[:, beams.FARTHER] > 0))


def looked_at(grid: Grid) -> Iterator[tuple[NDArray[np.int64], NDArray[np.float32]]]:
    """(n, 2) rows and columns of the pixels that no surface holds at first sight, and (n, SIGHTS) what is seen of them; by and by."""
    ranges = np.linalg.norm(grid.image, axis=2).astype(np.float32)
    doubts = beams.doubtful(ranges, grid.wrap, GAP, NEAR)
    where = np.argwhere(doubts)
    for k in range(0, len(where), ASKED):
        yield where[k : k + ASKED], beams.sights(ranges, grid.wrap, grid.step, doubts, where[k : k + ASKED])


def afloat(grid: Grid, points: int, far: float, intensity: NDArray[np.float32] | None = None) -> Flags:
    """(points,) nearer than ``far`` metres that hang in the air: rain, snow, dust, alone or as a cloud of them. Taken is what came back weak,
    as light from drops does; where no intensity (points,), 0 to 1, tells, what does not stand side by side with more: leaves do."""
    ranges = np.linalg.norm(grid.image, axis=2).astype(np.float32)
    bonds = kernel.joined(ranges, grid.wrap, JOIN, STEEP * grid.step, SLANT)
    found = kernel.afloat(ranges, bonds, grid.wrap, far, CLEAR, GRAIN / grid.step, FEWEST, MOST)
    if intensity is None:
        beside = ndimage.uniform_filter(found.astype(np.float32), 5, mode=["constant", "wrap" if grid.wrap else "constant"])
        found &= beside * 25 < ROUGH + 0.5
    own = grid.index[found]
    out = np.zeros(points, bool)
    out[own if intensity is None else own[intensity[own] < WEAK * float(np.median(intensity))]] = True
    return out
