"""Ghosts in mirrors, glass and wet floors: what was measured behind a plane that turned the rays back, and is the mirror image of a place
before it.

Terms: behind: beyond a plane, on a ray that crosses it where the plane is, or in a gap of it; image: a point turned back at the plane; telling:
on a surface that the turn moves, as floors and walls square to the plane are not.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

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
CELL = 0.04  # metres of a cell of a plane in which crossings are gathered
ROUND = 0.5  # metres round what is seen of a plane in which a crossing is one of it
FEWEST, TELLING, LEAST_TELLING = 200, 60, 20  # pixels of a ghost, and telling ones among them; when all of them are met
TILT = 0.3  # of the turn, by which a telling surface is moved
AGREE, THROUGH = 0.02, 0.10  # metres beside the spacing of the rays, within which something was measured at a place; behind it
AGREED = 0.25  # of images of a ghost, at which something was measured: the rest is hidden from all stations
WRONG = 0.15  # of images that anybody has a say in, through which rays passed freely
REAL = 0.2  # of the places themselves that other stations have a say in, not through the same mirror, at which they measured something
PLAIN, REAL_AT_MOST = 0.9, 0.4  # share of images that are met, from which on more of the places themselves may be, and how many
DOUBT = 0.3  # of images round a cell, that may be contradicted where fewer are met
SOME = 0.03  # of all places, that this has to be to count
SHIFT, DROP = 0.2, 0.6  # metres by which a plane is moved as a trial, and the share of what agreed that still may: chance is left as it is
STRICT = 0.1  # that share of a gap that reaches to where the plane ends, and of few telling points
FREE = 0.3  # of places through which other rays passed, where few points tell
SAYS = 40.0  # metres within which another station has a say
AROUND = 0.56  # metres across in which it is told whether images are met
EDGE = 0.16  # metres from where nothing of a plane is near, in which it ends
RIM = 0.05  # share of the cells of a ghost that lie where the plane ends
BESIDE = 0.24  # metres beside a gap, in which another station looks through the same one
NEAR = 0.12  # metres between crossings that are of one gap
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
    out, planes = list[Ghost](), dict[str, list[_Plane]]()
    for strict in (False, True):  # what is a gap for sure; then what reaches to a plane's end
        seen = [_without(own, out) for own in stations]
        for k, own in enumerate(seen):
            report(k + strict * len(seen), 2 * len(seen))
            out += _of_one(own, seen, strict, _points(own, out), planes)
        for known in list(out):  # what turned the rays of one station back, turns those of others too
            for own in seen:
                if own.name != known.station and (more := _again(known, own, seen, _points(own, out))):
                    out.append(more)
    return sorted(out, key=lambda g: -len(g.points))


def _points(own: Seen, known: list[Ghost]) -> Flags:
    """(n,) which points of a station are of ghosts."""
    out = np.zeros(len(own.xyz), bool)
    for g in known:
        if g.station == own.name:
            out[g.points] = True
    return out


def _without(own: Seen, known: list[Ghost]) -> Seen:
    """A station that has a say nowhere but where its rays truly ended."""
    gone = _points(own, known)
    if not gone.any():
        return own
    image = np.where(((own.grid.index >= 0) & gone[own.grid.index])[..., None], np.float32(0), own.grid.image)
    return replace(own, grid=replace(own.grid, image=image))


def _again(known: Ghost, own: Seen, stations: Sequence[Seen], before: Flags) -> Ghost | None:
    """What another station saw in the same place of the same plane, few points as they may be."""
    T_station_part = frames.inverse(own.T_part_station)
    normal = T_station_part[:3, :3] @ known.normal
    plane = _Plane(normal, -float(normal @ frames.apply(T_station_part, known.at[None])[0]))
    if plane.far <= BEYOND:
        return None
    behind = np.nonzero(~before & (plane.off(own.xyz.astype(float)) < -BEYOND))[0]
    if len(behind) < FEW:
        return None
    cross = plane.crossing(own.xyz[behind].astype(float))
    tree = cKDTree(frames.apply(T_station_part, known.crossed))
    mine = behind[tree.query(cross, distance_upper_bound=NEAR)[0] < np.inf]
    if len(mine) < FEW:
        return None
    some = own.xyz[mine[:: max(1, len(mine) // MANY)]].astype(float)
    met = _seen(own, stations, _image(plane, some))
    empty = _passed(own, stations, _image(plane, some)) & ~met
    if met.mean() < 2 * AGREED or empty.sum() > WRONG * (met | empty).sum():
        return None
    return Ghost(own.name, mine, known.at, known.normal, float(met.mean()), known.crossed)


def _of_one(own: Seen, stations: Sequence[Seen], strict: bool, before: Flags, planes: dict[str, list[_Plane]]) -> Iterator[Ghost]:
    """Those of a station. strict: in gaps that reach to where a plane ends, else in those that do not; before: points that are of ghosts;
    planes: of the stations that were looked at before, by name."""
    image = own.grid.image.reshape(-1, 3).astype(float)
    normal, ok = _normals(own)
    there = np.nonzero((image != 0).any(axis=1))[0]
    if own.name not in planes:
        planes[own.name] = list(_planes(image, normal, ok))
    points, facing, whole, left = image[there], normal[there], ok[there], ~before
    for plane in planes[own.name]:
        off = plane.off(points)
        behind = there[off < -BEYOND]
        if len(behind) < FEWEST:
            continue
        on = (np.abs(off) < FLAT) & whole & (facing @ plane.normal > LIKE)  # not where others only meet it
        field = _Field.of(plane, points[on])
        if field is None:
            continue
        cell = field.cell(plane, image[behind])
        behind, cell = behind[cell >= 0], cell[cell >= 0]
        telling = ok[behind] & (np.abs(normal[behind] @ plane.normal) > TILT)
        gaps = [x for x in field.gathered(cell) if field.open(x) == strict]
        found = np.zeros(len(field.near.ravel()), bool)
        while gaps:  # again when one was found: what others saw in that mirror is no proof of a room behind its neighbour
            regions = [
                x for gap in gaps for x in _Case(own, stations, plane, field, gap, found, strict).found(image[behind], cell, telling)
            ]
            gaps = [x for x in gaps if not any((x & region).any() for region, _ in regions)] if regions else []
            for region, share in regions:
                found = found | region
                mine = np.nonzero(left & (plane.off(own.xyz.astype(float)) < -BEYOND))[0]
                at = field.cell(plane, own.xyz[mine].astype(float))
                mine = mine[(at >= 0) & region[np.maximum(at, 0)]]
                left[mine] = False
                if not len(mine):
                    continue
                foot = frames.apply(own.T_part_station, (-plane.far * plane.normal)[None])[0]
                crossed = plane.crossing(own.xyz[mine[:: max(1, len(mine) // MANY)]].astype(float))
                crossed = frames.apply(own.T_part_station, crossed)
                yield Ghost(own.name, mine, foot, own.T_part_station[:3, :3] @ plane.normal, share, crossed)


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
    """Cells of a plane: its two directions (2, 3), the lowest corner, how many cells there are, which are of the plane or near, which of these
    lie where it ends, and in which an upright plane was measured."""

    axes: Array
    low: Array
    shape: tuple[int, int]
    near: Flags
    rim: Flags
    wall: Flags

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
        near = np.asarray(ndimage.binary_fill_holes(ndimage.binary_dilation(cells, iterations=int(ROUND / CELL))), bool)
        rim = near & ~ndimage.binary_erosion(near, iterations=int(EDGE / CELL))
        wall = cells if abs(plane.normal[2]) < 0.9 else np.zeros_like(cells)  # a wet floor turns back some rays only
        return cls(axes, low, (shape[0], shape[1]), near, rim.reshape(-1), wall)

    def cell(self, plane: _Plane, behind: Array) -> NDArray[np.int64]:
        """(n,) where the rays to points behind cross the plane: number of the cell, -1 outside of it."""
        at = np.floor((plane.crossing(behind) @ self.axes.T - self.low) / CELL).astype(np.int64)
        inside = ((at >= 0) & (at < self.shape)).all(axis=1)
        at[~inside] = 0
        inside &= self.near[at[:, 0], at[:, 1]]
        return np.where(inside, at[:, 0] * self.shape[1] + at[:, 1], -1)

    def gathered(self, cells: NDArray[np.int64]) -> list[Flags]:
        """What hangs together of the cells that are crossed, by rays enough: (all cells,) of each. What was measured of the plane parts a mirror
        from a door."""
        crossed = np.zeros(self.shape[0] * self.shape[1], bool)
        crossed[cells] = True
        wide = ndimage.binary_closing(crossed.reshape(self.shape), np.ones((5, 5), bool)) & ~self.wall
        label = self.pieces(wide.reshape(-1) | crossed)
        return [np.asarray(label == k) for k in np.nonzero(np.bincount(label[cells]) >= FEWEST)[0]]

    def pieces(self, cells: Flags) -> NDArray[np.int64]:
        """(all cells,) number of the piece that a cell hangs together with, 0 of others."""
        return np.asarray(ndimage.label(cells.reshape(self.shape), np.ones((3, 3)))[0], np.int64).reshape(-1)

    def open(self, cells: Flags) -> bool:
        """Whether cells reach to where nothing of the plane is near: what lies beside a post is no hole in it."""
        return bool(self.rim[cells].mean() > RIM)


@dataclass(frozen=True)
class _Asked:
    """share: of images that are met; real: places themselves at which others measured something; apart: see ``_Case._others``."""

    share: float
    real: int
    apart: list[tuple[Seen, NDArray[np.int64]]]


@dataclass(frozen=True)
class _Case:
    """Points of a station behind a plane, crossing it in the cells of a gap, and who is asked about them. others: cells of mirrors in the
    plane that were found before; strict: whether the gap reaches to where the plane ends."""

    own: Seen
    stations: Sequence[Seen]
    plane: _Plane
    field: _Field
    cells: Flags
    others: Flags
    strict: bool

    def found(self, p: Array, cell: NDArray[np.int64], telling: Flags) -> Iterator[tuple[Flags, float]]:
        """Cells of the gap that are a mirror, with the share of images that were met; p, cell, telling: of all points behind the plane."""
        mine = self.cells[cell]
        for region in self.agreeing(p[mine], cell[mine], telling[mine]):
            some = region[cell]
            if np.count_nonzero(some) < FEWEST:
                continue
            share = self.told(p[some], telling[some])
            if share is not None:
                yield region, share

    def agreeing(self, p: Array, cell: NDArray[np.int64], telling: Flags) -> list[Flags]:
        """Of the cells those that hang together with where enough images of telling points are met, and of which nobody says otherwise: a mirror
        beside a door is not the door."""
        if telling.sum() < TELLING:
            return [self.cells]
        some = np.nonzero(telling)[0]
        some = some[:: max(1, len(some) // (3 * MANY))]
        q = p[some]
        image = self._image(q)
        if _seen(self.own, self.stations, image[::8]).mean() < SOME:  # most gaps are doors
            return []
        met = _seen(self.own, self.stations, image)
        bad = _passed(self.own, self.stations, image) & ~met
        for x, far in self._others(q):
            bad[far] |= _seen(self.own, [x], q[far]) & ~met[far]
        counts = (np.bincount(cell[some], weight, len(self.cells)).reshape(self.field.shape) for weight in (None, met, bad))
        wide = round(AROUND / CELL / (2 if self.strict else 1))
        total, good, against = (ndimage.uniform_filter(v.astype(float), wide) for v in counts)
        holds = (total > 0) & (good >= 0.5 * AGREED * total)
        if self.strict:
            kept = holds & (against <= good)
        else:
            kept = ndimage.binary_dilation(holds, iterations=wide) & (against <= np.maximum(good, DOUBT * total))
        kept &= self.cells.reshape(self.field.shape)
        kept = ndimage.binary_opening(kept, np.ones((4, 4), bool))
        label = self.field.pieces(kept.reshape(-1))
        return [np.asarray(label == k) for k in np.unique(label[holds.reshape(-1)]) if k]

    def told(self, p: Array, telling: Flags) -> float | None:
        """The share of images at which something was measured; None when these points are no ghost."""
        some = np.nonzero(telling)[0]
        if len(some) >= LEAST_TELLING and (share := self._moved(p[some], len(some) < TELLING)) is not None:
            return share
        return self._free(p) if len(some) < TELLING and not self.strict else None

    def _moved(self, p: Array, few: bool) -> float | None:
        """The same of telling points: their images are met, and are not where the plane is moved. few: all of that more clearly."""
        q = p[:: max(1, len(p) // MANY)]
        if self.strict and (len(p) < 10 * TELLING or abs(self.plane.normal[2]) > 0.9):
            return None
        if (case := self._asked(q)) is None or ((few or self.strict) and case.share < PLAIN):
            return None
        most = (STRICT if few or self.strict else DROP) * case.share
        moved = (_Plane(self.plane.normal, self.plane.far + shift) for shift in (-SHIFT, SHIFT))
        return None if any(_seen(self.own, self.stations, _image(plane, q)).mean() > most for plane in moved) else case.share

    def _free(self, p: Array) -> float | None:
        """The same of points that hardly tell: where others have a say, their rays passed."""
        q = p[:: max(1, len(p) // MANY)]
        if (case := self._asked(q)) is None or case.share <= 2 * AGREED:
            return None
        free = np.zeros(len(q), bool)
        for x, far in case.apart:
            free[far] |= _passed(self.own, [x], q[far])
        return case.share if free.mean() > FREE or (free.sum() > FEW and case.real < 0.1 * free.sum()) else None

    def _asked(self, q: Array) -> _Asked | None:
        """What stations say of points and their images; None when it speaks against a mirror."""
        image = self._image(q)
        met = _seen(self.own, self.stations, image)
        empty = _passed(self.own, self.stations, image) & ~met
        if met.mean() < AGREED or empty.sum() > WRONG * (met | empty).sum():
            return None
        apart = self._others(q)
        real = sum(int(_seen(self.own, [x], q[far]).sum()) for x, far in apart)
        plain = met.mean() > PLAIN and empty.sum() < (1 - PLAIN) * (met | empty).sum()  # some places are met by chance all the same
        if real > max((REAL_AT_MOST if plain else REAL) * sum(len(far) for _, far in apart), SOME * len(q)):
            return None
        return _Asked(float(met.mean()), real, apart)

    def _image(self, p: Array) -> Array:
        return _image(self.plane, p)

    def _others(self, q: Array) -> list[tuple[Seen, NDArray[np.int64]]]:
        return [self._apart(x, q) for x in self.stations if x is not self.own]

    def _apart(self, other: Seen, q: Array) -> tuple[Seen, NDArray[np.int64]]:
        """Numbers of the points that another station has a say of its own in: near enough, and not by the same mirror."""
        origin = frames.apply(frames.inverse(self.own.T_part_station), other.T_part_station[:3, 3][None])[0]
        high = float(self.plane.off(origin[None])[0])
        if high > 0:
            cross = origin + (q - origin) * (high / (high - self.plane.off(q)))[:, None]
            at = np.floor((cross @ self.field.axes.T - self.field.low) / CELL).astype(np.int64)
            inside = ((at >= 0) & (at < self.field.shape)).all(axis=1)
            at[~inside] = 0
            wide = ndimage.binary_dilation((self.cells | self.others).reshape(self.field.shape), iterations=int(BESIDE / CELL))
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
