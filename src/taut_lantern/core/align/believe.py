"""Tie all scans together: pairs propose, the network believes.

A placement is used only when no placed station looked through it, when enough is shared, and when no other
clean placement of at least half its support is left. Most certain first: what contradicts no whole objects comes before what
only looks right by shares, and what hangs on stations of the same room alone comes last: it may be a room that is alike.
What stays open at the end is asked.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import Finding
from .asking import RIVAL, Asking, places, two_rooms
from .contradiction import BARE, structure_limit
from .evidence import Evidence, dense, evidence
from .fine import Fine, fine
from .guess import Hypothesis, propose
from .jointly import decided
from .placements import ALIKE_APART, APART, BLATANT, DOOR, ENOUGH, OUTSIDE, PLAIN, Placement, Weighing, rivals_outside
from .prepared import SPEAKERS, Prepared
from .questions import PLACES, Answer, Question
from .search import Search, in_body

Array = NDArray[np.float64]
RIVAL_SEES_THROUGH = 0.03  # a guess that is looked through by more is no rival
NEARLY = 0.6  # share of another placement's support that one without contradiction has at least to come before it
WHOLE = 0.85  # share from which on two stations saw just the same: one room, or two that are alike
THIN = 1.0  # m2 of more than bare walls that others share at least with a station of another room: as one sees of a chair
SURE = 0.35  # support below which a station is looked for from all that are placed before it is believed
SHARED = 0.05  # overlap from which on two placed stations are aligned finely


@dataclass(frozen=True)
class TiedPair:
    a: str
    b: str
    result: Fine
    evidence: Evidence


@dataclass
class Tie:
    """poses T_project_station per part; pairs with fine alignment; findings say what stays undecided, questions ask it."""

    parts: list[dict[str, Array]] = field(default_factory=list)
    pairs: list[TiedPair] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    questions: list[Question] = field(default_factory=list)


def rivals(clean: list[Placement]) -> list[Placement]:
    """The placement that is believed first, of those that are clean, and those that are as good, the likeliest first. What
    contradicts nothing comes before what is contradicted in whole objects, unless that shares much more."""
    first = clean[0]
    quiet = next((p for p in clean if p.calm), None)
    if quiet is not None and not first.told and quiet.support >= NEARLY * first.support:
        first = quiet
    if first.told:
        return [first]

    def rules_out(p: Placement) -> bool:
        return first.calm and not p.calm and p.contradicted >= PLAIN and first.support >= NEARLY * p.support

    return [first, *(p for p in clean if p is not first and p.support > RIVAL * first.support and not rules_out(p))]


def better_seen(found: list[Placement], first: Placement) -> Placement | None:
    """A placement in the open that much more speaks for than for the first, although it is contradicted."""
    return max((p for p in found if not p.clean and RIVAL * p.support > first.support), key=lambda p: p.support, default=None)


class Tying:
    """State of one run; ``run`` reads as the method."""

    def __init__(
        self,
        prepared: Mapping[str, Prepared],
        report: Callable[[str, int, int], None],
        should_stop: Callable[[], bool],
        load: Callable[[str], list[Hypothesis] | None],
        keep: Callable[[str, list[Hypothesis]], None],
        answers: Iterable[Answer],
        search: Search,
    ) -> None:
        self.search, self.prepared, self.report, self.should_stop, self.load, self.keep = search, prepared, report, should_stop, load, keep
        self.names = list(prepared)
        self.order = {n: k for k, n in enumerate(self.names)}
        self.tie = Tie()
        self.pool = ThreadPoolExecutor(max_workers=os.cpu_count() or 1)  # the compiled loops let go of the lock
        self.wide = ThreadPoolExecutor(max_workers=os.cpu_count() or 1)  # for whole stations, which wait for the loops of the other
        self.weighing = Weighing(prepared, self.pool, answers, search)
        self.waiting: set[str] = set()  # stations with one place that wait for those asked about: what they know is not heard yet
        self.held_up = False  # whether stations wait, for those or for an answer

    def run(self) -> Tie:
        self.propose_all([(a, b) for k, a in enumerate(self.names) for b in self.names[k + 1 : k + 3]])
        left = list(self.names)
        while left and not self.should_stop():
            placed = self.seed(left)
            while not self.should_stop():
                best, doubts = self.most_certain(placed, [n for n in left if n not in placed])
                if best is None:
                    more = [p for n in left if n not in placed for p in self.untried(n, placed)]
                    more.sort(key=lambda p: abs(self.order[p[0]] - self.order[p[1]]))  # who stood next to whom was scanned next, mostly
                    if not more:
                        together = self.jointly(placed, [n for n in left if n not in placed])
                        if together:
                            for p in together:
                                self.join(p, placed)
                            continue
                        self.doubts(placed, doubts)
                        break
                    self.propose_all(more[: max(8, len(self.names) // 2)])
                    continue
                held = best.without(self.weighing.mates(best))
                if held < SURE and not best.told and (more := self.untried(best.station, placed)):
                    self.propose_all(more)  # what little is seen of it may be seen in another place as well
                    continue
                self.join(best, placed)
            self.tie.parts.append(placed)
            asked = {q.station for q in self.tie.questions}  # they belong to what somebody says, and are laid on nothing else
            self.tie.parts += [{n: np.eye(4)} for n in left if n in asked and n not in placed]
            left = [n for n in left if n not in placed and n not in asked]
        self.question()
        return self.tie

    def doubts(self, placed: dict[str, Array], doubts: list[Finding | Question]) -> None:
        """Keep what is open when no more can be placed: of each station once, and nothing against one that is left over itself."""
        told = {q.station for q in self.tie.questions} | {f.subject for f in self.tie.findings}
        for d in doubts:
            if isinstance(d, Question) and d.station not in told and (len(placed) > 1 or not told & placed.keys()):
                self.tie.questions.append(d)
            elif isinstance(d, Finding) and d.subject not in told:
                self.tie.findings.append(d)

    def question(self) -> None:
        """Ask what no link is believed with (see ``asking``), and write it into the evidence of the links."""
        asking = Asking(self.weighing, self.tie.parts, [(p.a, p.b, p.result.T_a_b, p.evidence.overlap) for p in self.tie.pairs])
        asked = asking.all()
        doubted = {x for q in asked for x in ((q.station, q.other) if q.kind == "alike" else (q.station,))}
        known = {(q.kind, q.station, q.other) for q in self.tie.questions}
        self.tie.questions = [q for q in asked if (q.kind, q.station, q.other) not in known] + self.tie.questions
        self.tie.findings += [q.finding() for q in self.tie.questions]

        def said(p: TiedPair) -> TiedPair:
            c = asking.against[p.a, p.b]
            allowed = structure_limit(c, self.weighing.restless)
            if self.weighing.told.together(p.a, p.b):
                allowed = max(allowed, c.structure)
            rival = float(bool({p.a, p.b} & doubted))
            return replace(p, evidence=replace(p.evidence, contradicted_m2=c.structure, allowed_m2=allowed, rival=rival))

        self.tie.pairs = [said(p) for p in self.tie.pairs]

    def untried(self, name: str, placed: dict[str, Array]) -> list[tuple[str, str]]:
        order = self.order
        pairs = [(a, name) if order[a] < order[name] else (name, a) for a in placed]
        pairs = [p for p in pairs if p not in self.weighing.hypotheses and self.search.may(*p, order)]
        return sorted(pairs, key=lambda p: abs(order[p[0]] - order[p[1]]))

    def propose_all(self, pairs: list[tuple[str, str]]) -> None:
        pairs = [p for p in pairs if p not in self.weighing.hypotheses and self.search.may(*p, self.order)]

        def one(pair: tuple[str, str]) -> tuple[tuple[str, str], list[Hypothesis]]:
            if self.should_stop():
                return pair, []
            found = self.load("|".join(pair))
            if found is None:
                found = propose(self.prepared[pair[0]], self.prepared[pair[1]], *pair)
                self.keep("|".join(pair), found)
            return pair, found

        for k, (pair, found) in enumerate(self.pool.map(one, pairs)):
            self.report(f"looking for {pair[0]} and {pair[1]} in each other", k + 1, len(pairs))
            told = self.weighing.told
            self.weighing.hypotheses[pair] = [
                h
                for h in found
                if not told.refuses(h.a, h.b, h.T_a_b, h.seen.overlap) and not self.search.contradicts(h.b, h.T_a_b, {h.a: np.eye(4)})
            ]

    def seed(self, left: list[str]) -> dict[str, Array]:
        """The part begins with the clean pair of largest agreeing share, of those that do not see just the same if there are any;
        alone when there is none."""
        self.weighing.look_round()
        best, top = None, (False, 0.0)
        for (a, b), found in self.weighing.hypotheses.items():
            if not (a in left and b in left and found and found[0].seen.overlap >= ENOUGH):
                continue
            opened = self.weighing.opened(a, b)  # cars and leaves are seen through in right pairs, too
            if not opened and not found[0].seen.clean:
                continue
            rivals_see = BLATANT if opened else RIVAL_SEES_THROUGH
            rival = max((self.weighing.worth(h) for h in found[1:] if h.seen.see_through < rivals_see), default=0.0)
            worth = (found[0].seen.overlap < WHOLE, found[0].seen.overlap)
            if worth > top and rival < RIVAL * self.weighing.worth(found[0]) and self.weighing.calm(found[0]):
                best, top = found[0], worth
        first = left[0] if best is None else best.a if best.a == left[0] or best.b != left[0] else best.b
        return self.whole({}, first, np.eye(4))

    def whole(self, placed: dict[str, Array], name: str, pose: Array) -> dict[str, Array]:
        """A station's placement with those that are held with it; what is placed already stays."""
        body = in_body(self.search.body_of(name), name, pose)
        return {n: t for n, t in body.items() if n not in placed and n in self.order}

    def most_certain(self, placed: dict[str, Array], rest: list[str]) -> tuple[Placement | None, list[Finding | Question]]:
        """The unplaced station whose placement is clean, well supported and without rival."""
        self.waiting, self.held_up = set(), False
        certain: list[tuple[tuple[bool, bool, bool, float], Placement]] = []
        doubts: list[Finding | Question] = []
        roommates: list[tuple[Placement, str]] = []
        weighed = self.wide.map(lambda name: [] if self.should_stop() else self.weighing.options(name, placed), rest)
        for k, (name, found) in enumerate(zip(rest, weighed, strict=True)):
            self.report(f"weighing placements of {name}", k, len(rest))
            clean = sorted([p for p in found if p.clean], key=lambda p: (not p.told, -p.support))
            if not clean or (clean[0].support < ENOUGH and not clean[0].told):
                text = f"{name}: no placement without contradiction shares enough with the others"
                doubts.append(Finding("unplaced", name, text, "fault"))
                continue
            opened = self.prepared[name].open
            first, *others = rivals_outside(clean, RIVAL) if opened else rivals(clean)
            if opened and (better := better_seen(found, first)):
                text = f"{name}: where most of it fits, {better.violated:.0%} of it is looked through"
                doubts.append(Finding("unplaced", name, text, "fault"))
                continue
            if opened and first.support < OUTSIDE and not first.told:
                text = f"{name}: too little but ground and walls fits to say where it stands"
                doubts.append(Finding("unplaced", name, text, "fault"))
                continue
            if others:
                doubts.append(places([first, *others][: len(PLACES)], placed))
                continue
            mates = self.weighing.mates(first)
            alone = bool(mates) and first.without(mates) < DOOR
            bare = first.distinct < BARE or self.elsewhere(first, [p for p in clean if p is not first], mates)
            if not first.told and ((mates and bare and not first.calm) or (not mates and first.distinct < THIN)):
                text = f"{name}: only bare surfaces of it fit, as they would in another place"
                doubts.append(Finding("unplaced", name, text, "fault"))
                continue
            if mates and not first.told and bare:
                doubts.append(two_rooms(first, max(mates, key=lambda o: first.shares[o]), placed, self.weighing))
                continue
            whole = any(first.shares[m] >= WHOLE for m in mates)
            if (alone or whole) and not first.told:
                roommates.append((first, max(mates, key=lambda o: first.shares[o])))
            certain.append(((first.told, not whole, first.calm or opened, first.support), first))
        certain.sort(key=lambda x: x[0], reverse=True)
        best = next((p for _, p in certain), None)
        mate = next((m for p, m in roommates if p is best), None)
        if best is not None and mate is not None:
            asked = [d.station for d in doubts if isinstance(d, Question)]
            alike = bool({best.station, mate} & self.doubtful(doubts))
            if alike or self.wanted(best.station, asked):
                lain_with = {p.station for p, _ in roommates}
                free = next((p for _, p in certain if p.station not in lain_with), None)
                if free is not None:
                    return free, doubts  # it stands by others than those of its room
                self.waiting, self.held_up = set() if alike else lain_with, True
                return None, doubts + [two_rooms(p, m, placed, self.weighing) for p, m in roommates]
        return best, doubts

    def jointly(self, placed: dict[str, Array], rest: list[str]) -> list[Placement]:
        """Those of the stations left over whose place all ways to place them together share (see ``jointly``). What stands open by
        itself is not asked when only one of the places leaves room for everybody else."""
        self.report("placing those left over together", 0, 1)
        own = dict(zip(rest, self.wide.map(lambda n: self.weighing.clean_places(n, placed), rest), strict=True))
        options = {n: self.weighing.everywhere(n, own, placed) for n in rest}
        options = {n: found for n, found in options.items() if any(self.tells(p) for p in found)}
        bars = [
            frozenset({(a, i), (b, j)})
            for a, b in combinations(options, 2)
            for i, p in enumerate(options[a])
            for j, q in enumerate(options[b])
            if not self.should_stop() and self.weighing.bar_each_other(p, q)
        ]
        found = decided({n: len(ks) for n, ks in options.items()}, bars, self.should_stop)
        # those who only wait come first: what they saw may rule out places of the others, or bring the right ones up
        chosen = {n: options[n][k] for n, k in found.items() if (n in self.waiting if self.held_up else len(options[n]) > 1)}
        return [p for n, p in chosen.items() if p.support >= ENOUGH and (n in self.waiting or p.distinct >= THIN)]

    def tells(self, p: Placement) -> bool:
        """Whether a place is more than a bare surface that looks like another: a station that has no such place may stand anywhere."""
        return p.distinct >= BARE or p.without(self.weighing.mates(p)) >= ENOUGH

    def wanted(self, name: str, others: list[str]) -> bool:
        """Whether one that somebody is asked about would have a station beside it: what it knows is not heard yet."""
        return any(
            h.seen.overlap >= ENOUGH and self.weighing.calm(h)
            for (a, b), found in self.weighing.hypotheses.items()
            if (a == name and b in others) or (b == name and a in others)
            for h in found[:2]
        )

    def doubtful(self, doubts: list[Finding | Question]) -> set[str]:
        """Stations of rooms that are alike: somebody is asked where they stood, or said that they share no room."""
        alike = {x for q in self.tie.questions for x in ((q.station, q.other) if q.kind == "alike" else (q.station,))}
        alike |= {q.station for q in doubts if isinstance(q, Question)}  # what is open of one says nothing of whom it lies beside
        return alike | self.weighing.told.alike()

    def elsewhere(self, first: Placement, others: list[Placement], mates: set[str]) -> bool:
        """Whether those who did not stand in a station's room would as soon see it in another one."""
        own = first.without(mates)
        return any(
            np.linalg.norm((p.pose - first.pose)[:3, 3]) > ALIKE_APART and p.without(self.weighing.mates(p)) >= max(DOOR, RIVAL * own)
            for p in others
        )

    def join(self, best: Placement, placed: dict[str, Array]) -> None:
        """Place a station, and those held with it, and align it finely with every placed one that shares surfaces with it."""

        members = self.whole(placed, best.station, best.pose)

        def one(pair: tuple[str, str]) -> TiedPair | None:
            other, name = pair
            old, new = self.prepared[other], self.prepared[name]
            start = frames.inverse(placed[other]) @ members[name]
            if dense(old, new, start, SPEAKERS).overlap < SHARED or self.should_stop():
                return None
            result = fine(old, new, start)
            if result is None or frames.difference(result.T_a_b, start)[0] > APART:
                return None
            return TiedPair(other, name, result, evidence(old, new, result, restless=self.weighing.restless))

        self.report(f"aligning {best.station} with the others", len(placed), len(self.names))
        news = [n for n in self.pool.map(one, [(o, n) for n in members for o in placed]) if n is not None]
        self.tie.pairs += news
        strongest = max(news, key=lambda n: n.evidence.overlap, default=None)
        if strongest is not None:
            members = self.whole(placed, strongest.b, placed[strongest.a] @ strongest.result.T_a_b)
        placed |= members


def tie(
    prepared: Mapping[str, Prepared],
    report: Callable[[str, int, int], None] = lambda text, done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
    load: Callable[[str], list[Hypothesis] | None] = lambda key: None,
    keep: Callable[[str, list[Hypothesis]], None] = lambda key, found: None,
    answers: Iterable[Answer] = (),
    search: Search | None = None,
) -> Tie:
    """Place all scans that can be placed without contradiction, with no first guess (level scanners).

    load, keep: what pairs proposed, by a key of both names, so that a run that was cut off need not look again.
    answers: what people said of questions of earlier runs; search: who is looked for in whom, and what is known of where they stand.
    """
    tying = Tying(prepared, report, should_stop, load, keep, answers, search or Search())
    with tying.pool, tying.wide:
        return tying.run()
