"""What the data do not decide is asked: two readings of where a station stood, and what somebody answers.

Terms: reading: one way to understand the scans, a placement of one station against another (or two rooms that share nothing);
answer: what a person said of two stations, which holds in every later run.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import Finding

Array = NDArray[np.float64]
PLACES = ("first", "second", "third", "fourth")  # words that answer which one
ALIKE_SHARE = 0.35  # overlap from which on two stations saw the same room, or one like it
SAME_PLACE, SAME_TURN = 0.8, 0.35  # metres and radians within which two placements are the same one


@dataclass(frozen=True)
class Reading:
    """word: what answers this reading; partner: the station that station is placed against by T_partner_station, None where the two
    share nothing; agree_m2, contradicted_m2: of what both saw."""

    word: str
    partner: str
    T_partner_station: Array | None
    agree_m2: float = 0.0
    contradicted_m2: float = 0.0


@dataclass(frozen=True)
class Question:
    """kind "alike": stood station and other in one room (first reading) or in two that are alike (second); "place": which of up to
    four placements is right. places: (n, 3) in the frame of other, what one of the two saw where the other looked freely."""

    kind: str
    station: str
    other: str
    readings: tuple[Reading, ...]
    places: Array
    message: str

    def finding(self) -> Finding:
        return Finding("alike" if self.kind == "alike" else "ambiguous", self.station, self.message, "fault")


@dataclass(frozen=True)
class Answer:
    """station stands at T_other_station against other (here), or not there; room: nor anywhere where both see one room."""

    station: str
    other: str
    T_other_station: Array
    here: bool
    room: bool = False


def words_of(question: Question) -> list[str]:
    """What can be answered."""
    return [r.word for r in question.readings] + ["none"] * (question.kind == "place")


def answers_of(question: Question, word: str) -> list[Answer]:
    """What choosing a reading, or none of the places, says of the placements. ValueError for a word that is not asked."""
    words = words_of(question)
    if word not in words:
        raise ValueError(f"the answer to this is {' or '.join(words)}, not {word!r}")
    out = []
    for r in question.readings:
        if r.T_partner_station is not None:
            out.append(Answer(question.station, r.partner, r.T_partner_station, r.word == word, question.kind == "alike"))
    return out


class Told:
    """All answers, asked for placements."""

    def __init__(self, answers: Iterable[Answer]) -> None:
        self.by: dict[str, list[tuple[str, Array, Answer]]] = {}
        for x in answers:
            self.by.setdefault(x.station, []).append((x.other, x.T_other_station, x))
            self.by.setdefault(x.other, []).append((x.station, frames.inverse(x.T_other_station), x))

    def here(self, name: str) -> list[tuple[str, Array]]:
        """(other, T_other_name) of the answers that say where a station stands."""
        return [(other, t) for other, t, x in self.by.get(name, []) if x.here]

    def together(self, a: str, b: str) -> bool:
        """Whether somebody said that the two stood as they are placed, so that what contradicts it moved."""
        return any(other == b and x.here for other, _, x in self.by.get(a, []))

    def alike(self) -> set[str]:
        """Stations that somebody said stood in rooms that are alike, or not where they fitted."""
        return {name for name, all_ in self.by.items() for _, _, x in all_ if not x.here}

    def verdict(self, name: str, pose: Array, placed: Mapping[str, Array], shares: Mapping[str, float]) -> bool | None:
        """True: somebody said that the station stands here; False: that it does not; None: nobody said. shares: what each placed
        station confirms of it there."""
        said = None
        for other, t, x in self.by.get(name, []):
            if other not in placed:
                continue
            metres, radians = frames.difference(frames.inverse(placed[other]) @ pose, t)
            near = metres < SAME_PLACE and radians < SAME_TURN
            if x.here != near and (x.here or near):
                return False
            if not x.here and x.room and shares.get(other, 0.0) >= ALIKE_SHARE:
                return False
            said = True if x.here else said
        return said

    def refuses(self, a: str, b: str, T_a_b: Array, overlap: float) -> bool:
        """Whether what a pair proposes is not what somebody said of it."""
        return self.verdict(b, T_a_b, {a: np.eye(4)}, {a: overlap}) is False
