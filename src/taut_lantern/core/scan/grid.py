"""The range image of a scan: pixel (row, column) <-> direction, for projective association in O(1).

A structured scan keeps its own grid (thinned when it is very large); an unstructured one is projected onto a
regular grid of its mean point spacing round its origin.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ..errors import NotEnough
from ..kernels import objects, rays
from .scan import Scan

PIXELS = 2_000_000  # larger grids are thinned for matching; nothing is lost from the cloud


@dataclass(frozen=True)
class Grid:
    """image (rows, columns, 3) float32, zeros where nothing; geo [az0, az_step, el0, el_step] radians;
    index (rows, columns) int32 of the point in the scan, -1 where nothing."""

    image: NDArray[np.float32]
    geo: NDArray[np.float64]
    wrap: bool
    index: NDArray[np.int32]

    @property
    def step(self) -> float:
        return float(self.geo[3])

    @cached_property
    def ring(self) -> NDArray[np.float32]:
        """(rows, columns, 2) nearest and farthest range round each pixel, made when first asked for."""
        return np.asarray(objects.around(self.image, self.wrap))

    @cached_property
    def facing(self) -> NDArray[np.float32]:
        """(rows, columns, 3) unit normals towards the scanner from the four neighbours, zeros where these are not of one surface."""
        image = self.image.astype(float)
        ranges = np.linalg.norm(image, axis=2)
        right, left = np.roll(image, -1, 1), np.roll(image, 1, 1)
        up, down = np.roll(image, -1, 0), np.roll(image, 1, 0)
        normal = np.cross(right - left, up - down)
        length = np.linalg.norm(normal, axis=2)
        ok = (ranges > 0) & (length > 1e-9)
        slack = 0.02 + 6 * self.step * ranges
        for other in (right, left, up, down):
            far = np.linalg.norm(other, axis=2)
            ok &= (far > 0) & (np.abs(far - ranges) < slack)
        ok[[0, -1]] = False
        normal *= (-np.sign(np.einsum("ijk,ijk->ij", normal, image) + 1e-30) / np.maximum(length, 1e-9))[..., None]
        normal[~ok] = 0
        return normal.astype(np.float32)


def within(grid: Grid, T_box_station: NDArray[np.float64], half: NDArray[np.float64]) -> Grid:
    """The grid with nothing outside a box (|x|, |y|, |z| <= half (3,), metres): rays that end elsewhere say nothing."""
    p = grid.image.reshape(-1, 3).astype(float) @ T_box_station[:3, :3].T + T_box_station[:3, 3]
    keep = np.asarray((np.abs(p) <= half).all(axis=1)).reshape(grid.image.shape[:2])
    return Grid(np.where(keep[..., None], grid.image, np.float32(0)), grid.geo, grid.wrap, np.where(keep, grid.index, -1))


def _directions(xyz: NDArray) -> tuple[NDArray, NDArray]:
    """(azimuth, elevation) radians of points (n, 3)."""
    x, y, z = (xyz[:, k].astype(float) for k in range(3))
    return np.arctan2(y, x), np.arctan2(z, np.hypot(x, y))


def _structured(scan: Scan) -> tuple[NDArray, int, int, int, int] | None:
    """Linear row and column scales when the scanner's grid is regular to half a pixel, else None.

    (geo, rows, columns, last row when they count downwards else -1, last column likewise).
    """
    if scan.row is None or scan.column is None or len(scan) < 1000:
        return None
    pick = np.linspace(0, len(scan) - 1, min(len(scan), 10_000)).astype(int)
    az, el = _directions(scan.xyz[pick])
    steep = np.abs(el) < 1.3
    pick, az, el = pick[steep], az[steep], el[steep]
    if len(pick) < 500:
        return None
    row, column = scan.row[pick].astype(float), scan.column[pick].astype(float)
    if np.ptp(row) < 8 or np.ptp(column) < 8:
        return None
    el_step, el0 = np.polyfit(row, el, 1)
    order = np.argsort(column, kind="stable")
    turn = np.unwrap(az[order], period=2 * math.pi)
    az_step, az0 = np.polyfit(column[order], turn, 1)
    wrong_az = np.abs((turn - az0 - az_step * column[order]) / az_step)
    wrong_el = np.abs((el - el0 - el_step * row) / el_step)
    if el_step == 0 or az_step == 0 or np.percentile(wrong_az, 95) > 0.6 or np.percentile(wrong_el, 95) > 0.6:
        return None
    rows, columns = int(scan.row.max()) + 1, int(scan.column.max()) + 1
    last_row = last_column = -1
    if el_step < 0:
        last_row, el0, el_step = rows - 1, el0 + el_step * (rows - 1), -el_step
    if az_step < 0:
        last_column, az0, az_step = columns - 1, az0 + az_step * (columns - 1), -az_step
    return np.array([az0, az_step, el0, el_step]), rows, columns, last_row, last_column


def range_image(scan: Scan, most: int = PIXELS) -> Grid:
    """The grid of a scan, thinned to at most about ``most`` pixels. NotEnough when it has fewer than 100 points."""
    if len(scan) < 100:
        raise NotEnough(f"a scan of {len(scan)} points cannot be matched", remedy="bring in a scan with at least 100 points")
    found = _structured(scan)
    thin = 1
    if found is None:
        az, el = _directions(scan.xyz)
        low, high = float(el.min()), float(el.max())
        area = 2 * math.pi * max(math.sin(high) - math.sin(low), 0.01)
        step = max(1.25 * math.sqrt(area / len(scan)), 2 * math.pi / 8000)
        columns, rows = int(round(2 * math.pi / step)), int((high - low) / step) + 1
        step_az = 2 * math.pi / columns
        geo = np.array([-math.pi, step_az, low, step])
        r = np.clip(np.floor((el - low) / step + 0.5), 0, rows - 1).astype(np.int32)
        c = np.floor((az + math.pi) / step_az + 0.5).astype(np.int32) % columns
        last_row = last_column = -1
    else:
        geo, rows, columns, last_row, last_column = found
        r, c = np.asarray(scan.row, np.int32), np.asarray(scan.column, np.int32)
        turn = round(2 * math.pi / geo[1])
        if columns > turn + 1:  # it scanned on beyond a full turn: the same directions are the same columns
            c = ((c if last_column < 0 else last_column - c) % turn).astype(np.int32)
            columns, last_column = turn, -1
        while (rows // thin) * (columns // thin) > most:
            thin += 1
        geo = geo * [1, thin, 1, thin]
        rows, columns = (rows - 1) // thin + 1, (columns - 1) // thin + 1
    image, index = np.zeros((rows, columns, 3), np.float32), np.full((rows, columns), -1, np.int32)
    rays.fill(scan.xyz, r, c, last_row, last_column, thin, image, index)
    wrap = abs(columns * geo[1] - 2 * math.pi) < (2.5 if thin > 1 else 1.5) * geo[1]
    return Grid(image, geo, bool(wrap), index)
