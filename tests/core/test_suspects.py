"""Control that does not fit says why: swapped and blundered points, axes, units, heights; and what holds a placement that is thin."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core import frames
from taut_lantern.core.errors import NotEnough
from taut_lantern.core.place.solve import Placement, solve

GRID = frames.pose(0.41, (437_215.482, 5_812_904.317, 46.250))


def drawn(seed: int, n: int, noise: float = 0.001, size: tuple[float, float, float] = (30, 20, 4)) -> tuple[np.ndarray, np.ndarray]:
    """Points of a project and where control gives them."""
    rng = np.random.default_rng(seed)
    spots = rng.uniform(-0.5, 0.5, (n, 3)) * size
    return spots, frames.apply(GRID, spots) + rng.normal(0, noise, (n, 3))


def placed(spots: np.ndarray, control: np.ndarray, **more: object) -> Placement:
    names = [f"K{k}" for k in range(len(spots))]
    return solve(names, ["control"] * len(spots), spots, control, 0.010, **more)  # type: ignore[arg-type]


def off(p: Placement, spots: np.ndarray) -> float:
    return float(np.linalg.norm(frames.apply(p.T_control_project, spots) - frames.apply(GRID, spots), axis=1).max())


def test_swapped_and_blundered_points_are_named_and_nobody_else() -> None:
    """100 draws of 5 to 9 points each, a blunder of 40 mm to 3 m, or two points that changed their names."""
    named = {"swapped": 0, "blunder": 0}
    for seed in range(100):
        rng = np.random.default_rng(5000 + seed)
        n = int(rng.integers(5, 10))
        spots, control = drawn(seed, n)
        a, b = rng.choice(n, 2, replace=False)
        swapped = control.copy()
        swapped[[a, b]] = swapped[[b, a]]
        p = placed(spots, swapped)
        named["swapped"] += {q.name for q in p.points if q.status == "parted"} == {f"K{a}", f"K{b}"} and off(p, spots) < 0.020
        wrong = control.copy()
        direction = rng.normal(size=3)
        wrong[a] += direction / np.linalg.norm(direction) * 10 ** rng.uniform(-1.4, 0.5)
        p = placed(spots, wrong)
        named["blunder"] += [q.name for q in p.points if q.status == "parted"] == [f"K{a}"] and off(p, spots) < 0.006
    assert named["swapped"] >= 99 and named["blunder"] >= 99, named


def test_the_words_for_swapped_points_say_what_swapping_brings() -> None:
    spots, control = drawn(3, 7)
    control[[2, 5]] = control[[5, 2]]
    (f,) = [f for f in placed(spots, control).findings if f.code == "swapped"]
    assert {"K2", "K5"} == set(f.subject.split(" and ")) and "swapping brings the largest residual from" in f.message


@pytest.mark.parametrize(
    ("wrong", "code", "words"),
    [
        (lambda c: c[:, [1, 0, 2]], "axes_exchanged", "the other way round"),
        (lambda c: c / 0.3048, "unit", "written in feet and was read as metres"),
        (lambda c: c * 0.3048, "unit", "written in metres and was read as feet"),
        (lambda c: c * 1000, "unit", "millimetres"),
        (lambda c: c + np.outer([1, 1, 0, 0, 0, 1, 0], [0, 0, 2.345]), "height_datum", "3 points lie 2.3"),
    ],
)
def test_what_is_wrong_with_control_as_a_whole_is_told(wrong, code: str, words: str) -> None:  # type: ignore[no-untyped-def]
    spots, control = drawn(4, 7)
    p = placed(spots, wrong(control))
    found = [f for f in p.findings if f.code == code]
    assert len(found) == 1 and words in found[0].message and found[0].severity == "fault"
    assert {q.status for q in p.points} == {"parted"}
    assert not [f for f in placed(spots, control).findings if f.severity == "fault"]


def test_a_line_of_points_says_which_turn_is_free_and_level_scanners_hold_it() -> None:
    rng = np.random.default_rng(2)
    line = np.stack([np.linspace(0, 40, 5), rng.normal(0, 0.01, 5), rng.normal(0, 0.01, 5)], axis=1)
    aside = np.array([[20.0, 15.0, 0.0]])
    errors = []
    for seed in range(40):
        control = frames.apply(GRID, line) + np.random.default_rng(seed).normal(0, 0.001, line.shape)
        with pytest.raises(NotEnough, match="one line: the turn about K0 – K4 stays free"):
            placed(line, control)
        p, q = placed(line, control, tilt=1e-4), placed(line, control, mode="level")
        assert off(q, aside) < 0.004
        errors.append(off(p, aside))
    assert max(errors) < 0.006 and p.far < 0.010


def test_two_points_place_a_level_project_and_prove_nothing() -> None:
    spots, control = drawn(5, 2)
    p = placed(spots, control, mode="level")
    assert {q.status for q in p.points} == {"slack"} and any(f.code == "two_points" for f in p.findings)
    with pytest.raises(NotEnough, match="above each other"):
        placed(spots[[0, 0]] + [[0, 0, 0], [0, 0, 3]], control, mode="level")


def test_points_of_the_plan_and_benchmarks_take_part_with_what_they_have() -> None:
    spots, control = drawn(6, 8)
    control[:3, 2] = np.nan  # of the plan
    control[3, :2] = np.nan  # a benchmark
    p = placed(spots, control)
    assert off(p, spots) < 0.004 and {q.status for q in p.points} == {"taut"}
    assert np.isnan(p.points[0].residual[2]) and np.isnan(p.points[3].residual[0])
    control[0, 0] += 0.2
    p = placed(spots, control)
    assert [q.name for q in p.points if q.status == "parted"] == ["K0"] and off(p, spots) < 0.004
    control[:, 2] = np.nan
    with pytest.raises(NotEnough, match="no matched point has a height"):
        placed(spots, control)


@pytest.mark.parametrize("seed", range(3))
def test_residuals_agree_with_the_deviations_that_were_given(seed: int) -> None:
    """Points of 0.5, 2 and 6 mm: chi-square of residuals over 200 draws, and errors over what is claimed."""
    rng = np.random.default_rng(seed)
    spots = rng.uniform(-0.5, 0.5, (7, 3)) * [40, 25, 6]
    sigma = rng.choice([0.0005, 0.002, 0.006], (7, 1)) * [1, 1, 2]
    places = rng.uniform(-0.6, 0.6, (5, 3)) * [40, 25, 6]
    total, level = [], []
    for _ in range(200):
        control = frames.apply(GRID, spots) + rng.normal(0, 1, spots.shape) * sigma
        p = placed(spots, control, sigma=sigma)
        gap = np.array([q.residual for q in p.points]) / sigma
        total.append((gap**2).sum())
        at = frames.apply(p.T_control_project, places)
        d = at - frames.apply(GRID, places)
        level.append(np.einsum("ni,nij,nj->n", d, np.linalg.inv(p.covariance_at(at)), d) / 3)
    assert 13.5 < np.mean(total) < 16.5  # 21 coordinates, 6 unknowns
    assert 0.7 < np.sqrt(np.mean(level)) < 1.3


def test_the_gap_of_a_point_to_all_others_is_what_a_fit_without_it_gives() -> None:
    spots, control = drawn(8, 6)
    p = placed(spots, control)
    for k in range(6):
        rest = [m for m in range(6) if m != k]
        without = placed(spots[rest], control[rest])
        expected = float(np.linalg.norm(control[k] - frames.apply(without.T_control_project, spots[k][None])[0]))
        assert p.points[k].alone == pytest.approx(expected, rel=0.02)


def test_a_scale_is_told_when_it_is_no_chance() -> None:
    spots, control = drawn(9, 8, 0.0005, (120, 80, 5))
    assert not any(f.code == "scale" for f in placed(spots, control).findings)
    middle = control.mean(axis=0)
    p = placed(spots, middle + (control - middle) * (1 - 90e-6))
    (f,) = [f for f in p.findings if f.code == "scale"]
    assert "shorter" in f.message and p.scale[0] == pytest.approx(-90e-6, abs=15e-6)


def test_of_three_points_nobody_is_called_a_blunder() -> None:
    """Each of them may be the one that is wrong: they are over the tolerance, and none is left out."""
    spots, control = drawn(11, 3)
    control[1] += [0.06, 0.03, 0.0]
    p = placed(spots, control, tilt=1e-4)
    assert not {f.code for f in p.findings} & {"blunder", "swapped"}
    assert all(q.status != "taut" for q in p.points if q.distance > 0.010) and max(q.distance for q in p.points) > 0.010
