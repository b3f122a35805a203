"""Answers, and what they say of placements: a station is where somebody said, and nowhere that somebody denied."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core import frames
from taut_lantern.core.align.questions import Question, Reading, Told, answers_of

ROOM = frames.pose(0.3, (1.2, -0.7, 0.1))  # T_r1_r2, were they in one room
NEXT = frames.pose(0.3, (6.4, -0.7, 0.1))  # the same in the next room
STANDS = {"r1": frames.pose(1.1, (20.0, 8.0, 2.0))}


def asked(kind: str) -> Question:
    if kind == "alike":
        return Question(kind, "r2", "r1", (Reading("one", "r1", ROOM), Reading("two", "", None)), np.zeros((0, 3)), "")
    return Question(kind, "r2", "r1", (Reading("first", "r1", ROOM), Reading("second", "r1", NEXT)), np.zeros((0, 3)), "")


@pytest.mark.parametrize(
    ("kind", "word", "room", "beside"),
    [("alike", "one", True, False), ("alike", "two", False, None), ("place", "first", True, False), ("place", "second", False, True)],
)
def test_an_answer_says_of_each_placement_whether_the_station_stands_there(kind: str, word: str, room: bool, beside: bool | None) -> None:
    told = Told(answers_of(asked(kind), word))
    near = frames.pose(0.01, (0.05, -0.1, 0.0))  # what a refinement still moves
    for T_r1_r2, expected in ((ROOM, room), (NEXT, beside)):
        assert told.verdict("r2", STANDS["r1"] @ T_r1_r2 @ near, STANDS, {"r1": 0.1}) is expected
        placed = {"r2": frames.pose(2.0, (-3.0, 1.0, 0.0))}  # the other way round: r1 is the one that is placed
        assert told.verdict("r1", placed["r2"] @ frames.inverse(T_r1_r2 @ near), placed, {"r2": 0.1}) is expected
    assert told.together("r1", "r2") is (word != "two")


def test_two_rooms_share_nothing_wherever_the_second_is_put() -> None:
    told = Told(answers_of(asked("alike"), "two"))
    turned = frames.pose(3.0, (2.5, 1.0, 0.0))
    assert told.verdict("r2", STANDS["r1"] @ turned, STANDS, {"r1": 0.8}) is False
    assert told.verdict("r2", STANDS["r1"] @ turned, STANDS, {"r1": 0.1}) is None
    assert told.refuses("r1", "r2", turned, 0.8) and not told.refuses("r1", "r2", turned, 0.1)


def test_who_was_not_asked_about_is_placed_freely() -> None:
    told = Told(answers_of(asked("alike"), "two"))
    assert told.verdict("r3", STANDS["r1"] @ ROOM, STANDS, {"r1": 0.9}) is None
    assert told.verdict("r2", np.eye(4), {"r7": np.eye(4)}, {"r7": 0.9}) is None
    assert told.here("r2") == []


def test_only_what_was_asked_can_be_answered() -> None:
    with pytest.raises(ValueError, match="one or two"):
        answers_of(asked("alike"), "first")
