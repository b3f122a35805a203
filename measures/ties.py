"""Ties without a start on layouts that no limit was set on: what is right, what is wrong, what is left open; and what is right once the
questions are answered as truth has it."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from taut_lantern.core import frames
from taut_lantern.core.align.believe import Tie, tie
from taut_lantern.core.align.evidence import dense
from taut_lantern.core.align.guess import Hypothesis
from taut_lantern.core.align.prepared import Prepared, prepare
from taut_lantern.core.align.questions import Answer, Question, answers_of
from taut_lantern.core.network.judge import Profile, judge
from taut_lantern.core.network.observations import LinkObservation
from taut_lantern.core.network.reliability import snoop
from taut_lantern.standins.scanner import Scanner
from tests.truth.layouts import LAYOUTS, Layout

from .sites import DRAWS
from .table import Row

POINTS = 300_000
RIGHT, WRONG = 0.02, 0.05  # metres off: a link is right below, a station stands wrong above
SHARED, SOME = 0.15, 0.05  # overlap of pairs that should be linked
SEEDS = [int(v) for v in os.environ.get("LANTERN_SEEDS", "98 99 100").split()]  # those that nobody has looked at
ROUNDS = 4  # times that all open questions are answered and the stations tied again


@dataclass(frozen=True)
class Score:
    """stations: right, wrong, undecided; pairs that share enough, and some: (linked right, all); links: used, used but wrong, taut,
    taut but wrong; asked: questions; seconds of the tie."""

    stations: tuple[int, int, int]
    enough: tuple[int, int]
    some: tuple[int, int]
    used: tuple[int, int]
    taut: tuple[int, int]
    asked: int
    seconds: float

    def __str__(self) -> str:
        (r, w, u), (e, all_e), (s, all_s) = self.stations, self.enough, self.some
        return (
            f"stations {r}/{w}/{u}, pairs {e}/{all_e} and {s}/{all_s}, used {self.used[0]} wrong {self.used[1]}, "
            f"taut {self.taut[0]} wrong {self.taut[1]}, asked {self.asked}, {self.seconds:.0f} s"
        )


def placed_right(part: dict[str, np.ndarray], truth: dict[str, np.ndarray]) -> set[str]:
    """The stations of a part that agree with most of the others about where they are."""
    best: set[str] = set()
    for datum in part:
        shift = truth[datum] @ frames.inverse(part[datum])
        own = {n for n in part if np.linalg.norm((shift @ part[n] - truth[n])[:3, 3]) < WRONG}
        best = max(best, own, key=len)
    return best


def score(found: Tie, ready: dict[str, Prepared], truth: dict[str, np.ndarray], asked: int, seconds: float) -> Score:
    """What a run found against truth, judged as the application judges it."""
    largest = max(found.parts, key=len)
    right = placed_right(largest, truth)
    observed = [LinkObservation(f"{p.a}|{p.b}", p.a, p.b, p.result.T_a_b, p.result.covariance) for p in found.pairs]
    solution, left_out = snoop(list(ready), observed)
    good, used, taut = set(), [0, 0], [0, 0]
    for p in found.pairs:
        key = f"{p.a}|{p.b}"
        off, _ = frames.difference(p.result.T_a_b, frames.inverse(truth[p.a]) @ truth[p.b])
        own = solution.links.get(key)
        told = (own.metres, own.redundancy, own.normalized) if own else (None, 0.0, None)
        word = judge(p.evidence, Profile(), told[0], told[1], key, told[2]).status
        if off < RIGHT:
            good.add(frozenset((p.a, p.b)))
        for count, on in ((used, key not in left_out), (taut, word == "taut" and key not in left_out)):
            count[0] += on
            count[1] += on and off > WRONG
    names = list(ready)
    shares = {
        frozenset((a, b)): dense(ready[a], ready[b], frames.inverse(truth[a]) @ truth[b], 40_000).overlap
        for k, a in enumerate(names)
        for b in names[k + 1 :]
    }

    def of(low: float, high: float) -> tuple[int, int]:
        pairs = [k for k, v in shares.items() if low <= v < high]
        return sum(k in good for k in pairs), len(pairs)

    stations = (len(right), len(largest) - len(right), len(names) - len(largest))
    return Score(stations, of(SHARED, 2.0), of(SOME, SHARED), (used[0], used[1]), (taut[0], taut[1]), asked, seconds)


def true_answers(q: Question, truth: dict[str, np.ndarray]) -> list[Answer]:
    """What somebody says who knows the place."""
    for r in q.readings:
        if r.T_partner_station is not None:
            off = frames.difference(frames.inverse(truth[r.partner]) @ truth[q.station], r.T_partner_station)
            if max(off) < 0.3:
                return answers_of(q, r.word)
    return answers_of(q, "two" if q.kind == "alike" else "none")


def one(layout: Layout, seed: int, lean: float = 0.0) -> tuple[Score, Score]:
    """Without answers, and with all that is asked answered."""
    made = layout.scans(Scanner(points=POINTS, lean=lean), seed)
    ready = {n: prepare(cloud) for n, (cloud, _) in made.items()}
    truth = {n: pose for n, (_, pose) in made.items()}
    kept: dict[str, list[Hypothesis]] = {}
    scores: list[Score] = []
    answers: list[Answer] = []
    for _ in range(1 + ROUNDS):
        begin = time.perf_counter()
        found = tie(ready, load=kept.get, keep=kept.__setitem__, answers=answers)
        scores.append(score(found, ready, truth, len(found.questions), time.perf_counter() - begin))
        if not found.questions:
            break
        answers += [a for q in found.questions for a in true_answers(q, truth)]
    return scores[0], scores[-1]


def run(chosen: list[str] | None = None, say: Callable[[str], None] = print) -> list[Row]:
    fixed = {x.name: x for x in LAYOUTS if x.name == "plant room"}
    rows = []
    for name in chosen or [*DRAWS, *fixed]:
        first, last = [], []
        for seed in SEEDS:
            asked, told = one(DRAWS[name](seed) if name in DRAWS else fixed[name], seed)
            first.append(asked)
            last.append(told)
            say(f"{name} {seed}: {asked}\n  answered: {told}")
        rows += [_row(f"{name}, {len(SEEDS)} draws", first), _row(f"{name}, {len(SEEDS)} draws, questions answered", last)]
    return rows


def _row(name: str, scores: list[Score]) -> Row:
    def total(field: str, k: int) -> int:
        return sum(getattr(x, field)[k] for x in scores)

    said = (
        f"{sum(x.asked for x in scores)} asked; "
        f"stations {total('stations', 0)} right, {total('stations', 1)} wrong, {total('stations', 2)} left open; links used and wrong "
        f"{total('used', 1)} of {total('used', 0)}, taut and wrong {total('taut', 1)} of {total('taut', 0)}; pairs at 15 % or more "
        f"{total('enough', 0)} of {total('enough', 1)}, at 5 to 15 % {total('some', 0)} of {total('some', 1)}"
    )
    met = total("used", 1) == 0 and total("stations", 1) == 0 and total("enough", 0) >= 0.98 * total("enough", 1)
    return Row(f"Tie without a start: {name}", said, "exact truth", "none wrong, 98 % of pairs", met)


if __name__ == "__main__":
    import sys

    for row in run(sys.argv[1:]):
        print(row.cells())
