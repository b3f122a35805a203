"""LAS / LAZ 1.4 out (and in, for checks), through laspy and lazrs."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

import laspy
import numpy as np
from numpy.typing import NDArray

from .part import whole

Array = NDArray[np.float64]


def write(
    path: Path,
    parts: Iterable[tuple[int, Array, NDArray[np.float32] | None, NDArray[np.uint8] | None, NDArray[np.uint8] | None]],
    offset: Array,
    unit: float = 1.0,
) -> int:
    """Write (source id, xyz (n, 3) metres, intensity 0..1, rgb, class) parts; steps of a ten-thousandth of the file's unit round
    ``offset`` (3,) metres. unit : metres per unit of the file.

    The file appears only when it is whole. Returns the number of points.
    """
    header = laspy.LasHeader(point_format=7, version="1.4")
    header.scales = np.full(3, 0.0001)
    header.offsets = np.floor(offset / unit)
    header.generating_software = "Taut Lantern"
    total, squeeze = 0, path.suffix.lower() == ".laz"
    with whole(path) as part, laspy.open(str(part), mode="w", header=header, do_compress=squeeze) as out:
        for source, xyz, intensity, rgb, kind in parts:
            if not len(xyz):
                continue
            record = laspy.ScaleAwarePointRecord.zeros(len(xyz), header=header)
            record.x, record.y, record.z = (xyz[:, k] / unit for k in range(3))
            record["point_source_id"] = np.full(len(xyz), source, np.uint16)
            record["return_number"] = np.ones(len(xyz), np.uint8)
            record["number_of_returns"] = np.ones(len(xyz), np.uint8)
            if intensity is not None:
                record["intensity"] = np.round(intensity * 65535).astype(np.uint16)
            if rgb is not None:
                for k, name in enumerate(("red", "green", "blue")):
                    record[name] = rgb[:, k].astype(np.uint16) * 257
            if kind is not None:
                record["classification"] = kind
            out.write_points(record)
            total += len(xyz)
    return total


def read(path: Path) -> tuple[Array, NDArray[np.uint16]]:
    """(xyz (n, 3) float64, point source ids)."""
    with laspy.open(str(path)) as source:
        las = source.read()
    return np.asarray(las.xyz), np.asarray(las.point_source_id)
