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
from .movers import Seen
from .turning import CELL, FLAT, LIKE, Field, Plane, normals, planes
from .witness import measured, passed, votes

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
BEYOND = 0.06  # metres behind a plane from which on a point is behind it
FEWEST, TELLING, LEAST_TELLING = 200, 60, 20  # pixels of a ghost, and telling ones among them; when all of them are met
TILT = 0.3  # of the turn, by which a telling surface is moved
AGREED = 0.25  # of images of a ghost, at which something was measured: the rest is hidden from all stations
WRONG = 0.15  # of images that anybody has a say in, through which rays passed freely
REAL = 0.2  # of the places themselves that other stations have a say in, not through the same mirror, at which they measured something
ROOM = 0.8  # of them, at which a gap is a door unless nearly all images are met
SOME = 0.03  # of all places, that this has to be to count
PLAIN, REAL_AT_MOST = 0.9, 0.4  # share of images that are met, from which on more of the places themselves may be, and how many
DOUBT = 0.3  # of images round a cell, that may be contradicted where fewer are met
BAD = 0.1  # of places round a cell, at which others measured something and whose image is not met, that may be of a mirror
SHIFT, DROP = 0.2, 0.6  # metres by which a plane is moved as a trial, and the share of what agreed that still may: chance is left as it is
STRICT = 0.1  # the latter of a gap that reaches to where the plane ends, and of few telling points
SHIFTS = (-0.5, -0.3, -0.2, 0.2, 0.3, 0.5)  # metres by which it is moved where few points tell
HARD = 0.03  # of places round a cell, at which others measured something, that a mirror may be grown over
HARDLY = 0.8  # of images that are met, where few points tell
LOST, LOST_SHARE, MORE = 30, 0.03, 3.0  # points that are met no more when the plane is moved; how many times those that are met then only
ENDED, MANY_ENDED = 8, 30  # rays that a wall of some thickness would have ended
ON = 0.9  # of these, that went on, from which on there is no wall but a mirror
ONE, MOST = 0.15, 0.8  # metres of depth of one surface, and the share of points that it may be
MANY_ALIKE = 600  # points of one surface along the plane that may be chance: a tread as far below a landing as another above it
CLOSE = 0.3  # metres behind the plane, within which so few points may be the side of a post beside its face
FREE = 0.3  # of places through which other rays passed, where few points tell
SAYS = 40.0  # metres within which another station has a say
AROUND = 0.56  # metres across in which it is told whether images are met
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


def ghosts(stations: Sequence[Seen], report: Callable[[int, int], None] = lambda done, total: None) -> list[Ghost]:
    """Those of all stations, the largest first."""
    out, found = list[Ghost](), dict[str, list[Plane]]()
    for strict in (False, True):  # what is a gap for sure; then what reaches to a plane's end
        seen = [_without(own, out) for own in stations]
        for k, own in enumerate(seen):
            report(k + strict * len(seen), 2 * len(seen))
            out += _of_one(own, seen, strict, _points(own, out), found)
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
    plane = Plane(normal, -float(normal @ frames.apply(T_station_part, known.at[None])[0]))
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
    met = measured(own, stations, plane.image(some))
    empty = passed(own, stations, plane.image(some)) & ~met
    if met.mean() < 2 * AGREED or empty.sum() > WRONG * (met | empty).sum():
        return None
    return Ghost(own.name, mine, known.at, known.normal, float(met.mean()), known.crossed)


def _of_one(own: Seen, stations: Sequence[Seen], strict: bool, before: Flags, known: dict[str, list[Plane]]) -> Iterator[Ghost]:
    """Those of a station. strict: in gaps that reach to where a plane ends, else in those that do not; before: points that are of ghosts;
    known: planes of the stations that were looked at before, by name."""
    image = own.grid.image.reshape(-1, 3).astype(float)
    normal, ok = normals(own)
    there = np.nonzero((image != 0).any(axis=1))[0]
    if own.name not in known:
        known[own.name] = list(planes(image, normal, ok))
    points, facing, whole, left = image[there], normal[there], ok[there], ~before
    for plane in known[own.name]:
        off = plane.off(points)
        behind = there[off < -BEYOND]
        if len(behind) < FEWEST:
            continue
        on = (np.abs(off) < FLAT) & whole & (facing @ plane.normal > LIKE)  # not where others only meet it
        field = Field.of(plane, points[on])
        if field is None:
            continue
        cell = field.cell(plane, image[behind])
        behind, cell = behind[cell >= 0], cell[cell >= 0]
        telling = ok[behind] & (np.abs(normal[behind] @ plane.normal) > TILT)
        gaps = [x for x in field.gathered(cell, FEWEST) if field.open(x) == strict]
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


@dataclass(frozen=True)
class _Asked:
    """share: of images that are met; met: which; real: places themselves at which others measured something; apart: see ``_Case._others``."""

    share: float
    met: Flags
    real: int
    apart: list[tuple[Seen, NDArray[np.int64]]]


