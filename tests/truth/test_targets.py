"""Rooms full of targets and of what is mistaken for them, that no limit was set on: who is found, how well, and how honestly."""

from __future__ import annotations

import math

import numpy as np
import pytest

from taut_lantern.core.scan.grid import range_image
from taut_lantern.core.targets.kinds import Found, Wanted, find
from tests.truth.targeted import RADIUS, SIZES, Expected, TargetRoom, target_room


@pytest.fixture(scope="module", params=[501, 502])
def scored(request: pytest.FixtureRequest) -> tuple[TargetRoom, list[Found]]:
    room = target_room(request.param)
    return room, find(range_image(room.scan), room.scan.intensity, Wanted((RADIUS,), SIZES))


def _of(found: list[Found], e: Expected) -> Found | None:
    return next((f for f in found if f.kind == e.kind and np.linalg.norm(f.centre - e.centre) < 0.05), None)


def test_every_target_with_enough_points_is_found_and_nothing_else_is(scored: tuple[TargetRoom, list[Found]]) -> None:
    room, found = scored
    looked = [
        e
        for e in room.expected
        if not e.decoy and e.share > (0.5 if e.kind == "sphere" else 0.8) and e.points >= (25 if e.kind == "sphere" else 36)
    ]
    assert len(looked) > 12
    assert [(e.kind, e.points) for e in looked if _of(found, e) is None] == []
    assert [f for f in found if all(np.linalg.norm(f.centre - e.centre) > 0.06 for e in room.expected)] == []
    assert not any(e.decoy and e.points >= 100 and _of(found, e) for e in room.expected)  # 4 mm off in radius


def test_centres_are_as_good_as_they_claim(scored: tuple[TargetRoom, list[Found]]) -> None:
    room, found = scored
    ratios: dict[str, list[float]] = {"sphere": [], "board": []}
    for e in room.expected:
        f = _of(found, e)
        if f is None or e.decoy or not f.sure:
            continue
        off = f.centre - e.centre
        ratios[f.kind].append(float(off @ np.linalg.solve(f.covariance, off)) / 3)
        assert np.linalg.norm(off) < (0.002 if f.kind == "sphere" else 0.6 * e.spacing / math.sqrt(e.side)), (f, e)
        assert f.size == pytest.approx(e.size)
    for kind, own in ratios.items():
        assert len(own) >= 4 and 0.4 < math.sqrt(np.mean(own)) < 1.6, (kind, own)
