"""Grows the trees that tell mirrors from doors: `./lantern measure trees` writes them anew.

They learn on sites that are drawn for it, as those are on which they are scored, on works and corridors, and on yards under the open sky; the
layouts of the tests are not among them. Mirrors and wet floors hang and lie where some station sees them; stations stand a little off where
they are thought to, as after a tie. A site is looked at as it was scanned, or as it is when most of its images are known.
"""

from __future__ import annotations

import multiprocessing
import os
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from taut_lantern.core import frames
from taut_lantern.core.clean.gaps import SIGHTS, Gap
from taut_lantern.core.clean.ghosts import blank, gaps
from taut_lantern.core.clean.movers import Seen
from taut_lantern.core.clean.trees import Trees
from taut_lantern.formats.trees import keep
from taut_lantern.standins.scene import Mirror
from tests.truth.layouts import Layout
from tests.truth.test_rooms import behind

from .growing import boosted, hard, trees_of
from .hung import hung, scanned
from .sites import copies, corridor, hall, stair, works, yard
from .table import Row

COUNT = int(os.environ.get("LANTERN_LESSONS", "72"))
INDOORS, OUTDOORS, FEW = (range(first, first + n) for first, n in ((6000, COUNT), (7000, COUNT // 4), (8000, COUNT * 8 // 9)))
YARDS = 0.25  # of the sites of which few stations are seen, that are yards
KNOWN = 0.75  # of the images of a mirror, that are known where some are
MIXED, CLEAN = 0.7, 0.02  # share of a patch's points that are images, from which on it is of a mirror; up to which it is of none
SKIPPED = 0.5  # of the patches of none, that are not learnt from: there are many


def _layout(seed: int) -> Layout:
    if seed in OUTDOORS:
        return yard(seed)
    rng = np.random.default_rng([seed, 31])
    if seed in FEW:  # stations side by side, or wherever they stand
        layout = yard(seed) if rng.random() < YARDS else _indoors(seed, rng)
        names = list(layout.stations)
        n, first = int(rng.integers(1, 5)), int(rng.integers(len(names)))
        side_by_side = rng.random() < 0.5
        kept = np.roll(names, -first)[:n] if side_by_side else rng.choice(names, min(n, len(names)), replace=False)
        return replace(layout, stations={str(name): layout.stations[name] for name in kept})
    return _indoors(seed, rng)


def _indoors(seed: int, rng: np.random.Generator) -> Layout:
    makes = (hall, hall, stair, stair, lambda v: copies(v, "built"), lambda v: copies(v, "same"), lambda v: works(v, 3), corridor)
    return makes[int(rng.integers(len(makes)))](seed)


def lesson(seed: int) -> tuple[NDArray, NDArray]:
    """(n, SIGHTS) what is seen of the patches of a site, (n,) 1 where they are of a mirror."""
    rng = np.random.default_rng([seed, 32])
    layout = _layout(seed)
    points, noise = int(rng.choice([150_000, 250_000, 400_000, 400_000])), float(rng.choice([0.0006, 0.0012, 0.0012, 0.0025]))
    plain = scanned(layout, seed, [])
    sorts = (False, True, False, False, True)[: int(rng.choice([0, 2, 3, 4, 5, 5]))]
    mirrors = [m for m in (hung(plain, rng, wet, float(rng.choice([0.6, 1.0, 1.0, 1.6]))) for wet in sorts) if m is not None]
    stations = scanned(layout, seed, mirrors, points, noise=noise)
    images = [[behind(own, m) for m in mirrors] for own in stations]
    off, turn = float(rng.choice([0.0, 0.001, 0.003])), float(rng.choice([0.0, 0.0001]))
    astray = [replace(x, T_part_station=_astray(x.T_part_station, rng, off, turn)) for x in stations]
    out: list[tuple[NDArray, NDArray]] = [(np.zeros((0, SIGHTS), np.float32), np.zeros(0, bool))]
    some = float(rng.choice([0.0, KNOWN]))
    known = [[v for v in shown if rng.random() < some] for shown in images]
    seen = [blank(own, np.any(v, axis=0)) if v else own for own, v in zip(astray, known, strict=True)]
    for k, own in enumerate(astray):
        for gap in gaps(own, [own if x.name == own.name else x for x in seen]):
            out.append(_learnt(gap, stations[k], mirrors))
    x, y = (np.concatenate(v) for v in zip(*out, strict=True))
    kept = y | (rng.random(len(y)) > SKIPPED)
    return x[kept], y[kept]


def _astray(pose: NDArray, rng: np.random.Generator, off: float, turn: float) -> NDArray:
    return np.asarray(frames.pose(float(rng.normal(0, turn + 1e-12)), tuple(rng.normal(0, off + 1e-12, 3))) @ pose)


def _learnt(gap: Gap, own: Seen, mirrors: list[Mirror]) -> tuple[NDArray, NDArray]:
    """Sights of patches and whether they are of a mirror; none of those that are so partly, or show images of another plane. own: where it truly
    stands."""
    if (looked := gap.looked_at()) is None:
        return np.zeros((0, SIGHTS), np.float32), np.zeros(0, bool)
    there, seen = looked
    patch = gap.patch(gap.cell)
    total = np.bincount(patch)[there]
    any_of, here = np.zeros(len(patch), bool), np.zeros(len(patch), bool)
    foot = frames.apply(gap.own.T_part_station, (-gap.plane.far * gap.plane.normal)[None])[0]
    turned = gap.own.T_part_station[:3, :3] @ gap.plane.normal
    for m in mirrors:
        shown = behind(replace(own, xyz=gap.points.astype(np.float32)), m)
        any_of |= shown
        if turned @ m.axes()[2] > 0.995 and abs((np.array(m.centre) - foot) @ turned) < 0.04:
            here |= shown
    true, some = (np.bincount(patch, v)[there] for v in (here, any_of))
    learnt = (true > MIXED * total) | (some <= CLEAN * total)
    return seen[learnt], (true > MIXED * total)[learnt]


def grow(x: NDArray, y: NDArray) -> Trees:
    """Of sights (n, SIGHTS) and whether each is of a mirror (n,)."""
    weight = np.where(y, 1.0, 1.0 / (1.0 - SKIPPED))
    kept = hard(x, y, weight)
    return trees_of(boosted(400, 24, 0.06, 0.3).fit(x[kept > 0], y[kept > 0], (weight * kept)[kept > 0]))


def run() -> list[Row]:
    with multiprocessing.Pool() as pool:
        lessons = pool.map(lesson, [*INDOORS, *OUTDOORS, *FEW], chunksize=2)
    x, y = (np.concatenate(v) for v in zip(*lessons, strict=True))
    trees = grow(x, y)
    keep("mirrors", trees)
    learnt = f"Trees grown on {len(y):,} patches of gaps on {len(lessons)} sites, {int(y.sum()):,} of them mirrors"
    return [Row(learnt, f"{len(trees.asks):,} nodes", "")]
