"""Where a station may stand: what pairs propose, refined, and weighed against all that is placed.

A placement is clean when no placed station looked through it (whole objects, else shares) and nobody said that it does not
stand there. Terms: mate: a placed station that sees most of the same surfaces, so one of the same room or of one that is alike.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .. import frames
from .contradiction import QUIET, Contradiction, contradiction, limits, structure_limit
from .evidence import verdicts
from .fine import fine
from .guess import Hypothesis
from .prepared import SPEAKERS, Prepared
from .questions import ALIKE_SHARE, SAME_PLACE, Answer, Told
from .search import Search

Array = NDArray[np.float64]
ENOUGH = 0.10  # share of a station's surfaces that the placed ones must confirm: less may be one wall that looks like another
STILL = 2e-4  # share of contradicted objects below which nothing moves on a site
RIGHT = 5e-3  # share of contradicted objects above which a pair is not taken for a right one
TELLING = 10.0  # m2 that a pair agrees on at least to say how much moves on the site
CLEAN = 0.016  # violated share over all placed stations together: what movers and edges leave in right placements
CLEAN_PAIR = 3 * CLEAN  # the same against any single one, whose share is noisier
HEARD = 4.0  # m2 that two stations must agree or disagree on before their share counts by itself
PASSING = 0.35  # m2 of contradicted objects against one station that a placement is still made with: no link of it is taut then
PLAIN = 0.05  # m2 of contradicted structure that speak against a placement beside one without
BLATANT = 0.05  # share seen through, whatever its objects are, from which on no placement is right
WALLS, LARGE = 1.0, 1000.0  # m2 of structure that no agreement excuses, beyond what it excuses of so many m2
ALIKE = 15.0  # m2 that an alike place agrees on at least
SAME_ROOM = 0.5  # overlap from which on two stations stood in one room, or in two that are alike
ALIKE_APART = 1.0  # metres between a place and one that is like it
DRIVEN = 0.05  # share of what agrees in the open that may have driven on meanwhile: as a yard full of cars has it
SLID = 3.0  # metres: a placement in the open so near another one is the same, slid along a wall
NEARBY, AFAR = 0.95, 0.75  # shares of the support of the best below which a placement near it, and one far from it, is worse
OUTSIDE = 0.4  # support of a placement in the open at least: a few poles and a kerb are alike in many places
HOPELESS = 0.2  # a guess that is looked through by more is not even refined
LEAST = 2.0  # m2 that a guess must agree on to be refined
DISTRUST = 5.0  # how much a see-through share takes from a guess when they are put in order
OPTIONS = 8  # distinct placements of a station that no placed one rules out by itself
NOWHERE = np.zeros((0, 3))
DOOR = 0.06  # share of a station's surfaces that others than those of its room confirm, if it is to count
APART, TURNED = 0.3, 0.05  # metres and radians from which on two placements are distinct, and a refined one has left its guess
IN_REACH = 120.0  # metres between stations beyond which neither saw the other's surroundings
TOGETHER = 4  # placed stations that are heard at once
FEW = 1_500  # of them that say first whether the two share anything
ASKED, ROUGH = 6, 0.25  # placed stations that are asked at a glance, and the metres within which a guess is not refined yet
GROSS = (6.0, 0.3)  # m2, and share, seen through at a glance that no refinement mends


@dataclass(frozen=True)
class Placement:
    station: str
    pose: Array
    support: float  # share of the station's raw area confirmed by any placed one
    violated: float  # violated / (violated + agreeing) over all placed, both ways
    calm: bool  # no whole objects are contradicted but what moves on the site explains
    clean: bool
    told: bool  # somebody said that it stands here
    agree: float  # m2, both ways
    contradicted: float  # m2 of structure
    distinct: float  # m2 of more than bare surfaces that agree with whom they agree most
    confirmed: Mapping[str, NDArray[np.bool_]]  # by placed station

    @property
    def shares(self) -> dict[str, float]:
        """What each placed station confirms by itself."""
        return {other: float(c.mean()) for other, c in self.confirmed.items()}

    @property
    def nearest(self) -> str:
        """The placed station that confirms most."""
        return max(shares, key=lambda o: shares[o]) if (shares := self.shares) else ""

    def without(self, mates: set[str]) -> float:
        """Support by the others."""
        rest = [c for other, c in self.confirmed.items() if other not in mates]
        return float(np.logical_or.reduce(rest).mean()) if rest else 0.0


@dataclass(frozen=True)
class Guess:
    """A station as a pair with a placed partner proposes it; worth: its agreeing area, less what is looked through."""

    partner: str
    T_partner_name: Array
    pose: Array
    worth: float


@dataclass(frozen=True)
class Said:
    """confirmed: which speakers of the station the other saw as they are (in the open those on more than ground and bare walls);
    agree, violated: m2, both ways; structure, movers: m2 of contradicted objects, of ``common`` m2 that agree with them."""

    confirmed: NDArray[np.bool_]
    agree: float
    violated: float
    structure: float
    movers: float
    common: float
    distinct: float = 0.0  # m2 that agree and are more than bare walls, floors and ceilings
    blatant: bool = False  # so much is seen through that nothing else counts


def rivals_outside(found: list[Placement], most: float) -> list[Placement]:
    """In the open, where support is what is more than ground and bare walls: the placement with most of it, and those with more than
    ``most`` of that. Not those that are seen through more and fit clearly less: one near by is the same place, slid along."""
    first, *rest = found
    if first.told:
        return [first]

    def worse(p: Placement) -> bool:
        near = np.linalg.norm((p.pose - first.pose)[:3, 3]) < SLID
        return p.violated > first.violated and p.support < (NEARBY if near else AFAR) * first.support

    return [first, *(p for p in rest if p.support > most * first.support and not worse(p))]


def _apart(a: Array, b: Array) -> bool:
    """Whether two poses are distinct; asked so often that it is looked at their places first."""
    dx, dy, dz = a[0, 3] - b[0, 3], a[1, 3] - b[1, 3], a[2, 3] - b[2, 3]
    return bool(dx * dx + dy * dy + dz * dz > APART**2) or frames.difference(a, b)[1] > TURNED


class Weighing:
    """What is known of placements in a run; each figure is computed once."""

    def __init__(
        self, prepared: Mapping[str, Prepared], pool: ThreadPoolExecutor, answers: Iterable[Answer] = (), search: Search | None = None
    ) -> None:
        self.prepared, self.pool, self.told, self.search = prepared, pool, Told(answers), search or Search()
        self.hypotheses: dict[tuple[str, str], list[Hypothesis]] = {}
        self.fine_of: dict[tuple[str, str, bytes], Array] = {}
        self.said: dict[tuple[str, str, bytes, str], Said] = {}
        self.hopeless: set[tuple[str, str, bytes]] = set()  # placements that one placed station rules out
        self.gross: dict[tuple[str, str, bytes, str], bool] = {}  # of guesses: whether one placed station rules it out at a glance
        self.moving: dict[tuple[str, str, bytes], Contradiction] = {}  # of guesses
        self._images: tuple[tuple[str, ...], list[Array]] = ((), [])  # by who is placed, and how many pairs were looked at
        self.restless = 0.0  # share of contradicted objects that right pairs of this site have

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
        known = (*placed, str(len(self.hypotheses)))
        if self._images[0] == known:  # every station that is weighed asks
            return self._images[1]
        found: list[Array] = []
        for (a, b), proposed in self.hypotheses.items():
            if a not in placed or b not in placed:
                continue
            for h in proposed:
                if not self.alike(h):
                    continue
                motion = placed[a] @ h.T_a_b @ frames.inverse(placed[b])
                for m in (motion, frames.inverse(motion)):
                    if np.linalg.norm(m[:3, 3] + (m[:3, :3] - np.eye(3)) @ placed[b][:3, 3]) > ALIKE_APART and all(
                        np.linalg.norm((m - x)[:3, 3]) > SAME_PLACE for x in found
                    ):
                        found.append(m)
        self._images = (known, found)
        return found

    def options(self, name: str, placed: dict[str, Array]) -> list[Placement]:
        """Distinct refined placements of a station through all placed ones, those left out that one placed station rules out."""
        tried: list[Array] = []
        alive: list[Placement] = []
        guesses = sorted(self.guesses(name, placed), key=lambda g: -g.worth)
        while guesses and len(alive) < OPTIONS:
            some: list[Guess] = []
            while guesses and len(some) < TOGETHER:
                guess = guesses.pop(0)
                if all(_apart(guess.pose, t) for t in tried):
                    tried.append(guess.pose)
                    some.append(guess)
            alive += self._alive(name, some, placed)
        best = sorted(alive, key=lambda p: -p.support)[:2]
        for motion in self.images(placed):  # else half of the true places never come up where rooms are alike
            some = []
            for pose in (motion @ p.pose for p in best):
                near = min(placed, key=lambda n: float(np.linalg.norm(placed[n][:3, 3] - pose[:3, 3])))
                if all(_apart(pose, t) for t in tried) and len(alive) < 3 * OPTIONS:
                    tried.append(pose)
                    some.append(Guess(near, frames.inverse(placed[near]) @ pose, pose, 0.0))
            alive += self._alive(name, some, placed)
        return alive

    def _alive(self, name: str, guesses: list[Guess], placed: dict[str, Array]) -> list[Placement]:
        guesses = [g for g, ok in zip(guesses, self.pool.map(lambda g: self.plausible(name, g, placed), guesses), strict=True) if ok]
        sharp = list(self.pool.map(lambda g: self.sharpened(g.partner, name, g.T_partner_name), guesses))
        judged = [self.judge(name, g.partner, t, placed) for g, t in zip(guesses, sharp, strict=True)]
        return [p for p in judged if p.confirmed]

    def plausible(self, name: str, guess: Guess, placed: dict[str, Array]) -> bool:
        """Whether a guess may be right before it is refined: few points and wide tolerances rule out most of those that are not."""
        if guess.worth == np.inf:  # somebody said so
            return True
        far = {x: float(np.linalg.norm(t[:3, 3] - guess.pose[:3, 3])) for x, t in placed.items()}
        for other in sorted(far, key=lambda x: far[x])[:ASKED]:
            key = (name, guess.partner, guess.T_partner_name.tobytes(), other)
            if key not in self.gross:
                T_other_name = frames.inverse(placed[other]) @ guess.pose
                self.gross[key] = self._gross(name, other, T_other_name) and not self.told.together(name, other)
            if self.gross[key]:
                return False
        return True

    def _gross(self, name: str, other: str, T_other_name: Array) -> bool:
        new, old = self.prepared[name], self.prepared[other]
        for seer, seen, t in ((old, new, T_other_name), (new, old, frames.inverse(T_other_name))):
            said = verdicts(seer, seen, t, FEW, ROUGH, ROUGH)
            yes, no = int((said == 1).sum()), int((said == 2).sum())
            if no * seen.raw_area * len(seen.raw) / max(len(said), 1) > GROSS[0] and no > GROSS[1] * (yes + no):
                return True
        return False

    def clean_places(self, name: str, placed: dict[str, Array]) -> list[Placement]:
        """Where a station that is left over may stand by what it shares with placed ones."""
        return [p for p in self.options(name, placed) if p.clean and p.support >= DOOR]

    def everywhere(self, name: str, own: Mapping[str, list[Placement]], placed: dict[str, Array]) -> list[Placement]:
        """The clean places of a station that is left over (own: those of each by itself), and those it would have where another one
        left over may stand that saw a room like its own: without them the right one may be missing."""
        found = list(own[name])
        for other in (n for n in own if n != name):
            for h in self.hypotheses.get((other, name), []) + self.hypotheses.get((name, other), []):
                if not self.alike(h):
                    continue
                T_other_name = h.T_a_b if h.a == other else frames.inverse(h.T_a_b)
                for pose in (p.pose @ T_other_name for p in own[other]):
                    near = min(placed, key=lambda n: float(np.linalg.norm(placed[n][:3, 3] - pose[:3, 3])))
                    new = [Guess(near, frames.inverse(placed[near]) @ pose, pose, 0.0)] if all(_apart(pose, p.pose) for p in found) else []
                    found += [p for p in self._alive(name, new, placed) if p.clean and p.support >= DOOR]
        if any(p.calm for p in found):
            found = [p for p in found if p.calm or p.contradicted < PLAIN]
        return [p for k, p in enumerate(found) if all(_apart(p.pose, q.pose) for q in found[:k])]

    def bar_each_other(self, p: Placement, q: Placement) -> bool:
        """Whether two placements of stations that are not placed yet contradict each other beyond doubt."""
        if np.linalg.norm((p.pose - q.pose)[:3, 3]) > IN_REACH or self.told.together(p.station, q.station):
            return False
        key = (q.station, p.station, (frames.inverse(p.pose) @ q.pose).round(6).tobytes(), "")
        if key not in self.said:
            self.said[key] = self.speak(q.station, p.station, frames.inverse(p.pose) @ q.pose)
        said = self.said[key]
        allowed = structure_limit(Contradiction(said.common, 0.0, 0.0, NOWHERE), self.restless)
        return said.blatant or said.structure > max(PASSING, allowed)

    @property
    def hopeless_m2(self) -> float:
        """Square metres of contradicted structure that rule a placement out by themselves."""
        return WALLS + structure_limit(Contradiction(LARGE, 0.0, 0.0, NOWHERE), self.restless)

    def mates(self, p: Placement) -> set[str]:
        """Placed stations that see most of the same surfaces, without anybody having said that it is one room; none in the open, which
        is no room."""
        if self.prepared[p.station].open:
            return set()
        return {other for other, share in p.shares.items() if share >= SAME_ROOM and not self.told.together(p.station, other)}

    def guesses(self, name: str, placed: dict[str, Array]) -> list[Guess]:
        """Where pairs with placed stations propose to put a station."""
        found = [Guess(other, t, placed[other] @ t, np.inf) for other, t in self.told.here(name) if other in placed]
        for (a, b), proposed in self.hypotheses.items():
            partner = b if a == name else a if b == name else None
            if partner is None or partner not in placed:
                continue
            for h in proposed:
                if h.seen.see_through <= HOPELESS and h.seen.agree_m2 >= LEAST:
                    t = h.T_a_b if partner == a else frames.inverse(h.T_a_b)
                    found.append(Guess(partner, t, placed[partner] @ t, self.worth(h) * (1 - DISTRUST * h.seen.see_through)))
        return found

    def opened(self, a: str, b: str) -> bool:
        """Whether both stood in the open."""
        return self.prepared[a].open and self.prepared[b].open

    def alike(self, h: Hypothesis) -> bool:
        """Whether a proposal says where a place is that is like another one."""
        return h.seen.overlap >= ALIKE_SHARE and self.worth(h) >= ALIKE and h.seen.see_through <= BLATANT

    def worth(self, h: Hypothesis) -> float:
        """m2 that speak for a proposal: what agrees, in the open without ground and bare walls."""
        return h.seen.distinct_m2 if self.opened(h.a, h.b) else h.seen.agree_m2

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
        agree = violated = structure = movers = common = distinct = worst = most = 0.0
        confirmed: dict[str, NDArray[np.bool_]] = {}
        heard = self.hear(name, partner, T_partner_name, placed)
        if heard is None:
            return Placement(name, pose, 0.0, 1.0, False, False, False, 0.0, 0.0, 0.0, {})
        for other, said in heard.items():
            if said.confirmed.any():
                confirmed[other] = said.confirmed
            agree, common, distinct = agree + said.agree, common + said.common, max(distinct, said.distinct)
            if self.told.together(name, other):
                continue  # what contradicts it moved: somebody who knows the place said so
            violated += said.violated
            if said.agree + said.violated > HEARD:
                worst = max(worst, said.violated / (said.agree + said.violated))
            most = max(most, said.structure + said.movers)
            structure, movers = structure + said.structure, movers + said.movers
        share = violated / max(violated + agree, 1e-9)
        against, allowed = limits(Contradiction(common, structure, movers, NOWHERE), self.restless)
        shares = {other: float(c.mean()) for other, c in confirmed.items()}
        told = self.told.verdict(name, pose, placed, shares)
        calm = told is not False and against <= allowed and share < BLATANT
        clean = told is not False and (calm or (share < CLEAN and worst < CLEAN_PAIR and most <= max(PASSING, allowed)))
        if self.prepared[
            name
        ].open:  # cars that drove on stand beside poles and walls: whom most of what is there confirms is not ruled out
            clean = told is not False and share < BLATANT and structure + movers <= QUIET + DRIVEN * common
        support = float(np.logical_or.reduce(list(confirmed.values())).mean()) if confirmed else 0.0
        return Placement(name, pose, support, share, calm, clean, told is True, agree, structure, distinct, confirmed)

    def hear(self, name: str, partner: str, T_partner_name: Array, placed: dict[str, Array]) -> dict[str, Said] | None:
        """What each placed station says of a placement, the nearest first; None as soon as one says that it cannot be."""
        own = (name, partner, T_partner_name.tobytes())
        if own in self.hopeless:
            return None
        pose = placed[partner] @ T_partner_name
        if self.search.contradicts(name, pose, placed) and not self.told.verdict(name, pose, placed, {}):
            return None
        far = {x: float(np.linalg.norm(t[:3, 3] - pose[:3, 3])) for x, t in placed.items()}
        near = [x for x in sorted(far, key=lambda x: far[x]) if far[x] <= IN_REACH]
        heard: dict[str, Said] = {}
        for k in range(0, len(near), TOGETHER):
            some = near[k : k + TOGETHER]
            new = [o for o in some if (*own, o) not in self.said]
            for o, said in zip(new, self.pool.map(lambda o: self.speak(name, o, frames.inverse(placed[o]) @ pose), new), strict=True):
                self.said[*own, o] = said
            for o in some:
                heard[o] = said = self.said[*own, o]
                if (said.blatant or said.structure > self.hopeless_m2) and not self.told.together(name, o):
                    self.hopeless.add(own)
                    return None
        return heard

    def speak(self, name: str, other: str, T_other_name: Array) -> Said:
        """What a placed station and one that is to be placed say of each other's surfaces."""
        new, old = self.prepared[name], self.prepared[other]
        telling = new.particular[:SPEAKERS] if new.open and new.particular.any() else np.ones(min(SPEAKERS, len(new.raw)), bool)
        T_name_other = frames.inverse(T_other_name)
        if not any(np.isin(verdicts(*p, FEW), (1, 2)).any() for p in ((old, new, T_other_name), (new, old, T_name_other))):
            return Said(np.zeros(int(telling.sum()), bool), 0.0, 0.0, 0.0, 0.0, 0.0)  # neither saw anything of the other's
        on_new = verdicts(old, new, T_other_name, SPEAKERS)
        on_old = verdicts(new, old, T_name_other, SPEAKERS)
        each = (new.raw_area * len(new.raw) / len(on_new), old.raw_area * len(old.raw) / len(on_old))  # m2 that a point stands for
        agree, violated = (float((on_new == v).sum() * each[0] + (on_old == v).sum() * each[1]) for v in (1, 2))
        if violated > HEARD and violated > HOPELESS * (agree + violated):
            return Said(on_new[telling] == 1, agree, violated, violated, 0.0, agree, 0.0, True)  # no need to look for objects
        c = self.contradicted(other, name, T_other_name)
        return Said(on_new[telling] == 1, agree, violated, c.structure, c.movers, c.agree, c.distinct)
