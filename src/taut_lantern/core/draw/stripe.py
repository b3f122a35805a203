"""A line laid on the middle of a painted stripe or joint: what differs in intensity from the ground beside it."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from ..errors import BadInput, NotEnough
from .shapes import Shape, length, pieces

Array = NDArray[np.float64]
EACH = 0.10  # metres of a line that one place across is found in


def centre_line(
    shape: Shape, points: Array, intensity: NDArray[np.uint8], width: float, beside: float = 0.15
) -> tuple[Shape, dict[str, float]]:
    """A line or straight polyline on the middle of the stripe beneath it, with heights. points (n, 3) section frame, intensity (n,); width:
    about how wide it is, metres; beside: how far off it may have been drawn. The shape gets ``towards``: the height of each corner over the
    cut. Also rms_mm (of the places found, across), points, length and moved_mm. NotEnough when no stripe stands out."""
    if shape.kind not in ("line", "polyline") or any(shape.more.get("bulges") or []) or shape.closed:
        raise BadInput(f"a {shape.kind} cannot be laid on a stripe", subject="stripe", remedy="draw a line or a straight polyline along it")
    if not 0.01 <= width <= 1.0:
        raise BadInput("a stripe is 1 cm to 1 m wide", subject="stripe", remedy="give its width")
    fitted, offs, count = [], [], 0
    for piece in pieces(shape):
        a = np.array(piece.a)
        along = (np.array(piece.b) - a) / max(piece.length, 1e-9)
        normal = np.array([-along[1], along[0]])
        t, off = (points[:, :2] - a) @ along, (points[:, :2] - a) @ normal
        near = (t > 0) & (t < piece.length) & (np.abs(off) < beside + width)
        middle = _middle(off[near], intensity[near].astype(float), width, beside)
        places = []
        for k in range(max(1, int(piece.length / EACH))):
            own = near & (t >= k * EACH) & (t < (k + 1) * EACH)
            found = _place(off[own] - middle, intensity[own].astype(float), width)
            if found is not None:
                places.append(((k + 0.5) * EACH, middle + found))
        if len(places) < 3:
            raise NotEnough("no stripe stands out beneath it", subject="stripe", remedy="draw nearer to it, or give another width")
        at = np.array(places)
        keep = np.ones(len(at), bool)
        for _ in range(4):
            slope, shift = np.polyfit(at[keep, 0], at[keep, 1], 1)
            rest = at[:, 1] - slope * at[:, 0] - shift
            keep = np.abs(rest) < max(2.5 * 1.4826 * float(np.median(np.abs(rest))), 0.004)
        offs += list(rest[keep])
        count += int(near.sum())
        fitted.append((a + normal * shift, along + normal * slope))
    new = _corners(shape, fitted)
    heights = [_height(p, points) for p in new]
    moved = max(math.dist(p, q) for p, q in zip(shape.points, new, strict=True))
    out = Shape(shape.kind, tuple(new), 0.0, {**shape.more, "towards": heights})
    return out, {
        "rms_mm": 1000 * float(np.sqrt(np.mean(np.square(offs)))),
        "points": count,
        "length": length(out),
        "moved_mm": 1000 * moved,
    }


def _middle(off: Array, value: Array, width: float, beside: float) -> float:
    """Where across the stripe lies: the window of its width that differs most from what lies beside it."""
    if len(off) < 30:
        raise NotEnough("hardly any points lie beneath it", subject="stripe", remedy="draw it nearer to the points, or make the cut deeper")
    order = np.argsort(off)
    off, value = off[order], value[order]
    run = np.concatenate([[0.0], np.cumsum(value)])
    best, at = 0.0, 0.0
    for middle in np.arange(-beside, beside + 1e-9, width / 8):
        i, j = np.searchsorted(off, [middle - width / 2, middle + width / 2])
        k, m = np.searchsorted(off, [middle - 1.5 * width, middle + 1.5 * width])
        inside, outside = j - i, (i - k) + (m - j)
        if inside < 5 or outside < 5:
            continue
        gap = abs((run[j] - run[i]) / inside - (run[i] - run[k] + run[m] - run[j]) / outside)
        if gap > best:
            best, at = gap, float(middle)
    if best < 10:
        raise NotEnough("no stripe stands out beneath it", subject="stripe", remedy="draw nearer to it, or give another width")
    return at


def _place(off: Array, value: Array, width: float) -> float | None:
    """The middle of a stripe within some centimetres of its length: both its edges where they part what is on it from what is not."""
    near = np.abs(off) < 1.2 * width
    off, value = off[near], value[near]
    on, beside = value[np.abs(off) < 0.3 * width], value[np.abs(off) > 0.75 * width]
    if len(on) < 3 or len(beside) < 4:
        return None
    inside = (value > (np.median(on) + np.median(beside)) / 2) == (np.median(on) > np.median(beside))
    edges = [_edge(off[side] * sign, inside[side]) for side, sign in ((off < 0, -1.0), (off >= 0, 1.0))]
    return None if edges[0] is None or edges[1] is None else (edges[1] - edges[0]) / 2


def _edge(off: Array, inside: NDArray[np.bool_]) -> float | None:
    """The distance that parts points inside from those outside with the fewest on the wrong side."""
    order = np.argsort(off)
    off, inside = off[order], inside[order]
    if len(off) < 3 or not inside.any() or inside.all():
        return None
    wrong = np.concatenate([[0], np.cumsum(~inside)]) + np.concatenate([np.cumsum(inside[::-1])[::-1], [0]])
    k = np.nonzero(wrong == wrong.min())[0]
    k = k[(k > 0) & (k < len(off))]
    return float(np.mean([(off[j - 1] + off[j]) / 2 for j in k])) if len(k) else None


def _corners(shape: Shape, fitted: list[tuple[Array, Array]]) -> list[tuple[float, float]]:
    out = []
    for k, p in enumerate(shape.points):
        sides = [fitted[j] for j in (k - 1, k) if 0 <= j < len(fitted)]
        feet = [c + d * (((np.array(p) - c) @ d) / (d @ d)) for c, d in sides]
        at = np.mean(feet, axis=0)
        if len(sides) == 2:
            (c, d), (e, f) = sides
            cross = float(d[0] * f[1] - d[1] * f[0])
            if abs(cross) > 0.15:
                r = e - c
                at = c + d * float(r[0] * f[1] - r[1] * f[0]) / cross
        out.append((float(at[0]), float(at[1])))
    return out


def _height(at: tuple[float, float], points: Array) -> float:
    """Height over the cut of the ground round a place: the middle one of the points near it."""
    off = np.hypot(points[:, 0] - at[0], points[:, 1] - at[1])
    near = points[off < max(0.05, float(np.partition(off, min(8, len(off) - 1))[min(8, len(off) - 1)])), 2]
    return float(np.median(near))
