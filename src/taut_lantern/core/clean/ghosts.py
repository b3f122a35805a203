"""Ghosts in mirrors, glass and wet floors: what was measured behind a plane that turned the rays back, and is the mirror image of a place
before it.

Terms: behind: beyond a plane, on a ray that crosses it where the plane is, or in a gap of it; image: a point turned back at the plane; telling:
on a surface that the turn moves, as floors and walls square to the plane are not.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.spatial import cKDTree

from .. import frames
from ..kernels import objects as kernel
from .movers import Seen

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
PLANES, LEAST = 40, 0.4  # planes of a station that are looked at, and m2 that one has at least
FLAT, LIKE = 0.025, 0.965  # metres off a plane, and cosine to it, of a pixel that is of it
BEYOND = 0.06  # metres behind a plane from which on a point is behind it
CELL = 0.08  # metres of a cell of a plane in which crossings are gathered
ROUND = 0.5  # metres round what is seen of a plane in which a crossing is one of it
FEWEST, TELLING = 200, 60  # pixels of a ghost, and telling ones among them
TILT = 0.3  # of the turn, by which a telling surface is moved
AGREE, THROUGH = 0.02, 0.10  # metres beside the spacing of the rays, within which something was measured at a place; behind it
AGREED = 0.25  # of images of a ghost, at which something was measured: the rest is hidden from all stations
WRONG = 0.15  # of images that anybody has a say in, through which rays passed freely
REAL = 0.2  # of the places themselves that other stations have a say in, not through the same mirror, at which they measured something
PLAIN, REAL_AT_MOST = 0.9, 0.4  # share of images that are met, from which on more of the places themselves may be, and how many
SOME = 0.03  # of all places, that this has to be to count
SHIFT, DROP = 0.2, 0.6  # metres by which a plane is moved as a trial, and the share of what agreed that still may: chance is left as it is
FREE = 0.3  # of places through which other rays passed, where few points tell
SAYS = 40.0  # metres within which another station has a say
AROUND = 7  # cells across in which it is told whether images are met
RIM = 0.05  # share of the cells of a ghost that lie where the plane ends
FEW = 12  # points of a ghost of another station in the same mirror
MANY = 4000  # pixels that are asked about


@dataclass(frozen=True)
class Ghost:
    """points: sorted numbers in the station's order; at, normal (3,): of the plane, in the part; share: of images at which something was
    measured; crossed (m, 3): places of the plane, in the part, that rays were turned back at."""

    station: str
    points: NDArray[np.int64]
    at: Array
    normal: Array
    share: float
    crossed: Array

    @property
    def level(self) -> bool:
        """Whether a floor turned the rays back, rather than a wall."""
        return bool(abs(self.normal[2]) > 0.9)


@dataclass(frozen=True)
class _Plane:
    """normal (3,) towards the scanner, and how far it stands from it, metres; station frame."""

    normal: Array
    far: float

    def off(self, points: Array) -> Array:
        return np.asarray(points @ self.normal + self.far)

    def crossing(self, behind: Array) -> Array:
        """(n, 3) where the rays to points behind the plane cross it."""
        return np.asarray(behind * (self.far / (self.far - self.off(behind)))[:, None])


def ghosts(stations: Sequence[Seen], report: Callable[[int, int], None] = lambda done, total: None) -> list[Ghost]:
    """Those of all stations, the largest first."""
    out: list[Ghost] = []
    for k, own in enumerate(stations):
        report(k, len(stations))
        out += _of_one(own, stations)
    for known in list(out):  # what turned the rays of one station back, turns those of others too
        for own in stations:
            if own.name != known.station and (more := _again(known, own, stations, [g for g in out if g.station == own.name])):
                out.append(more)
    return sorted(out, key=lambda g: -len(g.points))


def _again(known: Ghost, own: Seen, stations: Sequence[Seen], before: list[Ghost]) -> Ghost | None:
    """What another station saw in the same place of the same plane, few points as they may be."""
    T_station_part = frames.inverse(own.T_part_station)
    normal = T_station_part[:3, :3] @ known.normal
    plane = _Plane(normal, -float(normal @ frames.apply(T_station_part, known.at[None])[0]))
    if plane.far <= BEYOND:
        return None
    left = np.ones(len(own.xyz), bool)
    for g in before:
        left[g.points] = False
    behind = np.nonzero(left & (plane.off(own.xyz.astype(float)) < -BEYOND))[0]
    if len(behind) < FEW:
        return None
    cross = plane.crossing(own.xyz[behind].astype(float))
    tree = cKDTree(frames.apply(T_station_part, known.crossed))
    mine = behind[tree.query(cross, distance_upper_bound=1.5 * CELL)[0] < np.inf]
    if len(mine) < FEW:
        return None
    some = own.xyz[mine[:: max(1, len(mine) // MANY)]].astype(float)
    met = _seen(own, stations, _image(plane, some))
    empty = _passed(own, stations, _image(plane, some)) & ~met
    if met.mean() < 2 * AGREED or empty.sum() > WRONG * (met | empty).sum():
        return None
    return Ghost(own.name, mine, known.at, known.normal, float(met.mean()), known.crossed)


def _of_one(own: Seen, stations: Sequence[Seen]) -> Iterator[Ghost]:
    image = own.grid.image.reshape(-1, 3).astype(float)
    normal, ok = _normals(own)
    there = np.nonzero((image != 0).any(axis=1))[0]
    left = np.ones(len(own.xyz), bool)
    for plane in _planes(image, normal, ok):
        off = plane.off(image[there])
        behind = there[off < -BEYOND]
        if len(behind) < FEWEST:
            continue
        on = (np.abs(off) < FLAT) & ok[there] & (normal[there] @ plane.normal > LIKE)  # not where others only meet it
        field = _Field.of(plane, image[there[on]])
        if field is None:
            continue
        cell = field.cell(plane, image[behind])
        behind, cell = behind[cell >= 0], cell[cell >= 0]
        for cells in field.gathered(cell):
            mine = behind[cells[cell]]
            if len(mine) < FEWEST or field.open(cells):
                continue
            case = _Case(own, stations, plane, field, cells)
            for region in case.agreeing(image[mine], cell[cells[cell]], ok[mine] & (np.abs(normal[mine] @ plane.normal) > TILT)):
                some = behind[region[cell]]
                if len(some) < FEWEST:
                    continue
                share = case.told(image[some], ok[some] & (np.abs(normal[some] @ plane.normal) > TILT))
                if share is None:
                    continue
                points = np.nonzero(left & (plane.off(own.xyz.astype(float)) < -BEYOND))[0]
                at = field.cell(plane, own.xyz[points].astype(float))
                points = points[(at >= 0) & region[np.maximum(at, 0)]]
                left[points] = False
                if not len(points):
                    continue
                foot = frames.apply(own.T_part_station, (-plane.far * plane.normal)[None])[0]
                crossed = plane.crossing(own.xyz[points[:: max(1, len(points) // MANY)]].astype(float))
                crossed = frames.apply(own.T_part_station, crossed)
                yield Ghost(own.name, points, foot, own.T_part_station[:3, :3] @ plane.normal, share, crossed)


def _normals(own: Seen) -> tuple[Array, Flags]:
    """(pixels, 3) unit normals towards the scanner from the four neighbours, and (pixels,) where they are of one surface."""
    image = own.grid.image.astype(float)
    ranges = np.linalg.norm(image, axis=2)
    right, left = np.roll(image, -1, 1), np.roll(image, 1, 1)
    up, down = np.roll(image, -1, 0), np.roll(image, 1, 0)
    normal = np.cross(right - left, up - down)
    length = np.linalg.norm(normal, axis=2)
    ok = (ranges > 0) & (length > 1e-9)
    slack = 0.02 + 6 * own.grid.step * ranges
    for other in (right, left, up, down):
        far = np.linalg.norm(other, axis=2)
        ok &= (far > 0) & (np.abs(far - ranges) < slack)
    ok[[0, -1]] = False
    normal /= np.maximum(length, 1e-9)[..., None]
    normal *= -np.sign(np.einsum("ijk,ijk->ij", normal, image) + 1e-30)[..., None]
    return normal.reshape(-1, 3), ok.reshape(-1)


def _planes(image: Array, normal: Array, ok: Flags) -> Iterator[_Plane]:
    """The planes of a station, by what of them is seen in m2, the largest first."""
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


def _fitted(p: Array, weight: Array) -> _Plane:
    middle = np.average(p, axis=0, weights=weight)
    _, _, axes = np.linalg.svd((p - middle) * np.sqrt(weight)[:, None], full_matrices=False)
    n = axes[2] * (-1.0 if float(axes[2] @ middle) > 0 else 1.0)
    return _Plane(n, -float(n @ middle))


@dataclass(frozen=True)
class _Field:
    """Cells of a plane: its two directions (2, 3), the lowest corner, how many cells there are, and which are of the plane or near."""

    axes: Array
    low: Array
    shape: tuple[int, int]
    near: Flags

    @classmethod
    def of(cls, plane: _Plane, on: Array) -> _Field | None:
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
        near = ndimage.binary_fill_holes(ndimage.binary_dilation(cells, iterations=int(ROUND / CELL)))
        return cls(axes, low, (shape[0], shape[1]), np.asarray(near, bool))

    def cell(self, plane: _Plane, behind: Array) -> NDArray[np.int64]:
        """(n,) where the rays to points behind cross the plane: number of the cell, -1 outside of it."""
        at = np.floor((plane.crossing(behind) @ self.axes.T - self.low) / CELL).astype(np.int64)
        inside = ((at >= 0) & (at < self.shape)).all(axis=1)
        at[~inside] = 0
        inside &= self.near[at[:, 0], at[:, 1]]
        return np.where(inside, at[:, 0] * self.shape[1] + at[:, 1], -1)

    def gathered(self, cells: NDArray[np.int64]) -> list[Flags]:
        """What hangs together of the cells that are crossed: (all cells,) of each."""
        crossed = np.zeros(self.shape[0] * self.shape[1], bool)
        crossed[cells] = True
        wide = ndimage.binary_closing(crossed.reshape(self.shape), np.ones((3, 3), bool))
        return self.pieces(wide.reshape(-1) | crossed)

    def pieces(self, cells: Flags) -> list[Flags]:
        label, count = ndimage.label(cells.reshape(self.shape), np.ones((3, 3)))
        return [np.asarray(label.reshape(-1) == k) for k in range(1, count + 1)]

    def open(self, cells: Flags) -> bool:
        """Whether cells reach to where nothing of the plane is near: what lies beside a post is no hole in it."""
        rim = self.near & ~ndimage.binary_erosion(self.near, iterations=2)
        return bool(rim.reshape(-1)[cells].mean() > RIM)


@dataclass(frozen=True)
class _Case:
    """Points of a station behind a plane, crossing it in some cells, and who is asked about them."""

    own: Seen
    stations: Sequence[Seen]
    plane: _Plane
    field: _Field
    cells: Flags

    def agreeing(self, p: Array, cell: NDArray[np.int64], telling: Flags) -> list[Flags]:
        """Of the cells those in and round which enough images of telling points are met: a mirror beside a door is not the door."""
        if telling.sum() < TELLING:
            return [self.cells]
        some = np.nonzero(telling)[0]
        some = some[:: max(1, len(some) // (3 * MANY))]
        met = _seen(self.own, self.stations, self._image(p[some]))
        total, good = (np.bincount(cell[some], weight, len(self.cells)).reshape(self.field.shape) for weight in (None, met))
        total, good = (ndimage.uniform_filter(v.astype(float), AROUND) for v in (total, good))
        holds = (total > 0) & (good >= 0.5 * AGREED * total)
        near = ndimage.binary_dilation(holds, iterations=AROUND) & ~((total > 0) & ~holds)
        kept = ndimage.binary_opening(self.cells.reshape(self.field.shape) & near, np.ones((2, 2), bool)).reshape(-1)
        return self.field.pieces(kept) if kept.any() else []

    def told(self, p: Array, telling: Flags) -> float | None:
        """The share of images at which something was measured; None when these points are no ghost."""
        some = np.nonzero(telling)[0] if telling.sum() >= TELLING else np.arange(len(p))
        some = some[:: max(1, len(some) // MANY)]
        q = p[some]
        image = self._image(q)
        met = _seen(self.own, self.stations, image)
        empty = _passed(self.own, self.stations, image) & ~met
        if met.mean() < AGREED or empty.sum() > WRONG * (met | empty).sum():
            return None
        apart = [self._apart(x, q) for x in self.stations if x is not self.own]
        real = sum(int(_seen(self.own, [x], q[far]).sum()) for x, far in apart)
        plain = met.mean() > PLAIN and empty.sum() < (1 - PLAIN) * (met | empty).sum()  # some places are met by chance all the same
        if real > max((REAL_AT_MOST if plain else REAL) * sum(len(far) for _, far in apart), SOME * len(q)):
            return None
        if telling.sum() >= TELLING:
            moved = [_Plane(self.plane.normal, self.plane.far + shift) for shift in (-SHIFT, SHIFT)]
            if any(_seen(self.own, self.stations, _image(plane, q)).mean() > DROP * met.mean() for plane in moved):
                return None
            return float(met.mean())
        free = np.zeros(len(q), bool)
        for x, far in apart:
            free[far] |= _passed(self.own, [x], q[far])
        return float(met.mean()) if free.mean() > FREE and met.mean() > 2 * AGREED else None

    def _image(self, p: Array) -> Array:
        return _image(self.plane, p)

    def _apart(self, other: Seen, q: Array) -> tuple[Seen, NDArray[np.int64]]:
        """Numbers of the points that another station has a say of its own in: near enough, and not by the same mirror."""
        origin = frames.apply(frames.inverse(self.own.T_part_station), other.T_part_station[:3, 3][None])[0]
        high = float(self.plane.off(origin[None])[0])
        if high > 0:
            cross = origin + (q - origin) * (high / (high - self.plane.off(q)))[:, None]
            at = np.floor((cross @ self.field.axes.T - self.field.low) / CELL).astype(np.int64)
            inside = ((at >= 0) & (at < self.field.shape)).all(axis=1)
            at[~inside] = 0
            wide = ndimage.binary_dilation(self.cells.reshape(self.field.shape), iterations=3)
            own = ~(inside & wide[at[:, 0], at[:, 1]])
        else:
            own = np.ones(len(q), bool)
        near = np.linalg.norm(q - origin, axis=1) < SAYS
        votes = _votes(self.own, other, q)
        return other, np.nonzero(own & near & ((votes == 1) | (votes == 2)))[0]


def _image(plane: _Plane, p: Array) -> Array:
    return np.asarray(p - 2 * plane.off(p)[:, None] * plane.normal)


def _votes(own: Seen, other: Seen, points: Array) -> NDArray[np.int8]:
    t = frames.inverse(other.T_part_station) @ own.T_part_station
    blank = np.zeros((len(points), 3))
    return np.asarray(kernel.say(other.grid.ring, other.grid.geo, other.grid.wrap, t, points, blank, AGREE, THROUGH, 0.0))


def _passed(own: Seen, stations: Sequence[Seen], points: Array) -> Flags:
    """(n,) through which of the points (n, 3) the rays of some station passed freely."""
    out = np.zeros(len(points), bool)
    for other in stations:
        out |= _votes(own, other, points) == 2
    return out


def _seen(own: Seen, stations: Sequence[Seen], points: Array) -> Flags:
    """(n,) at which of the points (n, 3), in the station's frame, some station measured something."""
    out = np.zeros(len(points), bool)
    for other in stations:
        rest = np.nonzero(~out)[0]
        out[rest] = _beside(other, frames.apply(frames.inverse(other.T_part_station) @ own.T_part_station, points[rest]))
    return out


