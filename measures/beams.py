"""Grows the trees that tell beams on two surfaces: `./lantern measure trees` writes them anew; some forty minutes on two cores.

They learn on thickets of thin things and on the layouts that ties are scored on, drawn for it: neither the demo site, on which they are
measured, nor the layouts of the tests are among them. Scans of several densities and noises, with holes, insects and drops, are looked
at as the filter looks at them (``core/clean/noise.py``).
"""

from __future__ import annotations

import multiprocessing
from dataclasses import replace

import numpy as np
import trimesh
from numpy.typing import NDArray

from taut_lantern.core.clean.noise import looked_at
from taut_lantern.core.clean.trees import Trees
from taut_lantern.core.kernels.beams import SIGHTS
from taut_lantern.core.scan.grid import range_image
from taut_lantern.formats.trees import keep
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import Scene, Vec
from tests.truth.layouts import GREY, LEAF, PALE, STEEL, on_two

from .growing import boosted, trees_of
from .sites import copies, hall, stair, works, yard
from .table import Row

SEEDS = range(5000, 5700)
EASY = -7.0  # log odds by the first few trees, below which one pixel in FEW is learnt from, for all of them
FEW = 20


def _leaves(s: Scene, rng: np.random.Generator, middle: Vec, count: int, spread: float, size: float) -> None:
    c = np.array(middle) + rng.normal(size=(count, 3)) * spread
    corners = c[:, None, :] + rng.normal(size=(count, 3, 3)) * size
    s.add(trimesh.Trimesh(corners.reshape(-1, 3), np.arange(3 * count).reshape(-1, 3), process=False), LEAF, 0.4)


def thicket(seed: int, open_air: bool) -> Scene:
    """What has edges: wires, rails, gratings, leaves, boxes that stand askew, in a room or in the open. Somebody scans at (0, 0)."""
    rng, s = np.random.default_rng([seed, 21]), Scene()
    half, high = (rng.uniform(12, 30), 0.0) if open_air else (rng.uniform(3, 9), rng.uniform(2.6, 6))
    s.box((-half, -half, -0.3), (half, half, 0), GREY, 0.4)
    if not open_air:
        s.box((-half, -half, high), (half, half, high + 0.2), PALE, 0.6)
    for axis, at in ((0, -half - 0.2), (0, half), (1, -half - 0.2), (1, half)):
        if not open_air or rng.random() < 0.5:
            tall = high or rng.uniform(1.5, 6)
            s.wall(axis, at, 0.2, (-half, half), (0, tall), [(-1.0, 0.2, 0.0, 2.1)] if rng.random() < 0.5 else [], PALE)

    def place(low: float = 0.0, top: float = 3.0) -> NDArray:
        while True:
            p = rng.uniform((-0.9 * half, -0.9 * half, low), (0.9 * half, 0.9 * half, top))
            if np.hypot(p[0], p[1]) > 1.5:
                return p

    for _ in range(int(rng.integers(5, 40))):  # wires, pipes, bars at any slant
        a, way = place(), rng.normal(size=3) * rng.uniform(0.3, 3.0)
        b = np.clip(a + way, (-half, -half, 0.02), (half, half, 6.0))
        if np.linalg.norm(b - a) > 0.2 and min(np.hypot(*(a + t * (b - a))[:2]) for t in (0, 0.25, 0.5, 0.75, 1)) > 1.0:
            s.tube(tuple(a), tuple(b), float(10 ** rng.uniform(-2.3, -0.8)), STEEL, rng.uniform(0.2, 0.7), 24)
    for _ in range(int(rng.integers(0, 5))):  # rails, fences, gratings
        p, gap, n, thick = place(0.05, 1.5), rng.uniform(0.03, 0.2), int(rng.integers(6, 30)), rng.uniform(0.003, 0.02)
        along = np.array([np.cos(t := rng.uniform(0, np.pi)), np.sin(t), 0.0])
        up = np.array([0.0, 0.0, 1.0]) if rng.random() < 0.7 else np.array([-along[1], along[0], 0.0])
        for k in range(n):
            a = p + gap * k * along
            if np.hypot(*a[:2]) > 1.2:
                s.tube(tuple(a), tuple(a + up * rng.choice([0.6, 1.0])), thick, STEEL, 0.4, 12)
        if n * gap < 3 and all(np.hypot(*(p + t * n * gap * along)[:2]) > 1.2 for t in (0, 0.5, 1)):
            s.tube(tuple(p + up), tuple(p + up + n * gap * along), 0.02, STEEL, 0.4, 24)
    for _ in range(int(rng.integers(3, 25))):  # boxes
        size = rng.uniform(0.05, 1.5, 3)
        mesh = trimesh.creation.box(size)
        turn = trimesh.transformations.random_rotation_matrix(rng.random(3)) if rng.random() < 0.3 else None
        mesh.apply_transform(trimesh.transformations.rotation_matrix(rng.uniform(0, 3), (0, 0, 1)) if turn is None else turn)
        p = place()
        mesh.apply_translation((p[0], p[1], size[2] / 2 if rng.random() < 0.7 else p[2]))
        if np.abs(mesh.vertices[:, :2]).max(axis=1).min() > 1.0:
            s.add(mesh, (0.5, 0.4, 0.3), rng.uniform(0.2, 0.8), by_face_normal=True)
    for _ in range(int(rng.integers(2, 9) if open_air else rng.integers(0, 3))):  # trees, hedges, plants in pots
        p, spread = place(1.0, 4.5 if open_air else 1.5), rng.uniform(0.15, 1.1 if open_air else 0.4)
        if np.hypot(p[0], p[1]) > 1.5 + 2 * spread:
            _leaves(s, rng, tuple(p), int(rng.integers(60, 600)), spread, 10 ** rng.uniform(-1.6, -0.8))
            s.tube((p[0], p[1], 0), (p[0], p[1], p[2]), rng.uniform(0.01, 0.15), (0.33, 0.24, 0.16), 0.3, 16)
    return s


