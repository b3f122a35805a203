"""Planes of a station that may have turned rays back, and the cells in which rays crossed them."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
PLANES, LEAST = 40, 0.4  # planes of a station that are looked at, and m2 that one has at least
FLAT, LIKE = 0.025, 0.965  # metres off a plane, and cosine to it, of a pixel that is of it
CELL = 0.04  # metres of a cell of a plane in which crossings are gathered
ROUND = 1.0  # metres round what is seen of a plane in which a crossing is one of it
THICK = 0.08  # metres that a wall is thick at least
EDGE = 0.16  # metres from where nothing of a plane is near, in which it ends
SIDE = 4  # cells across of a patch


@dataclass(frozen=True)
class Plane:
    """normal (3,) towards the scanner, and how far it stands from it, metres; station frame."""

    normal: Array
    far: float

    def off(self, points: Array) -> Array:
        return np.asarray(points @ self.normal + self.far)

    def crossing(self, behind: Array) -> Array:
        """(n, 3) where the rays to points behind the plane cross it."""
        return np.asarray(behind * (self.far / (self.far - self.off(behind)))[:, None])

    def image(self, p: Array) -> Array:
        """(n, 3) where points behind it come from, if it turned their rays back."""
        return np.asarray(p - 2 * self.off(p)[:, None] * self.normal)


def planes(image: Array, normal: Array) -> Iterator[Plane]:
    """The planes of a station, by what of them is seen in m2, the largest first. image, normal (pixels, 3): points, and normals towards the
    scanner, zeros where they are of no one surface."""
    ok = (normal != 0).any(axis=1)
    some = np.nonzero(ok)[0]
    some = some[:: max(1, len(some) // 60_000)]
    p, n = image[some], normal[some]
    ranges = np.linalg.norm(p, axis=1)
    slant = np.maximum(np.abs((p * n).sum(axis=1)) / ranges, 0.1)
    area = ranges**2 / slant
    area *= 4 * np.pi / max(int(ok.sum()), 1) * (ok.sum() / len(some)) * 0.75  # of a sphere without the part below the tripod
    far = -(p * n).sum(axis=1)
    left = np.ones(len(p), bool)
    key = np.column_stack([np.round(n * 9), np.round(far / 0.1)]).astype(np.int64)
    _, own = np.unique(key, axis=0, return_inverse=True)
    own = own.reshape(-1)
    for _ in range(PLANES):
        weight = np.bincount(own, np.where(left, area, 0.0))
        best = int(np.argmax(weight))
        if weight[best] <= 0.1 * LEAST:
            return
        inside = left & (own == best)
        if inside.sum() < 20:
            left[inside] = False
            continue
        plane = _fitted(p[inside], area[inside])
        for _ in range(3):
            inside = left & (np.abs(plane.off(p)) < FLAT) & (n @ plane.normal > LIKE)
            if inside.sum() < 20:
                break
            plane = _fitted(p[inside], area[inside])
        left[inside | (own == best)] = False
        if inside.sum() >= 20 and float(area[inside].sum()) >= LEAST:
            yield plane


def _fitted(p: Array, weight: Array) -> Plane:
    middle = np.average(p, axis=0, weights=weight)
    _, _, axes = np.linalg.svd((p - middle) * np.sqrt(weight)[:, None], full_matrices=False)
    n = axes[2] * (-1.0 if float(axes[2] @ middle) > 0 else 1.0)
    return Plane(n, -float(n @ middle))


@dataclass(frozen=True)
class Field:
    """Cells of a plane: its two directions (2, 3), the lowest corner, how many cells there are, which are of the plane or near, which of these
    lie where it ends, in which it was measured, and whether what was measured parts its gaps: a wet floor turns back some rays only."""

    axes: Array
    low: Array
    shape: tuple[int, int]
    near: Flags
    rim: Flags
    met: Flags
    parts: bool

    @classmethod
    def of(cls, plane: Plane, on: Array) -> Field | None:
        if len(on) < 50:
            return None
        u = np.cross(plane.normal, [0.0, 0.0, 1.0] if abs(plane.normal[2]) < 0.9 else [1.0, 0.0, 0.0])
        axes = np.stack([u / np.linalg.norm(u), np.cross(plane.normal, u / np.linalg.norm(u))])
        flat = on @ axes.T
        low = flat.min(axis=0) - ROUND
        at = np.floor((flat - low) / CELL).astype(np.int64)
        shape = tuple(int(v) for v in at.max(axis=0) + 1 + int(ROUND / CELL))
        if shape[0] * shape[1] > 4_000_000:
            return None
        cells = np.zeros(shape, bool)
        cells[at[:, 0], at[:, 1]] = True
        near = np.asarray(ndimage.binary_fill_holes(ndimage.binary_dilation(cells, iterations=int(ROUND / CELL))), bool)
        rim = near & ~ndimage.binary_erosion(near, iterations=int(EDGE / CELL))
        return cls(axes, low, (shape[0], shape[1]), near, rim.reshape(-1), cells, bool(abs(plane.normal[2]) < 0.9))

    def cell(self, plane: Plane, behind: Array) -> NDArray[np.int64]:
        """(n,) where the rays to points behind cross the plane: number of the cell, -1 outside of it."""
        inside, at = self.at(plane.crossing(behind))
        inside &= self.near[at[:, 0], at[:, 1]]
        return np.where(inside, at[:, 0] * self.shape[1] + at[:, 1], -1)

    def at(self, points: Array) -> tuple[Flags, NDArray[np.int64]]:
        """(n,) which points of the plane lie over its cells, and (n, 2) over which."""
        at = np.floor((points @ self.axes.T - self.low) / CELL).astype(np.int64)
        inside = np.asarray(((at >= 0) & (at < self.shape)).all(axis=1))
        at[~inside] = 0
        return inside, at

    @cached_property
    def solid(self) -> Flags:
        """Cells in the midst of what was measured."""
        round_one = np.ones((3, 3), bool)
        return np.asarray(ndimage.binary_erosion(ndimage.binary_closing(self.met, round_one), round_one))

    @cached_property
    def walls(self) -> Array:
        """How many cells of each patch of ``SIDE`` cells across were measured."""
        rows, columns = (-(-n // SIDE) for n in self.shape)
        wide = np.zeros((rows * SIDE, columns * SIDE))
        wide[: self.shape[0], : self.shape[1]] = self.met
        return np.asarray(wide.reshape(rows, SIDE, columns, SIDE).sum(axis=(1, 3)))

    @cached_property
    def away(self) -> Array:
        """Metres from the middle of each patch to the next cell that was measured."""
        far = ndimage.distance_transform_edt(~self.met) * CELL
        at = (np.minimum(np.arange(-(-n // SIDE)) * SIDE + SIDE // 2, n - 1) for n in self.shape)
        return np.asarray(far[np.ix_(*at)])

    def pierced(self, plane: Plane, behind: Array) -> tuple[Flags, Flags]:
        """(n,) which rays cross the plane beside a place of it that was measured, so that a wall there as thick as ``THICK`` would have ended
        them; and which of these went on."""
        deep = plane.far - plane.off(behind)
        inside, at = self.at(behind * ((plane.far + THICK) / deep)[:, None])
        ended = inside & self.solid[at[:, 0], at[:, 1]]
        return ended, ended & (deep > plane.far + THICK + FLAT)

    def gathered(self, cells: NDArray[np.int64]) -> NDArray[np.int64]:
        """(all cells,) number of the gap that a cell is of, 0 of others: what hangs together of the cells that are crossed. What was measured of the
        plane parts a mirror from a door."""
        crossed = np.zeros(self.shape[0] * self.shape[1], bool)
        crossed[cells] = True
        wide = ndimage.binary_closing(crossed.reshape(self.shape), np.ones((5, 5), bool)) & ~(self.met & self.parts)
        return self.pieces(wide.reshape(-1) | crossed)

    def pieces(self, cells: Flags) -> NDArray[np.int64]:
        """(all cells,) number of the piece that a cell hangs together with, 0 of others."""
        return np.asarray(ndimage.label(cells.reshape(self.shape), np.ones((3, 3)))[0], np.int64).reshape(-1)
