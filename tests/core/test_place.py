"""Control: reading any surveyor's file, matching, solving, squaring to a wall."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from taut_lantern.core import frames
from taut_lantern.core.errors import BadInput, NotEnough
from taut_lantern.core.place.control import read_control
from taut_lantern.core.place.solve import solve
from taut_lantern.core.place.wall import square_to_wall
from taut_lantern.core.targets.match import by_geometry, group_by_place, rigid

GOOD = {
    "semicolons with a header": "point;northing;easting;height;remark\nK1;5812904.317;437215.482;46.250;bolt\nK2;5812914.317;437225.482;47.250;\n",
    "commas": "K1,5812904.317,437215.482,46.250\nK2,5812914.317,437225.482,47.250\n",
    "decimal commas": "K1;5812904,317;437215,482;46,250\nK2;5812914,317;437225,482;47,250\n",
    "tabs, easting first by header": "Nr\tEast\tNorth\tZ\nK1\t437215.482\t5812904.317\t46.250\nK2\t437225.482\t5812914.317\t47.250\n",
    "blanks, a comment, a byte order mark": "\ufeff# from the total station\nK1  5812904.317  437215.482  46.250\n\nK2  5812914.317  437225.482  47.250\n",
}


@pytest.mark.parametrize("kind", GOOD)
def test_every_usual_layout_is_read(kind: str) -> None:
    r = read_control(GOOD[kind], "c.csv")
    assert r.usable, r.findings
    assert [p.name for p in r.points] == ["K1", "K2"]
    np.testing.assert_allclose(r.points[0].enh, (437215.482, 5812904.317, 46.250))


@pytest.mark.parametrize(
    ("text", "code", "place"),
    [
        ("K1;1;2\nK2;1;2;3\nK3;1;2;3\n", "missing_column", "line 1"),
        ("a;1;2;3\nb;1;2;3\na;4;5;6\n", "same_name", "line 3"),
        ("a;1;2;3\nb;1;2x;3\n", "not_a_number", "line 2"),
        ("a;1;2;3\nb;1;nan;3\n", "not_a_number", "line 2"),
        ("a;1;2;3\nb;1;1e99;3\n", "not_a_number", "line 2"),
        ("", "empty", "c.csv"),
        ("point;northing;easting;height\n", "empty", "c.csv"),
    ],
)
def test_a_fault_is_named_with_its_line(text: str, code: str, place: str) -> None:
    r = read_control(text, "c.csv")
    assert not r.usable
    assert (code, place) in {(f.code, f.subject) for f in r.findings}


@given(st.text(max_size=300))
def test_no_text_breaks_the_reader(text: str) -> None:
    read_control(text, "c.csv")


def test_units_are_turned_into_metres_and_unknown_options_refused() -> None:
    feet = read_control("a;100;200;300\nb;1;2;3\n", "c.csv", ["name", "e", "n", "h"], "us_ft")
    np.testing.assert_allclose(feet.points[0].enh, np.array([100, 200, 300]) * 1200 / 3937)
    with pytest.raises(BadInput, match="unit"):
        read_control("a;1;2;3", "c.csv", unit="cubit")
    with pytest.raises(BadInput, match="lacks n"):
        read_control("a;1;2;3", "c.csv", ["name", "h", "e"])


def test_points_without_a_height_benchmarks_and_deviations_are_read() -> None:
    text = "point;northing;easting;height;sd_n;sd_e;sd_h\nK1;100,5;200,0;3,0;0,002;0,003;0,004\nK2;110,0;210,0;-;;;\nK3;;;4,25;;;0,001\nK4;;7,0;1,0;;;\n"
    r = read_control(text, "c.csv")
    assert [p.enh for p in r.points] == [(200, 100.5, 3), (210, 110, None), (None, None, 4.25)]
    assert r.points[0].sigma == (0.003, 0.002, 0.004) and r.points[2].sigma == (None, None, 0.001)
    assert [(f.code, f.subject, f.severity) for f in r.findings] == [
        ("no_height", "line 3", "doubt"),
        ("benchmark", "line 4", "doubt"),
        ("not_a_number", "line 5", "fault"),
    ]
    plan = read_control("K1 100 200\nK2 110 210\n", "c.txt")
    assert plan.usable and [p.enh for p in plan.points] == [(200, 100, None), (210, 110, None)]
    assert read_control("a;1;2;3;0.5", "c.csv", ["name", "n", "e", "h", "s"], "mm").points[0].sigma == (0.0005,) * 3


def test_both_kinds_of_feet_are_told_where_they_differ() -> None:
    text = "a;5400000;500000;120\n"
    (f,) = read_control(text, "c.csv", unit="us_ft").findings
    assert f.code == "two_feet" and "3.3 m elsewhere" in f.message and f.severity == "doubt"
    assert read_control("a;100;200;300\n", "c.csv", unit="ft").findings == ()


SPOTS = np.array([[3.2, 1.0, -0.2], [14.1, 8.7, 0.3], [20.4, 1.5, -0.5], [27.0, 9.2, 0.0], [8.0, 4.0, -3.4], [12.5, -8.0, 0.1]])
GRID = frames.pose(0.41, (437_215.482, 5_812_904.317, 46.250))


def surveyed(noise: float = 0.0007, seed: int = 1) -> np.ndarray:
    return frames.apply(GRID, SPOTS) + np.random.default_rng(seed).normal(0, noise, SPOTS.shape)


@pytest.mark.parametrize(("common", "flat", "seed"), [(30, False, 1), (12, False, 2), (8, True, 3), (30, True, 4)])
def test_a_constellation_is_found_among_a_thousand_control_points(common: int, flat: bool, seed: int) -> None:
    rng = np.random.default_rng(seed)
    targets = rng.uniform((-60, -40, 0), (60, 40, 0.02 if flat else 8), (30, 3))
    control = rng.uniform((-300, -300, 0), (300, 300, 0.02 if flat else 8), (1000, 3))
    where = rng.permutation(1000)[:common]
    control[where] = targets[:common] + rng.normal(0, 0.001, (common, 3))
    found = by_geometry(targets, frames.apply(GRID, control))
    assert dict(found.pairs).items() >= {k: int(where[k]) for k in range(common)}.items()
    np.testing.assert_allclose(found.T_target_source[:3, :3], GRID[:3, :3], atol=1e-4)


def test_control_is_matched_by_geometry_in_any_order_with_strays() -> None:
    control, order = surveyed(), np.array([3, 0, 5, 1, 4, 2])
    strays = np.concatenate([control[order], control[:1] + [40.0, 3.0, 1.0]])
    found = by_geometry(SPOTS[:5], strays)
    assert {(i, int(order[k])) for i, k in found.pairs} == {(i, i) for i in range(5)}
    np.testing.assert_allclose(frames.apply(found.T_target_source, SPOTS), control, atol=0.005)


def test_a_constellation_that_fits_twice_is_not_guessed() -> None:
    square = np.array([[0, 0, 0], [10, 0, 0], [10, 10, 0], [0, 10, 0.0]])
    with pytest.raises(NotEnough, match="equally well"):
        by_geometry(square, frames.apply(GRID, square))
    with pytest.raises(NotEnough, match="no constellation"):
        by_geometry(SPOTS, SPOTS[::-1] * [1, -1.7, 1])
    with pytest.raises(NotEnough, match="at most 2,000 control points"):
        by_geometry(SPOTS, np.random.default_rng(1).uniform(0, 900, (2001, 3)))


@pytest.mark.parametrize("blunder", [0.03, 0.06, 2.0])
def test_a_blundered_point_is_named_and_left_out(blunder: float) -> None:
    control = surveyed()
    control[4, 0] += blunder
    names = [f"S{k}" for k in range(1, 7)]
    p = solve(names, ["control", "control", "control", "check", "control", "control"], SPOTS, control, 0.010)
    assert [q.name for q in p.points if q.status == "parted"] == ["S5"]
    assert any(f.code == "blunder" and f.subject == "S5" for f in p.findings)
    metres, radians = frames.difference(p.T_control_project, GRID)
    assert np.linalg.norm(frames.apply(p.T_control_project, SPOTS) - frames.apply(GRID, SPOTS), axis=1).max() < 0.004
    assert radians < 3e-4 and metres < 5e6


def test_too_little_control_says_what_is_missing() -> None:
    control = surveyed()
    with pytest.raises(NotEnough, match=r"at least 3 matched points; 2 are matched \(A, B\)"):
        solve(["A", "B"], ["control"] * 2, SPOTS[:2], control[:2], 0.01)
    line = np.array([[0, 0, 0], [5, 0, 0], [9, 0, 0.0]])
    with pytest.raises(NotEnough, match="one line"):
        solve(["A", "B", "C"], ["control"] * 3, line, frames.apply(GRID, line), 0.01)
    three = solve(["A", "B", "C"], ["control"] * 3, SPOTS[:3], control[:3], 0.01)
    assert any(f.code == "no_redundancy" for f in three.findings)


NARROW = np.array([[0.0, 0, 0], [15.0, 0, 0.3], [7.0, 0.45, 0.1]])
FAR = np.array([[7.0, 40.0, 0.0], [7.0, -40.0, 3.0]])


def test_control_in_a_narrow_strip_is_never_called_taut_and_says_what_it_does_far_away() -> None:
    """Three points 15 m long and 0.45 m wide with 1 mm noise: heights err by decimetres 40 m aside."""
    errors, claimed = [], []
    for seed in range(60):
        control = frames.apply(GRID, NARROW) + np.random.default_rng(seed).normal(0, 0.001, NARROW.shape)
        p = solve(["A", "B", "C"], ["control"] * 3, NARROW, control, 0.010, reach=FAR)
        assert {q.status for q in p.points} == {"slack"}
        weak = next(f for f in p.findings if f.code == "weak_geometry")
        assert weak.severity == "fault" and "40 m" in weak.message
        errors.append(np.linalg.norm(frames.apply(p.T_control_project, FAR) - frames.apply(GRID, FAR), axis=1).max())
        claimed.append(p.far)
    assert max(errors) > 0.1 and 0.4 < np.median(claimed) / np.sqrt(np.mean(np.square(errors))) < 2.5
    wide = np.concatenate([NARROW, [[7.0, 12.0, 1.0]]])
    p = solve(list("ABCD"), ["control"] * 4, wide, frames.apply(GRID, wide), 0.010, reach=FAR)
    assert {q.status for q in p.points} == {"taut"} and p.far < 0.010


@pytest.mark.parametrize(("layout", "noise"), [("hall", 0.0015), ("hall", 0.004), ("corridor", 0.0015), ("yard", 0.002)])
def test_what_placing_claims_of_places_is_what_they_err(layout: str, noise: float) -> None:
    """Errors over claimed deviations at places in and beside control, over many draws: 1 is honest."""
    rng = np.random.default_rng(11)
    size = {"hall": (25, 15, 4), "corridor": (60, 3, 2.5), "yard": (80, 60, 1.5)}[layout]
    spots = rng.uniform(-0.5, 0.5, (6, 3)) * size
    places = rng.uniform(-0.6, 0.6, (9, 3)) * size
    level = []
    for seed in range(120):
        control = frames.apply(GRID, spots) + np.random.default_rng(seed).normal(0, noise, spots.shape)
        p = solve([f"S{k}" for k in range(6)], ["control"] * 6, spots, control, 0.010)
        at = frames.apply(p.T_control_project, places)
        off = at - frames.apply(GRID, places)
        level.append(np.einsum("ni,nij,nj->n", off, np.linalg.inv(p.covariance_at(at)), off) / 3)
    assert 0.7 < np.sqrt(np.mean(level)) < 1.4, np.sqrt(np.mean(level))


@pytest.mark.parametrize("stand", [1.0, -1.0])
@pytest.mark.parametrize("seed", range(4))
def test_the_axis_along_a_wall_has_the_same_sign_whatever_the_fit_makes_of_it(stand: float, seed: int) -> None:
    """E runs to the right of who stands before the wall, N into it; flip turns both about."""
    rng = np.random.default_rng(seed)
    wall = np.stack([rng.uniform(-0.7, 0.7, 400), rng.normal(0, 0.001, 400), rng.uniform(-0.7, 0.7, 400)], axis=1)
    t, _, _, _ = square_to_wall(wall, np.zeros(3), (0, 0, 0), np.array([0.2, -3.0 * stand, 0.1]))
    np.testing.assert_allclose(t[:3, :3] @ [0, stand, 0], [0, 1, 0], atol=5e-3)
    np.testing.assert_allclose(t[:3, :3] @ [stand, 0, 0], [1, 0, 0], atol=5e-3)
    back, _, _, _ = square_to_wall(wall, np.zeros(3), (0, 0, 0), np.array([0.2, -3.0 * stand, 0.1]), flip=True)
    np.testing.assert_allclose(back[:2, :2], -t[:2, :2], atol=1e-12)


@given(st.floats(-3, 3), st.integers(0, 5))
def test_rigid_is_its_own_inverse_and_keeps_plumb_when_asked(yaw: float, seed: int) -> None:
    t = frames.pose(yaw, (1e6, -2e6, 3.0))
    target = frames.apply(t, SPOTS) + np.random.default_rng(seed).normal(0, 1e-3, SPOTS.shape)
    for level in (True, False):
        there, back = rigid(SPOTS, target, level), rigid(target, SPOTS, level)
        np.testing.assert_allclose((there @ back)[:3, :3], np.eye(3), atol=1e-9)
        assert not level or there[2, 2] == 1.0


def test_sightings_are_grouped_by_place_once_per_station() -> None:
    points = np.array([[0, 0, 0], [0.004, 0, 0], [0.006, 0, 0], [5, 0, 0.0]])
    assert group_by_place(points, ["a", "b", "b", "a"]) == [[0, 1], [2], [3]]


@pytest.mark.parametrize("azimuth", [0.0, 0.7, 2.9, -1.2])
def test_a_wall_squares_the_project_and_the_point_gets_its_coordinates(azimuth: float) -> None:
    rng = np.random.default_rng(5)
    wall = np.stack([rng.uniform(-0.7, 0.7, 900), rng.normal(0, 0.001, 900), rng.uniform(-0.7, 0.7, 900)], axis=1)
    clutter = rng.uniform(-0.7, 0.7, (40, 3)) + [0, 0.6, 0]
    turn = frames.pose(azimuth, (12.0, 4.0, 1.0))
    points = frames.apply(turn, np.concatenate([wall, clutter]))
    before = frames.apply(turn, np.array([[0.3, -4.0, 0.2]]))[0]
    t, rms, used, _ = square_to_wall(points, turn[:3, 3], (1000.0, 2000.0, 30.0), before)
    along = t[:3, :3] @ turn[:3, 0]  # the wall's own x: to the right of who stands before it on its -y side
    assert along[0] > 0.999 and abs(along[1]) < 1e-3 and abs(along[2]) < 1e-9 and rms < 0.0015 and used > 800
    np.testing.assert_allclose(frames.apply(t, turn[None, :3, 3])[0], (1000.0, 2000.0, 30.0), atol=1e-6)
    with pytest.raises(NotEnough, match="upright wall"):
        square_to_wall(points[:900] @ np.array([[1, 0, 0], [0, 0, 1], [0, -1, 0.0]]), turn[:3, 3], (0, 0, 0), before)
    with pytest.raises(NotEnough, match="fewer than 30"):
        square_to_wall(points[:10], turn[:3, 3], (0, 0, 0), before)
