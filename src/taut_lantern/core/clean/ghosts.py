"""Ghosts in mirrors, glass and wet floors: what was measured behind a plane that turned the rays back, and is the mirror image of a place
before it.

Whether a gap in a plane is a door or a mirror is told patch by patch, by what is seen of it (`gaps.py`) and trees that were grown on simulated
sites with mirrors and without (`measures/mirrors.py`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.spatial import cKDTree

from .. import frames
from .gaps import Gap, one_surface
from .movers import Seen
from .trees import Trees
from .turning import FLAT, LIKE, Field, Plane, planes
from .witness import heard, measured, passed

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
Index = NDArray[np.int64]
BEYOND = 0.06  # metres behind a plane from which on a point is behind it
FEWEST = 60  # points of a gap, and of a ghost
IS, SURELY = 4.0, 5.0  # log odds of a patch that is of a mirror; of what hangs together, on the mean
BELOW = 4.0  # that mean, from which down a patch is beside it: a crack along a wet floor looks a little like one
HOPELESS = -6.0  # of a gap's likeliest patch, below which it is not looked at again
LIKELY = -3.0  # log odds of patches that are looked at by themselves
PIECE, WHOLE = 8, 0.7  # how many of them at least, and of what share of their gap's at most
ONE = 0.9  # share of a ghost's points on one surface, from which on it proves little
SAID = 0.2  # share of them of which others have to say something then
SHUT = 4  # cells of a patch that were measured, if no ray went through it, for it to end a mirror
EAGER = 4.0  # by how much more all are at full strength than at none
MET, WRONG = 0.5, 0.15  # share of images of what another station sees in a known mirror, that are met; through which rays passed freely
LEVEL = 0.9  # upwards share of a normal, from which on a plane is level
NEAR = 0.12  # metres between crossings that are of one gap
SIDES, ASIDE = 12, 0.4  # crossings nearest to one, and how far their middle is off it, of the way to the farthest: 0.42 on an edge
MANY = 4000  # points that are asked about


@dataclass(frozen=True)
class Ghost:
    """points: sorted numbers in the station's order; at, normal (3,): of the plane, in the part; share: of images at which something was
    measured; crossed (m, 3): places of the plane, in the part, that rays were turned back at."""

    station: str
    points: Index
    at: Array
    normal: Array
    share: float
    crossed: Array

    @property
    def level(self) -> bool:
        """Whether a floor turned the rays back, rather than a wall."""
        return bool(abs(self.normal[2]) > LEVEL)


def ghosts(
    stations: Sequence[Seen], trees: Trees, strength: float = 0.5, report: Callable[[int, int], None] = lambda done, total: None
) -> list[Ghost]:
    """Those of all stations, the largest first. What was found has no say when it is looked a second time. strength: 0 takes only what is sure, 1
    also what is likely."""
    more = EAGER * (strength - 0.5)
    out, open_still = list[Ghost](), list[Gap]()
    for k, own in enumerate(stations):
        report(k, 2 * len(stations))
        left = np.ones(len(own.xyz), bool)
        for gap in gaps(own, stations):
            odds = _odds(gap, trees) + more
            for told in (odds, _parted(gap, odds, trees, more)):
                out += _found(gap, told, left)
            if odds.max() > HOPELESS + more:
                open_still.append(gap)
    if not out:
        return out
    seen = [_without(own, out) for own in stations]
    free = {own.name: ~_points(own, out) for own in stations}
    for k, gap in enumerate(open_still):
        report(len(stations) * (len(open_still) + k) // len(open_still), 2 * len(stations))
        others = [gap.own if x.name == gap.own.name else x for x in seen]
        gap = replace(gap, stations=others)
        odds = _odds(gap, trees) + more
        out += _found(gap, odds, free[gap.own.name])
    for mirror in list(out):  # what turned the rays of one station back, turns those of others too
        for own in seen:
            if own.name != mirror.station and (another := _again(mirror, own, seen, _points(own, out))):
                out.append(another)
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
    return blank(own, gone) if gone.any() else own


def blank(own: Seen, gone: Flags) -> Seen:
    """A station whose grid lacks some of its points (n,)."""
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
    if len(behind) < FEWEST:
        return None
    cross = plane.crossing(own.xyz[behind].astype(float))
    mine = behind[among(cross, frames.apply(T_station_part, known.crossed))]
    if len(mine) < FEWEST:
        return None
    some = own.xyz[mine[:: max(1, len(mine) // MANY)]].astype(float)
    met = measured(own, stations, plane.image(some))
    empty = passed(own, stations, plane.image(some)) & ~met
    if met.mean() < MET or empty.sum() > WRONG * (met | empty).sum():
        return None
    return Ghost(own.name, mine, known.at, known.normal, float(met.mean()), known.crossed)


def among(places: Array, known: Array) -> Flags:
    """(n,) which places (n, 3) have known ones (m, 3) on all sides: the reveal of a door beside a mirror has them on one."""
    away, at = cKDTree(known).query(places, k=SIDES, distance_upper_bound=NEAR)
    near: Flags = np.asarray(np.asarray(away) < np.inf)
    there = np.where(near[..., None], known[np.where(near, at, 0)] - places[:, None], 0.0)
    middle = np.linalg.norm(there.sum(axis=1), axis=1) / np.maximum(near.sum(axis=1), 1)
    return np.asarray(near.any(axis=1) & (middle < ASIDE * np.where(near, away, 0.0).max(axis=1)))


def gaps(own: Seen, stations: Sequence[Seen]) -> Iterator[Gap]:
    """Those of the planes of a station."""
    image = own.grid.image.reshape(-1, 3).astype(float)
    normal = own.grid.facing.reshape(-1, 3).astype(float)
    there = np.nonzero((image != 0).any(axis=1))[0]
    points, facing = image[there], normal[there]
    for plane in planes(image, normal):
        off = plane.off(points)
        behind = there[off < -BEYOND]
        field = Field.of(plane, points[(np.abs(off) < FLAT) & (facing @ plane.normal > LIKE)])  # not where others only meet it
        if field is None or len(behind) < FEWEST:
            continue
        cell = field.cell(plane, image[behind])
        behind, cell = behind[cell >= 0], cell[cell >= 0]
        label = field.gathered(cell)
        for k in np.nonzero(np.bincount(label[cell], minlength=1) >= FEWEST)[0]:
            mine = label[cell] == k
            pixel = behind[mine]
            yield Gap(own, stations, plane, field, np.asarray(label == k), image[pixel], cell[mine], normal[pixel])


def _odds(gap: Gap, trees: Trees) -> Array:
    """(patches,) log odds of being of a mirror."""
    out = np.full(gap.shape[0] * gap.shape[1], -np.inf)
    if (looked := gap.looked_at()) is not None:
        out[looked[0]] = trees.said(looked[1])
    return out


def _parted(gap: Gap, odds: Array, trees: Trees, more: float) -> Array:
    """(patches,) log odds of what hangs together of the likelier patches of a gap, looked at by itself: a mirror that reaches to the end of what it
    hangs on is one gap with the open beside it. odds (patches,): in the whole gap, with more of them. Those that border on what is neither of the
    mirror nor shut are of none."""
    label, count = ndimage.label((odds > LIKELY + more).reshape(gap.shape), np.ones((3, 3)))
    if not count:
        return np.full(len(odds), -np.inf)
    there, patch = np.isfinite(odds).reshape(gap.shape), gap.patch(gap.cell)
    out = np.full(gap.shape, -np.inf)
    for k in range(1, count + 1):
        if not PIECE <= np.count_nonzero(label == k) < WHOLE * there.sum():
            continue
        inside = (label == k).reshape(-1)
        mine = inside[patch]
        part = replace(gap, cells=gap.taken(inside), points=gap.points[mine], cell=gap.cell[mine], facing=gap.facing[mine])
        (top, left), (high, wide) = np.subtract(part.low, gap.low), part.shape
        place = out[top : top + high, left : left + wide]
        np.maximum(place, _odds(part, trees).reshape(part.shape) + more, out=place)
    mirror = np.maximum(out, odds.reshape(gap.shape)) > IS
    (top, left), (high, wide) = gap.low, gap.shape
    shut = np.pad(gap.field.walls >= SHUT, 1)[top : top + high + 2, left : left + wide + 2]  # and one patch round the gap
    shut[1:-1, 1:-1] = mirror | (shut[1:-1, 1:-1] & ~there)
    ended = ndimage.binary_erosion(shut, np.ones((3, 3), bool))[1:-1, 1:-1]
    return np.where(ended, out, -np.inf).reshape(-1)


def _found(gap: Gap, odds: Array, left: Flags) -> Iterator[Ghost]:
    """Those in a gap. odds (patches,): log odds; left (n,): points of the station that are not of ghosts yet, and are no more when they were found."""
    own, plane, turn = gap.own, gap.plane, gap.own.T_part_station
    label = ndimage.label((odds > IS).reshape(gap.shape), np.ones((3, 3)))[0].reshape(-1)
    for k in range(1, label.max() + 1):
        if (mean := odds[label == k].mean()) <= SURELY:
            continue
        region = gap.taken((label == k) & (odds > mean - BELOW))
        mine = np.nonzero(left & (plane.off(own.xyz.astype(float)) < -BEYOND))[0]
        cell = gap.field.cell(plane, own.xyz[mine].astype(float))
        mine = mine[(cell >= 0) & region[np.maximum(cell, 0)]]
        if len(mine) < FEWEST:
            continue
        p = own.xyz[mine[:: max(1, len(mine) // MANY)]].astype(float)
        if one_surface(-plane.off(p)) > ONE and heard(own, gap.stations, p).mean() < SAID:
            continue  # the far wall of the next room, as far behind as another stands before, looks the same
        left[mine] = False
        foot, crossed = frames.apply(turn, (-plane.far * plane.normal)[None])[0], frames.apply(turn, plane.crossing(p))
        share = float(measured(own, gap.stations, plane.image(p)).mean())
        yield Ghost(own.name, mine, foot, turn[:3, :3] @ plane.normal, share, crossed)
