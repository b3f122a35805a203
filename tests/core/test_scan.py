from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from taut_lantern.core.kernels import rays
from taut_lantern.core.scan import octree
from taut_lantern.core.scan.grid import range_image
from taut_lantern.core.scan.octree import TILE, arrange
from taut_lantern.core.scan.scan import Scan
from tests.support import room


@given(st.integers(1, 3000), st.sampled_from([0.01, 1.0, 80.0]), st.integers(0, 9))
def test_the_order_is_a_permutation_and_tiles_cover_it_once(n: int, size: float, seed: int) -> None:
    xyz = (np.random.default_rng(seed).random((n, 3)) * size).astype(np.float32)
    order, tiles = arrange(xyz)
    assert sorted(order) == list(range(n))
    assert [t.first for t in tiles] == list(np.cumsum([0, *(t.count for t in tiles)])[:-1])
    assert sum(t.count for t in tiles) == n


def test_each_level_halves_the_spacing_and_coarse_levels_are_spread_over_the_whole() -> None:
    xyz = room(200_000, (30, 20, 6)).xyz
    order, tiles = arrange(xyz)
    assert max(t.count for t in tiles) <= TILE
    spacing = sorted({t.spacing for t in tiles}, reverse=True)
    np.testing.assert_allclose(np.array(spacing[:-1]) / spacing[1:], 2.0)
    first = np.concatenate([xyz[order[t.first : t.first + t.count]] for t in tiles if t.level == 0])
    assert len(first) < 0.05 * len(xyz)
    assert (np.ptp(first, axis=0) > 0.9 * np.ptp(xyz, axis=0)).all()


def test_both_ways_of_sorting_give_the_same_order(monkeypatch: pytest.MonkeyPatch) -> None:
    """Codes that share a word with their index, and whole codes: points a hand apart have cells of their own in both."""
    lattice = np.unique(np.random.default_rng(1).integers(0, 600, (5000, 3)), axis=0) * np.float32(0.1)
    points = np.random.default_rng(2).permutation(lattice).astype(np.float32)
    fast = arrange(points)
    monkeypatch.setattr(octree, "SHORT", 0)
    slow = arrange(points)
    np.testing.assert_array_equal(fast[0], slow[0])
    assert fast[1] == slow[1]


@pytest.mark.parametrize("xyz", [np.zeros((0, 3)), np.zeros((5, 3)), np.full((3, 3), 5e6), np.array([[0, 0, 0], [1e-6, 0, 0], [90, 0, 0]])])
def test_awkward_clouds_can_be_ordered(xyz: np.ndarray) -> None:
    order, tiles = arrange(xyz.astype(np.float32))
    assert len(order) == len(xyz) == sum(t.count for t in tiles)


def turned(first: float, span: float, backwards: bool = False, step: float = 0.4) -> Scan:
    """A room scanned column by column from azimuth ``first`` over ``span``, degrees, with the scanner's own grid."""
    azimuth, elevation = np.arange(first, first + span, step), np.arange(-50.0, 50.0, step)
    row, column = (a.ravel().astype(np.int32) for a in np.meshgrid(np.arange(len(elevation)), np.arange(len(azimuth)), indexing="ij"))
    az, el = np.radians(azimuth[column]), np.radians(elevation[row])
    direction = np.stack([np.cos(el) * np.cos(az), np.cos(el) * np.sin(az), np.sin(el)], axis=1)
    with np.errstate(divide="ignore"):
        reach = (np.array([4.0, 3.0, 1.6]) / np.abs(direction)).min(axis=1)
    return Scan((direction * reach[:, None]).astype(np.float32), None, None, row, len(azimuth) - 1 - column if backwards else column)


@pytest.mark.parametrize("backwards", [False, True])
@pytest.mark.parametrize(("first", "span"), [(-180.0, 360.0), (150.0, 60.0), (-200.0, 90.0), (20.0, 330.0), (-180.0, 364.0), (90.0, 372.0)])
def test_every_ray_finds_its_pixel_over_the_half_turn_and_beyond_a_full_turn(first: float, span: float, backwards: bool) -> None:
    scan = turned(first, span, backwards)
    grid = range_image(scan)
    rows, columns = grid.index.shape
    assert columns <= 900 + 1 and grid.wrap == (span >= 360)
    assert (grid.index >= 0).sum() == rows * columns
    for k in np.random.default_rng(1).integers(0, len(scan), 800):
        r, c = rays.pixel(*scan.xyz[k].astype(float), grid.geo, rows, columns, grid.wrap)
        assert r >= 0 and c >= 0
        there = grid.image[r, c].astype(float)
        turn = there @ scan.xyz[k] / np.linalg.norm(there) / np.linalg.norm(scan.xyz[k])
        assert np.degrees(np.arccos(min(turn, 1.0))) < 0.45  # the pixel's own direction, or that of the lap before
