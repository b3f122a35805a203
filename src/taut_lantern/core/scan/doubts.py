"""What a scan says against itself: that the instrument was moved while it scanned, or that its lengths are in another unit.

Terms: seam: where the last columns of a full turn meet the first ones, which were measured minutes before.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .scan import Scan

Array = NDArray[np.float64]
BESIDE = 6  # columns on either side of the seam that a surface is followed through
SMOOTH = 0.004  # metres that ranges leave a straight line in six columns at most: an edge or a glancing surface says nothing
BLOCK = 12  # rows that are taken together, so that the noise of single ranges goes down
FEWEST = 12  # blocks that must speak
BUMPED = 0.003  # metres in the median over blocks: a scan that nobody moved leaves some 0.4 mm
TRIPOD = (2.6, 9.0)  # metres below the instrument at which its own floor makes one ask for the unit: 0.8 to 2.7 m in feet


@dataclass(frozen=True)
class Seam:
    """offset: metres, the median over blocks of rows by how much ranges do not meet; blocks: how many spoke."""

    offset: float
    blocks: int

    @property
    def bumped(self) -> bool:
        return self.blocks >= FEWEST and self.offset > BUMPED


def seam(scan: Scan) -> Seam | None:
    """How well the first and the last columns of a full turn meet. None for a scan without a grid, or of less than a turn."""
    if scan.row is None or scan.column is None or len(scan) < 10_000:
        return None
    last, rows = int(scan.column.max()), int(scan.row.max()) + 1
    if last < 100:
        return None
    # columns in the order round the seam: the last six, then the first six
    place = np.where(scan.column > last - BESIDE, scan.column - (last + 1), scan.column)
    near = np.nonzero((place >= -BESIDE) & (place < BESIDE))[0]
    xyz = scan.xyz[near].astype(float)
    azimuth = np.arctan2(xyz[:, 1], xyz[:, 0])
    steep = np.hypot(xyz[:, 0], xyz[:, 1]) < 0.35 * np.abs(xyz[:, 2])
    turn = math.remainder(_middle(azimuth[~steep & (place[near] == 0)]) - _middle(azimuth[~steep & (place[near] == -1)]), 2 * math.pi)
    step = 2 * math.pi / (last + 1)
    if not 0.2 * step < abs(turn) < 3 * step:
        return None
    ranges = np.full((rows, 2 * BESIDE), np.nan)
    ranges[scan.row[near], place[near] + BESIDE] = np.linalg.norm(xyz, axis=1)
    gap = _followed(ranges[:, :BESIDE], 1) - _followed(ranges[:, BESIDE:], -1)
    whole = gap[: rows // BLOCK * BLOCK].reshape(-1, BLOCK)
    spoke = (~np.isnan(whole)).sum(axis=1) >= BLOCK // 2
    if not spoke.any():
        return Seam(0.0, 0)
    return Seam(float(np.median(np.abs(np.nanmean(whole[spoke], axis=1)))), int(spoke.sum()))


def _middle(angles: Array) -> float:
    return float(np.angle(np.exp(1j * angles).mean())) if len(angles) else math.nan


def _followed(ranges: Array, way: int) -> Array:
    """Inverse ranges of each row (planes are straight in them) carried half a column beyond their end (way 1) or before their begin
    (-1), as ranges; NaN where the surface is not smooth."""
    t = np.arange(BESIDE) - (BESIDE - 0.5 if way == 1 else -0.5)
    design = np.stack([np.ones(BESIDE), t], axis=1)
    with np.errstate(divide="ignore", invalid="ignore"):
        inverse = 1 / ranges
        fit = inverse @ np.linalg.pinv(design).T
        off = np.abs(ranges - 1 / (fit @ design.T)).max(axis=1)
        return np.asarray(np.where(off < SMOOTH, 1 / fit[:, 0], np.nan))


def floor_below(scan: Scan) -> float | None:
    """How far below the instrument the floor lies on which it stands (metres), from what it saw within 60 to 30 degrees below level.
    None where it saw no floor."""
    xyz = scan.xyz[:: max(1, len(scan) // 200_000)].astype(float)
    down = -xyz[:, 2]
    level = np.hypot(xyz[:, 0], xyz[:, 1])
    z = down[(down > 0.5 * level) & (down < 1.8 * level)]
    if len(z) < 500:
        return None
    count, edges = np.histogram(z, bins=np.arange(0, 12, 0.05))
    k = int(np.argmax(count))
    return float(edges[k] + 0.025) if count[k] > 0.25 * len(z) else None


def remarks(scan: Scan) -> list[str]:
    """What whoever brings a scan in should look at, in words."""
    out = []
    found = seam(scan)
    if found is not None and found.bumped:
        out.append(
            f"the instrument was moved while it scanned: its first and last columns do not meet by {1000 * found.offset:.0f} mm;"
            " scan this station again, or do not build on it"
        )
    floor = floor_below(scan)
    if floor is not None and TRIPOD[0] < floor < TRIPOD[1]:
        out.append(
            f"the floor lies {floor:.1f} m below the instrument: if it stood on a tripod the file is in feet; bring it in with that unit"
        )
    return out
