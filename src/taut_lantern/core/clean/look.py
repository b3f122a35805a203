"""A thing as the instrument saw it: a small picture of what lies round it, its own points marked."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

Array = NDArray[np.float64]
WIDE, TALL = 264, 176  # pixels
FILLS = 0.55  # share of the picture that the thing takes
LEAST = math.radians(3)
INK, LAMP = (18, 22, 29), (232, 167, 0)


def looked_at(points: Array, shade: NDArray[np.uint8], marked: NDArray[np.bool_]) -> NDArray[np.uint8]:
    """(TALL, WIDE, 3) a view from the instrument towards the marked points. points (n, 3) scanner frame, shade (n, 3) colour, marked (n,)."""
    out = np.tile(np.array(INK, np.uint8), (TALL, WIDE, 1))
    own = points[marked]
    if len(own) == 0:
        return out
    middle = np.median(own, axis=0)
    ahead = middle / max(float(np.linalg.norm(middle)), 1e-9)
    right = np.cross(ahead, [0.0, 0.0, 1.0]) if abs(ahead[2]) < 0.98 else np.array([1.0, 0.0, 0.0])
    right = right - ahead * float(right @ ahead)
    right /= np.linalg.norm(right)
    axes = np.stack([right, np.cross(right, ahead), ahead])
    seen = own @ axes.T
    flat = seen[:, :2] / np.maximum(seen[:, 2:], 1e-6)
    half = float(np.percentile(np.abs(flat) / [1.0, TALL / WIDE], 98)) / FILLS
    half = min(max(half, math.tan(LEAST)), math.tan(math.radians(50)))
    p = points @ axes.T
    front = p[:, 2] > 0.05
    p, shade, marked = p[front], shade[front], marked[front]
    at = p[:, :2] / p[:, 2:] / half * WIDE / 2
    column, row = np.round(WIDE / 2 + at[:, 0]).astype(int), np.round(TALL / 2 - at[:, 1]).astype(int)
    inside = (column >= 0) & (column < WIDE) & (row >= 0) & (row < TALL)
    cell, far, colour = (row * WIDE + column)[inside], p[inside, 2], shade[inside].astype(float)
    lit = marked[inside]
    colour[lit] = 0.35 * colour[lit] + 0.65 * np.array(LAMP)
    order = np.lexsort((far, cell))
    cell, colour = cell[order], colour[order]
    first = np.nonzero(np.diff(cell, prepend=-1))[0]
    image = out.reshape(-1, 3)
    image[cell[first]] = colour[first].clip(0, 255).astype(np.uint8)
    full = np.zeros(TALL * WIDE, bool)
    full[cell[first]] = True
    return _closed(image.reshape(TALL, WIDE, 3), full.reshape(TALL, WIDE))


def _closed(image: NDArray[np.uint8], full: NDArray[np.bool_]) -> NDArray[np.uint8]:
    """The same with pixels between others filled from the nearest one."""
    distance, (row, column) = ndimage.distance_transform_edt(~full, return_indices=True)
    near = distance <= 2.5
    out = image.copy()
    out[near] = image[row[near], column[near]]
    return out
