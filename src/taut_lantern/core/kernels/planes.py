"""Compiled loops for stored tiles: points gathered into planes of equal significance, and back."""

from __future__ import annotations

import numpy as np

from .order import jit


@jit
def split(points, intensity, rgb, body):  # type: ignore[no-untyped-def]
    """Points into ``body`` (17 bytes each) as they are kept. Returns (2, 3) lowest and highest.

    points (n, 3) float32, intensity (n,) float32 0 to 1, rgb (n, 3) uint8, the latter two empty when there are none.
    body : of every x, its bits exclusive-or those of the x before: all lowest bytes, all next, and so on; the same of y
    and z; intensity 0 to 65535, two bytes each; r, g, b. Neighbours differ little, so that the high bytes are nearly empty
    and compress away.
    """
    n = len(points)
    own, bits, ends = np.empty((3, n), np.float32), np.empty(n, np.uint32), np.empty((2, 3), np.float32)
    for k in range(n):
        own[0, k], own[1, k], own[2, k] = points[k, 0], points[k, 1], points[k, 2]
    for a in range(3):
        ends[0, a], ends[1, a], now = own[a].min(), own[a].max(), own[a].view(np.uint32)
        bits[0] = now[0]
        for k in range(1, n):
            bits[k] = now[k] ^ now[k - 1]
        for b in range(4):
            plane, shift = body[(4 * a + b) * n : (4 * a + b + 1) * n], np.uint32(8 * b)
            for k in range(n):
                plane[k] = np.uint8(bits[k] >> shift)
    if len(intensity):
        level = body[12 * n : 14 * n].view(np.uint16)
        for k in range(n):
            level[k] = np.uint16(intensity[k] * np.float32(65535) + np.float32(0.5))
    if len(rgb):
        colour = body[14 * n :]
        for k in range(n):
            colour[3 * k], colour[3 * k + 1], colour[3 * k + 2] = rgb[k, 0], rgb[k, 1], rgb[k, 2]
    return ends


@jit
def split_whole(values, body):  # type: ignore[no-untyped-def]
    """Whole numbers values (n,) int32 into ``body``, as many bytes each as it has room for, as ``split`` does."""
    n, before = len(values), np.uint32(0)
    for k in range(n):
        now = np.uint32(values[k])
        for b in range(len(body) // n):
            body[b * n + k] = np.uint8((now ^ before) >> np.uint32(8 * b))
        before = now


@jit
def join_whole(body, values):  # type: ignore[no-untyped-def]
    """The way back: body into values (n,) int32."""
    n = len(values)
    before = np.uint32(0)
    for k in range(n):
        for b in range(len(body) // n):
            before ^= np.uint32(body[b * n + k]) << np.uint32(8 * b)
        values[k] = np.int32(before)


@jit
def join(body, xyz):  # type: ignore[no-untyped-def]
    """The bits of x, y, z into xyz (n, 3) uint32, from a body as ``split`` wrote it."""
    n = len(xyz)
    for a in range(3):
        v, at = np.uint32(0), 4 * n * a
        for k in range(n):
            low = np.uint32(body[at + k]) | (np.uint32(body[at + n + k]) << np.uint32(8))
            v ^= low | (np.uint32(body[at + 2 * n + k]) << np.uint32(16)) | (np.uint32(body[at + 3 * n + k]) << np.uint32(24))
            xyz[k, a] = v
