"""A thing as the instrument saw it: in the middle, marked, and hidden where something stands before it."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core.clean.look import LAMP, TALL, WIDE, looked_at


def ball(at: tuple[float, float, float], radius: float, count: int = 4000) -> np.ndarray:
    way = np.random.default_rng(count).normal(size=(count, 3))
    return np.array(at) + radius * way / np.linalg.norm(way, axis=1, keepdims=True)


@pytest.mark.parametrize("at", [(4.0, 0.0, 0.5), (-2.0, 3.0, -1.0), (0.1, 0.0, -1.6)])
def test_what_is_marked_fills_the_middle(at: tuple[float, float, float]) -> None:
    own, wall = ball(at, 0.3), ball((0, 0, 0), 9.0, 60_000)
    points = np.concatenate([own, wall])
    marked = np.arange(len(points)) < len(own)
    image = looked_at(points, np.full((len(points), 3), 200, np.uint8), marked).astype(int)
    lit = np.abs(image - (0.35 * 200 + 0.65 * np.array(LAMP)).astype(int)).max(axis=2) < 3
    row, column = np.nonzero(lit)
    assert abs(row.mean() - TALL / 2) < 8 and abs(column.mean() - WIDE / 2) < 8
    assert 0.3 < np.ptp(row) / TALL < 0.8


def test_what_stands_before_it_is_seen_instead() -> None:
    own, before = ball((4, 0, 0), 0.3), ball((2, 0, 0), 0.2, 40_000)
    points = np.concatenate([own, before])
    marked = np.arange(len(points)) < len(own)
    image = looked_at(points, np.full((len(points), 3), 100, np.uint8), marked)
    assert (image[TALL // 2 - 5 : TALL // 2 + 5, WIDE // 2 - 5 : WIDE // 2 + 5] == 100).mean() > 0.95
    assert looked_at(points, np.zeros((len(points), 3), np.uint8), np.zeros(len(points), bool)).shape == (TALL, WIDE, 3)
