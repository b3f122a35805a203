"""What stations that are open decide together."""

from __future__ import annotations

from itertools import product

import numpy as np
import pytest

from taut_lantern.core.align.jointly import Bar, decided


def bars(*pairs: str) -> list[Bar]:
    """ "a0 b1" for: place 0 of a and place 1 of b contradict each other."""
    return [frozenset((w[0], int(w[1:])) for w in p.split()) for p in pairs]


@pytest.mark.parametrize(
    ("choices", "against", "expected"),
    [
        ({"a": 2, "b": 2}, bars("a0 b0", "a1 b1"), {}),  # a swap: somebody has to be asked
        ({"a": 1, "b": 2}, bars("a0 b0"), {"a": 0, "b": 1}),
        ({"a": 2, "b": 2, "c": 1}, bars("a0 b0", "a1 b1", "c0 a0"), {"a": 1, "b": 0, "c": 0}),  # a third one settles the swap
        ({"a": 1, "b": 1, "c": 1}, bars("a0 c0", "b0 c0"), {"a": 0, "b": 0}),  # c has no right place among its choices
        ({"a": 1, "b": 1}, bars("a0 b0"), {}),  # one of them is wrong, and nothing says which
        ({"a": 2, "b": 1}, [], {"b": 0}),
    ],
)
def test_what_all_largest_sets_share_is_decided(choices: dict[str, int], against: list[Bar], expected: dict[str, int]) -> None:
    assert decided(choices, against) == expected


@pytest.mark.parametrize("seed", range(8))
def test_it_is_what_trying_all_finds(seed: int) -> None:
    rng = np.random.default_rng(seed)
    choices = {n: int(rng.integers(1, 4)) for n in "abcde"}
    ends = [(n, k) for n, m in choices.items() for k in range(m)]
    against = [frozenset((p, q)) for p in ends for q in ends if p[0] < q[0] and rng.random() < 0.35]
    ways = [
        {n: k for n, k in zip(choices, way, strict=True) if k is not None}
        for way in product(*([None, *range(m)] for m in choices.values()))
    ]
    ways = [w for w in ways if not any(b <= set(w.items()) for b in against)]
    largest = max(len(w) for w in ways)
    best = [w for w in ways if len(w) == largest]
    shared = dict(set(best[0].items()).intersection(*(set(w.items()) for w in best)))
    assert decided(choices, against) == shared


def test_a_search_that_takes_too_long_decides_nothing() -> None:
    assert decided({"a": 1, "b": 2}, bars("a0 b0"), most=1) == {}
