"""What matching needs of a scan, computed once: even samples with planes, a balanced subset, raw points for the
dense test, a coarse range pyramid and a histogram of walls.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from ..errors import NotEnough
from ..kernels import rays
from ..scan.grid import Grid, range_image, within
from ..scan.scan import Scan
from .contradiction import Speakers, bare, speakers

FEWEST = 200  # samples in a box that are enough to align by
FEW, MANY, SPEAKERS = 2_500, 12_000, 40_000  # of the raw points, that judge placements: many of them, the best, and those that are left
PYRAMID_STEP = math.radians(1.0)
ROOF = 0.02  # share of what is seen that faces down, below which there is no roof: gates and canopies have as much


@dataclass(frozen=True)
class Samples:
    """points (m, 3) plane centroids and normals (m, 3) towards the scanner, float64 metres station frame."""

    points: NDArray[np.float64]
    normals: NDArray[np.float64]

    def __len__(self) -> int:
        return len(self.points)


@dataclass(frozen=True)
class Prepared:
    """The range image and samples even in space; what only proposals or the dense test need is made when first asked
    for, and kept."""

    grid: Grid
    fine: Samples  # even in space, for the fine alignment

    @cached_property
    def balanced(self) -> Samples:
        """Up to 250 samples in each of 10 classes of normals."""
        return _balanced(self.fine, self.grid)

    @cached_property
    def _dense(self) -> tuple[Samples, float]:
        return sample(self.grid, 0.05, 120_000, 0.11)

    @property
    def raw(self) -> Samples:
        """For the dense test: up to 120,000 points with normals, even in space."""
        return self._dense[0]

    @property
    def raw_area(self) -> float:
        """Square metres each raw point stands for."""
        return self._dense[1] ** 2

    @cached_property
    def particular(self) -> NDArray[np.bool_]:
        """(raw,) which raw points lie on more than bare walls, floors and ceilings."""
        return ~bare(self.raw.points, self.raw.normals, self.raw_area)

    @cached_property
    def open(self) -> bool:
        """Whether the scanner stood under no roof: the ground is most of what is seen, and lies on any other ground."""
        return float((self.raw.normals[:, 2] < -0.7).mean()) < ROOF

    @cached_property
    def speakers(self) -> Speakers:
        """Points that have a say on what stands where the other scan looked freely."""
        return speakers(self.grid)

    @cached_property
    def pyramid(self) -> NDArray[np.float32]:
        return np.asarray(rays.pyramid(self.grid.image, self.grid.geo, PYRAMID_STEP))

    @cached_property
    def coarse(self) -> tuple[NDArray[np.float32], NDArray[np.float64], NDArray[np.float64]]:
        """Points, planes and geo of an image of one degree, for the first steps of many starts."""
        points, known, geo = rays.coarse(self.grid.image, self.grid.geo, self.grid.wrap, PYRAMID_STEP)
        return np.asarray(points), np.asarray(known), np.asarray(geo)

    @cached_property
    def yaw(self) -> NDArray[np.float64]:
        """(720,) wall area by direction of the normal."""
        walls = np.abs(self.fine.normals[:, 2]) < 0.2
        direction = np.arctan2(self.fine.normals[walls, 1], self.fine.normals[walls, 0])
        return np.bincount((np.floor(np.degrees(direction) * 2).astype(int)) % 720, minlength=720).astype(float)


def sample(grid: Grid, spacing: float, most: int, phase: float = 0.37) -> tuple[Samples, float]:
    """Samples even in space at ``spacing`` metres (widened until at most ``most``), and the spacing used."""
    pixels = rays.pick_uniform(grid.image, grid.geo, spacing, phase)
    if len(pixels) > most:
        spacing *= math.sqrt(len(pixels) / most)
        pixels = pixels[np.linspace(0, len(pixels) - 1, most).astype(np.int64)]
    plane, ok = rays.planes(grid.image, grid.step, grid.wrap, pixels)
    found = plane[np.nonzero(ok)[0][_first_few(int(ok.sum()))]]
    return Samples(np.ascontiguousarray(found[:, :3]), np.ascontiguousarray(found[:, 3:6])), spacing


def _first_few(n: int) -> NDArray[np.int64]:
    """An order of n in which the first FEW, MANY and SPEAKERS are fair choices of all. Within these it is theirs: neighbours in an image
    follow each other, so that what is looked up in another lies close together."""
    ends = [0, *(k for k in (FEW, MANY, SPEAKERS) if k < n), n]
    order, part = np.random.default_rng(5).permutation(n), np.empty(n, np.int8)
    for k, (i, j) in enumerate(pairwise(ends)):
        part[order[i:j]] = k
    return np.concatenate([np.nonzero(part == k)[0] for k in range(len(ends) - 1)])


def _balanced(s: Samples, grid: Grid, each: int = 250) -> Samples:
    rho = np.linalg.norm(s.points, axis=1)
    small = rho * grid.step < 0.12
    az = np.floor((np.arctan2(s.normals[:, 1], s.normals[:, 0]) + math.pi) / (math.pi / 4)).astype(int) % 8
    kind = np.where(s.normals[:, 2] > 0.7, 8, np.where(s.normals[:, 2] < -0.7, 9, az))
    chance = np.random.default_rng(6).random(len(rho))
    keep = np.concatenate([np.sort(own[np.argsort(chance[own])[:each]]) for own in (np.nonzero(small & (kind == k))[0] for k in range(10))])
    return Samples(s.points[keep], s.normals[keep])


def only_here(made: Prepared, T_box_station: NDArray[np.float64], half: NDArray[np.float64]) -> Prepared:
    """A scan as matching needs it, of what lies in a box alone. NotEnough when hardly anything does."""
    grid = within(made.grid, T_box_station, half)
    fine = sample(grid, 0.05, 20_000)[0]
    if len(fine) < FEWEST:
        raise NotEnough(
            f"only {len(fine)} places of a scan lie on surfaces within the box", remedy="draw the box round more of what both scans saw"
        )
    return Prepared(grid, fine)


def prepare(scan: Scan, grid: Grid | None = None, whole: bool = True) -> Prepared:
    """What matching needs; ``whole`` makes everything at once, else what only proposals need waits until it is asked
    for. A scan without planes is told by ``fine`` being short."""
    grid = grid or range_image(scan)
    made = Prepared(grid, sample(grid, 0.12, 20_000)[0])
    if whole:
        _ = made.balanced, made.raw, made.speakers, made.pyramid, made.coarse, made.yaw
    return made
