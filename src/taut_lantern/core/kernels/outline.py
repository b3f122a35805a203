"""Which points lie inside an outline of many corners (even-odd rule, Shimrat 1962).

Edges are sorted into bands of y once; a point is tested against the edges of its band only.
"""

from __future__ import annotations

from functools import lru_cache
from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

BANDS = 256
_Sorted = tuple[NDArray[np.float64], NDArray[np.int64], NDArray[np.int64], float, float] | None


@njit(cache=True, nogil=True, inline="always")
def _odd(x, y, band, edges, first, listed):  # type: ignore[no-untyped-def]
    """Whether a place crosses the edges of its band an odd number of times on its way to the right."""
    odd = False
    for j in range(first[band], first[band + 1]):
        e = listed[j]
        x0, y0, x1, y1 = edges[e, 0], edges[e, 1], edges[e, 2], edges[e, 3]
        if (y0 > y) != (y1 > y) and x < (x1 - x0) * (y - y0) / (y1 - y0) + x0:
            odd = not odd
    return odd


@njit(cache=True, nogil=True)
def _inside(
    points: NDArray[np.float64],
    edges: NDArray[np.float64],
    first: NDArray[np.int64],
    listed: NDArray[np.int64],
    low: float,
    per: float,
    out: NDArray[np.bool_],
) -> None:
    bands = len(first) - 1
    for i in range(len(points)):
        x, y = points[i, 0], points[i, 1]
        at = (y - low) * per
        out[i] = 0.0 <= at <= bands and _odd(x, y, min(int(at), bands - 1), edges, first, listed)


@njit(cache=True, nogil=True)
def _crossing(low: NDArray[np.float64], high: NDArray[np.float64], corners: NDArray[np.float64], out: NDArray[np.bool_]) -> None:
    count = len(corners)
    for i in range(len(low)):
        for e in range(count):
            first, last = 0.0, 1.0  # of the edge, where it is within the rectangle
            for axis in range(2):
                a, b = corners[e, axis], corners[(e + 1) % count, axis]
                if a == b:
                    if a < low[i, axis] or a > high[i, axis]:
                        last = -1.0
                    continue
                one, other = (low[i, axis] - a) / (b - a), (high[i, axis] - a) / (b - a)
                first, last = max(first, min(one, other)), min(last, max(one, other))
            if first <= last:
                out[i] = True
                break


@njit(cache=True, nogil=True)
def _in_view(
    points: NDArray[Any],
    view: NDArray[np.float64],
    bounds: NDArray[np.float64],
    edges: NDArray[np.float64],
    first: NDArray[np.int64],
    listed: NDArray[np.int64],
    low: float,
    per: float,
    out: NDArray[np.bool_],
) -> None:
    bands = len(first) - 1
    for i in range(len(points)):
        px, py, pz = points[i, 0], points[i, 1], points[i, 2]
        out[i] = False
        w = view[3, 0] * px + view[3, 1] * py + view[3, 2] * pz + view[3, 3]
        if w <= 1e-9:
            continue
        x = (view[0, 0] * px + view[0, 1] * py + view[0, 2] * pz + view[0, 3]) / w
        if x < bounds[0] or x > bounds[1]:
            continue
        y = (view[1, 0] * px + view[1, 1] * py + view[1, 2] * pz + view[1, 3]) / w
        at = (y - low) * per
        if not 0.0 <= at <= bands:
            continue
        z = view[2, 0] * px + view[2, 1] * py + view[2, 2] * pz + view[2, 3]
        if abs(z) > w:
            continue
        out[i] = _odd(x, y, min(int(at), bands - 1), edges, first, listed)


def in_view(points: NDArray[Any], view: NDArray[np.float64], corners: NDArray[np.float64]) -> NDArray[np.bool_]:
    """(n,) bool for (n, 3) points that a view (4, 4) puts inside (k, 2) corners, before the eye and no deeper than the view (|z| <= w)."""
    out = np.zeros(len(points), np.bool_)
    sorted_ = _bands(corners)
    if sorted_ is None or not len(points):
        return out
    bounds = np.array([corners[:, 0].min(), corners[:, 0].max()], np.float64)
    _in_view(np.asarray(points), np.ascontiguousarray(view, np.float64), bounds, *sorted_, out)
    return out


def inside(points: NDArray[np.float64], corners: NDArray[np.float64]) -> NDArray[np.bool_]:
    """(n,) bool for (n, 2) points and (k, 2) corners, any unit. No point is inside an outline without height."""
    out = np.zeros(len(points), np.bool_)
    sorted_ = _bands(corners)
    if sorted_ is not None and len(points):
        _inside(np.ascontiguousarray(points, np.float64), *sorted_, out)
    return out


def crossing(low: NDArray[np.float64], high: NDArray[np.float64], corners: NDArray[np.float64]) -> NDArray[np.bool_]:
    """(n,) bool of rectangles from low (n, 2) to high (n, 2) that an edge of (k, 2) corners touches or crosses (Liang and Barsky 1984)."""
    out = np.zeros(len(low), np.bool_)
    _crossing(np.ascontiguousarray(low, float), np.ascontiguousarray(high, float), np.ascontiguousarray(corners, float), out)
    return out


@lru_cache(maxsize=16)
def _bands_of(body: bytes) -> _Sorted:
    return _sort(np.frombuffer(body, np.float64).reshape(-1, 2))


def _bands(corners: NDArray[np.float64]) -> _Sorted:
    return _bands_of(np.ascontiguousarray(corners, np.float64).tobytes())


def _sort(corners: NDArray[np.float64]) -> _Sorted:
    """Edges, where the list of each band begins, the lists, the lowest y and bands per unit; None of an outline without height."""
    edges = np.ascontiguousarray(np.hstack([corners, np.roll(corners, -1, axis=0)]), np.float64)
    edges = edges[edges[:, 1] != edges[:, 3]]
    if not len(edges):
        return None
    low, high = float(edges[:, [1, 3]].min()), float(edges[:, [1, 3]].max())
    per = BANDS / (high - low)
    begin = np.clip(((edges[:, [1, 3]].min(axis=1) - low) * per).astype(np.int64), 0, BANDS - 1)
    end = np.clip(((edges[:, [1, 3]].max(axis=1) - low) * per).astype(np.int64), 0, BANDS - 1)
    number = end - begin + 1
    edge = np.repeat(np.arange(len(edges)), number)
    band = np.repeat(begin, number) + np.arange(len(edge)) - np.repeat(np.cumsum(number) - number, number)
    order = np.argsort(band, kind="stable")
    first = np.searchsorted(band[order], np.arange(BANDS + 1)).astype(np.int64)
    return edges, first, edge[order].astype(np.int64), low, per
