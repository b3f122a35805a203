"""What is found in plans of sites that no limit was set on, against their boxes; and walls that are bent, leaning, or none."""

from __future__ import annotations

import math

import numpy as np
import pytest

from taut_lantern.core.draw import walls
from taut_lantern.core.draw.faces import Around, Face
from taut_lantern.core.draw.fit import Circle
from taut_lantern.core.draw.series import nominal
from taut_lantern.standins.scanner import Scanner
from tests.truth.layouts import PLANT, TERRACE, YARD
from tests.truth.plans import Score, plan_of, points_of, scored, sides


def test_walls_are_found_where_they_are_and_furniture_is_none() -> None:
    score, rooms = Score(), Score()
    for layout, seed in ((TERRACE, 21), (PLANT, 22), (YARD, 23)):
        points, which, stands = points_of(layout, seed, Scanner(points=250_000))
        found, slab = plan_of(points, which, stands, 1.3)
        for to in (score, rooms) if layout is TERRACE else (score,):
            scored(found, slab, sides(layout.scene(seed, 0), 1.3), to)
    assert score.touched > 200 and score.found > 0.95 * score.touched
    assert score.nothing < 0.03 * score.drawn and score.furniture > 8 and score.mistaken < 0.03 * score.furniture
    assert np.median(score.off) < 0.002 and np.percentile(score.off, 95) < 0.005
    assert np.percentile(score.turn, 90) < 0.002
    assert len(rooms.corner) > 20 and np.percentile(rooms.corner, 95) < 0.004
    assert len(rooms.thick) >= 6 and max(rooms.thick) < 0.003


def cut(points: np.ndarray, stand: tuple[float, float] = (0.0, 0.0), seed: int = 1) -> walls.Found:
    """What is found in upright surfaces through points (n, 2) in plan, from 1 m below the cut to 1.4 m above, with 1 mm of noise."""
    rng = np.random.default_rng(seed)
    p = np.repeat(points, 12, axis=0) + rng.normal(0, 0.001, (12 * len(points), 2))
    all_ = np.column_stack([p, rng.uniform(-1, 1.4, len(p))])
    around = Around(all_, np.zeros(len(all_), np.int64), np.array([[*stand, 0.0]]))
    return walls.find(all_[np.abs(all_[:, 2]) < 0.1], around, True)


def along(*corners: tuple[float, float], step: float = 0.004) -> np.ndarray:
    out = []
    for a, b in zip(corners, corners[1:], strict=False):
        t = np.arange(0, 1, step / math.dist(a, b))[:, None]
        out.append(np.array(a) + t * (np.array(b) - a))
    return np.concatenate(out)


@pytest.mark.parametrize("radius", [2.5, 6.0, 14.0])
def test_a_bent_wall_is_one_arc(radius: float) -> None:
    t = np.arange(0.2, 0.2 + 5.0 / radius, 0.004 / radius)
    bent = radius * np.column_stack([np.cos(t), np.sin(t)])
    found = cut(bent)
    (arc,) = found.arcs
    assert math.dist(arc.centre, (0, 0)) < 0.02 * radius and abs(arc.radius - radius) < 0.02 * radius
    assert abs((arc.end - arc.start) % math.tau * arc.radius - 5.0) < 0.15 and not found.walls
    ends = np.array([[arc.centre[0] + arc.radius * math.cos(a), arc.centre[1] + arc.radius * math.sin(a)] for a in (arc.start, arc.end)])
    assert np.abs(np.linalg.norm(ends, axis=1) - radius).max() < 0.005


def test_walls_of_two_rooms_that_are_two_centimetres_off_one_another_are_two() -> None:
    """A line through both would be off by a centimetre where one ends, and so would their corners."""
    found = cut(np.concatenate([along((0, 0), (5.5, 0), (5.5, 3)), along((5.6, 3), (5.6, 0.019), (11.0, 0.019))]), (3.0, 2.0))
    level = sorted((f for f in found.faces if abs(f.along[1]) < 0.1 and f.length > 1), key=lambda f: min(f.a[0], f.b[0]))
    assert len(level) == 2
    for f, y in zip(level, (0.0, 0.019), strict=True):
        assert max(abs(f.a[1] - y), abs(f.b[1] - y)) < 0.002
    bowed = np.column_stack([np.arange(0, 8, 0.004), 0.012 * np.sin(np.arange(0, 8, 0.004) * np.pi / 8)])
    assert len(cut(bowed, (4.0, 2.0)).faces) == 1  # one wall that bends has no step


def test_a_reveal_is_square_to_its_wall_and_lies_where_its_points_do() -> None:
    """Strays of its neighbours lie at both ends of its ten centimetres, so that a line through all of them leans."""
    rng = np.random.default_rng(5)
    strays = np.column_stack([rng.uniform(3.0, 3.012, 60), rng.choice([0.002, 0.098], 60)])
    found = cut(
        np.concatenate([along((0, 0), (3.0, 0)), along((3.0, 0), (3.0, 0.1), step=0.012), along((3.0, 0.1), (0, 0.1)), strays]), (6.0, -3.0)
    )
    reveal = [f for f in found.faces if f.length < 0.2]
    assert reveal and all(abs(f.along[0]) < 0.01 and abs(f.a[0] - 3.0) < 0.002 for f in reveal)


