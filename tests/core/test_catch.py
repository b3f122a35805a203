"""What a cursor catches: planes, edges, pipes and spheres seen from one side with noise along the ray, anywhere and any way up."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from numpy.typing import NDArray

from taut_lantern.core.place.wall import square_to_wall
from taut_lantern.core.scan.catch import Catch, catch, hangs_between
from taut_lantern.core.scan.surface import widest_plane

Array = NDArray[np.float64]
REACH = 0.1  # metres round a pick


def seen(rng: np.random.Generator, points: Array, pick: Array, eye: Array, noise: float, far: float) -> tuple[Array, Array, Array]:
    """Points, pick and eye with range noise, turned and shifted together; and how to bring a place along (by the last three)."""
    turn, _ = np.linalg.qr(rng.normal(size=(3, 3)))
    turn *= np.sign(np.linalg.det(turn))
    shift = rng.uniform(-far, far, 3)
    ray = (points - eye) / np.linalg.norm(points - eye, axis=1)[:, None]
    noisy = points + ray * rng.normal(0, noise, len(points))[:, None]
    return noisy @ turn.T + shift, turn, shift


def surface(kind: str, rng: np.random.Generator, n: int) -> tuple[Array, Array, Array, Array]:
    """(points, pick on them, eye, true place) of a shape at the origin."""
    a, b = rng.uniform(-REACH, REACH, (2, n))
    if kind == "plane":
        return np.c_[a, 0 * a, b], np.zeros(3), np.array([0.5, -4, 1.0]), np.zeros(3)
    if kind == "juts" or kind == "falls back":
        side = -1.0 if kind == "falls back" else 1.0
        points = np.where(a[:, None] < 0, np.c_[a, 0 * a, b], np.c_[0 * a, side * a, b])
        return points, np.array([-0.012, 0, 0.02]), np.array([3.0 * side, -4, 0.5]), np.array([0, 0, 0.02])
    if kind == "pipe":
        t, r = rng.uniform(-1.2, 1.2, n), 0.057
        return np.c_[r * np.sin(t), -r * np.cos(t), b], np.array([0, -r, 0.02]), np.array([0, -5, 1.0]), np.array([0, 0, 0.02])
    z, t, r = rng.uniform(-0.9, 0.9, n), rng.uniform(-1.3, 1.3, n), 0.0725
    ring = np.sqrt(1 - z**2)
    return r * np.c_[ring * np.sin(t), -ring * np.cos(t), z], np.array([0, -r, 0]), np.array([0, -5, 0.5]), np.zeros(3)


def caught(kind: str, seed: int, n: int = 400, noise: float = 0.001, far: float = 500.0) -> tuple[Catch, Array]:
    rng = np.random.default_rng(seed)
    points, pick, eye, truth = surface(kind, rng, n)
    moved, turn, shift = seen(rng, points, pick, eye, noise, far)
    c = catch(moved, pick @ turn.T + shift, eye @ turn.T + shift, noise)
    axis = None if c.axis is None else c.axis @ turn
    return replace(c, axis=axis), (c.at - shift) @ turn - truth


@pytest.mark.parametrize(
    ("kind", "told"), [("plane", "plane"), ("juts", "edge"), ("falls back", "edge"), ("pipe", "pipe"), ("sphere", "sphere")]
)
def test_each_shape_is_named_and_its_place_lies_within_what_is_claimed(kind: str, told: str) -> None:
    level = []
    for seed in range(40):
        c, off = caught(kind, seed)
        assert c.kind == told, (seed, c)
        if c.axis is not None:
            off = off - (off @ c.axis) * c.axis
        level.append(float(np.linalg.norm(off)) / c.spread)
        if told == "edge":
            assert c.angle == pytest.approx(270 if kind == "juts" else 90, abs=1.0)
        if kind == "pipe":
            assert c.radius == pytest.approx(0.057, abs=0.002) and c.axis is not None and abs(c.axis[2]) > 0.999
        if kind == "sphere":
            assert c.radius == pytest.approx(0.0725, abs=0.0015)
    # the spread is one deviation in the worst direction: errors of one to three of them add up to 0.5 to 1.9
    assert 0.4 < np.sqrt(np.mean(np.square(level))) < 1.9, np.sqrt(np.mean(np.square(level)))


def test_incidence_is_the_angle_between_ray_and_normal() -> None:
    rng = np.random.default_rng(3)
    points, pick, _, _ = surface("plane", rng, 400)
    for degrees in (0.0, 35.0, 70.0):
        eye = 5 * np.array([np.sin(np.radians(degrees)), -np.cos(np.radians(degrees)), 0])
        c = catch(points + rng.normal(0, 1e-4, points.shape), pick, eye)
        assert c.kind == "plane" and c.incidence == pytest.approx(degrees, abs=0.3)
        assert c.normal is not None and c.normal @ (eye - pick) > 0


def test_what_no_shape_holds_is_a_point() -> None:
    rng = np.random.default_rng(1)
    pick = np.array([5e6, -4e6, 30.0])
    leaves = pick + rng.uniform(-REACH, REACH, (500, 3))
    assert catch(leaves, pick, pick + 5).kind == "point"
    for few in (leaves[:0], leaves[:1], np.repeat(pick[None], 200, axis=0), pick + np.linspace(0, 0.1, 100)[:, None] * [1, 0, 0]):
        c = catch(few, pick, pick + 5)
        assert c.kind == "point" and np.allclose(c.at, pick)


def test_the_widest_plane_passes_where_it_was_picked_even_if_another_holds_more_points() -> None:
    rng = np.random.default_rng(2)
    floor = np.c_[rng.uniform(-0.5, 0.5, (3000, 2)), rng.normal(0, 0.001, 3000)]
    step = np.c_[rng.uniform(-0.2, 0.2, (400, 2)), 0.15 + rng.normal(0, 0.001, 400)]
    both = np.concatenate([floor, step]) + [5e6, 5e6, 0]
    plane = widest_plane(both, 0.005, through=np.array([5e6, 5e6, 0.15]))
    assert plane.points > 350 and abs(plane.off(np.array([[5e6, 5e6, 0.15]]))[0]) < 1e-3
    assert widest_plane(both, 0.005).points > 2500


@pytest.mark.parametrize("seed", range(6))
def test_a_brick_wall_with_piers_and_a_pipe_before_it_is_squared_to(seed: int) -> None:
    """Piers 0.11 m proud at both sides, joints 8 mm deep, a pipe before them: the face that was picked gives the direction."""
    rng = np.random.default_rng(seed)
    x, z = rng.uniform(-0.8, 0.8, (2, 6000))
    pier = np.abs(x) > 0.45
    joint = (np.mod(z, 0.075) < 0.012) & ~pier
    y = np.where(pier, -0.11, np.where(joint, 0.008, 0.0)) + rng.normal(0, 0.002, len(x))
    t = rng.uniform(-1.4, 1.4, 600)
    pipe = np.c_[0.2 + 0.04 * np.sin(t), -0.2 - 0.04 * np.cos(t), rng.uniform(-0.8, 0.8, 600)]
    points = np.concatenate([np.c_[x, y, z], pipe])
    for pick in ((0.0, 0.0, 0.02), (0.6, -0.11, 0.1)):
        t_grid, rms, count, _ = square_to_wall(points, np.array(pick), (0, 0, 0), np.array([0.5, -5.0, 0.3]))
        turned = np.degrees(np.arctan2(t_grid[1, 0], t_grid[0, 0]))
        assert abs(turned) < 0.15 and rms < 0.006 and count > 1000  # 0.15 degrees: 4 mm over the 1.6 m that are seen


@pytest.mark.parametrize("gap", [0.06, 0.12, 0.25])
def test_a_mixed_point_at_a_rim_hangs_between_two_surfaces_and_points_on_them_do_not(gap: float) -> None:
    rng = np.random.default_rng(1)
    x, z = (v.ravel() for v in np.meshgrid(np.arange(-0.148, 0.15, 0.008), np.arange(-0.148, 0.15, 0.008)))
    wall = np.c_[x, np.where(x < 0, 2.0, 2.0 + gap) + rng.normal(0, 0.001, len(x)), z]
    stand, mixed = np.zeros(3), np.array([0.001, 2.0 + gap / 2, 0.003])
    points = np.concatenate([wall, mixed[None], [[0.001, 2.0 + 0.3 * gap, -0.03]]])
    near = points[np.linalg.norm(points - mixed, axis=1) < 0.15]
    assert hangs_between(near, mixed, stand)
    for on in (
        wall[np.argmin(np.abs(wall[:, 0] + 0.004) + np.abs(wall[:, 2]))],
        wall[np.argmin(np.abs(wall[:, 0] - 0.06) + np.abs(wall[:, 2]))],
    ):
        assert not hangs_between(points[np.linalg.norm(points - on, axis=1) < 0.15], on, stand)
