"""Spheres in a simulated view: centres within their own deviations, and nothing else is taken for one."""

from __future__ import annotations

import math

import numpy as np
import pytest

from taut_lantern.core.scan.grid import Grid
from taut_lantern.core.targets.spheres import SphereSighting, find_spheres, fit_sphere, range_noise

STEP = 0.0025  # radians


def view(balls: list[tuple[tuple[float, float, float], float]], noise: float, seed: int = 1, wall: float = 9.0, pipe: float = 0.0) -> Grid:
    """What a scanner at the origin sees looking along x: balls (centre, radius) before a wall, or an upright pipe at 5 m."""
    half = 120
    az, el = np.meshgrid(STEP * np.arange(-half, half + 1), STEP * np.arange(-half, half + 1))
    u = np.stack([np.cos(el) * np.cos(az), np.cos(el) * np.sin(az), np.sin(el)], axis=-1)
    rho = wall / u[..., 0]
    for centre, r in balls:
        b, c2 = u @ np.array(centre), float(np.dot(centre, centre))
        root = b**2 - c2 + r**2
        rho = np.where(root > 0, np.minimum(rho, b - np.sqrt(np.maximum(root, 0))), rho)
    if pipe:
        flat = np.hypot(u[..., 0], u[..., 1])
        b = 5.0 * u[..., 0] / flat
        root = b**2 - 25 + pipe**2
        rho = np.where(root > 0, np.minimum(rho, (b - np.sqrt(np.maximum(root, 0))) / flat), rho)
    rho = rho + np.random.default_rng(seed).normal(0, noise, rho.shape)
    image = (u * rho[..., None]).astype(np.float32)
    index = np.arange(image.shape[0] * image.shape[1], dtype=np.int32).reshape(image.shape[:2])
    return Grid(image, np.array([-STEP * half, STEP, -STEP * half, STEP]), False, index)


def seen(grid: Grid, radii: tuple[float, ...] = (0.0725,)) -> list[SphereSighting]:
    return find_spheres(grid, list(radii))


@pytest.mark.parametrize("distance", [3.0, 5.0, 7.0])
def test_centres_lie_within_the_deviations_they_claim(distance: float) -> None:
    centre = np.array([distance, 0.3, -0.2])
    errors = []
    for seed in range(20):
        found = seen(view([(tuple(centre), 0.0725)], 0.0015, seed))
        assert len(found) == 1
        e = found[0].centre - centre
        errors.append(float(e @ np.linalg.solve(found[0].covariance, e)) / 3)
        assert np.linalg.norm(e) < 0.0015
    assert 0.4 < np.mean(errors) < 2.0  # chi-square per unknown


def test_noise_is_taken_from_the_scan_itself() -> None:
    for noise in (0.0006, 0.0015, 0.003):
        assert range_noise(view([((4.0, 0, 0), 0.0725)], noise)) == pytest.approx(noise, rel=0.15)


def test_two_sizes_are_told_apart_and_each_is_found_once() -> None:
    found = seen(view([((4.0, 0.6, 0.0), 0.0725), ((4.5, -0.6, 0.3), 0.1), ((5.0, 0.0, -0.6), 0.1)], 0.001), (0.0725, 0.1))
    assert sorted(round(f.radius, 4) for f in found) == [0.0725, 0.1, 0.1]
    for f in found:
        assert abs(f.free_radius - f.radius) < 4 * f.free_radius_sigma + 0.001 and f.remark == ""


@pytest.mark.parametrize("radius", [0.05, 0.06, 0.09, 0.11])
def test_a_ball_of_another_size_is_no_target(radius: float) -> None:
    assert seen(view([((3.5, 0.2, 0.1), radius)], 0.001)) == []


def test_a_pipe_a_wall_and_a_ball_in_the_wall_are_no_targets() -> None:
    assert seen(view([], 0.001)) == []
    assert seen(view([], 0.001, pipe=0.0725)) == []
    assert seen(view([((5.0, 0.0, 0.0), 0.0725)], 0.001, wall=5.0)) == []  # half of it stands in the wall: no clear ring


def test_a_ball_half_behind_a_column_is_left_out_rather_than_fitted_wrong() -> None:
    grid = view([((4.0, 0.1, 0.0), 0.0725)], 0.001)
    assert len(seen(grid)) == 1
    hidden, middle = grid.image.copy(), grid.image.shape[1] // 2 + round(math.atan2(0.1, 4.0) / STEP)
    hidden[:, middle:] *= 2.0 / np.linalg.norm(hidden[:, middle:], axis=2, keepdims=True)  # a column 2 m away
    assert seen(Grid(hidden, grid.geo, grid.wrap, grid.index)) == []


def test_what_few_points_cannot_confirm_is_remarked_and_fewer_are_no_sighting() -> None:
    (found,) = seen(view([((10.5, 0.0, 0.0), 0.0725)], 0.001, wall=20.0))
    assert found.points < 25 and found.remark == "radius not confirmed"
    assert seen(view([((18.0, 0.0, 0.0), 0.0725)], 0.001, wall=25.0)) == []


def test_a_start_beside_the_ball_still_ends_in_its_middle() -> None:
    centre = np.array([4.0, -0.3, 0.2])
    grid = view([(tuple(centre), 0.0725)], 0.001)
    for off in ((0.02, 0.0, 0.0), (0.0, 0.03, -0.02), (-0.02, -0.02, 0.02)):
        fit = fit_sphere(grid, centre + np.array(off), 0.0725, 0.001)
        assert fit is not None and np.linalg.norm(fit.centre - centre) < 0.001
    assert fit_sphere(grid, np.array([4.0, 0.4, 0.2]), 0.0725, 0.001) is None