def test_a_room_closes_at_its_corners_behind_a_cupboard() -> None:
    """No point within 25 cm of one corner, yet all four sides meet where the walls would."""
    points = along((-3, -2), (3, -2), (3, 2), (-3, 2), (-3, -2))
    points = points[np.linalg.norm(points - [3, 2], axis=1) > 0.25]
    found = cut(points)
    ends = sorted((round(x, 2), round(y, 2)) for f in found.faces for x, y in (f.a, f.b))
    assert ends == sorted(2 * [(-3, -2), (-3, 2), (3, -2), (3, 2)])
    assert sum(f.bridged for f in found.faces) == pytest.approx(0.5, abs=0.12)
    assert all(f.ends == (True, True) and f.side for f in found.faces)


@pytest.mark.parametrize("thick", [0.06, 0.115, 0.365])
def test_two_faces_that_look_away_from_each_other_are_a_wall(thick: float) -> None:
    rng = np.random.default_rng(4)
    near, far = along((-2, 1), (2, 1)), along((-2, 1 + thick), (2, 1 + thick))
    p = np.repeat(np.concatenate([near, far]), 12, axis=0)
    all_ = np.column_stack([p + rng.normal(0, 0.001, p.shape), rng.uniform(-1, 1.4, len(p))])
    station = (p[:, 1] > 1 + thick / 2).astype(np.int64)
    around = Around(all_, station, np.array([[0, -2, 0], [0, 4, 0]], float))
    (wall,) = walls.find(all_[np.abs(all_[:, 2]) < 0.1], around, True).walls
    assert abs(wall.thickness - thick) < 0.0005
    around = Around(all_, 1 - station, np.array([[0, -2, 0], [0, 4, 0]], float))  # a gap between two walls is none
    assert not walls.find(all_[np.abs(all_[:, 2]) < 0.1], around, True).walls


def test_lean_is_told_in_millimetres_a_metre_towards_the_room() -> None:
    rng = np.random.default_rng(5)
    p = np.repeat(along((-2, 1), (2, 1)), 12, axis=0)
    up = rng.uniform(-1, 1.4, len(p))
    all_ = np.column_stack([p[:, 0], p[:, 1] - 0.008 * up + rng.normal(0, 0.001, len(p)), up])
    found = walls.find(all_[np.abs(all_[:, 2]) < 0.05], Around(all_, np.zeros(len(p), np.int64), np.zeros((1, 3))), True)
    assert [f.lean for f in found.faces] == [pytest.approx(8.0, abs=0.2)]


def test_leaves_and_the_top_of_a_table_are_no_walls() -> None:
    rng = np.random.default_rng(6)
    tops = rng.uniform((1, 1), (2.4, 1.8), (6000, 2))
    leaves = rng.normal((-2, 2), 0.5, (9000, 2))
    assert sum(f.length for f in cut(np.concatenate([tops, leaves])).faces) < 1.5


def test_lines_are_laid_square_no_farther_than_allowed() -> None:
    rng = np.random.default_rng(7)
    corners_ = np.array([(0, 0), (5, 0.004), (5.003, 3), (0.002, 3.003)]) + rng.normal(0, 0.0005, (4, 2))
    faces = [Face(tuple(a), tuple(b), 0.001, 100, 1, 3.0, 0.0, 0.0) for a, b in zip(corners_, np.roll(corners_, -1, axis=0), strict=True)]
    new, most = walls.regularised(faces, 0.01)
    assert most <= 0.01 and all(abs(abs(float(f.along @ g.along)) - round(abs(float(f.along @ g.along)))) < 1e-9 for f in new for g in new)
    assert all(math.dist(f.b, g.a) < 1e-9 for f, g in zip(new, [*new[1:], new[0]], strict=True))
    kept, most = walls.regularised(faces, 1e-5)
    assert most <= 1e-5 and all(math.dist(f.a, g.a) <= 1e-5 for f, g in zip(faces, kept, strict=True))


def test_a_diameter_is_called_standard_only_when_the_fit_allows_one() -> None:
    assert nominal(Circle((0, 0), 0.0571, 0.001, 200, 0.6)) == pytest.approx(0.1143)
    assert nominal(Circle((0, 0), 0.0152, 0.001, 400, 0.6)) is None  # 30.4 mm: 26.9 and 33.7 mm are both far off
    assert nominal(Circle((0, 0), 0.0535, 0.001, 200, 0.6)) is None  # 107 mm: none is so wide
    assert nominal(Circle((0, 0), 0.0215, 0.006, 9, 0.2)) is None  # 42.4 and 48.3 mm both fit


def test_walls_of_a_building_hang_together_and_a_fence_round_it_does_not() -> None:
    corners = np.array([[0, 0], [8, 0], [8, 5], [0, 5.0]])
    inner = [[a, b] for a, b in zip(corners, np.roll(corners, -1, axis=0), strict=True)]
    outer = np.array(inner) + [[[0, -0.3], [0, -0.3]], [[0.3, 0], [0.3, 0]], [[0, 0.3], [0, 0.3]], [[-0.3, 0], [-0.3, 0]]]
    inner[0:1] = [[[0, 0], [2, 0]], [[5.5, 0], [8, 0]]]  # a gate
    partition = [[[3.0, 0.35], [3.0, 4.9]]]
    fence = [[[-9, -7], [15, -7]], [[15, -7], [15, 12]]]
    group = walls.hanging_together(np.array([*inner, *outer, *partition, *fence], float))
    assert len(set(group[:10])) == 1 and len(set(group[10:])) == 1 and group[0] != group[-1]
