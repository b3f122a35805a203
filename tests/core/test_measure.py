"""Measures against geometry that is known, wherever and however it lies."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from taut_lantern.core import frames
from taut_lantern.core.draw.measure import LEAST, checked, measured
from taut_lantern.core.errors import BadInput, NotEnough
from taut_lantern.core.scan.surface import fit_plane

turns = st.tuples(*[st.floats(-3, 3)] * 3)


@given(turns, st.sampled_from([0.0, 437_000.0]))
def test_figures_that_are_of_the_thing_itself_do_not_depend_on_where_it_lies(turn: tuple[float, ...], far: float) -> None:
    t = np.eye(4)
    t[:3, :3], t[:3, 3] = frames.rotation(np.array(turn)), (far, 12 * far, 46.0)
    bent = np.array([[0, 0, 0], [4, 0, 0], [4, 1, 0], [1, 1, 0], [1, 3, 0], [0, 3, 0]], float)  # an L of 6 m2, not convex
    area = measured("area", frames.apply(t, bent))
    assert area["area"] == pytest.approx(6, abs=1e-6) and area["round"] == pytest.approx(14, abs=1e-6) and area["flat"] < 1e-6
    assert area["level_area"] == pytest.approx(6 * abs(t[2, 2]), abs=1e-6)
    corner = frames.apply(t, np.array([[2, 0, 0], [0, 0, 0], [1, np.sqrt(3), 0]], float))
    assert measured("angle", corner)["angle"] == pytest.approx(60, abs=1e-6)
    assert measured("polyline", frames.apply(t, bent))["slope"] == pytest.approx(11, abs=1e-6)


def test_a_distance_says_slope_level_and_height_with_its_sign() -> None:
    d = measured("distance", np.array([[10.0, 20, 5], [13, 24, 3.8]]))
    assert (d["slope"], d["level"], d["height"]) == (pytest.approx(np.sqrt(26.44)), pytest.approx(5), pytest.approx(-1.2))
    flat = measured("angle", np.array([[1.0, 0, 5], [0, 0, 0], [0, 2, -7]]))
    assert flat["level_angle"] == pytest.approx(90) and flat["angle"] > 90  # as a plan shows it


@pytest.mark.parametrize("seed", range(5))
def test_a_wall_has_its_thickness_though_things_stand_before_it(seed: int) -> None:
    rng = np.random.default_rng(seed)
    normal = rng.normal(size=3)
    normal /= np.linalg.norm(normal)
    across = np.linalg.svd(normal[None])[2][1:]
    wall = 50 * normal + rng.uniform(-0.15, 0.15, (400, 2)) @ across + rng.normal(0, 0.0012, (400, 1)) * normal
    clutter = 50 * normal + rng.uniform(-0.05, 0.05, (60, 2)) @ across + rng.uniform(0.02, 0.1, (60, 1)) * normal
    plane = fit_plane(np.concatenate([wall, clutter]))
    other = 50.24 * normal + 0.3 * across[0]
    found = measured("plane", np.array([50 * normal, other]), plane)
    assert abs(found["off"]) == pytest.approx(0.24, abs=0.0015) and 0.0008 < found["rms"] < 0.002


@pytest.mark.parametrize(
    ("kind", "n"), [(k, n - 1) for k, n in LEAST.items()] + [("distance", 3), ("angle", 4), ("plane", 3), ("girth", 2)]
)
def test_too_few_or_too_many_picks_are_refused_in_words(kind: str, n: int) -> None:
    with pytest.raises(BadInput, match=r"picks|unknown"):
        checked(kind, np.zeros((n, 3)))


def test_what_holds_no_plane_is_refused() -> None:
    line = np.linspace(0, 1, 50)[:, None] * [1.0, 1, 0]
    for points in (line, np.zeros((5, 3))):
        with pytest.raises(NotEnough):
            fit_plane(points)
