"""The simulated scanner keeps what it promises, since every truth test stands on it."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core import frames
from taut_lantern.core.scan.grid import range_image
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import SPHERES, Scene
from taut_lantern.standins.site import T_CONTROL_SITE, control_rows, simulate


def wall_at(distance: float, scanner: Scanner, seed: int = 1) -> np.ndarray:
    """Points on a bare wall in front of a scanner, far from the demo's targets; x runs to the wall."""
    s = Scene()
    s.box((distance, 490, -40), (distance + 0.2, 510, 40), (160, 160, 160))
    cloud, pose = scan(s, (0.0, 500.0, 1.6), 0.0, seed, scanner)
    p = frames.apply(pose, cloud.xyz)
    return p[(np.abs(p[:, 1] - 500) < 0.15 * distance) & (np.abs(p[:, 2] - 1.6) < 0.15 * distance)]


def test_the_same_seed_gives_the_same_scan_and_another_one_another() -> None:
    small = Scanner(points=20_000)
    (a, pose), (b, _), (c, _) = simulate("ST-05", small), simulate("ST-05", small), simulate("ST-05", small, 2)
    np.testing.assert_array_equal(a.xyz, b.xyz)
    assert a.xyz.shape != c.xyz.shape or not np.array_equal(a.xyz, c.xyz)
    assert frames.is_rigid(pose) and abs(pose[2, 2] - 1) < 1e-6  # level but for the compensator
    assert np.arccos(min(pose[2, 2], 1)) > 0 or pose[2, 2] == 1


@pytest.mark.parametrize("distance", [5.0, 20.0])
def test_noise_is_as_large_as_it_says_and_grows_with_distance(distance: float) -> None:
    quiet = Scanner(points=300_000, surface_offset=0.0)
    p = wall_at(distance, quiet)
    expected = quiet.noise + quiet.noise_per_metre * distance
    assert len(p) > 200
    assert 0.6 * expected < np.std(p[:, 0]) < 1.8 * expected
    assert abs(np.mean(p[:, 0]) - distance) < 0.2 * expected + 3 * expected / np.sqrt(len(p))


def test_surface_offsets_shift_a_whole_wall_and_can_be_switched_off() -> None:
    shifts = [np.mean(wall_at(6.0, Scanner(points=80_000, surface_offset=0.004), seed)[:, 0]) - 6.0 for seed in range(8)]
    still = [np.mean(wall_at(6.0, Scanner(points=80_000, surface_offset=0.0), seed)[:, 0]) - 6.0 for seed in range(8)]
    assert 0.0015 < np.std(shifts) < 0.009 and np.std(still) < 0.0005


def test_a_scan_is_a_structured_grid_that_is_recognised_as_one() -> None:
    cloud, _ = simulate("ST-02", Scanner(points=60_000))
    grid = range_image(cloud)
    assert grid.wrap and (grid.index >= 0).sum() == len(cloud)
    elevation, azimuth = Scanner(points=60_000).grid()
    assert abs(grid.step - (elevation[1] - elevation[0])) < 0.02 * grid.step
    assert abs(grid.geo[1] - (azimuth[1] - azimuth[0])) < 0.02 * grid.geo[1]


def test_the_survey_puts_northing_first_and_blunders_one_point_only() -> None:
    for name, n, e, h, _ in control_rows():
        true = frames.apply(T_CONTROL_SITE, np.array([SPHERES[name]]))[0]
        off = np.array([e, n, h]) - true
        assert (np.linalg.norm(off) > 0.05) == (name == "S6") and n > 5_000_000 > e
        assert name == "S6" or np.linalg.norm(off) < 0.004
