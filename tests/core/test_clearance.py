"""Clearance between things of known places, with the noise of a scan."""

from __future__ import annotations

import math

import numpy as np
import pytest

from taut_lantern.core.draw.clearance import clearance
from taut_lantern.core.errors import BadInput, NotEnough

NOISE = 0.0015


def pipe(axis: float, radius: float, rng: np.random.Generator, n: int = 12_000) -> np.ndarray:
    """Along y through (0, ., axis), all round, 2 m long."""
    turn, y = rng.uniform(0, 2 * math.pi, n), rng.uniform(-1, 1, n)
    r = radius + rng.normal(0, NOISE, n)
    return np.stack([r * np.cos(turn), y, axis + r * np.sin(turn)], axis=1)


def beam(low: tuple[float, float, float], high: tuple[float, float, float], rng: np.random.Generator, n: int = 16_000) -> np.ndarray:
    """The six sides of a box."""
    p = rng.uniform(low, high, (n, 3))
    side, end = rng.integers(0, 3, n), rng.integers(0, 2, n)
    p[np.arange(n), side] = np.where(end, np.array(high)[side], np.array(low)[side])
    return p + rng.normal(0, NOISE, p.shape)


@pytest.mark.parametrize("seed", range(6))
def test_between_pipes_and_a_beam_it_is_right_where_the_nearest_points_are_not(seed: int) -> None:
    rng = np.random.default_rng(seed)
    gap, radius = rng.uniform(0.03, 0.4), rng.uniform(0.03, 0.25)
    lower, upper = pipe(0.0, radius, rng), pipe(2 * radius + gap, radius, rng)
    found = clearance(lower, upper)
    assert abs(found.length - gap) < 0.0025, (found.length, gap)
    nearest = min(np.linalg.norm(upper - p, axis=1).min() for p in lower[np.argsort(-lower[:, 2])[:200]])
    assert nearest < gap - 0.003  # the nearest two of all are too near
    assert abs(found.a[2] - radius) < 0.0025 and abs(found.b[2] - radius - gap) < 0.0025
    over = beam((-0.4, -0.8, radius + gap), (0.4, 0.8, radius + gap + 0.2), rng)
    flat = clearance(lower, over)
    assert abs(flat.length - gap) < 0.0025 and 0 < flat.error < 0.002
    beside = beam((radius + gap, -0.8, -0.1), (radius + gap + 0.3, 0.8, 0.4), rng)
    turned = np.array([[math.cos(0.7), -math.sin(0.7), 0], [math.sin(0.7), math.cos(0.7), 0], [0, 0, 1]])
    far = np.array([437_215.0, 5_812_904.0, 120.0]) * (seed % 2)
    assert abs(clearance(lower @ turned.T + far, beside @ turned.T + far).length - gap) < 0.0025


def test_one_thing_and_too_little_are_told() -> None:
    rng = np.random.default_rng(0)
    one = pipe(0.0, 0.1, rng)
    with pytest.raises(BadInput, match="touch"):
        clearance(one, one + [0.0, 0.001, 0.0])
    with pytest.raises(NotEnough):
        clearance(one, one[:5] + 1.0)
