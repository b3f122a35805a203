"""What no station decides by itself, they decide together: placements of all who are open that contradict nobody.

Terms: open: a station with more than one place left, or one that waits for those; a choice: one of its places. Stations whose
choices contradict each other hang together and are decided together: a place is decided when every way to place as many of them as
can be placed without contradiction has it. Who is left out then has no right place among its choices.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

Choice = tuple[str, int]  # station, number of the place
Bar = frozenset[Choice]  # two choices that contradict each other
STEPS = 200_000  # of a search, after which nothing is decided of those who hang together


def decided(
    choices: Mapping[str, int], bars: Sequence[Bar], should_stop: Callable[[], bool] = lambda: False, most: int = STEPS
) -> dict[str, int]:
    """The choice of each station that all largest sets of places without contradiction share.

    choices : how many places each open station has; bars : pairs of choices that contradict each other.
    """
    barred: dict[Choice, set[Choice]] = {}
    for one, other in (tuple(b) for b in bars):
        barred.setdefault(one, set()).add(other)
        barred.setdefault(other, set()).add(one)
    found: dict[str, int] = {}
    for names in _groups(choices, bars):
        group = _Group(choices, barred, should_stop, most)
        everywhere = {n: set(range(choices[n])) for n in names}
        fewest = next(m for m in range(len(names)) if group.fits(everywhere, m))
        for n in names:
            rest = {m: ks for m, ks in everywhere.items() if m != n}
            alive = [k for k in range(choices[n]) if group.fits(group.narrowed(rest, (n, k)), fewest)]
            left_out = fewest > 0 and group.fits(rest, fewest - 1)
            if len(alive) == 1 and not left_out:
                found[n] = alive[0]
        if group.gave_up:
            found = {n: k for n, k in found.items() if n not in names}
    return found


def _groups(choices: Mapping[str, int], bars: Sequence[Bar]) -> list[list[str]]:
    """Stations that hang together by choices that contradict each other."""
    root = {n: n for n in choices}

    def top(n: str) -> str:
        while root[n] != n:
            n = root[n]
        return n

    for one, other in (tuple(b) for b in bars):
        root[top(one[0])] = top(other[0])
    return [[n for n in choices if top(n) == r] for r in choices if root[r] == r]


@dataclass
class _Group:
    """The search over stations that hang together; it gives up after ``most`` steps: what is not known stays possible."""

    choices: Mapping[str, int]
    barred: Mapping[Choice, set[Choice]]
    should_stop: Callable[[], bool]
    most: int
    steps: int = 0

    @property
    def gave_up(self) -> bool:
        return self.steps > self.most or self.should_stop()

    def narrowed(self, left: Mapping[str, set[int]], own: Choice) -> dict[str, set[int]]:
        """The places left to the others once one is chosen."""
        against = self.barred.get(own, set())
        return {n: ks - {k for m, k in against if m == n} for n, ks in left.items()}

    def fits(self, left: Mapping[str, set[int]], out: int) -> bool:
        """Whether all but ``out`` stations can have one of the places left to them: the one with the fewest first (forward checking)."""
        self.steps += 1
        if self.steps > self.most or len(left) <= out or self.should_stop():
            return True
        name = min(left, key=lambda n: len(left[n]))
        rest = {n: ks for n, ks in left.items() if n != name}
        for k in left[name]:
            narrowed = self.narrowed(rest, (name, k))
            if sum(not ks for ks in narrowed.values()) <= out and self.fits(narrowed, out):
                return True
        return out > 0 and self.fits(rest, out - 1)
