"""Quadrant boards in a simulated view: centres within what they claim, at any turn, and nothing else is taken for one."""

from __future__ import annotations

import math

import numpy as np
import pytest

from taut_lantern.core.errors import BadInput
from taut_lantern.core.scan.grid import Grid
from taut_lantern.core.targets.boards import BoardSighting, find_boards
from taut_lantern.core.targets.kinds import Wanted, read_wanted

STEP = 0.0025  # radians
HALF = 100  # pixels on each side of the line of sight


def view(
    size: float, at: float, turn: float, side: float, seed: int, beam: float = 2e-4, pattern: str = "board"
) -> tuple[Grid, np.ndarray]:
    """A wall at x = ``at`` that leans by ``side`` radians, with a pattern in its middle; half a pixel off at random. Also its centre."""
    rng = np.random.default_rng(seed)
    az, el = np.meshgrid(STEP * np.arange(-HALF, HALF + 1), STEP * np.arange(-HALF, HALF + 1))
    off = rng.uniform(-0.5, 0.5, 2) * STEP * at
    centre, n = np.array([at, *off]), np.array([-math.cos(side), math.sin(side), 0.0])
    e1, e2 = np.array([math.sin(side), math.cos(side), 0.0]), np.array([0.0, 0.0, 1.0])
    c, s = math.cos(turn), math.sin(turn)
    value = np.zeros(az.shape)
    for k in range(16):
        a, e = az + beam * rng.standard_normal(az.shape), el + beam * rng.standard_normal(az.shape)
        u = np.stack([np.cos(e) * np.cos(a), np.cos(e) * np.sin(a), np.sin(e)], axis=-1)
        p = u * ((centre @ n) / (u @ n))[..., None] - centre
        x, y = p @ e1, p @ e2
        x, y = c * x + s * y, c * y - s * x
        own = np.where(x * y > 0, 0.8, 0.07)
        inside = (np.abs(x) < size / 2) & (np.abs(y) < size / 2)
        if pattern == "chequer":
            inside, own = np.ones_like(inside), np.where((np.floor(2 * x / size) + np.floor(2 * y / size)) % 2 == 0, 0.8, 0.07)
        elif pattern == "stripe":
            own = np.where(np.abs(x) < size / 6, 0.8, 0.07)
        value += np.where(inside, own, 0.4) / 16
        if k == 0:
            rho = np.linalg.norm(p + centre, axis=-1)
            ray = u
    rho = rho + rng.normal(0, 0.0012, rho.shape)
    value *= 1 + 0.05 * rng.standard_normal(value.shape)
    image = (ray * rho[..., None]).astype(np.float32)
    index = np.arange(image.shape[0] * image.shape[1], dtype=np.int32).reshape(image.shape[:2])
    grid = Grid(image, np.array([-STEP * HALF, STEP, -STEP * HALF, STEP]), False, index)
    grid.__dict__["seen"] = value.ravel().astype(np.float32)
    return grid, centre


def seen(grid: Grid, *sizes: float) -> list[BoardSighting]:
    return find_boards(grid, grid.__dict__["seen"], list(sizes))


@pytest.mark.parametrize(("at", "side"), [(6.0, 0.0), (9.0, 0.5), (12.0, 0.2), (15.0, 0.0)])
def test_centres_lie_within_the_deviations_they_claim(at: float, side: float) -> None:
    """36 to 380 points on a board of 300 mm: errors far below the gap between rays, and as large as they are said to be."""
    ratios, errors = [], []
    for seed in range(12):
        grid, centre = view(0.3, at, 0.3 * seed, side, seed)
        (found,) = seen(grid, 0.3)
        e = found.centre - centre
        ratios.append(float(e @ np.linalg.solve(found.covariance, e)) / 3)
        errors.append(float(np.linalg.norm(e)))
        assert found.points >= 36 and found.remark == "" and abs(found.normal @ centre) > 0
    assert np.median(errors) < 0.15 * STEP * at / math.cos(side)
    assert 0.3 < np.mean(ratios) < 1.9


def test_sizes_are_told_apart_and_a_board_is_found_once() -> None:
    for size in (0.15, 0.21, 0.3):
        (found,) = seen(view(size, 5.0, 0.2, 0.1, 3)[0], 0.15, 0.21, 0.3)
        assert found.size == size and found.explained > 0.9


@pytest.mark.parametrize("pattern", ["chequer", "stripe"])
def test_a_pattern_that_goes_on_and_one_of_stripes_are_no_boards(pattern: str) -> None:
    assert seen(view(0.3, 6.0, 0.2, 0.1, 1, pattern=pattern)[0], 0.15, 0.3) == []


def test_without_intensity_there_are_none_and_few_points_are_remarked() -> None:
    grid, _ = view(0.3, 22.0, 0.1, 0.0, 2)
    assert find_boards(grid, None, [0.3]) == []
    assert all(f.remark == "few points" and f.points < 36 for f in seen(grid, 0.3))


def test_what_is_looked_for_is_read_from_words() -> None:
    assert read_wanted("spheres:0.0725,0.1,boards:0.15") == Wanted((0.0725, 0.1), (0.15,))
    assert read_wanted("boards:0.15, 0.3") == Wanted((), (0.15, 0.3))
    for words in ("", "spheres", "cones:0.1", "spheres:", "spheres:7", "boards:0.01", "0.1", "spheres:nan"):
        with pytest.raises(BadInput):
            read_wanted(words)
