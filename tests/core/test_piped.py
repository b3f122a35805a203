"""Pipes cut, led on and joined: what comes of it lies where the pipe lay."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from taut_lantern.core.draw.piped import Piped, cut, extended, joined
from taut_lantern.core.errors import BadInput

AXIS = np.array([[0, 0, 0], [3.0, 0, 0], [3.0, 2.0, 0], [3.0, 2.0, 1.5]])


def pipe(axis: np.ndarray, radius: float = 0.08, names: str = "abcdef") -> Piped:
    return Piped(axis, radius, tuple(names[: len(axis) - 1]), tuple(names[: len(axis) - 2].upper()))


@given(st.integers(0, 300))
def test_a_pipe_that_is_cut_and_joined_is_the_same_again(seed: int) -> None:
    rng = np.random.default_rng(seed)
    whole = pipe(AXIS)
    k = int(rng.integers(3))
    t = rng.uniform(0.05, 0.95)
    at = AXIS[k] + t * (AXIS[k + 1] - AXIS[k])
    one, other = cut(whole, at + rng.normal(0, 0.02, 3))
    assert np.linalg.norm(one.axis[-1] - at) < 0.2 and (one.axis[-1] == other.axis[0]).all()
    assert one.runs == whole.runs[: k + 1] and other.runs == whole.runs[k:] and one.bends + other.bends == whole.bends
    if seed % 2:  # whichever way round they were followed
        other = Piped(other.axis[::-1], other.radius, other.runs[::-1], other.bends[::-1])
    again = joined(one, other) if seed % 3 else joined(other, one)
    axis = again.axis if np.allclose(again.axis[0], AXIS[0]) else again.axis[::-1]
    np.testing.assert_allclose(axis, AXIS, atol=1e-9)
    assert set(again.bends) == set(whole.bends) and len(again.runs) == 3


def test_ends_that_meet_round_a_corner_get_a_bend_there_and_others_are_refused() -> None:
    one, other = pipe(np.array([[0, 0, 0], [2.6, 0, 0.0]])), pipe(np.array([[3.0, 0.5, 0.004], [3.0, 2.0, 0.004]]), 0.0795)
    both = joined(one, other)
    np.testing.assert_allclose(both.axis, [[0, 0, 0], [3.0, 0, 0.002], [3.0, 2.0, 0.004]], atol=1e-9)
    assert both.bends == (None,) and len(both.runs) == 2
    straight = joined(one, pipe(np.array([[2.9, 0.004, 0], [5.0, 0, 0]])))
    assert len(straight.axis) == 2 and straight.bends == ()
    for wrong, words in (
        (pipe(np.array([[3.0, 0.5, 0.2], [3.0, 2.0, 0.2]])), "do not meet"),
        (pipe(np.array([[2.7, 0.3, 0], [5.0, 0.3, 0]])), "beside"),
        (pipe(np.array([[3.0, 0.5, 0], [3.0, 2.0, 0]]), 0.1), "diameter"),
        (pipe(np.array([[1.0, 0.5, 0], [1.0, -2.0, 0]])), "do not meet"),  # a branch off the middle of it
    ):
        with pytest.raises(BadInput, match=words):
            joined(pipe(np.array([[0, 0, 0], [1.5, 0, 0]])) if words == "do not meet" and wrong.axis[0, 0] == 1.0 else one, wrong)


def test_an_end_is_led_on_or_back_along_its_run() -> None:
    whole = pipe(AXIS)
    np.testing.assert_allclose(extended(whole, np.array([-2.0, 0.3, 0.1])).axis[0], [-2, 0, 0])
    np.testing.assert_allclose(extended(whole, np.array([3.1, 2.1, 1.0])).axis[-1], [3, 2, 1.0])
    with pytest.raises(BadInput, match="nothing of this run"):
        extended(whole, np.array([3.0, 2.5, -0.5]))
    for wrong in ([-0.5, 0, 0], [3.0, 0, 0]):
        with pytest.raises(BadInput, match="ends or bends"):
            cut(whole, np.array(wrong))
