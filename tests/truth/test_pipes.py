"""Pipes grown from a pick, against those that were built: diameter, axis, elbows; and what is no pipe."""

from __future__ import annotations

import math

import numpy as np
import pytest
import trimesh

from taut_lantern.core import frames
from taut_lantern.core.draw.pipes import grown
from taut_lantern.core.errors import NotEnough
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import Scene

GREY = (0.5, 0.5, 0.55)


def gallery(
    seed: int, diameters: tuple[float, ...] = (0.0603, 0.1143, 0.2191, 0.4064)
) -> tuple[np.ndarray, list[tuple[float, np.ndarray]]]:
    """Points (n, 3) of a gallery seen from three places, and its pipes: diameter, and corners (3, 3) of the axis."""
    rng, s, true = np.random.default_rng(seed), Scene(), []
    for low, high in (((-0.2, -0.2, -0.2), (12, 4, 0)), ((-0.2, 4, -0.2), (12, 4.2, 3.4)), ((-0.2, -0.2, 3.2), (12, 4, 3.4))):
        s.box(low, high, GREY)
    s.box((10.0, 1.0, 0.0), (10.4, 1.4, 3.2), GREY)  # a square column
    for k, d in enumerate(diameters):
        y, z, x = 0.4 + 3.4 / len(diameters) * k, rng.uniform(1.3, 2.4), rng.uniform(6.5, 8.0)
        corners = np.array([[1.0, y, z], [x, y, z], [x, y, 0.3 if k % 2 else 2.9]])
        for a, b in ((0, 1), (1, 2)):
            s.tube(tuple(corners[a]), tuple(corners[b]), d / 2, GREY, 0.5, 64)
        true.append((d, corners))
    clouds = []
    for k, (x, y) in enumerate(((3.0, 0.1), (6.0, 3.7), (9.5, 2.2))):
        cloud, pose = scan(s, (x, y, 1.6), 0.3 * k, 10 * seed + k, Scanner(points=300_000))
        clouds.append(frames.apply(pose, cloud.xyz))
    return np.concatenate(clouds), true


def skin_seen(points: np.ndarray, a: np.ndarray, b: np.ndarray, d: float) -> float:
    """Share of the skin of a pipe of diameter d from a to b (3,) that points (n, 3) lie on, in cells of 10 degrees by 0.25 m."""
    long = float(np.linalg.norm(b - a))
    along = (b - a) / long
    u = np.cross(along, [0, 1.0, 0])
    u /= np.linalg.norm(u)
    t = (points - a) @ along
    off = points - a - np.outer(t, along)
    on = (np.abs(np.linalg.norm(off, axis=1) - d / 2) < 0.006) & (t > 0) & (t < long)
    round_ = np.floor(np.degrees(np.arctan2(off[on] @ np.cross(along, u), off[on] @ u)) / 10)
    return len(np.unique(np.column_stack([np.floor(t[on] / 0.25), round_]), axis=0)) / (36 * np.ceil(long / 0.25))


