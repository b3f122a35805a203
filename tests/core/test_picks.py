"""A placement from picked matches: truth comes back, and what does not hold is told."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from taut_lantern.core import frames
from taut_lantern.core.align.picks import Match, Pick, Placed, place

TRUE = frames.small(np.array([0.05, -0.08, 0, 0, 0, 0])) @ frames.pose(2.4, (7.3, -4.1, 0.6))  # T_a_b of a scanner that leaned
CORNERS = np.array([(0.0, 0, 0), (5, 0.2, 0), (4.7, 6, 0.1), (0.3, 5.5, 2.4), (2, 3, 1.1)])


def point(at: np.ndarray, t: np.ndarray = TRUE, noise: np.ndarray | float = 0.0) -> Match:
    return Match(Pick("point", at), Pick("point", frames.apply(frames.inverse(t), at[None])[0] + noise))


def shaped(kind: str, at: tuple[float, ...], along: tuple[float, ...], slide: float, t: np.ndarray = TRUE) -> Match:
    """A plane or a line, picked somewhere else on it in the other scan."""
    d, p = np.array(along) / np.linalg.norm(along), np.array(at, float)
    there = p + (slide * d if kind == "line" else slide * np.linalg.svd(d[None])[2][1])
    back = frames.inverse(t)
    return Match(Pick(kind, p, d), Pick(kind, frames.apply(back, there[None])[0], back[:3, :3] @ d))


def right(found: Placed, t: np.ndarray = TRUE, metres: float = 1e-6) -> bool:
    return found.T_a_b is not None and max(frames.difference(found.T_a_b, t)) < metres


@settings(max_examples=40, deadline=None)
@given(st.floats(-3.1, 3.1), st.floats(-0.25, 0.25), st.floats(-0.25, 0.25), st.integers(0, 10_000), st.integers(3, 5))
def test_points_give_the_placement_back_within_what_picks_err(yaw: float, roll: float, pitch: float, seed: int, n: int) -> None:
    """To 15 degrees of lean, at coordinates of any turn."""
    rng = np.random.default_rng(seed)
    t = frames.small(np.array([roll, pitch, 0, 0, 0, 0])) @ frames.pose(yaw, tuple(rng.uniform(-40, 40, 3)))
    exact = place([point(p, t) for p in CORNERS[:n]])
    assert exact.why == "" and right(exact, t)
    noisy = place([point(p, t, rng.normal(0, 0.02, 3)) for p in CORNERS[:n]])
    middle = CORNERS[:n].mean(axis=0)
    off = np.linalg.norm(frames.apply(noisy.T_a_b, frames.apply(frames.inverse(t), middle[None]))[0] - middle)  # type: ignore[arg-type]
    assert off < 5 * 0.02 and noisy.residuals.max() < 0.1


def test_three_walls_hold_it_wherever_they_are_picked() -> None:
    walls = [("plane", (5, 1, 1), (-1, 0.1, 0)), ("plane", (2, 6, 1), (0, -1, 0)), ("plane", (2, 2, 0), (0, 0, 1))]
    found = place([shaped(*w, slide) for w, slide in zip(walls, (1.4, -0.9, 2.2), strict=True)])  # type: ignore[arg-type]
    assert found.why == "" and right(found) and found.residuals.max() < 1e-6


def test_an_edge_a_floor_and_a_point_hold_it_together() -> None:
    matches = [shaped("line", (5, 1, 1), (0, 0, 1), 0.8), shaped("plane", (2, 2, 0), (0, 0, 1), 1.5), point(CORNERS[3])]
    found = place(matches)
    assert found.why == "" and right(found)


@pytest.mark.parametrize(
    ("matches", "said"),
    [
        ([], "3 more matches are needed"),
        ([point(p) for p in CORNERS[:2]], "1 more match is needed"),
        ([point(np.array([x, 2.0, 1.0])) for x in (0.0, 1.5, 4.0)], "still turn"),
        ([shaped("plane", (x, 2.0, 0), (0, 0, 1), 0.5) for x in (0.0, 3.0, 5.0)], "still"),
        ([shaped("plane", (5, 1, 1), (-1, 0, 0), 0.4), shaped("plane", (0, 1, 1), (1, 0, 0), 0.4), shaped("plane", (2, 2, 0), (0, 0, 1), 1)], "still shift"),
        ([*(point(p) for p in CORNERS[:4]), point(CORNERS[4], noise=np.array([1.5, 0, 0]))], "match 5 is off"),
    ],
)  # fmt: skip
def test_what_does_not_hold_it_is_told(matches: list[Match], said: str) -> None:
    found = place(matches)
    assert said in found.why and len(found.residuals) == len(matches)
