"""Mirrors and wet floors, drawn where some station sees a wall or a floor, and sites scanned with them."""

from __future__ import annotations

import numpy as np

from taut_lantern.core import frames
from taut_lantern.core.clean.movers import Seen
from taut_lantern.core.scan.grid import range_image
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import Mirror, Vec
from tests.truth.layouts import Layout


def scanned(
    layout: Layout, seed: int, mirrors: list[Mirror], points: int = 400_000, mixed: float = 0.15, noise: float = 0.0012
) -> list[Seen]:
    out = []
    for k, (name, (x, y, z)) in enumerate(layout.stations.items()):
        scene = layout.scene(seed, k)
        scene.mirrors = mirrors
        scanner = Scanner(points=points, mixed=mixed, noise=noise)
        cloud, pose = scan(scene, (x, y, z + 1.6 + 0.04 * k), 0.7 * k + seed, 1000 * seed + k, scanner)
        out.append(Seen(name, range_image(cloud, 1_000_000), cloud.xyz, pose))
    return out


def hung(stations: list[Seen], rng: np.random.Generator, wet: bool, scale: float = 1.0) -> Mirror | None:
    """One on a wall or the floor that some station sees from within 7 m, drawn."""
    for _ in range(600):
        own = stations[int(rng.integers(len(stations)))]
        p = frames.apply(own.T_part_station, own.xyz[rng.integers(len(own.xyz), size=1)].astype(float))[0]
        near = frames.apply(own.T_part_station, own.xyz.astype(float)) - p
        patch = near[np.linalg.norm(near, axis=1) < 0.15]
        if len(patch) < 30 or np.linalg.norm(own.T_part_station[:3, 3] - p) > 7:
            continue
        _, _, axes = np.linalg.svd(patch - patch.mean(axis=0), full_matrices=False)
        n = axes[2] * np.sign(axes[2] @ (own.T_part_station[:3, 3] - p))
        if (n[2] > 0.99) != wet or (not wet and abs(n[2]) > 0.02):
            continue
        width, height = rng.uniform((0.8, 0.8), (1.6, 1.4)) if not wet else rng.uniform((2, 1.5), (3, 3))
        width, height = width * scale, height * scale
        mirror = Mirror(_vec(p), _vec(n), float(width), float(height), 0.5 if wet else 1.0)
        right, up, _ = mirror.axes()
        on = (np.abs(near @ right) < width / 2 + 0.1) & (np.abs(near @ up) < height / 2 + 0.1) & (np.abs(near @ n) < 0.5)
        if on.sum() > 500 and (np.abs(near[on] @ n) < 0.012).mean() > 0.97:
            at = p + n * (float(np.median(near[on] @ n)) + 0.006)
            return Mirror(_vec(at), _vec(n), float(width), float(height), mirror.share)
    return None


def _vec(v: np.ndarray) -> Vec:
    return float(v[0]), float(v[1]), float(v[2])