@pytest.mark.parametrize("seed", [31, 32])
def test_pipes_are_followed_over_their_elbows(seed: int) -> None:
    points, true = gallery(seed)
    elbows = seen = 0
    for d, corners in true:
        middle = (corners[0] + corners[1]) / 2
        off = np.linalg.norm(points[:, 1:] - middle[1:], axis=1) - d / 2
        pick = points[(np.abs(points[:, 0] - middle[0]) < 0.8) & (np.abs(off) < 0.004)]
        pipe = grown(points, pick[len(pick) // 2])
        assert abs(2 * pipe.radius - d) < max(0.001, 0.01 * d)
        assert pipe.nominal == pytest.approx(d)
        run = max(pipe.runs, key=lambda r: r.length)
        ends = np.array([run.a, run.b]) - corners[0]
        assert np.linalg.norm(ends[:, 1:], axis=1).max() < 0.0015  # its axis lies along x
        assert len(pipe.runs) <= 2
        if min(skin_seen(points, a, b, d) for a, b in zip(corners, corners[1:], strict=False)) > 0.25:
            seen += 1
            elbows += bool(np.linalg.norm(pipe.corners - corners[1], axis=1).min() < 0.004)
    assert elbows == seen >= 3


def bent(start: np.ndarray, before: np.ndarray, after: np.ndarray, big: float, small: float) -> tuple[trimesh.Trimesh, np.ndarray]:
    """(an elbow from a place on, between two directions, of a radius and one of its tube; where it ends)."""
    turn = math.acos(float(before @ after))
    across = after - before * float(before @ after)
    across /= np.linalg.norm(across)
    side, middle = np.cross(before, across), start + big * across
    t, p = np.meshgrid(np.linspace(0, turn, 49), np.linspace(0, 2 * math.pi, 49)[:-1], indexing="ij")
    out = np.sin(t)[..., None] * before - np.cos(t)[..., None] * across
    skin = middle + big * out + small * (np.cos(p)[..., None] * out + np.sin(p)[..., None] * side)
    k = np.arange(49 * 48).reshape(49, 48)
    a, b, c, d = k[:-1], np.roll(k, -1, axis=1)[:-1], k[1:], np.roll(k, -1, axis=1)[1:]
    faces = np.concatenate([np.stack([a, b, c], -1).reshape(-1, 3), np.stack([b, d, c], -1).reshape(-1, 3)])
    end = middle + big * (math.sin(turn) * before - math.cos(turn) * across)
    return trimesh.Trimesh(skin.reshape(-1, 3), faces, process=False), end


@pytest.mark.parametrize(("d", "times", "degrees"), [(0.0889, 1.5, 90), (0.2731, 1.0, 90), (0.1683, 3.0, 90), (0.1397, 1.5, 60)])
def test_a_bend_tells_its_radius_and_a_wide_one_is_no_run(d: float, times: float, degrees: float) -> None:
    s, before = Scene(), np.array([1.0, 0, 0])
    s.box((-6, -6, -0.2), (6, 6, 0), GREY)
    s.box((-6, 4, 0), (6, 4.3, 4), GREY)
    turn = math.radians(degrees)
    after, corner, big = np.array([math.cos(turn), 0, math.sin(turn)]), np.array([1.0, 2.0, 1.1]), times * d
    start = corner - before * big * math.tan(turn / 2)
    elbow, end = bent(start, before, after, big, d / 2)
    s.tube((-2.5, 2.0, 1.1), tuple(start), d / 2, GREY, 0.5, 64)
    s.add(elbow, GREY, 0.5)
    s.tube(tuple(end), tuple(end + 1.3 * after), d / 2, GREY, 0.5, 64)
    clouds = [scan(s, (x, y, 1.6), 0.3 * k, 70 + k, Scanner(points=500_000)) for k, (x, y) in enumerate(((-1.0, -0.5), (1.8, 0.2)))]
    points = np.concatenate([frames.apply(pose, cloud.xyz) for cloud, pose in clouds])
    on = (np.abs(points[:, 0] + 0.5) < 0.1) & (np.abs(np.hypot(points[:, 1] - 2, points[:, 2] - 1.1) - d / 2) < 0.003)
    pipe = grown(points, points[on][on.sum() // 2])
    assert len(pipe.runs) == 2 and np.linalg.norm(pipe.corners - corner, axis=1).min() < 0.004
    (found,) = pipe.bends
    assert found is not None and abs(math.degrees(found.turn) - degrees) < 0.5
    assert abs(found.radius - big) < 0.06 * big, (found.radius, big)


def test_a_mitre_has_no_radius() -> None:
    """Two tubes that meet at a corner without a bend: nothing is told."""
    points, true = gallery(32)
    d, corners = true[2]
    off = np.hypot(points[:, 1] - corners[0][1], points[:, 2] - corners[0][2]) - d / 2
    pick = points[(np.abs(points[:, 0] - corners[:2, 0].mean()) < 0.8) & (np.abs(off) < 0.004)]
    pipe = grown(points, pick[len(pick) // 2])
    assert all(b is None or b.radius < 0.75 * d for b in pipe.bends)


def test_a_wall_and_a_square_column_are_no_pipes() -> None:
    points, _ = gallery(33)
    wall = points[(np.abs(points[:, 1] - 4.0) < 0.004) & (np.abs(points[:, 0] - 5) < 0.3)]
    column = points[(np.abs(points[:, 0] - 10.0) < 0.004) & (np.abs(points[:, 1] - 1.2) < 0.1) & (np.abs(points[:, 2] - 1.5) < 0.3)]
    with pytest.raises(NotEnough):
        grown(np.zeros((0, 3)), np.zeros(3))
    for some in (wall, column):
        assert len(some) > 5
        with pytest.raises(NotEnough):
            grown(points, some[len(some) // 2])
