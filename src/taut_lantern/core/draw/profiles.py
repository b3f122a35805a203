"""What an upright cut shows beside straight faces: flights of stairs, and beams below a ceiling. Section frame, metres; across is up.

A flight is told by treads that follow each other at one rise and one going; each tread and riser is then measured by its own points, so
that uneven ones show. Open treads, which have nothing upright between them, stay single lines.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from .faces import Around, Face
from .fit import thin

Array = NDArray[np.float64]
SLICE = 0.008  # metres of height in which points of a level run lie
GAP = 0.07  # metres without a point that part runs
RISE, GOING = (0.10, 0.32), (0.15, 0.45)  # metres from tread to tread
TREAD = (0.10, 1.40)  # metres of a tread, or of a landing at its end
OFF = (0.010, 0.045)  # metres that a tread may lie off the pitch, up and along
LEAST = 3  # treads of a flight
NEAR = 0.008  # metres within which points are of one tread or riser
CELL = 0.02  # metres of a tread or riser in which one point says that it was seen
BEAM = (0.06, 1.5)  # metres that a beam is wide, and hangs down


@dataclass(frozen=True)
class Tread:
    """From its nosing at x, z to x1, uphill. points: 0 when it was not seen and stands where the pitch has it. riser: metres of what is
    upright below the nosing that were seen, of ``rise``. goes_on: its level goes on uphill beyond it, as that of a landing does."""

    x: float
    z: float
    x1: float
    rise: float
    points: int
    seen: float
    riser: float
    rms: float
    goes_on: bool = False


@dataclass(frozen=True)
class Flight:
    """Treads from the lowest up. rise, going: mean, metres; uneven: by how much a rise differs most from their mean, metres."""

    treads: tuple[Tread, ...]
    rise: float
    going: float
    uneven: float

    @property
    def closed(self) -> bool:
        """Whether there is something upright between most treads."""
        return sum(t.riser > 0.3 * t.rise for t in self.treads) > len(self.treads) / 2

    @property
    def outline(self) -> list[tuple[float, float]]:
        """Riser and tread in turn, from the foot of the lowest riser to the end of the last tread, or to where a landing begins."""
        out, below = [], self.treads[0].z - self.rise
        for t in self.treads:
            out += [(t.x, below), (t.x, t.z)]
            below = t.z
        return out if self.treads[-1].goes_on else [*out, (self.treads[-1].x1, below)]

    def along(self, a: Sequence[float], b: Sequence[float], within: float = 0.12) -> bool:
        """Whether a line lies along the pitch, as one that was laid over the nosings."""
        p, q = (np.array([t.x, t.z]) for t in (self.treads[0], self.treads[-1]))
        u = (q - p) / max(float(np.linalg.norm(q - p)), 1e-9)
        d = np.subtract(b, a)
        long = max(float(np.linalg.norm(d)), 1e-9)
        if abs(float(u[0] * d[1] - u[1] * d[0])) > math.sin(math.radians(8)) * long:
            return False
        off = [abs(float(u[0] * (e[1] - p[1]) - u[1] * (e[0] - p[0]))) for e in (a, b)]
        return max(off) < max(within, self.rise)

    def holds(self, a: Sequence[float], b: Sequence[float]) -> bool:
        """Whether a line is one of its treads or risers."""
        for t in self.treads:
            low, high = sorted((t.x, t.x1))
            level = all(abs(e[1] - t.z) < 0.02 and low - 0.06 < e[0] < high + 0.06 for e in (a, b))
            upright = all(abs(e[0] - t.x) < 0.02 and t.z - t.rise - 0.03 < e[1] < t.z + 0.03 for e in (a, b))
            if level or upright:
                return True
        return False


def flights(points: Array) -> list[Flight]:
    """Flights of stairs among points (n, 2) of an upright cut."""
    cloud = points[np.argsort(points[:, 0], kind="stable")]
    left, out = _levels(thin(points, 0.006)), []
    while len(left) >= LEAST and (found := _pitch(left)) is not None:
        treads, used = found
        left = left[~used]
        flight = _measured(cloud, *treads)
        if flight is not None:
            out.append(flight)
            left = left[[not flight.holds((x0, z), (x1, z)) for x0, x1, z in left]]
    return out


def _levels(flat: Array) -> Array:
    """Runs of points (n, 2) at one height as long as treads, with hardly any just above and below: (k, 3) from, to, height. Straight lines
    that go through most points would be laid along the pitch instead."""
    if len(flat) < LEAST * 6:
        return np.zeros((0, 3))
    order = np.lexsort((flat[:, 0], flat[:, 1]))
    x, z = flat[order].T
    out: list[tuple[float, float, float]] = []
    for start in np.arange(z[0], z[-1], SLICE / 2):
        low, high = np.searchsorted(z, [start, start + SLICE])
        if high - low < 6:
            continue
        own = np.sort(x[low:high])
        for run in np.split(own, np.nonzero(np.diff(own) > GAP)[0] + 1):
            long = float(run[-1] - run[0])
            if not TREAD[0] <= long <= TREAD[1] or len(np.unique(np.floor(run / CELL))) < 0.6 * long / CELL:
                continue
            beside = 0
            for b, e in ((start - 2.5 * SLICE, start - 0.5 * SLICE), (start + 1.5 * SLICE, start + 3.5 * SLICE)):
                k, m = np.searchsorted(z, [b, e])
                beside = max(beside, int(np.count_nonzero((x[k:m] > run[0] + 0.02) & (x[k:m] < run[-1] - 0.02))))
            if beside < 0.5 * len(run):
                out.append((float(run[0]), float(run[-1]), float(np.mean(z[low:high][(x[low:high] >= run[0]) & (x[low:high] <= run[-1])]))))
    kept: list[tuple[float, float, float]] = []
    for a in sorted(out, key=lambda v: v[0] - v[1]):  # the longer of two that are the same
        if not any(abs(a[2] - b[2]) < 1.5 * SLICE and a[0] < b[1] and a[1] > b[0] for b in kept):
            kept.append(a)
    return np.array(kept).reshape(-1, 3)


def _pitch(level: Array) -> tuple[tuple[float, float, float, float, int, int], NDArray[np.bool_]] | None:
    """The flight with most treads among level lines (n, 3: from, to, height): x and z of its tread 0, going (with its direction) and rise,
    numbers of the lowest and highest tread; and which lines are its own. None without one."""
    best: tuple[int, tuple[float, float, float, float, int, int], NDArray[np.bool_]] | None = None
    for up in (1, -1):
        nosing = level[:, 0] if up > 0 else level[:, 1]
        rises, goings = level[None, :, 2] - level[:, None, 2], up * (nosing[None, :] - nosing[:, None])
        next_ = (rises >= RISE[0]) & (rises <= RISE[1]) & (goings >= GOING[0]) & (goings <= GOING[1])
        for i, j in np.argwhere(next_):
            rise, going = rises[i, j], goings[i, j]
            k = np.round((level[:, 2] - level[i, 2]) / rise).astype(int)
            near = np.abs(level[:, 2] - level[i, 2] - k * rise) < OFF[0] + 0.001 * np.abs(k)
            near &= np.abs(up * (nosing - nosing[i]) - k * going) < OFF[1] + 0.004 * np.abs(k)
            steps = np.unique(k[near])
            if len(steps) < LEAST or np.count_nonzero(np.diff(steps) == 1) < 2 or (best is not None and len(steps) <= best[0]):
                continue
            a = np.column_stack([np.ones(near.sum()), k[near]])
            (z, rise), (x, going) = (np.linalg.lstsq(a, v[near], rcond=None)[0] for v in (level[:, 2], nosing))
            best = (len(steps), (float(x), float(z), float(going), float(rise), int(steps[0]), int(steps[-1])), near)
    return None if best is None else best[1:]


def _measured(cloud: Array, x: float, z: float, going: float, rise: float, first: int, last: int) -> Flight | None:
    """Each tread by its own points, sorted by x; more of them below and above as long as they go on."""
    found: dict[int, Tread | None] = {k: _tread(cloud, x + k * going, z + k * rise, going, rise) for k in range(first, last + 1)}
    for way in (-1, 1):
        k, missed = (first if way < 0 else last) + way, 0
        while missed < 2 and -40 < k < 80:
            found[k] = _tread(cloud, x + k * going, z + k * rise, going, rise)
            missed = 0 if found[k] is not None else missed + 1
            k += way
    seen = sorted(k for k, t in found.items() if t is not None)
    if len(seen) < LEAST:
        return None
    treads = []
    for k in range(seen[0], seen[-1] + 1):
        own = found[k]
        own = own or Tread(x + k * going, z + k * rise, x + (k + 1) * going, rise, 0, 0.0, 0.0, 0.0)
        treads.append(own)
    for n, t in enumerate(treads[:-1]):  # what lies under the next one is not seen
        end = treads[n + 1].x if treads[n + 1].riser > 0.3 * rise else t.x1
        treads[n] = replace(t, x1=end, goes_on=False)
    heights = [(k, found[k].z) for k in seen]  # type: ignore[union-attr]
    steps = np.array([b[1] - a[1] for a, b in zip(heights, heights[1:], strict=False) if b[0] - a[0] == 1])
    if len(steps) < 2:
        return None
    mean = float(steps.mean())
    across = np.polyfit(seen, [found[k].x for k in seen], 1)[0]  # type: ignore[union-attr]
    return Flight(tuple(treads), mean, abs(float(across)), float(np.abs(steps - mean).max()))


def _tread(cloud: Array, x: float, z: float, going: float, rise: float) -> Tread | None:
    """A tread by its points, its nosing about x, z; None when hardly any lie there."""
    up = 1.0 if going > 0 else -1.0
    low, high = sorted((x - 0.5 * going, x + going + 0.02 * up))  # lines end short of the nosing where others begin
    near = cloud[np.searchsorted(cloud[:, 0], low) : np.searchsorted(cloud[:, 0], high)]
    own = near[np.abs(near[:, 1] - z) < 0.035]
    if len(own) < 6:
        return None
    h = np.sort(own[:, 1])
    count = np.searchsorted(h, h + NEAR) - np.arange(len(h))
    k = int(np.argmax(count))
    at = float(np.median(h[k : k + count[k]]))
    on = own[np.abs(own[:, 1] - at) < NEAR]
    cells = np.unique(np.floor(on[:, 0] / CELL))
    if len(cells) < 3 or len(on) < 6:
        return None
    at = float(np.mean(on[:, 1]))
    if np.count_nonzero(up * (on[:, 0] - x) < -0.45 * abs(going)) > 0.02 * len(on):
        return None  # it goes on downhill: the floor that the flight stands on
    edge = float(np.percentile(up * on[:, 0], 1)) * up
    end = float(np.percentile(up * on[:, 0], 99)) * up
    upright = near[(np.abs(near[:, 0] - edge) < 0.02) & (near[:, 1] < at - 0.015) & (near[:, 1] > at - rise + 0.015)]
    riser = 0.0
    if len(upright) >= 6:
        line = float(np.median(upright[:, 0]))
        upright = upright[np.abs(upright[:, 0] - line) < NEAR]
        riser = min(len(np.unique(np.floor(upright[:, 1] / CELL))) * CELL, rise)
        edge = line if riser > 0.3 * rise else edge
    rms = float(np.sqrt(np.mean((on[:, 1] - at) ** 2)))
    beyond = np.sort([x + 1.1 * going, x + 1.1 * going + 0.3 * up])
    further = cloud[np.searchsorted(cloud[:, 0], beyond[0]) : np.searchsorted(cloud[:, 0], beyond[1])]
    on_ = len(np.unique(np.floor(further[np.abs(further[:, 1] - at) < NEAR, 0] / CELL))) > 0.6 * 0.3 / CELL
    return Tread(edge, at, end, rise, len(on), min(len(cells) * CELL, abs(end - edge)), riser, rms, on_)


def beams(faces: Sequence[Face]) -> set[int]:
    """The numbers of faces that are two sides and the underside of a beam: level, seen from below, both ends at corners with upright faces
    that go up from there."""
    upright = [k for k, f in enumerate(faces) if abs(f.b[0] - f.a[0]) < 0.03 * f.length]
    out: set[int] = set()
    for k, f in enumerate(faces):
        if abs(f.b[1] - f.a[1]) > 0.03 * f.length or not BEAM[0] <= f.length <= BEAM[1] or not _looks_down(f):
            continue
        sides = []
        for end in (f.a, f.b):
            for j in upright:
                foot, head = sorted((faces[j].a, faces[j].b), key=lambda p: p[1])
                if math.dist(foot, end) < 0.02 and BEAM[0] <= head[1] - foot[1] <= BEAM[1]:
                    sides.append(j)
                    break
        if len(set(sides)) == 2:
            out |= {k, *sides}
    return out


def _looks_down(f: Face) -> bool:
    return bool(f.side * (1 if f.b[0] > f.a[0] else -1) < 0)


def hanging(face: Face, below: Around) -> bool:
    """Whether a face in a ceiling plan hangs, as the side of a beam does: it does not go on 0.7 to 1.4 m below the cut."""
    points = below.points[below.beside(np.array(face.a), np.array(face.b))]
    t, off, up = (points[:, :2] - face.a) @ face.along, (points[:, :2] - face.a) @ face.normal, points[:, 2]
    on = (t > 0) & (t < face.length) & (np.abs(off) < 0.03) & (up < -0.7) & (up > -1.4)
    return len(np.unique(np.floor(t[on] / 0.1))) < 0.3 * face.length / 0.1