def _beside(other: Seen, p: Array) -> Flags:
    """(n,) at which points of a station's frame one of the nine rays that pass nearest ended beside them, in space."""
    grid = other.grid
    rows, columns = grid.image.shape[:2]
    ranges = np.linalg.norm(p, axis=1)
    row = np.round((np.arctan2(p[:, 2], np.hypot(p[:, 0], p[:, 1])) - grid.geo[2]) / grid.geo[3]).astype(np.int64)
    turn = np.mod(np.arctan2(p[:, 1], p[:, 0]) - grid.geo[0] + 0.5 * grid.geo[1], 2 * np.pi) - 0.5 * grid.geo[1]
    column = np.round(turn / grid.geo[1]).astype(np.int64)
    slack = AGREE + grid.step * ranges
    out = np.zeros(len(p), bool)
    for i in (0, -1, 1):
        for j in (0, -1, 1):
            r, c = row + i, (column + j) % columns if grid.wrap else column + j
            inside = (r >= 0) & (r < rows) & (c >= 0) & (c < columns) & ~out
            at = np.nonzero(inside)[0]
            there = grid.image[r[at], c[at]].astype(float)
            out[at] = (np.linalg.norm(there - p[at], axis=1) <= slack[at]) & (there != 0).any(axis=1)
    return out
