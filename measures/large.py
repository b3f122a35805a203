"""Bring in a scan of 200 million points: does it fit into 2 GB of memory?"""

from __future__ import annotations

import os
import sys
import tempfile
from pathlib import Path

import numpy as np
import pye57
from pye57 import libe57

from .points import answer, child_of
from .table import Row

POINTS = 200_000_000
BLOCK = 2_000_000
HALL = np.array([40.0, 25.0, 9.0])  # metres; the scanner stands 1.7 m above its floor


def make(path: str, points: str) -> None:
    """A hall of one tripod, written block by block: every direction meets a wall, with 1.2 mm of noise."""
    total = int(points)
    with pye57.E57(path, mode="w") as file:
        image = file.image_file
        scan = libe57.StructureNode(image)
        for name, value in (("guid", "{7f0c2a52-2f0d-4c5e-9c5b-0d6b1c2a9e11}"), ("name", "Hall")):
            scan.set(name, libe57.StringNode(image, value))
        prototype = libe57.StructureNode(image)
        names = ("cartesianX", "cartesianY", "cartesianZ", "intensity")
        for name in names:
            prototype.set(name, libe57.FloatNode(image, 0.0, libe57.FloatPrecision.E57_SINGLE, -1e4, 1e4))
        points_node = libe57.CompressedVectorNode(image, prototype, libe57.VectorNode(image, True))
        scan.set("points", points_node)
        file.data3d.append(scan)
        block = {name: np.empty(BLOCK) for name in names}
        buffers = libe57.VectorSourceDestBuffer()
        for name in names:
            buffers.append(libe57.SourceDestBuffer(image, name, block[name], BLOCK, True, True))
        writer = points_node.writer(buffers)
        rng = np.random.default_rng(7)
        for first in range(0, total, BLOCK):
            n = min(BLOCK, total - first)
            direction = rng.normal(size=(n, 3))
            direction /= np.linalg.norm(direction, axis=1, keepdims=True)
            high = np.array([HALL[0] / 2, HALL[1] / 2, HALL[2] - 1.7])
            low = np.array([HALL[0] / 2, HALL[1] / 2, 1.7])
            reach = (np.where(direction > 0, high, low) / np.maximum(np.abs(direction), 1e-9)).min(axis=1)
            xyz = direction * (reach + rng.normal(0, 0.0012, n))[:, None]
            for k, name in enumerate(names[:3]):
                block[name][:n] = xyz[:, k]
            block["intensity"][:n] = 0.2 + 0.6 * rng.random(n)
            writer.write(n)
        writer.close()
    answer(points=total)


def run(points: int = POINTS) -> list[Row]:
    from tests.databases import fresh_database

    os.environ["LANTERN_DATABASE"] = fresh_database("lantern_measure")
    child_of("taut_lantern.cli", "setup")
    with tempfile.TemporaryDirectory() as folder:
        path = str(Path(folder) / "hall.e57")
        child_of("measures.large", "make", path, str(points))
        sent = child_of("measures.points", "upload", path)
        mine = child_of("measures.points", "bring_in", sent["project"], sent["original"])
        yard = child_of("measures.points", "stream", path)
    ratio = mine["seconds"] / yard["seconds"]
    return [
        Row(
            f"Bring in one scan of {points / 1e6:.0f} million points: sorted on disk, peak memory",
            f"{mine['peak_gb']:.2f} GB; {mine['seconds']:.0f} s, {points / mine['seconds'] / 1e6:.2f} M points/s",
            f"reading the file block by block with pye57's library: {yard['seconds']:.0f} s ({ratio:.1f}x)",
            "at most 2 GB",
            mine["peak_gb"] <= 2,
        )
    ]


if __name__ == "__main__":
    {"make": make}[sys.argv[1]](*sys.argv[2:])
