"""Doors, windows and a gate of facades drawn at random, seen from outside and inside past what stands before and behind them."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core import frames
from taut_lantern.core.draw.faces import Around
from taut_lantern.core.draw.openings import Opening, facade, openings
from taut_lantern.core.draw.section import slab, upright
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import Scene

Rect = tuple[float, float, float, float]
GREY, RED = (0.6, 0.6, 0.6), (0.6, 0.3, 0.25)


def front(seed: int, points: int = 400_000) -> tuple[Around, np.ndarray, list[Rect]]:
    """What rays saw in the frame of an elevation of a front 16 m long, the points of its slab (n, 3), and its openings: left, sill, right, head."""
    rng, s = np.random.default_rng(seed), Scene()
    true: list[Rect] = []
    for k in range(5):
        x, wide = 0.6 + 3.1 * k + rng.uniform(0, 0.8), rng.uniform(0.9, 1.9)
        sill, high = (0.0, rng.uniform(2.05, 2.6)) if k in (1, 3) else (rng.uniform(0.8, 1.2), rng.uniform(1.1, 1.6))
        true.append((x, sill, x + wide, sill + high))
    s.box((-4, -14, -0.2), (20, 8.2, 0.0), GREY)
    s.wall(1, 0.0, 0.3, (0.0, 16.0), (0.0, 4.2), [(a, c, b, d) for a, b, c, d in true], RED)
    for low, high in (
        ((0, 8.0, 0), (16, 8.2, 4.2)),
        ((-0.2, 0.3, 0), (0, 8, 4.2)),
        ((16, 0.3, 0), (16.2, 8, 4.2)),
        ((0, 0.3, 4.2), (16, 8, 4.4)),
    ):
        s.box(low, high, GREY)
    column = true[int(rng.integers(0, 5))][2] - 0.15  # behind the right side of one of them
    s.box((column, 0.32, 0.0), (column + 0.4, 0.7, 4.2), GREY)
    van = rng.uniform(2, 12)
    s.box((van, -4.5, 0.2), (van + 3.5, -2.8, 1.6), RED)
    clouds, which, stands = [], [], []
    for k, at in enumerate(((4.0, -8.0, 1.7), (12.5, -9.0, 1.7), (4.5, 5.0, 1.6), (11.5, 4.5, 1.6))):
        cloud, pose = scan(s, at, 0.7 * k, 100 * seed + k, Scanner(points=points))
        clouds.append(frames.apply(pose, cloud.xyz))
        which.append(np.full(len(cloud.xyz), k))
        stands.append(pose[:3, 3])
    cut = upright((0, -1), (16, -1), 0.0, 3.0)
    p, inside = slab(cut, np.concatenate(clouds))
    near = (np.abs(p[:, 2]) < 12) & (p[:, 0] > -0.5) & (p[:, 0] < 16.5)
    around = Around(p[near], np.concatenate(which)[near], frames.apply(cut.T_section_base, np.array(stands)))
    return around, p[inside], true


def scored(told: list[Opening], true: list[Rect]) -> tuple[int, int, list[float]]:
    """(openings found with every side within 10 cm or said to be hidden, told ones that are none, how far the sides that were seen are off)."""
    found, others, off = 0, 0, []
    for o in told:
        ends = np.array([o.low[0], o.low[1], o.high[0], o.high[1]])
        seen = ~np.array(o.hidden)
        gaps = [ends - np.array(t) for t in true]
        gap = min(gaps, key=lambda g: float(np.abs(g).max()))
        if np.abs(gap[seen]).max() < 0.1 and np.abs(gap).max() < 0.5:
            found += 1
            off += np.abs(gap[seen & [True, not o.ground, True, True]]).tolist()
        else:
            others += 1
    return found, others, off


@pytest.mark.parametrize("seed", [11, 12])
def test_openings_lie_where_they_are_and_what_stands_before_them_is_said(seed: int) -> None:
    around, own, true = front(seed)
    at = facade(own)
    assert at is not None and abs(at + 1.0) < 0.05  # its outer face
    told = openings(around, at)
    assert told is not None
    found, others, off = scored(told[1], true)
    assert (found, others) == (5, 0)
    assert np.median(off) < 0.002 and max(off) < 0.03
    assert max(off) < 3 * max(o.error for o in told[1])
