"""Matching by geometry never guesses: right, or openly undecided."""

from __future__ import annotations

from collections import Counter

import pytest

from taut_lantern.core.errors import NotEnough
from taut_lantern.core.targets.match import Ambiguous, by_geometry
from tests.core.constellations import drawn


def test_an_assignment_is_right_or_it_is_not_told() -> None:
    told: Counter[tuple[str, str]] = Counter()
    for seed in range(40_000, 40_600):
        d = drawn(seed)
        try:
            found = by_geometry(d.targets, d.control)
        except NotEnough:
            told[d.kind, "undecided" if (d.true >= 0).sum() > 4 else "of four at most"] += 1
            continue
        right = d.can and all(d.true[i] == k for i, k in found.pairs)
        told[d.kind, "right" if right else "wrong"] += 1
    assert sum(n for (_, what), n in told.items() if what == "wrong") == 0, told
    for kind in ("random", "flat"):  # and where five agree and nothing confuses, it is told
        assert told[kind, "right"] > 20 * told[kind, "undecided"], told


def test_what_fits_twice_has_both_readings() -> None:
    d = next(d for d in map(drawn, range(50_000, 50_400)) if d.kind == "symmetric" and len(d.targets) > 5)
    with pytest.raises(Ambiguous) as told:
        by_geometry(d.targets, d.control)
    one, other = told.value.readings
    assert len(set(one.pairs) & set(other.pairs)) < 2 and len(other.pairs) >= 3
