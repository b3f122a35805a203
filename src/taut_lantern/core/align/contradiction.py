"""Contradicted objects: what one scan saw standing where the other looked freely, whole things and not single points.

Terms: speaker: a point of a scan that has a say, some 3 cm from the next; solid: with neighbours at its range, so no edge and no
leaf; object: a cluster of solid speakers that the other scan saw through, wider than the sampling across the rays of both; mover:
an object that is part of a free-standing thing no larger than a van (it may have driven off), structure: any other.

A share of what was seen cannot tell a copied room from the same one, where a table stands half a metre aside; objects can.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components

from .. import frames
from ..kernels import objects as kernel
from ..kernels import rays
from ..scan.grid import Grid

Array = NDArray[np.float64]
SPACING = 0.03  # metres between speakers
MOST = 90_000  # speakers of a scan
AGREE, BEHIND = 0.04, 0.02  # metres along the ray
VOXEL = 0.12  # metres: solid points farther apart are of two clusters
FEWEST = 6  # points of a cluster
WIDER = 1.5  # times the spacing of the pixels that a cluster is wide at least, across the rays of both scans
ABOVE = 0.12  # metres above the ground from which on a thing stands on it
THING = 0.20  # metres: voxels of things
VAN = (6.5, 3.2, 2.8)  # metres: what may have moved is no longer, wider, higher
FACING, SLOT, LARGE = 0.97, 0.02, 2.0  # cosine, metres, m2: three such slots of one direction that hold more are a bare surface
PERSON = (0.8, 1.2, 2.1, 0.6)  # metres: no wider, as high at least and at most, seen from below this on
BASE, TOP = 1.4, 3.2  # metres above the ground: it begins lower than this and ends lower than that


BARE = 3.0  # m2 of more than bare walls and floors that two stations share at least: as one sees of a machine, or of a stair
QUIET = 0.006  # m2 of contradicted objects that say nothing: seven speakers
SETTLING = 2e-4  # share of what agrees that structure may contradict where placements are still some millimetres off
STRUCTURE, MOVERS = 0.6, 10.0  # times the site's own share that structure and movers of a right placement contradict at most


@dataclass(frozen=True)
class Speakers:
    """points, normals (m, 3) station frame, metres (normals zero where there is no plane); solid (m,); area: m2 across the ray that
    each stands for; spacing (m,): between pixels there; thing (m,): number of the free-standing thing it belongs to, -1 of none;
    movable (things,): whether it may move."""

    points: Array
    normals: Array
    solid: NDArray[np.bool_]
    spacing: Array
    area: float
    thing: NDArray[np.int64]
    movable: NDArray[np.bool_]
    up: Array  # (m,) metres above the ground below
    plain: NDArray[np.bool_]  # (m,) on a large level or upright surface, as another room has it too


@dataclass(frozen=True)
class Contradiction:
    """Square metres across the rays: agreeing, of structure and of movers that were seen through; places (n, 3) of the objects in
    the frame of a, the largest first; mutual: structure of whichever of the two is contradicted less. Two rooms that are alike
    contradict each other; somebody who stood beside a machine is contradicted by the other scan alone."""

    agree: float
    structure: float
    movers: float
    places: Array
    mutual: float = 0.0
    distinct: float = 0.0  # m2 that agree and are more than bare walls, floors and ceilings


def structure_limit(c: Contradiction, restless: float) -> float:
    """m2 of contradicted structure that a right pair of the site has at most."""
    return QUIET + (STRUCTURE * restless + SETTLING) * c.agree


def limits(c: Contradiction, restless: float) -> tuple[float, float]:
    """(m2 contradicted, m2 of it that a site explains on which right pairs have ``restless`` m2 a m2 that agrees): of structure or of
    movers, whichever exceeds its limit by more."""
    structure = structure_limit(c, restless)
    movers = QUIET + MOVERS * restless * c.agree
    return max((c.structure, structure), (c.movers, movers), key=lambda x: x[0] - x[1])


def speakers(grid: Grid) -> Speakers:
    """Of a scan, once."""
    pixels = rays.pick_uniform(grid.image, grid.geo, SPACING, 0.61)
    area = SPACING**2
    if len(pixels) > MOST:
        area *= len(pixels) / MOST
        pixels = pixels[np.linspace(0, len(pixels) - 1, MOST).astype(np.int64)]
    plane, ok = rays.planes(grid.image, grid.step, grid.wrap, pixels)
    points = grid.image[pixels[:, 0], pixels[:, 1]].astype(float)
    normals = np.where(ok[:, None], plane[:, 3:6], 0.0)
    thing, movable, up = _things(points)
    spacing = np.linalg.norm(points, axis=1) * grid.step
    solid = kernel.solid(grid.image, grid.step, grid.wrap, pixels)
    return Speakers(points, normals, solid, spacing, area, thing, movable, up, bare(points, normals, area))


def bare(points: Array, normals: Array, area: float) -> NDArray[np.bool_]:
    """(m,) which points have no plane, or lie on a level surface or on a wall along the main directions that is larger than a piece
    of furniture: what any room of the building may have just so."""
    out = np.abs(normals).sum(axis=1) == 0
    upright = np.nonzero(~out & (np.abs(normals[:, 2]) < 0.2))[0]
    towards = np.degrees(np.arctan2(normals[upright, 1], normals[upright, 0])) % 90
    count = np.bincount(towards.astype(int) % 90, minlength=90)
    main = np.radians(np.argmax(np.convolve(np.concatenate([count[-2:], count, count[:2]]), np.ones(5), "valid")) + 0.5)
    for axis in (np.array([0, 0, 1.0]), np.array([np.cos(main), np.sin(main), 0]), np.array([-np.sin(main), np.cos(main), 0])):
        along = normals @ axis
        for side in (1, -1):
            own = np.nonzero(side * along > FACING)[0]
            if len(own):
                slot = np.floor(points[own] @ axis / SLOT).astype(int)
                slot -= slot.min() - 1
                large = np.convolve(np.bincount(slot, minlength=slot.max() + 2), np.ones(3), "same") * area > LARGE
                out[own] = large[slot]
    return out


def _things(points: Array) -> tuple[NDArray[np.int64], NDArray[np.bool_], Array]:
    """Free-standing things above the ground: (m,) number of each point, -1 for the ground; (n,) whether it may have moved; (m,) height
    above the ground."""
    low = points.min(axis=0) - 1e-6
    cell = np.floor((points[:, :2] - low[:2]) / 0.5).astype(int)
    lowest = np.full(cell.max(axis=0) + 1, np.inf)
    np.minimum.at(lowest, (cell[:, 0], cell[:, 1]), points[:, 2])
    ground = ndimage.minimum_filter(lowest, 3)[cell[:, 0], cell[:, 1]]
    up = points[:, 2] - ground
    standing = np.nonzero(up > ABOVE)[0]
    thing = np.full(len(points), -1, np.int64)
    if not len(standing):
        return thing, np.zeros(0, bool), up
    thing[standing], count = clusters(points[standing], THING)
    ends = [np.full((count, 4), s * np.inf) for s in (1.0, -1.0)]
    values = np.column_stack([points[standing], up[standing]])
    np.minimum.at(ends[0], thing[standing], values)
    np.maximum.at(ends[1], thing[standing], values)
    size = ends[1] - ends[0]
    flat = np.sort(size[:, :2], axis=1)
    small = (flat[:, 1] <= VAN[0]) & (flat[:, 0] <= VAN[1]) & (size[:, 2] <= VAN[2])
    return thing, small & (ends[0][:, 3] < BASE) & (ends[1][:, 3] < TOP), up


def clusters(points: Array, voxel: float) -> tuple[NDArray[np.int64], int]:
    """(m,) number of the cluster of each point, and how many: points in voxels that touch, by a side, an edge or a corner."""
    key = np.floor((points - points.min(axis=0)) / voxel).astype(np.int64) + 1
    size = key.max(axis=0) + 2
    flat = (key[:, 0] * size[1] + key[:, 1]) * size[2] + key[:, 2]
    cells, own = np.unique(flat, return_inverse=True)
    steps = [(i * size[1] + j) * size[2] + k for i in (0, 1) for j in (-1, 0, 1) for k in (-1, 0, 1) if (i, j, k) > (0, 0, 0)]
    ones, others = [], []
    for step in steps:
        at = np.searchsorted(cells, cells + step)
        hit = np.nonzero((at < len(cells)) & (cells[np.minimum(at, len(cells) - 1)] == cells + step))[0]
        ones.append(hit)
        others.append(at[hit])
    a, b = np.concatenate(ones), np.concatenate(others)
    count, label = connected_components(coo_array((np.ones(len(a), bool), (a, b)), shape=(len(cells), len(cells))), directed=False)
    return label[own].astype(np.int64), int(count)


def contradiction(a: Speakers, grid_a: Grid, b: Speakers, grid_b: Grid, T_a_b: Array) -> Contradiction:
    """Both ways: what each scan saw where the other looked freely."""
    found = [one_way(grid_a, b, T_a_b), one_way(grid_b, a, frames.inverse(T_a_b))]
    places = [found[0].places, frames.apply(T_a_b, found[1].places)]
    agree, structure, movers, distinct = (float(sum(getattr(f, k) for f in found)) for k in ("agree", "structure", "movers", "distinct"))
    return Contradiction(agree, structure, movers, np.concatenate(places), min(f.structure for f in found), distinct)


def one_way(seer: Grid, b: Speakers, T_seer_b: Array) -> Contradiction:
    """What the scan with this image saw through of another one's speakers."""
    said = kernel.say(seer.ring, seer.geo, seer.wrap, T_seer_b, b.points, b.normals, AGREE, BEHIND, 0.0)
    agree, distinct = (float(v.sum()) * b.area for v in (said == 1, (said == 1) & ~b.plain))
    gone = np.nonzero((said == 2) & b.solid)[0]
    if len(gone) < FEWEST:
        return Contradiction(agree, 0.0, 0.0, np.zeros((0, 3)), distinct=distinct)
    label, count = clusters(b.points[gone], VOXEL)
    areas = [0.0, 0.0]
    places: list[tuple[int, Array]] = []
    for k in np.nonzero(np.bincount(label, minlength=count) >= FEWEST)[0].tolist():
        own = gone[label == k]
        here = frames.apply(T_seer_b, b.points[own])
        far = np.linalg.norm(here.mean(axis=0)) * seer.step
        least: float = WIDER * max(float(np.median(b.spacing[own])), float(far), SPACING)
        if min(_width(b.points[own]), _width(here)) <= least:
            continue
        if _somebody(b.points[own], b.up[own]):
            continue
        thing = b.thing[own]
        main = np.bincount(thing[thing >= 0], minlength=1).argmax() if (thing >= 0).any() else -1
        mover = main >= 0 and (thing == main).mean() > 0.5 and bool(b.movable[main])
        areas[int(mover)] += len(own) * b.area
        places.append((len(own), here.mean(axis=0)))
    places.sort(key=lambda x: -x[0])
    return Contradiction(agree, areas[0], areas[1], np.array([p for _, p in places]).reshape(-1, 3), distinct=distinct)


def _somebody(points: Array, up: Array) -> bool:
    """Whether a cluster is as a person who stood there: they walk about while one scans, and say nothing."""
    narrow = bool((np.ptp(points[:, :2], axis=0) <= PERSON[0]).all())
    return narrow and PERSON[1] <= float(up.max()) <= PERSON[2] and float(up.min()) < PERSON[3]


def _width(points: Array) -> float:
    """The smaller width of a cluster across the ray from the origin: of a strip with its variance."""
    middle = points.mean(axis=0)
    across = np.linalg.svd(middle[None])[2][1:]
    return float(np.sqrt(12 * max(np.linalg.eigvalsh(np.cov((points - middle) @ across.T, rowvar=False))[0], 0.0)))
