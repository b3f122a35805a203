"""A straight face in a cut, and what the points round it say of it: side, residual, lean, height, instruments. Section frame, metres."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .fit import Circle, thin

Array = NDArray[np.float64]
Ends = tuple[tuple[float, float], tuple[float, float]]
APART = 0.006  # metres by which lines lie apart that are two
STEP = 0.05  # metres of a line in which one point says that it was seen
TALL = (0.85, 1.40)  # metres above the cut of a plan: what reaches there is no furniture
SAME = 0.012  # metres across within which points are of a face
UNSEEN = 0.20  # metres without a point that are told apart from what was seen


@dataclass(frozen=True)
class Face:
    """A straight face in the cut, from a to b (2,). side: +1 when what is free lies left of a → b, -1 right, 0 not known. seen, bridged:
    metres of its length with points, and without. lean: millimetres a metre out of plumb, towards the free side, nan when not known;
    tall: share of its length that goes on above furniture, nan when nothing was asked. ends: whether a and b are computed corners.
    error: one deviation of its place across, from its points alone, metres. pieces: where it was seen, gaps below ``UNSEEN`` bridged; they
    stay where they are when the face ends elsewhere."""

    a: tuple[float, float]
    b: tuple[float, float]
    rms: float
    points: int
    side: int
    seen: float
    bridged: float
    error: float
    lean: float = math.nan
    tall: float = math.nan
    ends: tuple[bool, bool] = (False, False)
    stations: tuple[int, ...] = ()
    pieces: tuple[Ends, ...] = ()

    @property
    def length(self) -> float:
        return math.dist(self.a, self.b)

    @property
    def along(self) -> Array:
        return (np.array(self.b) - self.a) / max(self.length, 1e-9)

    @property
    def normal(self) -> Array:
        """Left of a → b."""
        return np.array([-self.along[1], self.along[0]])


@dataclass(frozen=True)
class Around:
    """Points (n, 3) section frame round a cut, deeper than it; which instrument saw each (n,), and where those stood (m, 3)."""

    points: Array
    station: NDArray[np.int64]
    stands: Array

    def __post_init__(self) -> None:
        low = self.points[:, :2].min(axis=0, initial=0.0)
        key = _cell(np.floor((self.points[:, :2] - low) / CELL).astype(np.int64))
        order = np.argsort(key, kind="stable")
        object.__setattr__(self, "_kept", (low, key[order], order))

    def beside(self, a: Array, b: Array) -> NDArray[np.int64]:
        """The numbers of the points near the line from a to b (2,): all within 0.1 m of it, and some more."""
        low, keys, order = self._kept  # type: ignore[attr-defined]
        steps = np.linspace(0, 1, max(2, int(math.dist(a, b) / (CELL / 2)) + 2))[:, None]
        at = np.floor((a + (b - a) * steps - low) / CELL).astype(np.int64)
        cells = np.unique(_cell((at[:, None, :] + ROUND[None]).reshape(-1, 2)))
        first, last = np.searchsorted(keys, cells), np.searchsorted(keys, cells, side="right")
        pieces = [order[f:e] for f, e in zip(first, last, strict=True) if e > f]
        return np.concatenate(pieces) if pieces else np.zeros(0, np.int64)


CELL = 0.25
ROUND = np.array([(x, y) for x in (-1, 0, 1) for y in (-1, 0, 1)])


def _cell(at: NDArray[np.int64]) -> NDArray[np.int64]:
    return np.asarray(at[:, 0] * 4_000_037 + at[:, 1])


def face_of(ends: Ends, around: Around, level: bool, trim: bool = True) -> Face | None:
    """What the points round a line say of it: side, lean, height, instruments. None when hardly any lies on it. trim: leave out at its ends
    what a few points beyond a gap have drawn it to."""
    if trim:
        ends = _laid(_trimmed(ends, around) or ends, around)
    a, b = np.array(ends[0]), np.array(ends[1])
    length = float(np.linalg.norm(b - a))
    along = (b - a) / length
    normal = np.array([-along[1], along[0]])
    index = around.beside(a, b)
    points, station = around.points[index], around.station[index]
    t, off, up = (points[:, :2] - a) @ along, (points[:, :2] - a) @ normal, points[:, 2]
    near = (t > -0.01) & (t < length + 0.01) & (np.abs(off) < SAME + 0.03 * np.abs(up))
    on = near & (np.abs(off) < SAME) & (np.abs(up) < 0.06)
    if on.sum() < 6:
        return None
    rms = float(np.sqrt(np.mean(off[on] ** 2)))
    cells = max(1, round(length / STEP))
    full = np.unique(np.clip(t[on] / length * cells, 0, cells - 1).astype(int))
    seen = len(full) * length / cells
    count = np.bincount(station[on], minlength=len(around.stands))
    stands = around.stands[:, :2] @ normal - a @ normal
    view = float((np.sign(stands) * count).sum()) / on.sum()
    side = int(np.sign(view)) if abs(view) > 0.3 else 0
    apart = len(thin(points[on], STEP))  # neighbours share what errs in them
    lean, tall = math.nan, math.nan
    if level and near.sum() >= 40:
        lean = _lean(off[near], up[near]) * (side or 1)
        high = near & (up > TALL[0]) & (up < TALL[1])
        tall = _share_high(t[high] / length, up[high], length)
    stations = tuple(int(v) for v in np.argsort(-count) if count[v] > 0)
    error = rms / math.sqrt(max(apart, 1))
    runs = np.split(full, np.nonzero(np.diff(full) * length / cells > UNSEEN + STEP)[0] + 1)
    pieces = tuple((_on(a, along, r[0] * length / cells), _on(a, along, (r[-1] + 1) * length / cells)) for r in runs)
    return Face(
        ends[0], ends[1], rms, int(on.sum()), side, seen, max(0.0, length - seen), error, lean, tall, (False, False), stations, pieces
    )


def _on(a: Array, along: Array, t: float) -> tuple[float, float]:
    p = a + along * t
    return float(p[0]), float(p[1])


def unseen(ends: Ends, pieces: Sequence[Ends], least: float = UNSEEN) -> list[tuple[Ends, bool]]:
    """A line in pieces from its first end to its last, each with whether it was not seen: what none of the pieces that were seen cover over
    more than ``least`` metres."""
    a, b = np.array(ends[0]), np.array(ends[1])
    long = float(np.linalg.norm(b - a))
    along = (b - a) / max(long, 1e-9)
    at = sorted((max(0.0, min(t)), min(long, max(t))) for p in pieces for t in [[float((np.array(q) - a) @ along) for q in p]])
    out: list[tuple[float, float, bool]] = []
    here = 0.0
    for low, high in [*((x, y) for x, y in at if y > x), (long, long)]:
        if low - here > least:
            out.append((here, low, True))
            here = low
        if out and not out[-1][2]:
            out[-1] = (out[-1][0], max(out[-1][1], high), False)
        elif high > here:
            out.append((here, high, False))
        here = max(here, high)
    return [((_on(a, along, x), _on(a, along, y)), gap) for x, y, gap in out if y - x > 1e-9]


def steps_of(face: Face, around: Around, level: bool) -> list[Face]:
    """A face, or the two that it is made of: walls of neighbouring rooms that are a centimetre or two off one another make one line, bent in
    between. Two they are when two lines fit their points far better and lie apart where one ends and the other begins."""
    a, b = np.array(face.a), np.array(face.b)
    p = around.points[around.beside(a, b)]
    d = p[np.abs(p[:, 2]) < 0.06, :2] - a
    t, off = d @ face.along, d @ face.normal
    on = (np.abs(off) < 2 * SAME) & (t > 0) & (t < face.length)
    cells = round(face.length / STEP)
    if cells < 16:
        return [face]
    cell = np.clip(t[on] / face.length * cells, 0, cells - 1).astype(int)
    count = np.bincount(cell, minlength=cells)
    used = count >= 2
    x, y = (np.bincount(cell, v[on], cells)[used] / count[used] for v in (t, off))
    if len(x) < 16:
        return [face]
    best = (_left(x, y), 0)
    whole = best[0]
    for k in range(6, len(x) - 5):
        both = _left(x[:k], y[:k]) + _left(x[k:], y[k:])
        if both < best[0]:
            best = (both, k)
    k = best[1]
    if not k or best[0] > 0.2 * whole:
        return [face]
    lines = [np.polyfit(x[:k], y[:k], 1), np.polyfit(x[k:], y[k:], 1)]
    middle = (x[k - 1] + x[k]) / 2
    if abs(float(np.polyval(lines[0], middle) - np.polyval(lines[1], middle))) < APART:
        return [face]
    out = []
    for line, (low, high) in zip(lines, ((x[0], x[k - 1]), (x[k], x[-1])), strict=True):
        low, high = (low if low > x[0] else 0.0), (high if high < x[-1] else face.length)
        ends = [a + face.along * v + face.normal * float(np.polyval(line, v)) for v in (low, high)]
        if high - low > 0.2 and (f := face_of(((ends[0][0], ends[0][1]), (ends[1][0], ends[1][1])), around, level)) is not None:
            out.append(f)
    return out if len(out) == 2 else [face]


def _left(x: Array, y: Array) -> float:
    """What a line through points leaves: the sum of squares."""
    cx, cy = x - x.mean(), y - y.mean()
    return float(cy @ cy - (cx @ cy) ** 2 / max(cx @ cx, 1e-12))


def _laid(ends: Ends, around: Around) -> Ends:
    """A line laid on the means of its points, each few centimetres of it counting alike however many points they have."""
    a, b = np.array(ends[0]), np.array(ends[1])
    p = around.points[around.beside(a, b)]
    p = p[np.abs(p[:, 2]) < 0.06, :2]
    for _ in range(2):
        length = math.dist(a, b)
        along = (b - a) / length
        normal = np.array([-along[1], along[0]])
        t, off = (p - a) @ along, (p - a) @ normal
        on = (np.abs(off) < SAME) & (t > 0) & (t < length)
        cells = max(1, round(length / STEP))
        cell = np.clip(t[on] / length * cells, 0, cells - 1).astype(int)
        count = np.bincount(cell, minlength=cells)
        used = count > 0
        if used.sum() < 3:
            return ends
        at, by = (np.bincount(cell, v[on], cells)[used] / count[used] for v in (t, off))
        weight = np.sqrt(np.minimum(count[used], 20))
        slope, shift = np.polyfit(at, by, 1, w=weight)
        rest = np.abs(by - slope * at - shift)
        keep = rest <= max(3 * 1.4826 * float(np.median(rest)), 0.001)
        if keep.sum() >= 3:
            slope, shift = np.polyfit(at[keep], by[keep], 1, w=weight[keep])
        a, b = a + normal * shift, b + normal * (slope * length + shift)
    return (float(a[0]), float(a[1])), (float(b[0]), float(b[1]))


def _trimmed(ends: Ends, around: Around) -> Ends | None:
    """A line without pieces at its ends that are short and lie beyond a gap of some centimetres: where it crosses another thing."""
    a, b = np.array(ends[0]), np.array(ends[1])
    length = math.dist(a, b)
    along = (b - a) / length
    d = around.points[around.beside(a, b)]
    t, off = (d[:, :2] - a) @ along, (d[:, :2] - a) @ np.array([-along[1], along[0]])
    t = np.sort(t[(np.abs(off) < SAME) & (np.abs(d[:, 2]) < 0.06) & (t > -0.01) & (t < length + 0.01)])
    if len(t) < 20 or length < 0.6:
        return None
    cuts = np.nonzero(np.diff(t) > max(0.08, 4 * length / len(t)))[0]
    runs = np.split(t, cuts + 1)
    if len(runs) > 1 and np.ptp(runs[0]) < min(0.12, 0.6 * (runs[1][0] - runs[0][-1])):
        runs.pop(0)
    if len(runs) > 1 and np.ptp(runs[-1]) < min(0.12, 0.6 * (runs[-1][0] - runs[-2][-1])):
        runs.pop()
    low, high = a + along * runs[0][0], a + along * runs[-1][-1]
    return (float(low[0]), float(low[1])), (float(high[0]), float(high[1]))


def _share_high(place: Array, up: Array, length: float) -> float:
    """Share of a face's length (place 0 to 1) that has points so high up. Those of a ceiling, most of them at one height, are none of it."""
    if len(place) == 0:
        return 0.0
    count, edge = np.histogram(up, bins=np.arange(TALL[0], TALL[1] + 0.03, 0.02))
    if count.max() > 0.6 * len(up):
        at = edge[int(np.argmax(count))] + 0.01
        place = place[np.abs(up - at) > 0.02]
    wide = max(1, round(length / 0.2))
    return len(np.unique(np.clip(place * wide, 0, wide - 1).astype(int))) / wide


def _lean(off: Array, up: Array) -> float:
    """Millimetres a metre of height by which points go across; nan when they do not reach over 0.4 m of height."""
    if np.ptp(up) < 0.4:
        return math.nan
    keep, fit = np.ones(len(off), bool), np.zeros(2)
    for _ in range(4):
        fit = np.polyfit(up[keep], off[keep], 1)
        rest = off - np.polyval(fit, up)
        keep = np.abs(rest) < max(2.5 * 1.4826 * float(np.median(np.abs(rest[keep]))), 0.002)
        if keep.sum() < 20 or np.ptp(up[keep]) < 0.4:
            return math.nan
    return 1000 * float(fit[0])


def reaches_up(circle: Circle, around: Array) -> bool:
    """Whether what is round in a plan goes on above furniture and people. around (n, 3): points deeper than the cut."""
    off = np.abs(np.hypot(around[:, 0] - circle.centre[0], around[:, 1] - circle.centre[1]) - circle.radius)
    high = around[(off < 0.02) & (around[:, 2] > TALL[0]) & (around[:, 2] < TALL[1]), 2]
    return len(high) > 5 and float(np.ptp(high)) > 0.1
