"""Tie all scans together: pairs propose, the network believes.

A placement is used only when no placed station looked through it, when enough is shared, and when no other
clean placement of at least half its support is left. Most certain first: what contradicts no whole objects comes before what
only looks right by shares. At the end what still has a rival, or looks like one of two alike rooms, is told.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import Finding
from .contradiction import QUIET, Contradiction, contradiction, limits, structure_limit
from .evidence import Evidence, dense, evidence, verdicts
from .fine import Fine, fine
from .guess import Hypothesis, propose
from .prepared import Prepared

Array = NDArray[np.float64]
ENOUGH = 0.10  # share of a station's surfaces that the placed ones must confirm: less may be one wall that looks like another
STILL = 2e-4  # share of contradicted objects below which nothing moves on a site
RIGHT = 5e-3  # share of contradicted objects above which a pair is not taken for a right one
TELLING = 10.0  # m2 that a pair agrees on at least to say how much moves on the site
CLEAN = 0.016  # violated share over all placed stations together: what movers and edges leave in right placements
CLEAN_PAIR = 3 * CLEAN  # the same against any single one, whose share is noisier
HEARD = 4.0  # m2 that two stations must agree or disagree on before their share counts by itself
PASSING = 0.35  # m2 of contradicted objects against one station that a placement is still made with: no link of it is taut then
BLATANT = 0.05  # share seen through, whatever its objects are, from which on no placement is right
ALIKE = 15.0  # m2 that an alike place agrees on at least
ALIKE_SHARE = 0.35  # overlap of it
SAME_ROOM = 0.5  # overlap from which on two stations stood in one room, or in two that are alike
ALIKE_APART = 1.0  # metres between a place and one that is like it
SAME_PLACE = 0.8  # metres within which two motions to alike places are one
RIVAL = 0.5  # share of the best placement's support from which on another one makes it ambiguous
RIVAL_SEES_THROUGH = 0.03  # a guess that is looked through by more is no rival
HOPELESS = 0.2  # a guess that is looked through by more is not even refined
LEAST = 2.0  # m2 that a guess must agree on to be refined
DISTRUST = 5.0  # how much a see-through share takes from a guess when they are put in order
OPTIONS = 6  # distinct placements of a station that are refined
APART, TURNED = 0.3, 0.05  # metres and radians from which on two placements are distinct, and a refined one has left its guess
IN_REACH = 120.0  # metres between stations beyond which neither saw the other's surroundings
SHARED = 0.05  # overlap from which on two placed stations are aligned finely
SPEAKERS = 40_000  # raw points of each scan that speak on a placement


@dataclass(frozen=True)
class TiedPair:
    a: str
    b: str
    result: Fine
    evidence: Evidence


@dataclass
class Tie:
    """poses T_project_station per part; pairs with fine alignment; findings say what stays undecided."""

    parts: list[dict[str, Array]] = field(default_factory=list)
    pairs: list[TiedPair] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)


@dataclass(frozen=True)
class Placement:
    station: str
    pose: Array
    support: float  # share of the station's raw area confirmed by any placed one
    violated: float  # violated / (violated + agreeing) over all placed, both ways
    calm: bool  # no whole objects are contradicted but what moves on the site explains
    clean: bool


@dataclass(frozen=True)
class Guess:
    """A station as a pair with a placed partner proposes it; worth: its agreeing area, less what is looked through."""

    partner: str
    T_partner_name: Array
    pose: Array
    worth: float


@dataclass(frozen=True)
class Said:
    """confirmed: which speakers of the station the other saw as they are; agree, violated: m2, both ways; structure, movers: m2 of
    contradicted objects, of ``common`` m2 that agree with them."""

    confirmed: NDArray[np.bool_]
    agree: float
    violated: float
    structure: float
    movers: float
    common: float


def _apart(a: Array, b: Array) -> bool:
    metres, radians = frames.difference(a, b)
    return metres > APART or radians > TURNED


class Tying:
    """State of one run; ``run`` reads as the method."""

    def __init__(
        self,
        prepared: Mapping[str, Prepared],
        report: Callable[[str, int, int], None],
        should_stop: Callable[[], bool],
        load: Callable[[str], list[Hypothesis] | None],
        keep: Callable[[str, list[Hypothesis]], None],
    ) -> None:
        self.prepared, self.report, self.should_stop, self.load, self.keep = prepared, report, should_stop, load, keep
        self.names = list(prepared)
        self.hypotheses: dict[tuple[str, str], list[Hypothesis]] = {}
        self.tie = Tie()
        self.pool = ThreadPoolExecutor(max_workers=os.cpu_count() or 1)  # the compiled loops let go of the lock
        self.fine_of: dict[tuple[str, str, bytes], Array] = {}
        self.said: dict[tuple[str, str, bytes, str], Said] = {}
        self.moving: dict[tuple[str, str, bytes], Contradiction] = {}  # of guesses
        self.restless = 0.0  # share of contradicted objects that right pairs of this site have

    def run(self) -> Tie:
        self.propose_all([(a, b) for k, a in enumerate(self.names) for b in self.names[k + 1 : k + 3]])
        left = list(self.names)
        while left and not self.should_stop():
            placed = self.seed(left)
            while not self.should_stop():
                best, doubts = self.most_certain(placed, [n for n in left if n not in placed])
                if best is None:
                    more = [(a, b) for n in left if n not in placed for a, b in self.untried(n, placed)]
                    if not more:
                        self.tie.findings += doubts
                        break
                    self.propose_all(more[: max(8, len(self.names))])
                    continue
                self.join(best, placed)
            self.tie.parts.append(placed)
            left = [n for n in left if n not in placed]
        self.question()
        return self.tie

    def question(self) -> None:
        """What no link is believed with, told as a finding: a placed station that a proposal puts elsewhere with no more contradicted
        and half its agreement; two stations of one room that contradict each other in what does not move."""
        most: dict[str, float] = {}
        against = list(self.pool.map(lambda p: self.contradicted(p.a, p.b, p.result.T_a_b), self.tie.pairs))
        for p, c in zip(self.tie.pairs, against, strict=True):
            for name in (p.a, p.b):
                most[name] = max(c.agree, most.get(name, 0.0))
        self.look_round()  # with all that was proposed meanwhile
        doubted: dict[str, str] = {}
        alike: set[str] = set()
        for (a, b), proposed in self.hypotheses.items():
            part = next((x for x in self.tie.parts if a in x and b in x), None)
            for h in proposed if part is not None else []:
                assert part is not None
                stands = frames.inverse(part[a]) @ part[b]
                weaker, other = (a, b) if most.get(a, 0.0) < most.get(b, 0.0) else (b, a)
                if frames.difference(h.T_a_b, stands)[0] <= ALIKE_APART or h.seen.agree_m2 < max(
                    LEAST, 0.5 * RIVAL * most.get(weaker, 0.0)
                ):
                    continue
                if self.objects(h).agree >= RIVAL * most.get(weaker, 0.0) and self.calm(h):
                    doubted.setdefault(weaker, other)
        for p, c in zip(self.tie.pairs, against, strict=True):
            if p.evidence.overlap >= SAME_ROOM and c.structure > structure_limit(c, self.restless) and c.mutual > QUIET:
                words = (
                    f"{p.a} and {p.b}: one room, or two alike? {c.structure:.2f} m² of what one saw stands where the other looked freely"
                )
                self.tie.findings.append(Finding("alike", p.a, words, "fault"))
                alike |= {p.a, p.b}
        for name, other in doubted.items():
            words = f"{name} fits as well in another place, against {other}: look at both, or link it by hand"
            self.tie.findings.append(Finding("ambiguous", name, words, "fault"))

        def said(p: TiedPair, c: Contradiction) -> TiedPair:
            rival = float(bool({p.a, p.b} & (alike | doubted.keys())))
            return replace(
                p, evidence=replace(p.evidence, contradicted_m2=c.structure, allowed_m2=structure_limit(c, self.restless), rival=rival)
            )

        self.tie.pairs = [said(p, c) for p, c in zip(self.tie.pairs, against, strict=True)]

    def untried(self, name: str, placed: dict[str, Array]) -> list[tuple[str, str]]:
        order = {n: k for k, n in enumerate(self.names)}
        pairs = [(a, b) if order[a] < order[b] else (b, a) for a in placed for b in (name,)]
        pairs = [p for p in pairs if p not in self.hypotheses]
        return sorted(pairs, key=lambda p: abs(order[p[0]] - order[p[1]]))

    def propose_all(self, pairs: list[tuple[str, str]]) -> None:
        pairs = [p for p in pairs if p not in self.hypotheses]

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
            self.hypotheses[pair] = found

    def seed(self, left: list[str]) -> dict[str, Array]:
        """The part begins with the clean pair of largest agreeing share; alone when there is none."""
        self.look_round()
        best, top = None, 0.0
        for (a, b), found in self.hypotheses.items():
            if a in left and b in left and found and found[0].seen.clean and found[0].seen.overlap >= ENOUGH and self.calm(found[0]):
                rival = max((h.seen.agree_m2 for h in found[1:] if h.seen.see_through < RIVAL_SEES_THROUGH), default=0.0)
                if rival < RIVAL * found[0].seen.agree_m2 and found[0].seen.overlap > top:
                    best, top = found[0], found[0].seen.overlap
        if best is None:
            return {left[0]: np.eye(4)}
        return {best.a: np.eye(4)} if best.a == left[0] or best.b != left[0] else {best.b: np.eye(4)}

    def objects(self, h: Hypothesis) -> Contradiction:
        """What a pair's proposal contradicts, sharpened."""
        key = (h.a, h.b, h.T_a_b.tobytes())
        if key not in self.moving:
            self.moving[key] = self.contradicted(h.a, h.b, self.sharpened(h.a, h.b, h.T_a_b))
        return self.moving[key]

    def contradicted(self, a: str, b: str, T_a_b: Array) -> Contradiction:
        one, other = self.prepared[a], self.prepared[b]
        return contradiction(one.speakers, one.grid, other.speakers, other.grid, T_a_b)

    def calm(self, h: Hypothesis) -> bool:
        """Whether no more of a proposal is contradicted than the site explains."""
        against, allowed = limits(self.objects(h), self.restless)
        return against <= allowed

    def look_round(self) -> None:
        """How much moves on this site: what the least contradicted pair of a station contradicts, in the median over stations."""
        tops = [h[0] for h in self.hypotheses.values() if h and h[0].seen.see_through < BLATANT and h[0].seen.overlap >= ENOUGH]
        list(self.pool.map(self.objects, tops))
        least: dict[str, float] = {}
        for h in tops:
            c = self.objects(h)
            for name in (h.a, h.b):
                share = (c.structure + c.movers) / max(c.agree, 1e-9)
                if c.agree >= TELLING and share <= RIGHT:
                    least[name] = min(share, least.get(name, np.inf))
        middle = float(np.median(list(least.values()))) if least else 0.0
        self.restless = middle if middle >= STILL else 0.0

    def images(self, placed: dict[str, Array]) -> list[Array]:
        """Motions of the part that lead from a place to one that is like it: what pairs of placed stations propose besides where
        they stand."""
        found: list[Array] = []
        for (a, b), proposed in self.hypotheses.items():
            if a not in placed or b not in placed:
                continue
            for h in proposed:
                if h.seen.overlap < ALIKE_SHARE or h.seen.agree_m2 < ALIKE or h.seen.see_through > BLATANT:
                    continue
                motion = placed[a] @ h.T_a_b @ frames.inverse(placed[b])
                for m in (motion, frames.inverse(motion)):
                    if np.linalg.norm(m[:3, 3] + (m[:3, :3] - np.eye(3)) @ placed[b][:3, 3]) > ALIKE_APART and all(
                        np.linalg.norm((m - x)[:3, 3]) > SAME_PLACE for x in found
                    ):
                        found.append(m)
        return found

    def most_certain(self, placed: dict[str, Array], rest: list[str]) -> tuple[Placement | None, list[Finding]]:
        """The unplaced station whose placement is clean, well supported and without rival."""
        best: Placement | None = None
        doubts: list[Finding] = []
        for k, name in enumerate(rest):
            self.report(f"weighing placements of {name}", k, len(rest))
            options = self.options(name, placed)
            clean = sorted([p for p in options if p.clean], key=lambda p: -p.support)
            if not clean or clean[0].support < ENOUGH:
                doubts.append(
                    Finding("unplaced", name, f"{name}: no placement without contradiction shares enough with the others", "fault")
                )
                continue
            if len(clean) > 1 and clean[1].support > RIVAL * clean[0].support:
                doubts.append(Finding("ambiguous", name, f"{name} fits in two places equally well; link it by hand", "fault"))
                continue
            if best is None or (clean[0].calm, clean[0].support) > (best.calm, best.support):
                best = clean[0]
        return best, doubts

    def options(self, name: str, placed: dict[str, Array]) -> list[Placement]:
        """Distinct refined placements of a station through all placed ones."""
        distinct: list[Guess] = []
        for guess in sorted(self.guesses(name, placed), key=lambda g: -g.worth):
            if all(_apart(guess.pose, d.pose) for d in distinct):
                distinct.append(guess)
            if len(distinct) >= OPTIONS:
                break
        for motion in self.images(placed):  # else half of the true places never come up where rooms are alike
            for guess in distinct[:2]:
                pose = motion @ guess.pose
                near = min(placed, key=lambda n: float(np.linalg.norm(placed[n][:3, 3] - pose[:3, 3])))
                if all(_apart(pose, d.pose) for d in distinct) and len(distinct) < 3 * OPTIONS:
                    distinct.append(Guess(near, frames.inverse(placed[near]) @ pose, pose, guess.worth))
        return [self.judge(name, g.partner, self.sharpened(g.partner, name, g.T_partner_name), placed) for g in distinct]

    def guesses(self, name: str, placed: dict[str, Array]) -> list[Guess]:
        """Where pairs with placed stations propose to put a station."""
        found = []
        for (a, b), proposed in self.hypotheses.items():
            partner = b if a == name else a if b == name else None
            if partner is None or partner not in placed:
                continue
            for h in proposed:
                if h.seen.see_through <= HOPELESS and h.seen.agree_m2 >= LEAST:
                    t = h.T_a_b if partner == a else frames.inverse(h.T_a_b)
                    found.append(Guess(partner, t, placed[partner] @ t, h.seen.agree_m2 * (1 - DISTRUST * h.seen.see_through)))
        return found

    def sharpened(self, partner: str, name: str, T_partner_name: Array) -> Array:
        """The placement after fine alignment with its partner (kept: asked again after each join)."""
        key = (partner, name, T_partner_name.tobytes())
        if key not in self.fine_of:
            result = fine(self.prepared[partner], self.prepared[name], T_partner_name)
            near = result is not None and frames.difference(result.T_a_b, T_partner_name)[0] < APART
            self.fine_of[key] = result.T_a_b if near and result is not None else T_partner_name
        return self.fine_of[key]

    def judge(self, name: str, partner: str, T_partner_name: Array, placed: dict[str, Array]) -> Placement:
        """Dense see-through of a placement against all placed stations, both ways."""
        pose = placed[partner] @ T_partner_name
        agree = violated = structure = movers = common = worst = most = 0.0
        confirmed = np.zeros(min(SPEAKERS, len(self.prepared[name].raw)), bool)
        for other, T_project_other in placed.items():
            if np.linalg.norm(T_project_other[:3, 3] - pose[:3, 3]) > IN_REACH:
                continue
            key = (name, partner, T_partner_name.tobytes(), other)
            if key not in self.said:
                self.said[key] = self.speak(name, other, frames.inverse(T_project_other) @ pose)
            said = self.said[key]
            confirmed |= said.confirmed
            agree, violated = agree + said.agree, violated + said.violated
            if said.agree + said.violated > HEARD:
                worst = max(worst, said.violated / (said.agree + said.violated))
            most = max(most, said.structure + said.movers)
            structure, movers, common = structure + said.structure, movers + said.movers, common + said.common
        share = violated / max(violated + agree, 1e-9)
        against, allowed = limits(Contradiction(common, structure, movers, np.zeros((0, 3))), self.restless)
        calm = against <= allowed and share < BLATANT
        clean = calm or (share < CLEAN and worst < CLEAN_PAIR and most <= max(PASSING, allowed))
        return Placement(name, pose, float(confirmed.mean()), share, calm, clean)

    def speak(self, name: str, other: str, T_other_name: Array) -> Said:
        """What a placed station and one that is to be placed say of each other's surfaces."""
        new, old = self.prepared[name], self.prepared[other]
        on_new = verdicts(old, new, T_other_name, SPEAKERS)
        on_old = verdicts(new, old, frames.inverse(T_other_name), SPEAKERS)
        each = (new.raw_area * len(new.raw) / len(on_new), old.raw_area * len(old.raw) / len(on_old))  # m2 that a point stands for
        agree, violated = (float((on_new == v).sum() * each[0] + (on_old == v).sum() * each[1]) for v in (1, 2))
        c = self.contradicted(other, name, T_other_name)
        return Said(on_new == 1, agree, violated, c.structure, c.movers, c.agree)

    def join(self, best: Placement, placed: dict[str, Array]) -> None:
        """Place a station and align it finely with every placed one that shares surfaces with it."""

        def one(other: str) -> TiedPair | None:
            old, new = self.prepared[other], self.prepared[best.station]
            start = frames.inverse(placed[other]) @ best.pose
            if dense(old, new, start, SPEAKERS).overlap < SHARED or self.should_stop():
                return None
            result = fine(old, new, start)
            if result is None or frames.difference(result.T_a_b, start)[0] > APART:
                return None
            return TiedPair(other, best.station, result, evidence(old, new, result, restless=self.restless))

        self.report(f"aligning {best.station} with the others", len(placed), len(self.names))
        news = [n for n in self.pool.map(one, list(placed)) if n is not None]
        self.tie.pairs += news
        strongest = max(news, key=lambda n: n.evidence.overlap, default=None)
        placed[best.station] = best.pose if strongest is None else placed[strongest.a] @ strongest.result.T_a_b


def tie(
    prepared: Mapping[str, Prepared],
    report: Callable[[str, int, int], None] = lambda text, done, total: None,
    should_stop: Callable[[], bool] = lambda: False,
    load: Callable[[str], list[Hypothesis] | None] = lambda key: None,
    keep: Callable[[str, list[Hypothesis]], None] = lambda key, found: None,
) -> Tie:
    """Place all scans that can be placed without contradiction, with no first guess (level scanners).

    load, keep: what pairs proposed, by a key of both names, so that a run that was cut off need not look again.
    """
    tying = Tying(prepared, report, should_stop, load, keep)
    with tying.pool:
        return tying.run()
