"""Tie all scans together: pairs propose, the network believes.

A placement is used only when no placed station looked through it, when enough is shared, and when no other
clean placement of at least half its support is left. Most certain first.
"""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import Finding
from .evidence import Evidence, dense, evidence, verdicts
from .fine import Fine, fine
from .guess import Hypothesis, propose
from .prepared import Prepared

Array = NDArray[np.float64]
ENOUGH = 0.10  # share of a station's surfaces that the placed ones must confirm
CLEAN = 0.016  # violated share over all placed stations together
RIVAL = 0.5
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
    clean: bool


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
        self.said: dict[tuple[str, str, bytes, str], tuple[NDArray[np.bool_], float, float]] = {}

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
        return self.tie

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
        """The part begins with the cleanest pair of largest agreeing share; alone when there is none."""
        best, top = None, 0.0
        for (a, b), found in self.hypotheses.items():
            if a in left and b in left and found and found[0].seen.clean and found[0].seen.overlap >= ENOUGH:
                rival = max((h.seen.agree_m2 for h in found[1:] if h.seen.see_through < 0.03), default=0.0)
                if rival < RIVAL * found[0].seen.agree_m2 and found[0].seen.overlap > top:
                    best, top = found[0], found[0].seen.overlap
        if best is None:
            return {left[0]: np.eye(4)}
        return {best.a: np.eye(4)} if best.a == left[0] or best.b != left[0] else {best.b: np.eye(4)}

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
            if best is None or clean[0].support > best.support:
                best = clean[0]
        return best, doubts

    def options(self, name: str, placed: dict[str, Array]) -> list[Placement]:
        """Distinct refined placements of a station through all placed ones."""
        poses: list[tuple[float, Array, str, Array]] = []
        for (a, b), found in self.hypotheses.items():
            other = b if a == name else a if b == name else None
            if other is None or other not in placed:
                continue
            for h in found:
                if h.seen.see_through > 0.2 or h.seen.agree_m2 < 2:
                    continue
                relative = h.T_a_b if other == a else frames.inverse(h.T_a_b)
                poses.append((h.seen.agree_m2 * (1 - 5 * h.seen.see_through), placed[other] @ relative, other, relative))
        distinct: list[tuple[Array, str, Array]] = []
        for _, t, partner, relative in sorted(poses, key=lambda x: -x[0]):
            if all(np.linalg.norm(t[:3, 3] - d[:3, 3]) > 0.3 or frames.difference(t, d)[1] > 0.05 for d, _, _ in distinct):
                distinct.append((t, partner, relative))
            if len(distinct) >= 6:
                break
        return [self.judge(name, partner, self.sharpened(partner, name, relative), placed) for _, partner, relative in distinct]

    def sharpened(self, partner: str, name: str, T_partner_name: Array) -> Array:
        """The placement after fine alignment with its partner (kept: asked again after each join)."""
        key = (partner, name, T_partner_name.tobytes())
        if key not in self.fine_of:
            result = fine(self.prepared[partner], self.prepared[name], T_partner_name)
            near = result is not None and frames.difference(result.T_a_b, T_partner_name)[0] < 0.3
            self.fine_of[key] = result.T_a_b if near and result is not None else T_partner_name
        return self.fine_of[key]

    def judge(self, name: str, partner: str, T_partner_name: Array, placed: dict[str, Array]) -> Placement:
        """Dense see-through of a placement against all placed stations, both ways."""
        new, pose = self.prepared[name], placed[partner] @ T_partner_name
        agree = violated = worst = 0.0
        confirmed = np.zeros(min(SPEAKERS, len(new.raw)), bool)
        for other, T_project_other in placed.items():
            if np.linalg.norm(T_project_other[:3, 3] - pose[:3, 3]) > 120:
                continue
            key = (name, partner, T_partner_name.tobytes(), other)
            if key not in self.said:
                t, old = frames.inverse(T_project_other) @ pose, self.prepared[other]
                on_old, on_new = verdicts(old, new, t, SPEAKERS), verdicts(new, old, frames.inverse(t), SPEAKERS)
                area = (new.raw_area * len(new.raw) / len(on_old), old.raw_area * len(old.raw) / len(on_new))
                self.said[key] = (on_old == 1, *(float((on_old == v).sum() * area[0] + (on_new == v).sum() * area[1]) for v in (1, 2)))
            ok, yes, no = self.said[key]
            confirmed |= ok
            agree, violated = agree + yes, violated + no
            if yes + no > 4.0:
                worst = max(worst, no / (yes + no))
        share = violated / max(violated + agree, 1e-9)
        return Placement(name, pose, float(confirmed.mean()), share, share < CLEAN and worst < 3 * CLEAN)

    def join(self, best: Placement, placed: dict[str, Array]) -> None:
        """Place a station and align it finely with every placed one that shares surfaces with it."""

        def one(other: str) -> TiedPair | None:
            old, new = self.prepared[other], self.prepared[best.station]
            start = frames.inverse(placed[other]) @ best.pose
            if dense(old, new, start, SPEAKERS).overlap < 0.05 or self.should_stop():
                return None
            result = fine(old, new, start)
            if result is None or frames.difference(result.T_a_b, start)[0] > 0.3:
                return None
            return TiedPair(other, best.station, result, evidence(old, new, result))

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
