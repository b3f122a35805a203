"""What hangs together with a picked point: the surface that it lies on (a plane, a pipe, what bends smoothly), or the whole thing."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import sparse
from scipy.sparse.csgraph import connected_components
from scipy.spatial import cKDTree

from ..align.contradiction import clusters
from ..errors import NotEnough
from ..scan.catch import Catch
from .ground import above_ground

Array = NDArray[np.float64]
Flags = NDArray[np.bool_]
KINDS = ("surface", "smooth", "thing")
CELL = 0.035  # metres of the cells in which directions of a smooth surface are told
BEND = np.cos(np.radians(32.0))  # that neighbours of a smooth surface turn from each other at most: pipes of 0.2 m do
LINK = 0.08  # metres between points that hang together
GROUND = 0.04  # metres above the ground from which on a point is of a thing
FEW = 4  # points of a cell whose direction is told


def grown(points: Array, pick: Array, kind: str, caught: Catch, tolerance: float = 0.012) -> Flags:
    """(n,) which of the points (n, 3) hang together with the pick (3,). kind: surface follows the plane or pipe that was ``caught`` there,
    smooth what bends gently, thing all that hangs together above the ground. NotEnough when nothing does."""
    if kind == "thing":
        some = above_ground(points) > GROUND
    elif kind == "smooth" or caught.kind not in ("plane", "pipe", "sphere"):
        some = _smooth(points, pick)
    elif caught.kind == "plane" and caught.normal is not None:
        some = np.abs((points - caught.at) @ caught.normal) <= tolerance
    else:
        off = points - caught.at
        if caught.kind == "pipe" and caught.axis is not None:
            off = off - (off @ caught.axis)[:, None] * caught.axis
        some = np.abs(np.linalg.norm(off, axis=1) - (caught.radius or 0.0)) <= tolerance
    out = np.zeros(len(points), bool)
    if some.any():
        label, _ = clusters(points[some], LINK)
        far, at = cKDTree(points[some]).query(pick)
        if far <= 2 * LINK:
            out[some] = label == label[at]
    if not out.any():
        raise NotEnough(
            "nothing hangs together with the point that was picked", subject="pick", remedy="pick a place on a surface that is shown"
        )
    return out


def _smooth(points: Array, pick: Array) -> Flags:
    """(n,) which lie in cells that are reached from the pick's over neighbours of nearly the same direction."""
    key = np.floor((points - points.min(axis=0)) / CELL).astype(np.int64)
    cells, own, count = np.unique(key, axis=0, return_inverse=True, return_counts=True)
    own = own.reshape(-1)
    n = len(cells)
    mean = np.stack([np.bincount(own, points[:, k], n) for k in range(3)], axis=1) / count[:, None]
    off = points - mean[own]
    spread = np.zeros((n, 3, 3))
    for i in range(3):
        for j in range(i, 3):
            spread[:, i, j] = spread[:, j, i] = np.bincount(own, off[:, i] * off[:, j], n)
    pairs = cKDTree(cells).query_pairs(1.8, output_type="ndarray")
    wide = spread.copy()  # of a cell and those beside it: few points of one tell no direction
    for a, b in ((0, 1), (1, 0)):
        between = mean[pairs[:, b]] - mean[pairs[:, a]]
        add = spread[pairs[:, b]] + count[pairs[:, b], None, None] * between[:, :, None] * between[:, None, :]
        np.add.at(wide, pairs[:, a], add)
    value, vector = np.linalg.eigh(wide)
    flat = (value[:, 0] <= 0.08 * value[:, 1]) & (count >= FEW)
    normal = vector[:, :, 0]
    step = mean[pairs[:, 1]] - mean[pairs[:, 0]]
    across = np.maximum(np.abs((step * normal[pairs[:, 0]]).sum(axis=1)), np.abs((step * normal[pairs[:, 1]]).sum(axis=1)))
    alike = np.abs((normal[pairs[:, 0]] * normal[pairs[:, 1]]).sum(axis=1)) >= BEND
    linked = pairs[alike & flat[pairs].all(axis=1) & (across <= 0.5 * CELL)]
    for a, b in ((0, 1), (1, 0)):  # a cell that the surface only touches goes with one that tells its direction
        off = np.abs((step * normal[pairs[:, a]]).sum(axis=1))
        linked = np.concatenate([linked, pairs[flat[pairs[:, a]] & (count[pairs[:, b]] < FEW) & (off <= 0.4 * CELL)]])
    graph = sparse.coo_matrix((np.ones(len(linked)), (linked[:, 0], linked[:, 1])), shape=(n, n))
    _, label = connected_components(graph, directed=False)
    _, at = cKDTree(points).query(pick)
    return np.asarray(label[own] == label[own[at]])