@dataclass(frozen=True)
class _Case:
    """Points of a station behind a plane, crossing it in the cells of a gap, and who is asked about them. others: cells of mirrors in the
    plane that were found before; strict: whether the gap reaches to where the plane ends."""

    own: Seen
    stations: Sequence[Seen]
    plane: Plane
    field: Field
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
            if share is None:
                continue
            met = measured(self.own, self.stations, self.plane.image(p[mine]))
            real = np.zeros(len(met), bool)
            for x, far in self._others(p[mine]):
                real[far] |= measured(self.own, [x], p[mine][far])
            region = self._grown(region, cell[mine], met, real)
            some = region[cell[mine]]
            if (kept := self._trimmed(region, cell[mine][some], telling[mine][some], met[some], real[some])).any():
                yield kept, share

    def _grown(self, region: Flags, cell: NDArray[np.int64], met: Flags, real: Flags) -> Flags:
        """Cells of a mirror with what hangs together with it in its gap and tells nothing, but of which nearly all images are met and where others
        measured hardly anything. cell, met, real: of all points of the gap, whose images are met, which others measured where they are."""
        counts = (np.bincount(cell, weight, len(region)).reshape(self.field.shape) for weight in (None, met, real))
        total, good, there = (ndimage.uniform_filter(v.astype(float), round(AROUND / CELL / 2)) for v in counts)
        fits = self.cells.reshape(self.field.shape) & (good >= PLAIN * total) & (there <= HARD * total)
        label = self.field.pieces((region.reshape(self.field.shape) | ndimage.binary_opening(fits, np.ones((4, 4), bool))).reshape(-1))
        return np.asarray((label > 0) & np.isin(label, np.unique(label[region])))

    def _trimmed(self, region: Flags, cell: NDArray[np.int64], telling: Flags, met: Flags, real: Flags) -> Flags:
        """Cells of a mirror without those of what stands beside it, told by all points: others measured it where it is more often than its image
        is met, or where it hangs together with nothing that tells; at a plane's end, hardly any image is met."""
        counts = (np.bincount(cell, weight, len(region)).reshape(self.field.shape) for weight in (None, met, real, real & ~met))
        total, good, there, against = (ndimage.uniform_filter(v.astype(float), round(AROUND / CELL / 2)) for v in counts)
        beside = (against > BAD * total) & (there > good)
        if self.strict:
            few = (np.bincount(cell, weight, len(region)).reshape(self.field.shape) for weight in (None, met))
            total, good = (ndimage.uniform_filter(v.astype(float), 3) for v in few)
            beside |= good < HARDLY * total
        kept = region & ~beside.reshape(-1)
        if kept.sum() == region.sum() or telling.sum() < TELLING:
            return kept
        label = self.field.pieces(ndimage.binary_opening(kept.reshape(self.field.shape), np.ones((4, 4), bool)).reshape(-1))
        tell, true = (np.bincount(label[cell[some]], minlength=label.max() + 1) for some in (telling, telling & met))
        return np.asarray((label > 0) & ((true > LEAST_TELLING) & (true > 0.5 * tell))[label])

    def agreeing(self, p: Array, cell: NDArray[np.int64], telling: Flags) -> list[Flags]:
        """Of the cells those that hang together with where enough images of telling points are met, and of which nobody says otherwise: a mirror
        beside a door is not the door."""
        if telling.sum() < TELLING:
            return [self.cells]
        some = np.nonzero(telling)[0]
        some = some[:: max(1, len(some) // (3 * MANY))]
        q = p[some]
        image = self.plane.image(q)
        if measured(self.own, self.stations, image[::8]).mean() < SOME:  # most gaps are doors
            return []
        met = measured(self.own, self.stations, image)
        bad = passed(self.own, self.stations, image) & ~met
        for x, far in self._others(q):
            bad[far] |= measured(self.own, [x], q[far]) & ~met[far]
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
        ended, on = self.field.pierced(self.plane, p)
        if ended >= MANY_ENDED and on < 0.5 * ended:  # the wall has a thickness, and stands
            return None
        if self._stands(p[:: max(1, len(p) // MANY)]):
            return None
        if len(p) < MANY_ALIKE and (self._alike(p) or np.quantile(-self.plane.off(p), 0.95) < CLOSE):
            return None
        some = np.nonzero(telling)[0]
        if len(some) >= LEAST_TELLING and (share := self._moved(p[some], len(some) < TELLING)) is not None:
            return share
        if len(some) < TELLING and not self.strict and (share := self._free(p)) is not None:
            return share
        q = p[:: max(1, len(p) // MANY)]
        sure = ended >= ENDED and on >= ON * ended
        if sure and not self.strict:
            most, least = (DOUBT, AGREED) if ended >= MANY_ENDED else (WRONG, HARDLY)
            if (said := self._met(q, most)) is not None and said[0].mean() >= least:
                return float(said[0].mean())
        return self._shown(q) if sure or not self.strict else None

    def _stands(self, q: Array) -> bool:
        """Whether others measured something at many of the places themselves, of points that do not tell too; at nearly all, and fewer images are
        met than of a mirror that shows what is behind it, where the gap does not reach to where the plane ends."""
        apart = self._others(q)
        most = REAL_AT_MOST if self.strict else ROOM
        if self._real(q, apart) <= max(most * sum(len(far) for _, far in apart), SOME * len(q)):
            return False
        return self.strict or bool(measured(self.own, self.stations, self.plane.image(q)).mean() < PLAIN)

    def _real(self, q: Array, apart: list[tuple[Seen, NDArray[np.int64]]]) -> int:
        return sum(int(measured(self.own, [x], q[far]).sum()) for x, far in apart)

    def _shown(self, q: Array) -> float | None:
        """The same of points that hardly tell, by the rims of what they show: an image that is met where the plane is and not where it is moved
        to is far more frequent than the other way round."""
        if (case := self._asked(q)) is None or case.share < HARDLY:
            return None
        for shift in SHIFTS:
            moved = measured(self.own, self.stations, Plane(self.plane.normal, self.plane.far + shift).image(q))
            lost, won = int((case.met & ~moved).sum()), int((moved & ~case.met).sum())
            if lost < max(LOST, LOST_SHARE * len(q)) or lost < MORE * (won + 1):
                return None
        return case.share

    def _moved(self, p: Array, few: bool) -> float | None:
        """The same of telling points: their images are met, and are not where the plane is moved. few: all of that more clearly."""
        q = p[:: max(1, len(p) // MANY)]
        if self.strict and (len(p) < (10 if self._alike(p) else 5) * TELLING or abs(self.plane.normal[2]) > 0.9):
            return None
        if (case := self._asked(q)) is None or ((few or self.strict) and case.share < PLAIN):
            return None
        most = (STRICT if few or self.strict else DROP) * case.share
        moved = (Plane(self.plane.normal, self.plane.far + shift) for shift in (-SHIFT, SHIFT))
        return None if any(measured(self.own, self.stations, plane.image(q)).mean() > most for plane in moved) else case.share

    def _alike(self, p: Array) -> bool:
        """Whether most of the points are of one surface along the plane, which may lie as far behind it as another before it by chance."""
        far = np.sort(-self.plane.off(p))
        return bool((np.searchsorted(far, far + ONE, side="right") - np.arange(len(far))).max() > MOST * len(far))

    def _free(self, p: Array) -> float | None:
        """The same of points that hardly tell: where others have a say, their rays passed."""
        q = p[:: max(1, len(p) // MANY)]
        if (case := self._asked(q)) is None or case.share < HARDLY:
            return None
        free = np.zeros(len(q), bool)
        for x, far in case.apart:
            free[far] |= passed(self.own, [x], q[far])
        return case.share if free.mean() > FREE or (free.sum() > FEW and case.real < 0.1 * free.sum()) else None

    def _met(self, q: Array, most: float = WRONG) -> tuple[Flags, Flags] | None:
        """At which images of points something was measured, and through which rays passed freely; None when too few are met, or too many empty."""
        image = self.plane.image(q)
        met = measured(self.own, self.stations, image)
        empty = passed(self.own, self.stations, image) & ~met
        return None if met.mean() < AGREED or empty.sum() > most * (met | empty).sum() else (met, empty)

    def _asked(self, q: Array) -> _Asked | None:
        """What stations say of points and their images; None when it speaks against a mirror."""
        if (said := self._met(q)) is None:
            return None
        met, empty = said
        apart = self._others(q)
        real = self._real(q, apart)
        plain = met.mean() > PLAIN and empty.sum() < (1 - PLAIN) * (met | empty).sum()  # some places are met by chance all the same
        if real > max((REAL_AT_MOST if plain else REAL) * sum(len(far) for _, far in apart), SOME * len(q)):
            return None
        return _Asked(float(met.mean()), met, real, apart)

    def _others(self, q: Array) -> list[tuple[Seen, NDArray[np.int64]]]:
        return [self._apart(x, q) for x in self.stations if x is not self.own]

    def _apart(self, other: Seen, q: Array) -> tuple[Seen, NDArray[np.int64]]:
        """Numbers of the points that another station has a say of its own in: near enough, and not by the same mirror."""
        origin = frames.apply(frames.inverse(self.own.T_part_station), other.T_part_station[:3, 3][None])[0]
        high = float(self.plane.off(origin[None])[0])
        if high > 0:
            cross = origin + (q - origin) * (high / (high - self.plane.off(q)))[:, None]
            inside, at = self.field.at(cross)
            wide = ndimage.binary_dilation((self.cells | self.others).reshape(self.field.shape), iterations=int(BESIDE / CELL))
            own = ~(inside & wide[at[:, 0], at[:, 1]])
        else:
            own = np.ones(len(q), bool)
        near = np.linalg.norm(q - origin, axis=1) < SAYS
        said = votes(self.own, other, q)
        return other, np.nonzero(own & near & ((said == 1) | (said == 2)))[0]
