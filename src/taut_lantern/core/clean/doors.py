"""Doors that stood otherwise in one scan than in another: an upright leaf that others looked through, and one of its size in another scan that
shares an upright edge with it.

Terms: leaf: points of one station on an upright plane, as wide and as high as a door; hinge: the edge that two leaves share.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..align.contradiction import clusters
from .ground import above_ground
from .movers import VOXEL, Seen, said

Array = NDArray[np.float64]
WIDE, HIGH = (0.5, 1.5), (1.5, 2.6)  # metres of a leaf
FLAT, UPRIGHT = 0.03, 0.06  # metres across a leaf, nine of ten points; of its normal that may point up
FEWEST = 150  # points of a leaf
HINGE, LIKE, TURN = (
    0.3,
    0.35,
    np.radians(12.0),
)  # metres between two hinges, near which the frame hides a leaf; of the width that two may differ; that they are turned at least
GROUND = 0.05  # metres above the ground from which on points are of a leaf


@dataclass(frozen=True)
class Leaf:
    """points: sorted numbers in the station's order; ends (2, 2): of its foot in plan; low, high (3,): of its box; all in the part."""

    station: str
    points: NDArray[np.int64]
    ends: Array
    low: Array
    high: Array

    @property
    def width(self) -> float:
        return float(np.linalg.norm(self.ends[1] - self.ends[0]))


@dataclass(frozen=True)
class Door:
    """The same leaf as it stood in some scans and in others, and by what angle it was turned, radians."""

    one: tuple[Leaf, ...]
    other: tuple[Leaf, ...]
    angle: float


def doors(stations: Sequence[Seen], report: Callable[[int, int], None] = lambda done, total: None) -> list[Door]:
    """Leaves that turned between scans; each leaf in one door at most, the nearest hinges first."""
    leaves: list[Leaf] = []
    for k, own in enumerate(stations):
        report(k, len(stations))
        leaves += _leaves(own, stations)
    stood: list[list[Leaf]] = []  # leaves that stood alike
    for leaf in leaves:
        same = next((g for g in stood if _alike(g[0], leaf) and all(x.station != leaf.station for x in g)), None)
        if same is None:
            stood.append([leaf])
        else:
            same.append(leaf)
    pairs = []
    for i, a in enumerate(stood):
        for j, b in enumerate(stood[i + 1 :], i + 1):
            if not {x.station for x in a} & {x.station for x in b} and (fit := _hinged(a[0], b[0])) is not None:
                pairs.append((fit[0], i, j, fit[1]))
    used: set[int] = set()
    out = []
    for _, i, j, angle in sorted(pairs):
        if not {i, j} & used:
            used |= {i, j}
            out.append(Door(tuple(stood[i]), tuple(stood[j]), angle))
    return out


def _alike(a: Leaf, b: Leaf) -> bool:
    """Whether two leaves stood at one place."""
    straight, crossed = (max(np.linalg.norm(a.ends - ends, axis=1)) for ends in (b.ends, b.ends[::-1]))
    return bool(min(straight, crossed) <= HINGE)


def _leaves(own: Seen, stations: Sequence[Seen]) -> list[Leaf]:
    """Leaves of a station that some other station looked through."""
    part = frames.apply(own.T_part_station, own.xyz)
    votes = said(own, stations)
    if not votes:
        return []
    through = np.any([v == 2 for v in votes.values()], axis=0)
    some = np.nonzero(through & (above_ground(part) > GROUND))[0]
    if len(some) < FEWEST:
        return []
    label, count = clusters(part[some], VOXEL)
    out = []
    for k in np.nonzero(np.bincount(label, minlength=count) >= FEWEST)[0]:
        if (leaf := _leaf(own.name, some[label == k], part)) is not None:
            out.append(leaf)
    return out


def _leaf(station: str, points: NDArray[np.int64], part: Array) -> Leaf | None:
    p = part[points]
    middle = np.median(p, axis=0)
    for _ in range(3):
        _, axes = np.linalg.eigh(np.cov((p - middle).T))
        off = np.abs((p - middle) @ axes[:, 0])
        p = p[off <= max(FLAT, 1.5 * float(np.median(off)))]
        if len(p) < FEWEST:
            return None
        middle = p.mean(axis=0)
    normal = axes[:, 0]
    across = np.abs((part[points] - middle) @ normal)
    if abs(normal[2]) > UPRIGHT or np.mean(across <= FLAT) < 0.9:
        return None
    along = np.array([-normal[1], normal[0]]) / np.hypot(normal[0], normal[1])
    mine = points[across <= FLAT]
    reach = (part[mine, :2] - middle[:2]) @ along
    low, high = np.percentile(reach, [0.5, 99.5])
    tall = float(np.ptp(part[mine, 2]))
    if not (WIDE[0] <= high - low <= WIDE[1] and HIGH[0] <= tall <= HIGH[1]):
        return None
    ends = np.stack([middle[:2] + low * along, middle[:2] + high * along])
    return Leaf(station, np.sort(mine).astype(np.int64), ends, part[mine].min(axis=0), part[mine].max(axis=0))


def _hinged(a: Leaf, b: Leaf) -> tuple[float, float] | None:
    """(metres between the hinges, angle) of two leaves that may be one door; None when they cannot be."""
    if abs(a.width - b.width) > LIKE * max(a.width, b.width) or abs(a.low[2] - b.low[2]) > 0.3:
        return None
    gaps = np.linalg.norm(a.ends[:, None] - b.ends[None], axis=2)
    i, j = np.unravel_index(int(np.argmin(gaps)), (2, 2))
    if gaps[i, j] > HINGE:
        return None
    u, v = a.ends[1 - i] - a.ends[i], b.ends[1 - j] - b.ends[j]
    angle = float(np.arccos(np.clip(u @ v / (np.linalg.norm(u) * np.linalg.norm(v)), -1, 1)))
    return (float(gaps[i, j]), angle) if angle >= TURN else None
