"""Corners where three planes meet, with noise, leaves and a box before them."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core import frames
from taut_lantern.core.errors import NotEnough
from taut_lantern.core.place.corner import ALONG, corner_of, edge_of
from taut_lantern.core.targets.marks import mark_of


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


def test_an_edge_is_exact_across_and_claims_nothing_along() -> None:
    off_across, claimed = [], []
    for seed in range(25):
        points, true, stand = corner(seed, 200)
        pick = true + [0.01, -0.015, 0.15]
        found = edge_of(points, pick, stand)
        off = found.at - true
        assert abs(found.at[2] - pick[2]) < 0.005
        off_across.append(np.linalg.norm(off[:2]))
        claimed.append(np.sqrt(np.trace(found.covariance[:2, :2])))
        assert np.sqrt(found.covariance[2, 2]) > 0.9 * ALONG
    assert np.sqrt(np.mean(np.square(off_across))) < 1.5 * np.mean(claimed) < 0.0015
    wall = np.random.default_rng(2).uniform(0, 0.35, (800, 3)) * [1, 1, 0]
    with pytest.raises(NotEnough, match="no two planes"):
        edge_of(wall + np.random.default_rng(3).normal(0, 0.001, wall.shape), np.zeros(3), np.ones(3))


def painted(seed: int, spacing: float, cross: bool) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """A floor with a disc of 4 cm or a cross of 6 cm at the origin, lines of 12 mm; brightness with 6 % of noise; a pick beside it."""
    rng = np.random.default_rng(seed)
    u, v = (g.ravel() + rng.uniform(0, spacing) for g in np.meshgrid(*[np.arange(-0.15, 0.15, spacing)] * 2))
    a = rng.uniform(0, np.pi)
    r, s = np.cos(a) * u - np.sin(a) * v, np.sin(a) * u + np.cos(a) * v
    on = ((abs(r) < 0.006) & (abs(s) < 0.03)) | ((abs(s) < 0.006) & (abs(r) < 0.03)) if cross else u**2 + v**2 < 0.02**2
    shade = np.where(on, 0.75, 0.3) * (1 + 0.06 * rng.standard_normal(len(u)))
    return np.stack([u, v, 0.0012 * rng.standard_normal(len(u))], axis=1), shade, np.array([*rng.uniform(-0.012, 0.012, 2), 0.0])


@pytest.mark.parametrize("cross", [False, True])
@pytest.mark.parametrize("spacing", [0.003, 0.007])
def test_the_middle_of_a_mark_is_known_as_well_as_it_claims(cross: bool, spacing: float) -> None:
    ratio = []
    for seed in range(100, 150):
        mark = mark_of(*painted(seed, spacing, cross))
        assert np.linalg.norm(mark.at) < 0.5 * spacing
        ratio.append(mark.at[:2] @ np.linalg.solve(mark.covariance[:2, :2], mark.at[:2]) / 2)
    assert 0.15 < np.mean(ratio) < 1.3


def test_what_is_no_mark_is_refused() -> None:
    points, shade, pick = painted(1, 0.004, False)
    with pytest.raises(NotEnough, match="nothing stands out"):
        mark_of(points, 0.3 + 0.02 * np.random.default_rng(0).standard_normal(len(shade)), pick)
    with pytest.raises(NotEnough, match="stripe"):
        mark_of(points, np.where(abs(points[:, 0]) < 0.006, 0.8, 0.3) + 0.01 * np.random.default_rng(0).standard_normal(len(shade)), pick)
    with pytest.raises(NotEnough, match="fewer than 8"):
        mark_of(*painted(1, 0.016, False))
