"""Corners where three planes meet, with noise, leaves and a box before them."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core import frames
from taut_lantern.core.errors import NotEnough
from taut_lantern.core.place.corner import corner_of


def corner(seed: int, clutter: int = 0) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Points of a corner of 0.35 m, turned and moved; its place, and where one stands."""
    rng = np.random.default_rng(seed)
    p = rng.uniform(0, 0.35, (1500, 3))
    p[np.arange(1500), rng.integers(0, 3, 1500)] = 0.0
    p += rng.normal(0, 0.0015, p.shape)
    leaves = rng.uniform(0.03, 0.35, (clutter, 3))
    box = rng.uniform((0.1, 0.1, 0.0), (0.25, 0.25, 0.15), (clutter // 2, 3))
    box[:, 2] = np.where(rng.random(len(box)) < 0.5, 0.15, box[:, 2])
    t = frames.pose(rng.uniform(-3, 3), (12.0, -4.0, 1.0))
    return frames.apply(t, np.concatenate([p, leaves, box])), t[:3, 3], frames.apply(t, np.array([[2.0, 2.0, 1.5]]))[0]


@pytest.mark.parametrize("clutter", [0, 300])
def test_the_corner_is_found_through_noise_and_leaves_as_well_as_it_claims(clutter: int) -> None:
    ratios = []
    for seed in range(25):
        points, true, stand = corner(seed, clutter)
        found = corner_of(points, true + [0.02, -0.03, 0.01], stand)
        off = found.at - true
        assert np.linalg.norm(off) < 0.0015 and found.square < 0.6 and found.plumb < 0.6
        assert all(p.points > 300 and p.rms < 0.0035 for p in found.planes)
        ratios.append(float(off @ np.linalg.solve(found.covariance, off)) / 3)
    assert np.mean(ratios) < 2.0


def test_an_edge_and_a_wall_are_no_corner_and_neither_is_one_far_away() -> None:
    points, true, stand = corner(3)
    with pytest.raises(NotEnough, match="no three planes"):
        corner_of(points, true + [0.3, 0.3, 0.3], stand)
    rng = np.random.default_rng(1)
    edge = np.concatenate([rng.uniform(0, 0.35, (500, 3)) * [1, 1, 0], rng.uniform(0, 0.35, (500, 3)) * [1, 0, 1]])
    with pytest.raises(NotEnough, match="no three planes"):
        corner_of(edge + rng.normal(0, 0.001, edge.shape), np.zeros(3), np.ones(3))
