"""Flights of stairs and beams in upright cuts of simulated sites, against how they were built; and what is neither."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core import frames
from taut_lantern.core.draw import walls
from taut_lantern.core.draw.faces import Around
from taut_lantern.core.draw.profiles import Flight, beams, flights, hanging
from taut_lantern.core.draw.section import Cut, ceiling, slab, upright
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import Scene

GREY, STEEL = (0.6, 0.6, 0.6), (0.4, 0.42, 0.45)
Stands = list[tuple[float, float, float]]


def hall() -> Scene:
    s = Scene()
    s.box((-1, 0, -0.3), (11, 5, 0), GREY, 0.5)
    s.box((-1, 0, 4.2), (11, 5, 4.4), GREY, 0.6)
    for y in (-0.2, 5.0):
        s.wall(1, y, 0.2, (-1, 11), (0, 4.2), [], GREY)
    for x in (-1.2, 11.0):
        s.wall(0, x, 0.2, (0, 5), (0, 4.2), [], GREY)
    return s


def seen(s: Scene, stands: Stands, cut: Cut, seed: int, more: float = 0.0) -> tuple[np.ndarray, Around]:
    """The slab of a cut, and what lies so much deeper before it."""
    clouds = [scan(s, at, 0.4 * k, seed + k, Scanner(points=900_000)) for k, at in enumerate(stands)]
    points = np.concatenate([frames.apply(pose, c.xyz) for c, pose in clouds])
    station = np.concatenate([np.full(len(c), k) for k, (c, _) in enumerate(clouds)])
    p, inside = slab(cut, points)
    wide = inside | ((p[:, 2] > -more) & (p[:, 2] < cut.before))
    at = frames.apply(cut.T_section_base, np.array(stands))
    return p[inside], Around(p[wide], station[wide], at)


def found(s: Scene, cut: Cut, seed: int, stands: Stands) -> tuple[list[Flight], walls.Found]:
    points, around = seen(s, stands, cut, seed)
    all_ = walls.find(points, around, False)
    return flights(points[:, :2]), all_


@pytest.mark.parametrize(("rise", "going", "open_", "seed"), [(0.172, 0.28, False, 1), (0.192, 0.25, True, 2), (0.151, 0.33, False, 3)])
def test_a_flight_is_told_tread_by_tread_one_that_is_uneven_too(rise: float, going: float, open_: bool, seed: int) -> None:
    rng = np.random.default_rng(seed)
    s, count = hall(), 9
    heights = rise * np.arange(1, count + 1)
    heights[4] += 0.012  # two rises that differ
    x = 3.0 + going * np.arange(count) + rng.uniform(-0.002, 0.002, count)
    for k in range(count):
        if open_:
            s.box((x[k], 1.8, heights[k] - 0.04), (x[k] + going + 0.02, 3.0, heights[k]), STEEL, 0.4)
        else:
            s.box((x[k], 1.8, 0), (x[k] + going if k < count - 1 else x[k] + 1.5, 3.0, heights[k]), GREY, 0.5)
    stands: Stands = [(0.5, 2.2, 1.6), (1.2, 3.9, 2.9), (8.5, 2.4, 3.0)]
    (flight,), all_ = found(s, upright((0, 2.4), (9, 2.4), 0.05, 0.05), 10 * seed, stands)
    assert flight.closed != open_ and len(flight.treads) == count
    assert abs(flight.rise - (heights[-1] - heights[0]) / (count - 1)) < 0.0015 and abs(flight.going - going) < 0.003
    assert abs(flight.uneven - 0.012) < 0.003
    off = np.array([(t.x - at, t.z - z) for t, at, z in zip(flight.treads, x, heights, strict=True)])
    assert np.abs(off[:, 1]).max() < 0.0015 and np.percentile(np.abs(off[:, 0]), 90) < 0.006
    if not open_:
        (x0, z0), *_, (x1, z1) = flight.outline
        assert abs(z0) < 0.004 and abs(x0 - x[0]) < 0.004 and z1 == flight.treads[-1].z and abs(x1 - x[-1]) < 0.004
        landing = max((f for f in all_.faces if abs(f.a[1] - z1) < 0.01 and abs(f.b[1] - z1) < 0.01), key=lambda f: f.length)
        assert abs(min(landing.a[0], landing.b[0]) - x1) < 0.03 and not flight.holds(landing.a, landing.b)
    assert sum(flight.holds(f.a, f.b) or flight.along(f.a, f.b) for f in all_.faces) > 0  # which are not drawn twice
    floor = max((f for f in all_.faces if abs(f.a[1]) < 0.01 and abs(f.b[1]) < 0.01), key=lambda f: f.length)
    assert not flight.holds(floor.a, floor.b) and not flight.along(floor.a, floor.b)


def test_shelves_crates_and_pipes_are_no_flight() -> None:
    s = hall()
    for z in (0.4, 0.8, 1.2, 1.6, 2.0):  # shelves, one above the other
        s.box((6.0, 1.5, z), (6.5, 3.2, z + 0.03), STEEL, 0.4)
    rng = np.random.default_rng(4)
    for x in (1.0, 1.6, 2.3, 2.9, 3.8):
        s.box((x, 1.8, 0), (x + 0.45, 3.0, float(rng.uniform(0.2, 1.2))), GREY, 0.5)
    for k in range(5):  # pipes, as evenly spaced as treads, and level
        s.tube((3.0 + 0.3 * k, 0.5, 3.2), (3.0 + 0.3 * k, 4.5, 3.2), 0.06, STEEL, 0.5)
    none, _ = found(s, upright((-0.5, 2.4), (9, 2.4), 0.05, 0.05), 40, [(0.0, 2.5, 1.6), (5.0, 4.0, 1.7), (8.5, 2.4, 3.0)])
    assert not none


def test_a_beam_below_a_ceiling_is_its_underside_and_both_sides() -> None:
    s = hall()
    for x, wide, deep in ((2.0, 0.25, 0.45), (6.5, 0.40, 0.30)):
        s.box((x, 0, 4.2 - deep), (x + wide, 5, 4.2), GREY, 0.5)
    s.box((4.0, 1.0, 0), (5.2, 4.0, 0.75), STEEL, 0.4)  # a bench has sides too, and looks up
    stands: Stands = [(0.4, 2.5, 1.6), (4.4, 4.4, 1.5), (8.8, 2.4, 1.7)]
    _, all_ = found(s, upright((-0.5, 2.4), (10, 2.4), 0.05, 0.05), 50, stands)
    own = [all_.faces[k] for k in beams(all_.faces)]
    assert len(own) == 6
    level = sorted((f for f in own if abs(f.a[1] - f.b[1]) < 0.01), key=lambda f: f.a[0])
    for f, (x, wide, deep) in zip(level, ((2.0, 0.25, 0.45), (6.5, 0.40, 0.30)), strict=True):
        assert abs(min(f.a[0], f.b[0]) - x - 0.5) < 0.003 and abs(f.length - wide) < 0.004 and abs(f.a[1] - 4.2 + deep) < 0.003
    # in a ceiling plan their sides hang, and walls do not
    cut = ceiling(4.05, 0.05, 0.05)
    points, around = seen(s, stands, cut, 50, 1.45)
    plan = walls.find(points, around, False)
    faces = [f for f in plan.faces if f.points > 50]
    hung = [hanging(f, around) for f in faces]
    across = [min(abs(f.a[0] - x) + abs(f.b[0] - x) for x in (2.0, 2.25, 6.5, 6.9)) < 0.02 for f in faces]
    assert sum(across) == 4 and hung == across
