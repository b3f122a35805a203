from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from taut_lantern.core.scan import octree
from taut_lantern.core.scan.octree import TILE, arrange
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
