"""Doors, windows and gaps of an upright surface, in an elevation: where it has no points and rays went through.

The surface is the nearest one parallel to the cut that holds much of what is seen. A hole of it counts when instruments saw something behind
through it: a shadow of what stands before the wall lets nothing through. Section frame, metres.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from .faces import Around

Array = NDArray[np.float64]
Mask = NDArray[np.bool_]
CELL = 0.04  # metres of a cell that one point fills
THICK = 0.03  # metres off a surface within which points are of it
LEAST, MOST = 0.25, 60.0  # square metres of an opening
WIDE = 0.35  # metres of its shorter side
REACH = 8  # cells from rays that went through to others, up to which nothing is thought to stand between
DEEP = 0.6  # metres before and behind a surface that its jambs may reach


@dataclass(frozen=True)
class Opening:
    """low, high: lower left and upper right corner; through: share of its area that rays went through; square: share of the rectangle that is
    open; error: one deviation of the side that is known least, metres; ground: it stands on the lowest points of the surface, as a door does;
    hidden: left, bottom, right, top: whether that side was not seen, and only is where rays ceased to go through (what stands before it ends
    there)."""

    low: tuple[float, float]
    high: tuple[float, float]
    through: float
    square: float
    error: float
    ground: bool
    hidden: tuple[bool, bool, bool, bool] = (False, False, False, False)


@dataclass(frozen=True)
class Surface:
    """towards: how far before the cut it lies; lean: millimetres a metre out of plumb; low, high: the rectangle that holds it."""

    towards: float
    low: tuple[float, float]
    high: tuple[float, float]
    rms: float


def surfaces(points: Array, least: float = 4.0) -> list[float]:
    """Where upright surfaces parallel to the cut lie (towards), of at least so many square metres; the nearest first."""
    if len(points) < 100:
        return []
    low = points.min(axis=0)
    key = np.floor((points - low) / [0.1, 0.1, 0.02]).astype(np.int64)
    cells = np.unique(key, axis=0)
    area = np.bincount(cells[:, 2]) * 0.01
    wide = np.convolve(area, [1, 1, 1], "same")
    peaks = [k for k in range(len(wide)) if wide[k] >= least and wide[k] == wide[max(0, k - 5) : k + 6].max()]
    return sorted((float(low[2] + (k + 0.5) * 0.02) for k in peaks), reverse=True)


def facade(points: Array) -> float | None:
    """Where the surface lies that an elevation shows: the nearest of those that are seven tenths as large as the largest."""
    found = surfaces(points)
    area = [float(len(np.unique(np.floor(points[np.abs(points[:, 2] - t) < 0.03, :2] / 0.1), axis=0))) for t in found]
    return next((t for t, a in zip(found, area, strict=True) if a >= 0.7 * max(area)), None)


def openings(around: Around, towards: float) -> tuple[Surface, list[Opening]] | None:
    """The openings of the surface near ``towards``. None when hardly any points are of it."""
    p = around.points
    on = np.abs(p[:, 2] - towards) < 0.04
    if on.sum() < 200:
        return None
    towards = float(np.median(p[on, 2]))
    on = np.abs(p[:, 2] - towards) < THICK
    flat = p[on, :2]
    low, high = flat.min(axis=0) - CELL, flat.max(axis=0) + CELL
    shape = np.ceil((high - low) / CELL).astype(int) + 1
    if shape.prod() > 60_000_000:
        return None
    full = _cells(flat, low, shape)
    rays = _passed(around, towards)
    through = _cells(rays, low, shape)
    solid = ndimage.binary_closing(full, iterations=2)
    inside = ndimage.binary_fill_holes(_hull(solid))
    near = p[np.abs(p[:, 2] - towards) < DEEP] - [0, 0, towards]
    empty = _Empty(flat, rays, near, low, solid, ndimage.binary_dilation(through, iterations=3))
    free = ndimage.binary_opening(inside & ~solid, iterations=3)
    found = empty.openings(free, through)
    halves = [near[near[:, 2] * way > -THICK] for way in (1, -1)]
    told = [sum(empty.jambs(o, half) for o in found) for half in halves]
    into = halves[0] if told[0] > told[1] else halves[1]  # jambs lead into the wall: all one way
    out = replace(empty, near=into).openings(free, through)
    rms = float(np.std(p[on, 2]))
    surface = Surface(towards, (float(low[0]), float(low[1])), (float(high[0]), float(high[1])), rms)
    return surface, sorted(out, key=lambda o: o.low)


def _cells(flat: Array, low: Array, shape: NDArray[np.int64]) -> Mask:
    out = np.zeros(tuple(shape), bool)
    at = np.floor((flat - low) / CELL).astype(int)
    ok = (at >= 0).all(axis=1) & (at < shape).all(axis=1)
    out[at[ok, 0], at[ok, 1]] = True
    return out


def _passed(around: Around, towards: float) -> Array:
    """Where rays from one side of a surface to points on its other side went through it (n, 2)."""
    p, stand = around.points[:, 2] - towards, around.stands[around.station, 2] - towards
    across = (np.abs(p) > 0.06) & (np.abs(stand) > 0.05) & (p * stand < 0)
    a, b = around.stands[around.station[across]], around.points[across]
    share = ((a[:, 2] - towards) / (a[:, 2] - b[:, 2]))[:, None]
    return np.asarray((a + (b - a) * share)[:, :2])


def _hull(solid: Mask) -> Mask:
    """What lies between points of the surface along and across: an opening has it on both sides, or above."""
    left, right = np.maximum.accumulate(solid, axis=0), np.maximum.accumulate(solid[::-1], axis=0)[::-1]
    above = np.maximum.accumulate(solid[:, ::-1], axis=1)[:, ::-1]
    return np.asarray(left & right & above)


@dataclass(frozen=True)
class _Empty:
    """Where a surface has no points. flat: its points (n, 2); rays: where rays went through it (n, 2); near: all that is close to it (n, 3), from
    it; cells counted from ``low``: solid has points, passed is near rays that went through."""

    flat: Array
    rays: Array
    near: Array
    low: Array
    solid: Mask
    passed: Mask

    def openings(self, empty: Mask, through: Mask) -> list[Opening]:
        """Of each piece of it: as it is, when that is a rectangle that rays went through (those to the sky brought nothing back); else those
        pieces of it that rays went through, as where the shadow of a thing that stands before the surface joins two."""
        padded = np.pad(through, REACH)
        wide = ndimage.binary_closing(padded, iterations=REACH)[REACH:-REACH, REACH:-REACH]
        pieces = ndimage.binary_opening(empty & wide, iterations=3)
        out, label = [], ndimage.label(empty)[0]
        for k, box in enumerate(ndimage.find_objects(label), start=1):
            own = label[box] == k
            found = self._opening(own, box, 0.35, 0.9)
            if found is None:
                parts = ndimage.label(pieces[box] & own)[0]
                for m, part in enumerate(ndimage.find_objects(parts), start=1):
                    here = tuple(slice(b.start + p.start, b.start + p.stop) for b, p in zip(box, part, strict=True))
                    found = self._opening(parts[part] == m, here, 0.6, 0.75)
                    out += [found] if found else []
            else:
                out.append(found)
        return out

    def jambs(self, o: Opening, near: Array) -> int:
        """How many of the sides of an opening have an inner face among some points."""
        first, last = np.array(o.low), np.array(o.high)
        return sum(not math.isnan(_jamb(near, first, last, axis, end)[1]) for axis in (0, 1) for end in (0, 1))

    def _opening(self, own: Mask, box: tuple[slice, ...], least: float, rectangle: float) -> Opening | None:
        if not LEAST <= own.sum() * CELL**2 <= MOST:
            return None
        share = own.mean(axis=1) > 0.5, own.mean(axis=0) > 0.5  # columns and rows that belong to its rectangle
        if not share[0].any() or not share[1].any():
            return None
        passed = self.passed[box]
        i, j = np.nonzero(share[0])[0], np.nonzero(share[1])[0]
        square = float(own[i[0] : i[-1] + 1, j[0] : j[-1] + 1].mean())
        seen = (
            np.nonzero(passed[i[0] : i[-1] + 1, j[0] : j[-1] + 1].any(axis=1))[0],
            np.nonzero(passed[i[0] : i[-1] + 1, j[0] : j[-1] + 1].any(axis=0))[0],
        )
        if not len(seen[0]) or box[0].start == 0 or box[0].stop == self.solid.shape[0]:  # or beside the surface, not in it
            return None
        # strips at its sides and its foot that no ray went through are hidden by something; the sky above lets none come back
        i, j = i[0] + np.array([seen[0][0], seen[0][-1]]), np.array([j[0] + seen[1][0], j[-1]])
        own, passed = own[i[0] : i[1] + 1, j[0] : j[1] + 1], passed[i[0] : i[1] + 1, j[0] : j[1] + 1]
        at = np.array([[box[0].start + i[0], box[1].start + j[0]], [box[0].start + i[1] + 1, box[1].start + j[1] + 1]])
        first, last = self.low + CELL * at[0], self.low + CELL * at[1]
        if (last - first).min() < WIDE or square < rectangle or passed.mean() < least:
            return None
        return self._rectangle(at, first, last, float(passed.mean()), square)

    def _rectangle(self, at: NDArray[np.int64], first: Array, last: Array, through: float, square: float) -> Opening | None:
        ends, errors, hidden = [], [], []
        for end in (0, 1):
            for axis in (0, 1):
                place, error = _jamb(self.near, first, last, axis, end)
                if math.isnan(error) and _backed(self.solid, at, axis, end) > 0.4:
                    place, error = _side(self.flat, self.rays, first, last, axis, end)
                hidden.append(math.isnan(error))
                ends.append(float((last if end else first)[axis]) if math.isnan(error) else place)
                errors.append(error)
        ground = first[1] < self.low[1] + 0.25
        hidden[1] = hidden[1] and not ground
        if (hidden[0] and hidden[2]) or (hidden[1] and hidden[3]):  # how wide or high it is, nobody saw
            return None
        told = [e for e in errors if not math.isnan(e)]
        dark = (hidden[0], hidden[1], hidden[2], hidden[3])
        return Opening((ends[0], ends[1]), (ends[2], ends[3]), through, square, max(told), bool(ground), dark)


def _backed(solid: Mask, at: NDArray[np.int64], axis: int, end: int) -> float:
    """Share of a side of a rectangle of cells beyond which the surface goes on within 16 cm."""
    m = solid if axis == 0 else solid.T
    (low, high), edge = (at[0][1 - axis], at[1][1 - axis]), at[end][axis]
    rows = slice(edge - 1, edge + 4) if end else slice(max(0, edge - 4), edge + 1)
    third = (high - low) // 8
    return float(m[rows, low + third : high - third].any(axis=0).mean()) if high - low > 2 * third else 0.0


def _jamb(near: Array, first: Array, last: Array, axis: int, end: int) -> tuple[float, float]:
    """Where the inner face of a side lies that rays met on their way through: many points one behind the other, all at one place. And one
    deviation of that; nan where no such face was seen."""
    across = 1 - axis
    margin = 0.1 * (last[across] - first[across])
    edge = last[axis] if end else first[axis]
    here = (near[:, across] > first[across] + margin) & (near[:, across] < last[across] - margin) & (np.abs(near[:, axis] - edge) < 0.10)
    p = near[here]
    if len(p) < 12:
        return math.nan, math.nan
    order = np.argsort(p[:, axis])
    x, deep = p[order, axis], p[order, 2]
    wide = 0.006
    until = np.searchsorted(x, x + wide)
    best, place = 0, -1
    for k in np.argsort(np.arange(len(x)) - until)[:20]:
        bins = np.unique(np.floor(np.abs(deep[k : until[k]]) / 0.03))
        # it leads away from the surface: a line of a scan on that lies all in the first, one on another surface in one
        inner = bins[(bins > 0) & (bins < 8)]
        if until[k] - k > best and len(inner) >= 3:
            best, place = int(until[k] - k), int(k)
    beside = len(x) * wide / 0.20
    if place < 0 or best < 12 or best < 4 * beside:
        return math.nan, math.nan
    own = x[place : until[place]]
    return float(np.median(own)), max(float(np.std(own)) / math.sqrt(best), 0.0005)


def _side(flat: Array, rays: Array, first: Array, last: Array, axis: int, end: int) -> tuple[float, float]:
    """Where a side lies between the rays that went through and the points of the surface. Where both are dense, points decide alone: see
    ``_step``. And one deviation of that; nan where no points end."""
    across = 1 - axis
    edge = last[axis] if end else first[axis]
    sign = 1.0 if end else -1.0
    margin = 0.1 * (last[across] - first[across])

    def out(p: Array) -> tuple[Array, Array]:
        d = (p[:, axis] - edge) * sign
        near = (p[:, across] > first[across] + margin) & (p[:, across] < last[across] - margin) & (d > -0.2) & (d < 0.25)
        return d[near], p[near, across]

    d, place = out(flat)
    free = np.sort(out(rays)[0])
    told = _between(free, np.sort(d))
    if told is None or not math.isnan(told[1]):
        return (float(edge + sign * told[0]), told[1]) if told else (float(edge), math.nan)
    kept = d > -0.12
    d, place = d[kept], place[kept]
    whole = _step(np.sort(d))
    if math.isnan(whole):
        return float(edge), math.nan
    cuts = np.linspace(first[across] + margin, last[across] - margin, 4)
    thirds = [_step(np.sort(d[(place >= a) & (place < b)])) for a, b in zip(cuts, cuts[1:], strict=False)]
    steps = [t for t in thirds if not math.isnan(t)]
    whole = float(np.median(steps)) if len(steps) == 3 else whole
    return float(edge + sign * whole), max(float(np.std(steps)) / math.sqrt(len(steps)) if len(steps) > 1 else 0.005, 0.0005)


def _between(free: Array, hit: Array) -> tuple[float, float] | None:
    """The place (and one deviation) before which most rays went through and beyond which most met the surface; both sorted. None without
    points; nan for the deviation where points are so dense that they tell it alone.

    Wrong ones on either side are as few as can be; within the gap that is left a place is as likely as that none of either lay there.
    """
    if len(hit) < 3:
        return None
    if len(free) < 3:
        return 0.0, math.nan
    ends = np.unique(np.concatenate([free, hit]))
    middle = (ends[1:] + ends[:-1]) / 2
    wrong = len(free) - np.searchsorted(free, middle) + np.searchsorted(hit, middle)
    k = int(np.argmin(wrong - 1e-3 * np.diff(ends)))  # of several the widest
    low, high, at = float(ends[k]), float(ends[k + 1]), float(middle[k])
    # points of one line of a scan say the same thing: counted are places 4 mm wide
    places = [len(np.unique(np.floor(x[(x > a) & (x < b)] / 0.004))) for x, a, b in ((free, at - 0.12, at), (hit, at, at + 0.12))]
    if places[1] < 2:
        return None
    if places[1] > 20:
        return at, math.nan
    dense = [n / 0.12 for n in places]
    t = np.linspace(low, high, 41)
    weight = np.exp(-dense[0] * (t - low) - dense[1] * (high - t))
    mean = float(np.average(t, weights=weight))
    return mean, max(math.sqrt(float(np.average((t - mean) ** 2, weights=weight))), 0.001)


def _step(d: Array, wide: float = 0.008) -> float:
    """Where sorted places begin to lie as densely as half of what they do from 2 to 15 cm farther; nan for hardly any. Told twice, by windows
    of 8 and of 2 mm: a reveal that is seen edge-on lies all at one place."""
    if len(d) < 12:
        return math.nan
    steps = np.arange(-0.12, 0.12, 0.0005)
    count = np.searchsorted(d, steps + wide) - np.searchsorted(d, steps)
    for k in np.nonzero(count > 0)[0]:
        at = float(steps[k]) + wide / 2
        beyond = float(np.searchsorted(d, at + 0.15) - np.searchsorted(d, at + 0.02)) / 0.13
        if count[k] >= 0.5 * max(beyond * wide, 1.0) and beyond * wide >= 1.0:
            fine = np.arange(at - 0.006, at + 0.010, 0.0005)
            narrow = np.searchsorted(d, fine + 0.002) - np.searchsorted(d, fine)
            full = np.nonzero(narrow >= max(0.5 * beyond * 0.002, 0.25 * float(narrow.max()), 2))[0]
            return float(fine[full[0]]) + 0.0015 if len(full) else at
    return math.nan
