"""A design model beside the cloud: how far points lie from it, element by element, where it is cut, and where it fits best.

Distances are of the nearest place of its surface, positive on the side that its face looks to: material too much. Model frame, metres.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import NotEnough
from ..kernels import mesh as kernel

Array = NDArray[np.float64]
Index = NDArray[np.int64]
SHARP = math.radians(25)  # between two faces that an edge is drawn between
SAME = 1e-4  # metres within which corners are one
BIN = 0.0005  # metres that distances are counted in
BARS = 40  # of a histogram
ROUNDS = 30
SPOILS = 0.01  # metres of distance from which a point says less and less when a model is laid on the cloud


@dataclass(frozen=True)
class Mesh:
    """vertices (n, 3), faces (m, 3) their numbers, against the clock as seen from outside; element (m,): which of ``names`` a face is of."""

    vertices: Array
    faces: Index
    element: Index
    names: tuple[str, ...]

    @cached_property
    def corners(self) -> Array:
        return np.asarray(self.vertices[self.faces])

    @cached_property
    def normals(self) -> Array:
        """(m, 3) unit normals of faces; zero of one without area."""
        c = self.corners
        n = np.cross(c[:, 1] - c[:, 0], c[:, 2] - c[:, 0])
        return np.asarray(n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-300))

    def sound(self) -> Mesh:
        """Without faces that have no area or no finite corners. NotEnough when none is left."""
        c = self.corners
        area = np.linalg.norm(np.cross(c[:, 1] - c[:, 0], c[:, 2] - c[:, 0]), axis=1)
        keep = np.isfinite(area) & (area > 1e-10)
        if not keep.any():
            raise NotEnough("the model has no faces", subject="model", remedy="save it with its surfaces as a mesh, or as IFC")
        return Mesh(self.vertices, self.faces[keep], self.element[keep], self.names)

    @cached_property
    def box(self) -> tuple[Array, Array]:
        return self.corners.min(axis=(0, 1)), self.corners.max(axis=(0, 1))


@dataclass(frozen=True)
class Near:
    """The faces of a mesh in the order of a space-filling curve (Morton 1966), and the boxes over them."""

    mesh: Mesh
    order: Index = field(init=False)
    low: Array = field(init=False)
    high: Array = field(init=False)

    def __post_init__(self) -> None:
        c = self.mesh.corners
        order = np.argsort(_curve(c.mean(axis=1)), kind="stable")
        begin = np.arange(0, len(order), kernel.LEAF)
        leaves = 1 << max(0, (len(begin) - 1).bit_length())
        low, high = np.full((2 * leaves, 3), np.inf), np.full((2 * leaves, 3), -np.inf)
        low[leaves : leaves + len(begin)] = np.minimum.reduceat(c[order].min(axis=1), begin)
        high[leaves : leaves + len(begin)] = np.maximum.reduceat(c[order].max(axis=1), begin)
        while leaves > 1:
            leaves //= 2
            low[leaves : 2 * leaves] = np.minimum(low[2 * leaves : 4 * leaves : 2], low[2 * leaves + 1 : 4 * leaves : 2])
            high[leaves : 2 * leaves] = np.maximum(high[2 * leaves : 4 * leaves : 2], high[2 * leaves + 1 : 4 * leaves : 2])
        for name, value in (("order", order), ("low", low), ("high", high)):
            object.__setattr__(self, name, value)

    @cached_property
    def _sorted(self) -> tuple[Array, Array]:
        return np.ascontiguousarray(self.mesh.corners[self.order]), np.ascontiguousarray(self.mesh.normals[self.order])

    def asked(self, points: Array, reach: float) -> tuple[Array, Index]:
        """(n,) signed distances of points (n, 3), NaN beyond ``reach``, and (n,) the faces that they are from, -1 beyond."""
        p = np.asarray(points, float)
        order = np.argsort(_curve(p), kind="stable") if len(p) > 1 else np.zeros(len(p), np.int64)  # neighbours ask after each other
        found, which = np.empty(len(p)), np.empty(len(p), np.int64)
        kernel.nearest(np.ascontiguousarray(p[order]), *self._sorted, self.low, self.high, reach, found, which)
        out, face = np.empty(len(p)), np.empty(len(p), np.int64)
        out[order], face[order] = found, np.where(which >= 0, self.order[which], -1)
        return out, face


def _curve(at: Array) -> Index:
    """(n,) the place of each along a curve through the cells of its box, 2**20 a side."""
    low = at.min(axis=0)
    cell = ((at - low) / max(float((at.max(axis=0) - low).max()), 1e-9) * ((1 << 20) - 1)).astype(np.uint64)
    out = np.zeros(len(at), np.uint64)
    for k in range(3):
        v = cell[:, k]
        for shift, mask in (
            (32, 0x1F00000000FFFF),
            (16, 0x1F0000FF0000FF),
            (8, 0x100F00F00F00F00F),
            (4, 0x10C30C30C30C30C3),
            (2, 0x1249249249249249),
        ):
            v = (v | (v << np.uint64(shift))) & np.uint64(mask)
        out |= v << np.uint64(k)
    return out.astype(np.int64)


def edges(mesh: Mesh) -> Array:
    """(k, 2, 3) its edges that are seen: open ones, and those between faces that turn by more than ``SHARP``."""
    _, first, same = np.unique(np.round(mesh.vertices / SAME).astype(np.int64), axis=0, return_index=True, return_inverse=True)
    f = same.reshape(-1)[mesh.faces]
    pairs = np.sort(np.concatenate([f[:, [0, 1]], f[:, [1, 2]], f[:, [2, 0]]]), axis=1)
    normal = np.tile(mesh.normals, (3, 1))
    order = np.lexsort((pairs[:, 1], pairs[:, 0]))
    pairs, normal = pairs[order], normal[order]
    begin = np.nonzero(np.r_[True, (np.diff(pairs, axis=0) != 0).any(axis=1)])[0]
    count = np.diff(np.r_[begin, len(pairs)])
    turned = np.zeros(len(begin), bool)
    two = count == 2
    turned[two] = np.einsum("ij,ij->i", normal[begin[two]], normal[begin[two] + 1]) < math.cos(SHARP)
    keep = begin[(count != 2) | turned]
    keep = keep[pairs[keep, 0] != pairs[keep, 1]]
    return np.asarray(mesh.vertices[first[pairs[keep]]])


def cut(mesh: Mesh, T_section_model: Array) -> Array:
    """(k, 2, 2) where a mesh is cut by the plane z = 0 of a section: lines in its x and y."""
    p = frames.apply(T_section_model, mesh.vertices)
    p[np.abs(p[:, 2]) < 1e-9, 2] = 1e-9  # a corner on the plane lies before it
    c = p[mesh.faces]
    above = c[..., 2] > 0
    c, above = c[above.any(axis=1) & ~above.all(axis=1)], above[above.any(axis=1) & ~above.all(axis=1)]
    lone = np.where(above.sum(axis=1) == 1, np.argmax(above, axis=1), np.argmin(above, axis=1))
    row = np.arange(len(c))
    a = c[row, lone]
    ends = []
    for k in (1, 2):
        b = c[row, (lone + k) % 3]
        t = a[:, 2] / (a[:, 2] - b[:, 2])
        ends.append(a[:, :2] + t[:, None] * (b - a)[:, :2])
    out = np.stack(ends, axis=1)
    return np.asarray(out[np.linalg.norm(out[:, 1] - out[:, 0], axis=1) > 1e-6])


class Tally:
    """Distances of many points from a mesh, added up by element. tolerance: metres."""

    def __init__(self, mesh: Mesh, tolerance: float, reach: float) -> None:
        self.mesh, self.tolerance, self.reach = mesh, tolerance, reach
        n = len(mesh.names)
        self.bins = max(2, 2 * round(reach / BIN))
        self.count, self.within = np.zeros(n, np.int64), np.zeros(n, np.int64)
        self.sum, self.squares, self.most = np.zeros(n), np.zeros(n), np.zeros(n)
        self.all = np.zeros(self.bins, np.int64)
        self.size: Array = np.zeros((n, 64))  # of each element, sizes of its distances in 64 steps up to the reach

    def add(self, distance: Array, face: Index) -> None:
        some = face >= 0
        d, element = distance[some], self.mesh.element[face[some]]
        n = len(self.count)
        self.count += np.bincount(element, minlength=n)
        self.within += np.bincount(element[np.abs(d) <= self.tolerance], minlength=n)
        self.sum += np.bincount(element, d, n)
        self.squares += np.bincount(element, d * d, n)
        np.maximum.at(self.most, element, np.abs(d))
        self.all += np.bincount(np.clip(((d + self.reach) / BIN).astype(np.int64), 0, self.bins - 1), minlength=self.bins)
        step = np.minimum((np.abs(d) / self.reach * 64).astype(np.int64), 63)
        self.size += np.bincount(element * 64 + step, minlength=64 * n).reshape(n, 64)

    @property
    def told(self) -> dict[str, Any]:
        """Figures of all points and of each element; metres, shares of points. histogram: counts from -reach to reach."""
        count = int(self.count.sum())
        below = np.cumsum(self.all)

        def middle(share: float) -> float | None:
            if not count:
                return None
            return float((np.searchsorted(below, share * count) + 0.5) * BIN - self.reach)

        elements = [
            {
                "name": name,
                "points": int(n),
                "within": int(w),
                "mean": float(total / n),
                "rms": float(math.sqrt(squares / n)),
                "most": float(most),
                "p95": self._p95(k),
            }
            if n
            else {"name": name, "points": 0, "within": 0, "mean": None, "rms": None, "most": None, "p95": None}
            for k, (name, n, w, total, squares, most) in enumerate(
                zip(self.mesh.names, self.count, self.within, self.sum, self.squares, self.most, strict=True)
            )
        ]
        bars = np.add.reduceat(self.all, np.linspace(0, self.bins, BARS, endpoint=False).astype(int)) if self.bins >= BARS else self.all
        return {
            "tolerance": self.tolerance, "reach": self.reach, "points": count, "within": int(self.within.sum()), "median": middle(0.5),
            "p05": middle(0.05), "p95": middle(0.95), "rms": math.sqrt(float(self.squares.sum()) / count) if count else None,
            "histogram": [int(v) for v in bars], "elements": elements,
        }  # fmt: skip

    def _p95(self, k: int) -> float:
        """Nineteen of twenty points of an element are nearer than that, to a 64th of the reach."""
        return float((np.searchsorted(np.cumsum(self.size[k]), 0.95 * self.count[k]) + 1) / 64 * self.reach)


def laid(near: Near, points: Array, reach: float) -> tuple[Array, float, int]:
    """(T_cloud_model: how a model is moved to lie best on points (n, 3) within ``reach``, root mean square of distances then (m), points that
    say so). Gauss-Newton on distances along the faces' normals with weights of Cauchy; NotEnough when they do not hold all six."""
    t = np.eye(4)
    for _ in range(ROUNDS):
        p = frames.apply(frames.inverse(t), points)
        d, face = near.asked(p, reach)
        some = face >= 0
        if some.sum() < 50:
            raise NotEnough("hardly any point lies near the model", subject="model", remedy="move it nearer by hand first, or look farther")
        n, q = near.mesh.normals[face[some]], p[some]
        middle = q.mean(axis=0)
        a = np.hstack([np.cross(q - middle, n), n])
        w = 1 / (1 + (d[some] / SPOILS) ** 2)
        normal = (a * w[:, None]).T @ a
        scale = np.sqrt(np.maximum(np.diag(normal), 1e-12))
        value = np.linalg.eigvalsh(normal / np.outer(scale, scale))
        if value[0] < 1e-4:
            raise NotEnough(
                "what is near the model does not hold it in all directions", subject="model", remedy="look farther, or place it by hand"
            )
        x = np.linalg.solve(normal, (a * w[:, None]).T @ d[some])
        step = frames.small(x)
        about = np.eye(4)
        about[:3, 3] = middle
        t = t @ about @ step @ frames.inverse(about)
        if float(np.abs(x).max()) < 1e-6:
            break
    return t, float(np.sqrt(np.average(d[some] ** 2, weights=w))), int(some.sum())
