"""What is seen of a gap in a plane, patch by patch: of points behind it, of their images before it, and of the plane round it.

Terms: behind: beyond a plane, on a ray that crosses it where the plane is, or in a gap of it; image: a point turned back at the plane; telling:
on a surface that the turn moves, as floors and walls square to the plane are not; own: said by a station that does not look through the
same gap, so that a mirror in it cannot show it anything.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from .. import frames
from .movers import Seen
from .turning import CELL, SIDE, Field, Plane
from .witness import alike_at, barred, measured, passed, votes

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
Index = NDArray[np.int64]
EACH = 10  # points of a patch that are asked about
WINDOWS = (1, 3, 7)  # patches across, in which what is said is summed; and the whole gap
SHIFTS = (0.2, 0.3, 0.5)  # metres by which the plane is moved to and fro as a trial
TILT = 0.3  # of the turn, by which a telling surface is moved
SKIN, END = 0.08, 0.15  # metres behind the plane and before the point, in which it is not asked what bars the way
QUICK, ROUND, HARDLY = (
    3,
    5,
    0.2,
)  # each n-th point is asked first; patches across in which, and share of images that are met somewhere, or it is a door
SAYS = 40.0  # metres within which another station has a say
BESIDE = 0.24  # metres beside a gap, in which another station looks through the same one
DEPTH = 0.15  # metres of depth of one surface
SIGHTS = 150  # numbers that tell of a patch


@dataclass(frozen=True)
class Gap:
    """Points of a station behind a plane. cells: of the plane, that the gap takes in; points (n, 3): all that cross it there, in the station's
    frame, in which cell (n,), and the normals of what they are on (n, 3), zeros where of no one surface."""

    own: Seen
    stations: Sequence[Seen]
    plane: Plane
    field: Field
    cells: Flags
    points: Array
    cell: Index
    facing: Array

    @cached_property
    def low(self) -> tuple[int, int]:
        """The first row and column of its patches among those of the plane."""
        row, column = np.divmod(self.cell, self.field.shape[1])
        return int(row.min()) // SIDE, int(column.min()) // SIDE

    @cached_property
    def shape(self) -> tuple[int, int]:
        """How many patches there are in rows and columns."""
        row, column = np.divmod(self.cell, self.field.shape[1])
        return int(row.max()) // SIDE - self.low[0] + 1, int(column.max()) // SIDE - self.low[1] + 1

    def patch(self, cell: Index) -> Index:
        """(n,) the patch of each cell, -1 of those beside."""
        row, column = np.divmod(cell, self.field.shape[1])
        row, column = row // SIDE - self.low[0], column // SIDE - self.low[1]
        inside = (row >= 0) & (row < self.shape[0]) & (column >= 0) & (column < self.shape[1])
        return np.where(inside, row * self.shape[1] + column, -1)

    def tells(self, facing: Array) -> Flags:
        """(n,) whether a surface with a normal (n, 3) is moved by the turn."""
        return np.asarray(np.abs(facing @ self.plane.normal) > TILT)

    @property
    def telling(self) -> Flags:
        """(n,) which of its points tell."""
        return self.tells(self.facing)

    def taken(self, patches: Flags) -> Flags:
        """(all cells,) those of the gap that lie in some of its patches."""
        cells = np.nonzero(self.cells)[0]
        patch = self.patch(cells)
        out = np.zeros(len(self.cells), bool)
        out[cells[(patch >= 0) & patches[patch]]] = True
        return out

    def looked_at(self) -> tuple[Index, NDArray[np.float32]] | None:
        """(m,) patches in which there are points, and (m, SIGHTS) what is seen of them; None when hardly any image is met."""
        patch, shape = self.patch(self.cell), self.shape
        asked = _some(patch)
        p, patch_of = self.points[asked], patch[asked]
        quick = np.arange(len(p)) % QUICK == 0
        met = np.zeros(len(p), bool)
        met[quick] = measured(self.own, self.stations, self.plane.image(p[quick]))
        total = shape[0] * shape[1]
        count, good = (_summed(np.bincount(patch_of[quick], w, total).reshape(shape), ROUND) for w in (None, met[quick]))
        if not ((count >= 6) & (good >= HARDLY * count)).any():
            return None
        met[~quick] = measured(self.own, self.stations, self.plane.image(p[~quick]))
        said = self.said(p, met, self.facing[asked], quick)
        maps = [np.bincount(patch_of, v.astype(float), total) for v in said.values()]
        deep = -self.plane.off(self.points)
        ended, on = self.field.pierced(self.plane, self.points)
        maps += [np.bincount(patch, v.astype(float), total) for v in (ended, on, np.ones(len(patch)), deep, deep**2)]
        sums = dict(zip([*said, "ended", "on", "all", "deep", "deep2"], np.stack(maps).reshape(-1, *shape), strict=True))
        there = np.nonzero(sums["asked"].reshape(-1) > 0)[0]
        seen = [_seen({k: _summed(v, wide).reshape(-1)[there] for k, v in sums.items()}) for wide in WINDOWS]
        whole = np.concatenate([_seen({k: v.sum(keepdims=True).reshape(-1) for k, v in sums.items()})[0], self._whole(deep)])
        parts = [*seen, self._beside()[there], np.broadcast_to(whole, (len(there), len(whole)))]
        return there, np.concatenate(parts, axis=1).astype(np.float32)

    def said(self, p: Array, met: Flags, facing: Array, quick: Flags) -> dict[str, Flags]:
        """What stations say of points (n, 3), each (n,). met: at whose images something was measured; facing (n, 3): normals;
        quick: of which it is asked what bars the way."""
        own, stations, plane = self.own, self.stations, self.plane
        empty = passed(own, stations, plane.image(p)) & ~met
        real, free, real_to_any, free_to_any, wall = (np.zeros(len(p), bool) for _ in range(5))
        telling = self.tells(facing)
        start, end = self._way(p)
        for other in stations:
            if other is own:
                continue
            origin = frames.apply(frames.inverse(own.T_part_station), other.T_part_station[:3, 3][None])[0]
            apart, near = self._apart(origin, p), np.linalg.norm(p - origin, axis=1) < SAYS
            there, through = measured(own, [other], p) & near, (votes(own, other, p) == 2) & near
            real_to_any, free_to_any = real_to_any | there, free_to_any | through
            real, free = real | (there & apart), free | (through & apart & ~there)
            ways = apart & quick
            wall[ways] |= barred(own, [other], start[ways], end[ways])
        before = np.zeros(len(p), bool)
        before[quick] = barred(own, stations, plane.image(start[quick]), plane.image(end[quick]))
        alike = met & alike_at(own, stations, plane.image(p), facing - 2 * (facing @ plane.normal)[:, None] * plane.normal)
        said = {
            "asked": np.ones(len(p), bool),
            "met": met,
            "met_by_own": measured(own, [own], plane.image(p)),
            "empty": empty,
            "real": real,
            "free": free & ~real,
            "real_to_any": real_to_any,
            "free_to_any": free_to_any & ~real_to_any,
            "telling": telling,
            "telling_met": telling & met,
            "telling_empty": telling & empty,
            "telling_real": telling & real,
            "alike": alike,
            "telling_alike": telling & alike,
            "ways": quick,
            "barred_behind": wall,
            "barred_before": before,
        }
        for shift in (s * way for s in SHIFTS for way in (-1, 1)):
            moved = measured(own, stations, Plane(plane.normal, plane.far + shift).image(p))
            said |= {f"moved{shift}": moved, f"telling_moved{shift}": moved & telling, f"won{shift}": moved & ~met}
        return said

    def _way(self, p: Array) -> tuple[Array, Array]:
        """From where the rays to points crossed the plane to the points, but for a little at both ends."""
        cross = self.plane.crossing(p)
        way = p - cross
        length = np.linalg.norm(way, axis=1)
        deep = -self.plane.off(p)
        first = np.minimum(SKIN * length / np.maximum(deep, 1e-3), 0.45 * length)
        unit = way / length[:, None]
        return cross + unit * first[:, None], p - unit * np.minimum(END, 0.45 * length)[:, None]

    def _apart(self, origin: Array, p: Array) -> Flags:
        """(n,) for which of the points (n, 3) somebody at origin (3,) does not look through the same gap."""
        high = float(self.plane.off(origin[None])[0])
        if high <= 0:
            return np.ones(len(p), bool)
        cross = origin + (p - origin) * (high / (high - self.plane.off(p)))[:, None]
        inside, at = self.field.at(cross)
        wide = ndimage.binary_dilation(self.cells.reshape(self.field.shape), iterations=int(BESIDE / CELL))
        return ~(inside & wide[at[:, 0], at[:, 1]])

    def _beside(self) -> Array:
        """(patches, 4) of each: the share of its cells, and of those round it, that were measured of the plane, and metres to the next such cell."""
        (top, left), shape = self.low, self.shape
        maps = [_summed(self.field.walls, wide) / (wide * SIDE) ** 2 for wide in WINDOWS] + [self.field.away]
        return np.stack([m[top : top + shape[0], left : left + shape[1]].reshape(-1) for m in maps], axis=1)

    def _whole(self, deep: Array) -> Array:
        """Numbers of the gap itself. deep (n,): metres of the points behind the plane."""
        cells, met = self.cells.reshape(self.field.shape), self.field.met
        ring = ndimage.binary_dilation(cells, iterations=5) & ~ndimage.binary_dilation(cells)
        up = float((self.own.T_part_station[:3, :3] @ self.plane.normal)[2])
        numbers = [one_surface(deep), *np.quantile(deep, (0.05, 0.25, 0.5, 0.75, 0.95)), float(self.field.rim[self.cells].mean())]
        numbers += [np.log(cells.sum() * CELL**2), abs(up), up > 0.9, self.plane.far, np.log(met.sum() * CELL**2)]
        return np.array([*numbers, met[ring].mean() if ring.any() else 0.0, met[cells].mean()], float)


def one_surface(deep: Array) -> float:
    """The largest share of points, by metres behind a plane (n,), that lie within DEPTH of each other."""
    far = np.sort(deep)
    return float((np.searchsorted(far, far + DEPTH, side="right") - np.arange(len(far))).max() / len(far))


def _some(patch: Index) -> Index:
    """Numbers of at most EACH points of each patch, in order; which ones is drawn, the same each time."""
    order = np.lexsort((np.random.default_rng(0).random(len(patch)), patch))
    new = np.r_[True, patch[order][1:] != patch[order][:-1]]
    rank = np.arange(len(order)) - np.maximum.accumulate(np.where(new, np.arange(len(order)), 0))
    return np.sort(order[rank < EACH])


def _summed(values: NDArray[Any], wide: int) -> Array:
    return (
        np.asarray(ndimage.uniform_filter(values.astype(float), wide, mode="constant") * wide * wide) if wide > 1 else values.astype(float)
    )


def _seen(sums: dict[str, Array]) -> Array:
    """(m, 33) shares and counts of sums (m,) by name."""
    n, tell = np.maximum(sums["asked"], 1e-6), sums["telling"] + 0.5
    total, ended = np.maximum(sums["all"], 1e-6), sums["ended"]
    out = [np.log1p(n), *(sums[k] / n for k in ("met", "met_by_own", "empty")), sums["empty"] / (sums["met"] + sums["empty"] + 0.5)]
    out += [*(sums[k] / n for k in ("real", "free")), sums["real"] / (sums["real"] + sums["free"] + 1)]
    out += [*(sums[k] / n for k in ("real_to_any", "free_to_any", "telling")), np.log1p(sums["telling"])]
    out += [sums["alike"] / n, *(sums[k] / tell for k in ("telling_met", "telling_alike", "telling_empty", "telling_real"))]
    out += [sums[k] / (sums["ways"] + 0.5) for k in ("barred_behind", "barred_before")]
    for s in SHIFTS:
        out += [
            np.maximum(sums[f"moved{s}"], sums[f"moved{-s}"]) / n,
            np.maximum(sums[f"telling_moved{s}"], sums[f"telling_moved{-s}"]) / tell,
        ]
    both = [
        (sums["met"] - sums[f"moved{s}"] + sums[f"won{s}"], sums[f"won{s}"]) for way in SHIFTS for s in (-way, way)
    ]  # met here only; there only
    out += [np.min([np.log((lost + 1) / (won + 1)) for lost, won in both], axis=0), np.min([lost for lost, _ in both], axis=0) / n]
    out += [np.min([lost - won for lost, won in both], axis=0) / n]
    middle = sums["deep"] / total
    out += [np.log1p(ended), sums["on"] / (ended + 1), np.log1p(total), middle, np.sqrt(np.maximum(sums["deep2"] / total - middle**2, 0))]
    return np.stack(out, axis=1)
