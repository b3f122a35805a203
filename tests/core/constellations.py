"""Constellations of targets and control of every kind that has fooled somebody: lattices, symmetric and nearly symmetric ones, mirror
images, lines, flat ones, few among many, and such that have nothing in common."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from taut_lantern.core import frames

KINDS = ("random", "flat", "lattice", "symmetric", "nearly symmetric", "mirrored", "line", "nothing")


@dataclass(frozen=True)
class Drawn:
    """targets (n, 3) and control (m, 3) with 1.5 mm of noise; true: control number of each target, -1 for none; can: whether an
    assignment may be told at all (of a mirror image none is right)."""

    kind: str
    targets: np.ndarray
    control: np.ndarray
    true: np.ndarray
    can: bool


def drawn(seed: int) -> Drawn:
    rng = np.random.default_rng(seed)
    kind = str(rng.choice(KINDS))
    n, m = int(rng.integers(4, 21)), int(rng.integers(3, 61))
    size, high = rng.uniform(5, 80), 0.02 if kind == "flat" else rng.uniform(0, 6)
    base = rng.uniform(-0.5, 0.5, (max(n, m), 3)) * [size, size * rng.uniform(0.2, 1), high]
    if kind == "lattice":
        steps = np.meshgrid(np.arange(rng.integers(2, 6)), np.arange(rng.integers(2, 5)), [0.0])
        base = np.stack(steps, -1).reshape(-1, 3) * [size / 8, size / 8, 1]
    elif kind in ("symmetric", "nearly symmetric"):
        half = rng.uniform(-0.5, 0.5, (max(2, n // 2), 3)) * [size, size, high]
        base = np.concatenate([half, half * [-1, -1, 1]])
        if kind != "symmetric":
            base[0] += rng.normal(size=3) * rng.choice([0.003, 0.01, 0.03, 0.1])
    elif kind == "line":
        base = np.stack([np.linspace(0, size, 8), *rng.normal(0, 0.05, (2, 8))], axis=1)
    a = rng.choice(len(base), min(n, len(base)), replace=False)
    common = int(rng.integers(3, min(len(a), m) + 1))
    rest = rng.permutation(np.setdiff1d(np.arange(len(base)), a))[: max(0, m - common)]
    b = rng.permutation(np.concatenate([a[:common], rest]))
    seen, given = base[a], base[b] * ([1, -1, 1] if kind == "mirrored" else [1, 1, 1])
    if kind == "nothing":
        given, b = rng.uniform(-0.5, 0.5, (m, 3)) * [size, size, high], np.full(m, -1)
    strays = rng.uniform(-0.5, 0.5, (int(rng.integers(0, 6)), 3)) * [size * 1.3, size * 1.3, high + 0.1]
    control = frames.apply(frames.pose(rng.uniform(-3, 3), (437_215.0, 5_812_904.0, 46.0)), np.concatenate([given, strays]))
    where = {int(x): k for k, x in enumerate(b)}
    true = np.array([where.get(int(x), -1) for x in a])
    noise = rng.normal(0, 0.0015, (len(seen) + len(control), 3))
    return Drawn(kind, seen + noise[: len(seen)], control + noise[len(seen) :], true, kind not in ("mirrored", "nothing"))
