"""The tiles of a station as a tree that a reader can cut early: who does not need a tile needs none below it.

The parent of a tile is the tile of the finest coarser level whose octree node holds its node; its box holds those of all tiles
below it. The list goes out once, in one piece of bytes, since the tiles of a station never change.
"""

from __future__ import annotations

import struct
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..kernels.order import DEPTH
from .octree import Cells

MARK = b"TLT1"
_HEAD = struct.Struct("<4sI6ff")  # mark, tiles, lowest and highest x y z (station frame), spacing of level 0; metres
STEPS = 65535  # of a box, from the lowest to the highest along each axis


@dataclass(frozen=True)
class Tree:
    """n tiles in the order of their points. level, count, parent (n,), parent -1 at a root; low, high (n, 3) of a tile and all
    below it, metres in the station's frame; spacing: cell of level 0, metres."""

    level: NDArray[np.uint8]
    count: NDArray[np.uint32]
    parent: NDArray[np.int32]
    low: NDArray[np.float32]
    high: NDArray[np.float32]
    spacing: float


def tree(level: NDArray[np.uint8], count: NDArray[np.uint32], low: NDArray[np.float32], high: NDArray[np.float32], spacing: float) -> Tree:
    """The tree of a station's tiles, given with their own boxes (n, 3), in the order of their points."""
    if len(level) == 0:
        return Tree(level, count, np.zeros(0, np.int32), low, high, spacing)
    parent = _parents(level, low, high)
    low, high = low.copy(), high.copy()
    for k in range(len(level) - 1, -1, -1):  # parents are of coarser levels, and stand before
        if parent[k] >= 0:
            low[parent[k]], high[parent[k]] = np.minimum(low[parent[k]], low[k]), np.maximum(high[parent[k]], high[k])
    return Tree(level, count, parent, low, high, spacing)


def _parents(level: NDArray[np.uint8], low: NDArray[np.float32], high: NDArray[np.float32]) -> NDArray[np.int32]:
    cells = Cells.over(np.stack([low.min(axis=0), high.max(axis=0)]).astype(float))
    first, last = (cells.codes(np.ascontiguousarray(ends, np.float32), DEPTH) for ends in (low, high))
    nodes = [_common(int(a), int(b)) for a, b in zip(first, last, strict=True)]
    at: dict[tuple[int, int], list[int]] = {}
    for k, node in enumerate(nodes):
        at.setdefault(node, []).append(k)
    parent = np.full(len(level), -1, np.int32)
    for k, (depth, code) in enumerate(nodes):
        best = -1
        for up in range(depth + 1):
            for other in at.get((depth - up, code >> (3 * up)), ()):
                if level[other] < level[k] and (best < 0 or level[other] > level[best]):
                    best = other
        parent[k] = best
    return parent


def _common(a: int, b: int) -> tuple[int, int]:
    """The smallest octree node that holds two codes of full depth: its depth and its code there."""
    up = -(-(a ^ b).bit_length() // 3)
    return DEPTH - up, a >> (3 * up)


def packed(t: Tree) -> bytes:
    """Head, then count (uint32), parent (int32), box (six uint16: low and high in STEPS of the whole, rounded outwards) and
    level (uint8) of all tiles, little endian."""
    low, high = (t.low.min(axis=0), t.high.max(axis=0)) if len(t.level) else (np.zeros(3), np.zeros(3))
    step = np.maximum((high.astype(float) - low) / STEPS, 1e-9)
    box = np.concatenate([np.floor((t.low - low) / step - 1e-6), np.ceil((t.high - low) / step + 1e-6)], axis=1)
    head = _HEAD.pack(MARK, len(t.level), *low.tolist(), *high.tolist(), t.spacing)
    columns = (t.count.astype("<u4"), t.parent.astype("<i4"), np.clip(box, 0, STEPS).astype("<u2"), t.level.astype("u1"))
    return head + b"".join(c.tobytes() for c in columns)


def unpacked(body: bytes) -> Tree:
    """The way back; boxes up to a step larger. ValueError when it is no such list."""
    mark, n, *ends, spacing = _HEAD.unpack_from(body)
    if mark != MARK or len(body) != _HEAD.size + 21 * n:
        raise ValueError("not a list of tiles")
    low, high = np.array(ends[:3]), np.array(ends[3:])
    step, at = np.maximum((high - low) / STEPS, 1e-9), _HEAD.size
    count, parent = np.frombuffer(body, "<u4", n, at), np.frombuffer(body, "<i4", n, at + 4 * n)
    box = np.frombuffer(body, "<u2", 6 * n, at + 8 * n).reshape(n, 6)
    level = np.frombuffer(body, "u1", n, at + 20 * n)
    return Tree(level, count, parent, (low + box[:, :3] * step).astype(np.float32), (low + box[:, 3:] * step).astype(np.float32), spacing)
