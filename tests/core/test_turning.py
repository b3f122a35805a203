"""Rays through a gap of a plane: a door's reveal ends those that a mirror sends on."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core.clean.turning import FLAT, Field, Plane

FAR = 2.0  # metres to the plane y = FAR, which has a gap of 1 x 1.2 m


def looked(gap: tuple[float, float], thick: float, rng: np.random.Generator) -> np.ndarray:
    """(n, 3) what a scanner at the origin measures: the plane, the reveal of its gap where the wall is ``thick``, and what lies 3 m behind."""
    turn, rise = (v.ravel() for v in np.meshgrid(np.arange(-1.1, 1.1, 0.0045), np.arange(-0.7, 0.7, 0.0045)))
    ray = np.stack([np.sin(turn) * np.cos(rise), np.cos(turn) * np.cos(rise), np.sin(rise)], axis=1)
    ray /= ray[:, 1:2]  # as far as y = 1

    def within(y: float) -> np.ndarray:
        p = ray * y
        return np.asarray((np.abs(p[:, 0] - gap[0]) < 0.5) & (np.abs(p[:, 2] - gap[1]) < 0.6))

    y = np.where(within(FAR), FAR + 3.0, FAR)
    ended = within(FAR) & ~within(FAR + thick)
    for step in np.linspace(FAR, FAR + thick, 40)[::-1]:
        y[ended & ~within(step)] = step
    return ray * (y + rng.normal(0, 0.0012, len(y)))[:, None]


@pytest.mark.parametrize("gap", [(1.1, 0.0), (-1.4, 0.1), (0.1, 0.7), (0.0, -0.9)])
def test_a_reveal_ends_the_rays_that_a_mirror_sends_on(gap: tuple[float, float]) -> None:
    plane, rng = Plane(np.array([0.0, -1.0, 0.0]), FAR), np.random.default_rng(4)
    found = []
    for thick in (0.0, 0.2):
        seen = looked(gap, thick, rng)
        off = plane.off(seen)
        field = Field.of(plane, seen[np.abs(off) < FLAT])
        assert field is not None
        found.append([int(v.sum()) for v in field.pierced(plane, seen[off < -0.06])])
    (ended, on), (_, through) = found
    assert ended > 100 and on >= 0.99 * ended and through == 0, found