def _scenes(seed: int) -> tuple[Scene, Vec]:
    """A scene and where the scanner stands, drawn."""
    rng = np.random.default_rng([seed, 22])
    if rng.random() < 0.65:
        return thicket(seed, bool(rng.random() < 0.7)), (0.0, 0.0, rng.uniform(1.2, 2.0))
    make = (hall, stair, lambda v: copies(v, "built"), works, yard, yard)[int(rng.integers(6))]
    layout = make(seed)
    k = int(rng.integers(len(layout.stations)))
    x, y, z = list(layout.stations.values())[k]
    return layout.scene(seed, k), (x, y, z + 1.6)


def lesson(seed: int) -> tuple[NDArray, NDArray]:
    """(n, SIGHTS) what is seen of the doubtful pixels of a scan, (n,) 1 where on no surface, 0 on one."""
    rng = np.random.default_rng([seed, 23])
    scene, where = _scenes(seed)
    points = int(rng.choice([250_000, 500_000, 1_000_000, 1_000_000, 2_000_000]))
    noise = float(rng.choice([0.0006, 0.0012, 0.0012, 0.0012, 0.0025, 0.005]))
    mixed, yaw = float(rng.choice([0.08, 0.15, 0.15, 0.3])), float(rng.uniform(0, 6.28))
    scanner = Scanner(points=points, noise=noise, mixed=mixed)
    cloud, off, good = on_two(lambda x: scan(scene, where, yaw, seed, x)[0], scanner)
    if rng.random() < 0.4:  # insects and drops: any range before what is there
        alone = np.nonzero(rng.random(len(cloud)) < 3e-4)[0]
        at = rng.uniform(0.5, 1.0, len(alone))
        before = (1 - at) * np.linalg.norm(cloud.xyz[alone], axis=1) > 0.05
        alone, at = alone[before], at[before]
        cloud.xyz[alone] *= at[:, None].astype(np.float32)
        off[alone], good[alone] = True, False
    if rng.random() < 0.15:  # files without rows and columns: the image is made of directions
        cloud = replace(cloud, row=None, column=None)
    if rng.random() < 0.15:  # thinned
        kept = np.nonzero(rng.random(len(cloud)) < rng.uniform(0.4, 0.9))[0]
        cloud, off, good = cloud.take(kept), off[kept], good[kept]
    grid = range_image(cloud, 16_000_000)
    if rng.random() < 0.4:  # holes
        gone = rng.random(grid.index.shape) < rng.uniform(0, 0.12)
        grid.image[gone], grid.index[gone] = 0, -1
    looks = list(looked_at(grid))
    seen = np.concatenate([v for _, v in looks]) if looks else np.zeros((0, SIGHTS), np.float32)
    own = np.concatenate([grid.index[w[:, 0], w[:, 1]] for w, _ in looks]) if looks else np.zeros(0, np.int64)
    known = (own >= 0) & (off[own] | good[own])
    return seen[known], off[own[known]]


def grow(x: NDArray, y: NDArray) -> Trees:
    """Of sights (n, SIGHTS) and whether each is on no surface (n,)."""
    rng = np.random.default_rng(0)
    some = rng.random(len(y)) < np.where(y, 0.4, 0.12)  # most pixels are easy: a few trees tell which are not
    quick = boosted(80, 31, 0.15).fit(x[some], y[some])
    hard = y | (np.concatenate([quick.decision_function(v) for v in np.array_split(x, 64)]) - np.log(0.4 / 0.12) > EASY)
    kept = hard | (rng.random(len(y)) < 1 / FEW)
    model = boosted(500, 56, 0.06).fit(x[kept], y[kept], np.where(hard[kept], 1.0, FEW))
    return trees_of(model)


def run() -> list[Row]:
    with multiprocessing.Pool() as pool:
        lessons = pool.map(lesson, SEEDS, chunksize=4)
    x, y = np.concatenate([v[0] for v in lessons]), np.concatenate([v[1] for v in lessons])
    trees = grow(x, y)
    keep("beams", trees)
    learnt = f"Trees grown on {len(y):,} pixels of {len(lessons)} scans, {int(y.sum()):,} of them on no surface"
    return [Row(learnt, f"{len(trees.asks):,} nodes", "")]
