"""The room round a place on its floor: a box turned to its walls, from floor to ceiling; and the level surfaces within a box.

Terms: tall: a cell of the plan in which something stands over most of the height from the floor to the ceiling and near to that, as walls do
and furniture does not.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from .. import frames
from ..errors import NotEnough
from .select import Box

Array = NDArray[np.float64]
CELL = 0.05  # metres of a cell of the plan
STEP = 0.25  # metres of a step in height
PLAN = 0.1  # metres of a cell in which floor and ceiling are compared
HEAD = 1.8  # metres above the floor from which on a level surface is a ceiling
BESIDE = 0.7  # metres round the pick in which the floor lies
ROUND = 3.0  # metres round the pick in which floor and ceiling are looked for
COVER = 0.25  # share of the cells there that a ceiling covers
TALL = 0.5  # share of the steps between floor and ceiling that a tall cell fills, beside a window too
UP = 1  # uppermost steps, in one of which it is filled too: cabinets and pipes end below
HELD = 0.3  # share of a side that is tall along a wall with doors, gates and what stands before it
ABOVE, WALL = 3, 0.45  # uppermost steps, above cupboards; metres that a wall is thick at most
FIRST, NEAREST = 1.5, 0.15  # metres to each side that are looked along first, and to the nearest wall
FREE = 8.0  # metres to which a side reaches where no wall is
FACE = 0.6  # of the fullest line of a wall, from which on one is its face
TURNS = 8
OPEN = 2.8  # metres above the floor to which a box reaches where no ceiling is
MARGIN = 0.06  # metres that a box is larger than the room, so that its surfaces lie within


@dataclass(frozen=True)
class Room:
    """box: in the part; floor and ceiling: heights in the part, None where there is none; sides: how many of its four are walls."""

    box: Box
    floor: float
    ceiling: float | None
    sides: int


def room_of(points: Array, pick: Array, reach: float = 25.0, scanner: Array | None = None) -> Room:
    """The room in whose floor ``pick`` (3,) lies, from points (n, 3) round it, z up. NotEnough when the pick is on no floor. scanner (n, 3):
    from where each was measured, which tells the face of a wall from its other side."""
    own = np.abs(points[:, :2] - pick[:2]).max(axis=1) <= reach
    p = points[own]
    near = p[np.linalg.norm(p[:, :2] - pick[:2], axis=1) <= ROUND]
    beside = near[(np.abs(near[:, 2] - pick[2]) <= 0.15) & (np.linalg.norm(near[:, :2] - pick[:2], axis=1) <= BESIDE)]
    if len(beside) < 15:
        raise NotEnough("there is no floor where you picked", subject="pick", remedy="pick a place on the floor that is shown")
    floor = float(np.median(beside[:, 2]))
    ceiling = _ceiling(near, floor)
    top = floor + OPEN if ceiling is None else ceiling
    standing = (p[:, 2] > floor + 0.2) & (p[:, 2] < top - 0.2)
    stand = p[standing]
    if len(stand) < 100:
        raise NotEnough("nothing stands round this place", subject="pick", remedy="set a box by its limits instead")
    yaw = direction_of(stand[np.linalg.norm(stand[:, :2] - pick[:2], axis=1) <= 2 * ROUND] if len(stand) > 5000 else stand)
    T_turned_part = frames.pose(-yaw) @ frames.pose(0.0, (-pick[0], -pick[1], 0.0))
    flat = frames.apply(T_turned_part, stand)
    sight = None if scanner is None else (stand - scanner[own][standing]) @ T_turned_part[:3, :3].T
    low, high, sides = _walls(flat, sight, floor + 0.2, top - 0.2, reach)
    z0, z1 = floor - MARGIN, top + MARGIN
    centre = frames.apply(frames.inverse(T_turned_part), np.array([[*((low + high) / 2), (z0 + z1) / 2]]))[0]
    half = (high - low) / 2 + MARGIN
    box = Box((float(centre[0]), float(centre[1]), float(centre[2])), (float(half[0]), float(half[1]), (z1 - z0) / 2), yaw)
    return Room(box, floor, ceiling, sides)


def _ceiling(near: Array, floor: float) -> float | None:
    """Height of the lowest level surface above heads that covers enough of the place."""
    above = near[near[:, 2] > floor + HEAD]
    if len(above) < 30:
        return None
    key = np.floor(above[:, :2] / PLAN).astype(np.int64)
    ground = len(np.unique(np.floor(near[np.abs(near[:, 2] - floor) < 0.1][:, :2] / PLAN).astype(np.int64), axis=0))
    bins = np.floor((above[:, 2] - floor) / CELL).astype(np.int64)
    for k in range(int(bins.min()), int(bins.max()) + 1):
        own = (bins == k) | (bins == k + 1)
        if own.sum() >= 30 and len(np.unique(key[own], axis=0)) >= COVER * ground:
            return float(np.median(above[own, 2]))
    return None


def direction_of(points: Array) -> float:
    """The direction of most walls in plan, radians within a quarter turn: where both coordinates gather most."""
    some = points[:: max(1, len(points) // 20_000), :2]
    some = some - some.mean(axis=0)

    def gathered(yaw: float) -> float:
        c, s = np.cos(yaw), np.sin(yaw)
        out = 0.0
        for along in (c * some[:, 0] + s * some[:, 1], c * some[:, 1] - s * some[:, 0]):
            count = np.bincount(np.floor((along - along.min()) / 0.03).astype(np.int64)).astype(float)
            out += float((count**2).sum())
        return out

    best = max(np.radians(np.arange(0, 90, 1.0)), key=gathered)
    return float(max(best + np.radians(np.arange(-0.9, 0.91, 0.1)), key=gathered))


def _walls(flat: Array, sight: Array | None, low_z: float, high_z: float, reach: float) -> tuple[Array, Array, int]:
    """(lower, higher corner in plan, walls) of the four nearest lines round the origin along which enough is tall. Which lines those are
    hangs on how long the sides are, and that on the lines: found in turns. sight (n, 3): the rays."""
    size = int(2 * reach / CELL) + 1
    cell = np.clip(np.floor((flat[:, :2] + reach) / CELL).astype(np.int64), 0, size - 1)
    steps = max(int((high_z - low_z) / STEP), 1)
    level = np.clip(((flat[:, 2] - low_z) / (high_z - low_z) * steps).astype(np.int64), 0, steps - 1)
    count = np.zeros((size, size), np.int64)
    filled = np.unique(np.stack([cell[:, 0], cell[:, 1], level], axis=1), axis=0)
    np.add.at(count, (filled[:, 0], filled[:, 1]), 1)
    top = np.zeros((size, size), bool)
    high = filled[:, 2] >= steps - UP
    top[filled[high, 0], filled[high, 1]] = True
    # a wall may fall between two cells, and its points miss one
    tall = (ndimage.maximum_filter(count, 3) >= TALL * steps) & ndimage.maximum_filter(top, 3)
    upper = level >= steps - ABOVE
    within: dict[tuple[int, int], NDArray[np.bool_]] = {}  # cells in which something high was seen from this side
    if sight is not None:
        for axis, way in ((0, -1), (0, 1), (1, -1), (1, 1)):
            image = within[axis, way] = np.zeros((size, size), bool)
            some = upper & (way * sight[:, axis] > 0)
            image[cell[some, 0], cell[some, 1]] = True
    middle = size // 2
    begin = int(FIRST / CELL)
    sides = np.array([[middle - begin, middle + begin]] * 2)
    walls = np.zeros((2, 2), bool)
    for _ in range(TURNS):
        before = sides.copy()
        for axis in range(2):
            a, b = sides[1 - axis]
            band = tall[:, a : b + 1] if axis == 0 else tall[a : b + 1, :].T
            enough = band.mean(axis=1) >= HELD
            for k, way in ((0, -1), (1, 1)):
                found = np.nonzero(enough[:middle][::-1] if way < 0 else enough[middle + 1 :])[0]
                far = found[found * CELL >= NEAREST]
                walls[axis, k] = len(far) > 0
                if len(far):
                    place = middle + way * (1 + _heart(far, band, middle, way))
                    if within:
                        inside = within[axis, way][:, a : b + 1] if axis == 0 else within[axis, way][a : b + 1, :].T
                        place = _own_face(place, inside.mean(axis=1), middle, way)
                else:
                    place = int(np.clip(middle + way * FREE / CELL, 0, size - 1))
                sides[axis, k] = place
        if (before == sides).all():
            break
    edge = (sides + 0.5) * CELL - reach
    return edge[:, 0] - CELL / 2, edge[:, 1] + CELL / 2, int(walls.sum())


def _heart(far: NDArray[np.int64], band: NDArray[np.bool_], middle: int, way: int) -> int:
    """Of the first lines one behind the other that are enough, the first that is nearly as full as any: the face of the wall, neither what
    hangs on it nor its other side."""
    run = far[: int(np.argmax(np.diff(np.append(far, far[-1] + 9)) > 1)) + 1]
    full = np.array([band[middle + way * (1 + k)].sum() for k in run])
    return int(run[np.argmax(full >= FACE * full.max())])


def _own_face(place: int, seen: Array, middle: int, way: int) -> int:
    """The line at ``place``, or, where that was seen from the other side alone, the fullest within WALL before it that was seen from this one:
    what shows of a wall over a cupboard. seen: share of each line."""
    if seen[max(place - 1, 0) : place + 2].max() >= HELD / 2:
        return place
    before = [k for k in range(place - way, place - way * (int(WALL / CELL) + 1), -way) if way * (k - middle) * CELL >= NEAREST]
    best = max(before, key=lambda k: seen[k], default=place)
    return best if seen[best] >= HELD else place


@dataclass(frozen=True)
class Levels:
    """Heights of the lowest and the highest level surface, in the box's own upright axis; None when there is none."""

    floor: float | None
    ceiling: float | None


def levels_of(heights: Array) -> Levels:
    """The floor and the ceiling among heights (n,) of points of a room: the outermost in which a twentieth of them gather to 4 cm."""
    if len(heights) < 100:
        return Levels(None, None)
    low = float(heights.min())
    count = np.bincount(np.floor((heights - low) / 0.02).astype(np.int64))
    both = count + np.append(count[1:], 0)
    some = np.nonzero(both >= 0.05 * len(heights))[0]
    if not len(some):
        return Levels(None, None)
    at = low + 0.02 * (some + 1.0)
    floor, ceiling = float(at[0]), float(at[-1])
    return Levels(floor, ceiling if ceiling - floor > 1.0 else None)
