from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from taut_lantern.core.kernels import rays
from taut_lantern.core.scan import octree
from taut_lantern.core.scan.grid import range_image
from taut_lantern.core.scan.hierarchy import Tree, packed, tree, unpacked
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


def of_room(n: int) -> tuple[Tree, np.ndarray]:
    xyz = room(n, (60, 20, 6)).xyz
    order, tiles = arrange(xyz)
    sorted_ = xyz[order]
    ends = [(sorted_[t.first : t.first + t.count].min(axis=0), sorted_[t.first : t.first + t.count].max(axis=0)) for t in tiles]
    low, high = (np.array(e, np.float32) for e in zip(*ends, strict=True))
    level, count = np.array([t.level for t in tiles], np.uint8), np.array([t.count for t in tiles], np.uint32)
    return tree(level, count, low, high, tiles[0].spacing), sorted_


def test_the_tree_of_tiles_can_be_cut_anywhere() -> None:
    """Every point of a tile and of all below it lies in its box, parents are coarser and come first, and few hang far up."""
    t, points = of_room(900_000)
    first = np.cumsum([0, *t.count])
    far_up = 0
    for k, parent in enumerate(t.parent):
        own = points[first[k] : first[k + 1]]
        chain = k
        while chain >= 0:
            assert (own >= t.low[chain]).all() and (own <= t.high[chain]).all()
            chain = int(t.parent[chain])
        assert parent < k and (parent < 0 or t.level[parent] < t.level[k])
        far_up += int(parent >= 0 and t.level[parent] + 1 < t.level[k])
    assert (t.parent < 0).sum() == (t.level == 0).sum() and far_up <= 0.05 * len(t.parent)


def test_the_tree_of_tiles_survives_its_bytes() -> None:
    t, _ = of_room(200_000)
    body = packed(t)
    back = unpacked(body)
    assert len(body) == 36 + 21 * len(t.level)
    for name in ("level", "count", "parent"):
        np.testing.assert_array_equal(getattr(back, name), getattr(t, name))
    assert (back.low <= t.low + 1e-6).all() and (back.high >= t.high - 1e-6).all()  # never smaller
    np.testing.assert_allclose(np.stack([back.low, back.high]), np.stack([t.low, t.high]), atol=2 * 60 / 65535)
    for broken in (body[:-1], b"no" + body[2:]):
        with pytest.raises(ValueError, match="list of tiles"):
            unpacked(broken)


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
