"""Pictures at true scale: tiled TIFF with GeoTIFF keys (OGC 19-008r4) and a world file beside it."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import tifffile
from numpy.typing import NDArray

from .part import whole

TILE = 512
Array = NDArray[np.float64]
MODEL_USER, PIXEL_IS_AREA = 32767, 1


def affine(T_frame_section: Array | None, low: float, high: float, pixel: float) -> Array:
    """(2, 3) from column, row (of upper left pixel corners) to coordinates, in the drawing's plane (x, y)."""
    t = np.eye(4) if T_frame_section is None else T_frame_section
    along, across, at = t[:2, 0], t[:2, 1], t[:2, :] @ [low, high, 0.0, 1.0]
    return np.column_stack([along * pixel, -across * pixel, at])


def world(m: Array) -> str:
    """The six lines of a world file: steps along columns and rows, and the middle of the upper left pixel."""
    middle = m @ [0.5, 0.5, 1.0]
    return "".join(f"{v:.10f}\n" for v in (m[0, 0], m[1, 0], m[0, 1], m[1, 1], middle[0], middle[1]))


def write(path: Path, bands: Iterator[NDArray[np.uint8]], wide: int, tall: int, channels: int, m: Array, metre: float, title: str) -> None:
    """Write a picture band by band (each (rows, wide, channels), ``TILE`` rows but the last). m: see ``affine``, in units of ``metre``
    metres."""

    def tiles() -> Iterator[NDArray[np.uint8]]:
        for rows in bands:
            for x in range(0, wide, TILE):
                piece = rows[:, x : x + TILE]
                if piece.shape[:2] != (TILE, TILE):
                    piece = np.pad(piece, ((0, TILE - piece.shape[0]), (0, TILE - piece.shape[1]), (0, 0)), constant_values=255)
                yield piece if channels == 3 else piece[:, :, 0]

    across = [m[0, 0], m[0, 1], 0, m[0, 2], m[1, 0], m[1, 1], 0, m[1, 2], 0, 0, 0, 0, 0, 0, 0, 1]
    unit = {1.0: 9001, 0.3048: 9002, 0.001: 1025}.get(round(metre, 9), 9003)  # metre, foot, millimetre, US survey foot
    keys = [
        1,
        1,
        0,
        4,
        1024,
        0,
        1,
        MODEL_USER,
        1025,
        0,
        1,
        PIXEL_IS_AREA,
        1026,
        34737,
        len(title.encode("ascii", "replace")) + 1,
        0,
        3076,
        0,
        1,
        unit,
    ]
    tags: list[tuple[int, int, int, Any, bool]] = [
        (34264, 12, 16, tuple(float(v) for v in across), True),
        (34735, 3, len(keys), tuple(keys), True),
        (34737, 2, 0, title.encode("ascii", "replace").decode() + "|", True),
    ]
    shape: tuple[int, ...] = (tall, wide, 3) if channels == 3 else (tall, wide)
    with whole(path) as part, tifffile.TiffWriter(part, bigtiff=wide * tall * channels > 3_500_000_000) as out:
        out.write(
            tiles(),
            shape=shape,
            dtype=np.uint8,
            tile=(TILE, TILE),
            photometric="rgb" if channels == 3 else "minisblack",
            compression="zlib",
            compressionargs={"level": 1},
            extratags=tags,
            description=title.encode("ascii", "replace").decode(),
            metadata=None,
        )
