"""Compiled loops for stored tiles: points gathered into planes of equal significance, and back."""

from __future__ import annotations

import numpy as np

from .order import jit


@jit
def split(bits, places, intensity, rgb, index, body, ends):  # type: ignore[no-untyped-def]
    """Gather the points ``index`` into ``body`` (17 bytes each) as they are kept, and their lowest and highest x, y, z
    into ``ends`` (2, 3).

    bits, places : (3, n) x, y, z as uint32 and as float32; intensity (n,) float32 0 to 1 and rgb (n, 3) uint8, empty when
    there are none. body : of every x, its bits exclusive-or those of the x before: all lowest bytes, all next, and so on;
    the same of y and z; intensity 0 to 65535, two bytes each; r, g, b. Neighbours differ little, so that the high bytes
    are nearly empty and compress away.
    """
    n = len(index)
    for a in range(3):
        before, at = np.uint32(0), 4 * n * a
        low = high = places[a, index[0]] if n else np.float32(0)
        for k in range(n):
            i = index[k]
            v = bits[a, i] ^ before
            before = bits[a, i]
            body[at + k] = v & np.uint32(255)
            body[at + n + k] = (v >> np.uint32(8)) & np.uint32(255)
            body[at + 2 * n + k] = (v >> np.uint32(16)) & np.uint32(255)
            body[at + 3 * n + k] = v >> np.uint32(24)
            low, high = min(low, places[a, i]), max(high, places[a, i])
        ends[0, a], ends[1, a] = low, high
    for k in range(n):
        i = index[k]
        if len(intensity):
            level = int(intensity[i] * 65535 + 0.5)
            body[12 * n + 2 * k], body[12 * n + 2 * k + 1] = level & 255, level >> 8
        if len(rgb):
            for j in range(3):
                body[14 * n + 3 * k + j] = rgb[i, j]


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
