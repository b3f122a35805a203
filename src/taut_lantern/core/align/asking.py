"""Which questions a run leaves: found once its placements are made, each with its readings."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .. import frames
from .contradiction import QUIET, Contradiction, structure_limit
from .guess import Hypothesis
from .placements import ALIKE_APART, BLATANT, DOOR, LEAST, NOWHERE, SAME_ROOM, Placement, Weighing, rivals_outside
from .questions import PLACES, Question, Reading

Array = NDArray[np.float64]
RIVAL = 0.5  # share of what the best placement agrees on from which on another one makes it ambiguous
HELD = 0.2  # share of them from which on those others hold the station by themselves
COUNTS = {2: "two", 3: "three", 4: "four"}


def _rooms(station: str, other: str, T_other_station: Array, c: Contradiction) -> Question:
    text = f"{other} and {station}: one room, or two alike?"
    if c.structure > QUIET:
        text += f" {c.structure:.2f} m² of what one saw stands where the other looked freely"
    one, two = Reading("one", other, T_other_station, c.agree, c.structure), Reading("two", "", None)
    return Question("alike", station, other, (one, two), c.places, text)


def two_rooms(p: Placement, mate: str, placed: dict[str, Array], weighing: Weighing) -> Question:
    """A station that would lie in the room of a placed one, where nothing says that it is not another room."""
    t = frames.inverse(placed[mate]) @ p.pose
    return _rooms(p.station, mate, t, weighing.contradicted(mate, p.station, t))


def places(found: list[Placement], placed: dict[str, Array]) -> Question:
    """A station that fits in several places, the likeliest first."""
    readings = tuple(
        Reading(word, p.nearest, frames.inverse(placed[p.nearest]) @ p.pose, p.agree, p.contradicted)
        for word, p in zip(PLACES, found, strict=False)
    )
    name, beside = found[0].station, list(dict.fromkeys(p.partner for p in readings))
    text = f"{name} fits in {COUNTS[len(readings)]} places beside {' or '.join(beside)}: which one?"
    return Question("place", name, beside[0], readings, NOWHERE, text)


class Asking:
    """parts: poses T_part_station; pairs: (a, b, T_a_b, overlap) that were aligned."""

    def __init__(self, weighing: Weighing, parts: list[dict[str, Array]], pairs: list[tuple[str, str, Array, float]]) -> None:
        self.weighing, self.parts, self.pairs = weighing, parts, pairs
        found = weighing.pool.map(lambda p: weighing.contradicted(*p[:3]), pairs)
        self.against = {(a, b): c for (a, b, _, _), c in zip(pairs, found, strict=True)}
        self.most: dict[str, float] = {}  # m2 that speak for a station and any other
        self.beside: dict[str, tuple[str, Array]] = {}  # that other, and T_other_station
        for a, b, t, _ in pairs:
            c = self.against[a, b]
            for name, other, placed in ((a, b, frames.inverse(t)), (b, a, t)):
                if self.speaks(a, b, c) > self.most.get(name, 0.0):
                    self.most[name], self.beside[name] = self.speaks(a, b, c), (other, placed)

    def speaks(self, a: str, b: str, c: Contradiction) -> float:
        """m2 that speak for a placement of a pair: in the open ground and bare walls do not."""
        return c.distinct if self.weighing.opened(a, b) else c.agree

    def all(self) -> list[Question]:
        self.weighing.look_round()  # with all that was proposed meanwhile
        rooms = self.alike()
        return [*rooms, *self.behind_doors(rooms), *self.elsewhere()]

    def alike(self) -> list[Question]:
        """Two stations of one room that contradict each other in what does not move."""
        out = []
        for a, b, t, overlap in self.pairs:
            c = self.against[a, b]
            contradicts = c.structure > structure_limit(c, self.weighing.restless) and c.mutual > QUIET
            if overlap >= SAME_ROOM and contradicts and not self.weighing.opened(a, b) and not self.weighing.told.together(a, b):
                out.append(_rooms(b, a, t, c))
        return out

    def behind_doors(self, asked: list[Question]) -> list[Question]:
        """Stations that lie in the room of another one, and that those outside would as soon see in another room."""
        out: list[Question] = []
        done = {frozenset((q.station, q.other)) for q in asked}
        for part in self.parts:
            for name, pose in part.items():
                near = {b if a == name else a: o for a, b, _, o in self.pairs if name in (a, b) and a in part and b in part}
                mates = {n for n, o in near.items() if o >= SAME_ROOM and not self.weighing.told.together(name, n)}
                mates = set() if self.weighing.prepared[name].open else mates
                others = {n: t for n, t in part.items() if n != name}
                if not mates or mates == others.keys():
                    continue
                mate = max(mates, key=lambda n: near[n])
                if frozenset((name, mate)) in done or not self._rivals(name, pose, others, mates):
                    continue
                t = frames.inverse(part[mate]) @ pose
                out.append(_rooms(name, mate, t, self.weighing.contradicted(mate, name, t)))
                done.add(frozenset((name, mate)))
        return out

    def _rivals(self, name: str, pose: Array, others: dict[str, Array], mates: set[str]) -> bool:
        """Whether without those of its room a station would as soon stand in another place."""
        beside = min(others, key=lambda n: float(np.linalg.norm(others[n][:3, 3] - pose[:3, 3])))
        here = self.weighing.judge(name, beside, frames.inverse(others[beside]) @ pose, others)
        own = here.without(mates)
        if own >= HELD or here.told:
            return False
        return any(
            p.clean and p.without(self.weighing.mates(p)) >= max(DOOR, RIVAL * own) and np.linalg.norm((p.pose - pose)[:3, 3]) > ALIKE_APART
            for p in self.weighing.options(name, others)
        )

    def elsewhere(self) -> list[Question]:
        """A placed station that a proposal puts elsewhere with no more contradicted and half its agreement."""
        found: dict[str, Question] = {}
        for (a, b), proposed in self.weighing.hypotheses.items():
            part = next((x for x in self.parts if a in x and b in x), None)
            if part is None:
                continue
            name, other = (a, b) if self.most.get(a, 0.0) < self.most.get(b, 0.0) else (b, a)
            for h in proposed:
                if name not in found and name in self.beside and self._is_rival(h, name, frames.inverse(part[a]) @ part[b]):
                    t = h.T_a_b if name == b else frames.inverse(h.T_a_b)
                    if self.weighing.opened(a, b) and not self._fits_outside(name, other, t, part):
                        continue
                    if self.weighing.told.verdict(name, part[other] @ t, part, {}) is not False and not self._said(name, part):
                        found[name] = self._place(name, other, t, self.weighing.objects(h))
        return list(found.values())

    def _fits_outside(self, name: str, other: str, T_other_name: Array, part: dict[str, Array]) -> bool:
        """Whether all others of the part leave a place in the open as well as the one where a station stands."""
        others = {n: t for n, t in part.items() if n != name}
        here = self.weighing.judge(name, other, frames.inverse(part[other]) @ part[name], others)
        there = self.weighing.judge(name, other, T_other_name, others)
        return there.clean and len(rivals_outside([here, there], RIVAL)) > 1

    def _said(self, name: str, part: dict[str, Array]) -> bool:
        return bool(self.weighing.told.verdict(name, part[name], part, {}))

    def _is_rival(self, h: Hypothesis, name: str, stands: Array) -> bool:
        if frames.difference(h.T_a_b, stands)[0] <= ALIKE_APART:
            return False
        least = RIVAL * self.most.get(name, 0.0)
        if self.weighing.worth(h) < max(LEAST, 0.5 * least) or h.seen.see_through > 2 * BLATANT:
            return False
        return self.speaks(h.a, h.b, self.weighing.objects(h)) >= least and self.weighing.calm(h)

    def _place(self, name: str, other: str, T_other_name: Array, c: Contradiction) -> Question:
        near, stands = self.beside[name]
        own = self.against[(near, name) if (near, name) in self.against else (name, near)]
        readings = (
            Reading("first", near, stands, own.agree, own.structure),
            Reading("second", other, T_other_name, c.agree, c.structure),
        )
        text = f"{name} fits as well in another place, against {other}: which one?"
        return Question("place", name, near, readings, NOWHERE, text)
