"""The front surface of an outline: a tripod before a rack of pipes, from several sides, in both kinds of views."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core.clean.select import Lasso
from taut_lantern.core.errors import BadInput


def rod(a: tuple[float, float, float], b: tuple[float, float, float], radius: float, rng: np.random.Generator) -> np.ndarray:
    """Points some 5 mm apart on a rod."""
    axis = np.subtract(b, a)
    far = float(np.linalg.norm(axis))
    n = int(far * 2 * np.pi * radius / 0.005**2)
    u = np.linalg.svd(axis[None] / far)[2][1:]
    t, turn = rng.uniform(0, 1, n), rng.uniform(0, 2 * np.pi, n)
    skin = radius * (np.cos(turn)[:, None] * u[0] + np.sin(turn)[:, None] * u[1])
    return np.asarray(a) + t[:, None] * axis + skin + rng.normal(0, 0.001, (n, 3))


def tripod(rng: np.random.Generator) -> np.ndarray:
    """A scanner on its legs, 0.8 m wide and deep, its hindmost foot at y = 0.4."""
    feet = [(0.4 * np.sin(a), 0.4 * np.cos(a), 0.05) for a in (0.0, 2.1, 4.2)]
    legs = [rod((0, 0, 1.35), f, 0.018, rng) for f in feet]
    head = rng.uniform(-1, 1, (9000, 3)) * [0.09, 0.09, 0.14] + [0, 0, 1.5]
    return np.concatenate([*legs, head])


def rack(rng: np.random.Generator, y: float) -> np.ndarray:
    """Pipes and posts, and the wall behind them."""
    pipes = [rod((-2, y + 0.06, z), (2, y + 0.06, z), 0.06, rng) for z in (0.3, 0.6, 0.9, 1.2, 1.5, 1.8)]
    posts = [rod((x, y + 0.16, 0), (x, y + 0.16, 2), 0.04, rng) for x in (-1.2, 0.1, 1.3)]
    wall = np.column_stack([rng.uniform(-2.5, 2.5, 250_000), np.full(250_000, y + 0.8), rng.uniform(0, 2.4, 250_000)])
    return np.concatenate([*pipes, *posts, wall])


def seen_from(eye: tuple[float, float, float], to: tuple[float, float, float], perspective: bool) -> np.ndarray:
    """(4, 4) clip from part, as a pane has it."""
    z = np.subtract(eye, to) / np.linalg.norm(np.subtract(eye, to))
    x = np.cross([0, 0, 1.0], z)
    x /= np.linalg.norm(x)
    turn = np.eye(4)
    turn[:3, :3] = [x, np.cross(z, x), z]
    turn[:3, 3] = -turn[:3, :3] @ eye
    near, far = 0.1, 50.0
    if perspective:
        lens = np.array(
            [[1.6, 0, 0, 0], [0, 1.6, 0, 0], [0, 0, -(far + near) / (far - near), -2 * far * near / (far - near)], [0, 0, -1, 0]]
        )
    else:
        lens = np.diag([0.5, 0.5, -2 / (far - near), 1.0])
        lens[2, 3] = -(far + near) / (far - near)
    return np.asarray(lens @ turn)


@pytest.mark.parametrize("perspective", [True, False])
@pytest.mark.parametrize("eye", [(0.3, -4.0, 1.3), (-1.5, -3.5, 1.8), (1.2, -5.0, 0.9)])
def test_a_tripod_goes_and_the_rack_30_cm_behind_it_stays(eye: tuple[float, float, float], perspective: bool) -> None:
    rng = np.random.default_rng(4)
    one, other = tripod(rng), rack(rng, 0.4 + 0.3)
    view = seen_from(eye, (0, 0, 0.9), perspective)
    clip = one @ view[:, :3].T + view[:, 3]
    flat = clip[:, :2] / clip[:, 3:]
    low, high = flat.min(axis=0) - 0.05, flat.max(axis=0) + 0.05
    outline = np.array([low, [high[0], low[1]], high, [low[0], high[1]]])
    points = np.concatenate([one, other])
    lasso = Lasso(view, outline, front=1.5)
    inside = np.nonzero(lasso.inside(points))[0]
    assert (inside >= len(one)).sum() > 5000  # the rack and the wall lie inside the outline too
    kept = inside[lasso.in_front(points[inside])]
    assert (kept < len(one)).sum() >= 0.99 * len(one), (kept < len(one)).sum() / len(one)
    assert (kept >= len(one)).sum() == 0, (kept >= len(one)).sum()
    near = inside[Lasso(view, outline, front=0.2).in_front(points[inside])]
    assert 0 < len(near) < len(kept) and (near < len(one)).all()  # no deeper than is set


def test_a_tripod_on_a_floor_goes_but_for_the_soles_of_its_feet() -> None:
    rng = np.random.default_rng(6)
    one = tripod(rng) - [0, 0, 0.05]
    floor = np.column_stack([rng.uniform(-2, 2, 200_000), rng.uniform(-2, 2, 200_000), rng.normal(0, 0.001, 200_000)])
    points = np.concatenate([one, floor, rack(rng, 0.9)])
    view = seen_from((0.5, -4, 1.8), (0, 0, 0.7), True)
    lasso = Lasso(view, np.array([[-0.5, -0.6], [0.5, -0.6], [0.5, 0.6], [-0.5, 0.6]]), front=1.5)
    inside = np.nonzero(lasso.inside(points))[0]
    kept = inside[lasso.in_front(points[inside])]
    assert (kept < len(one)).sum() > 0.97 * (inside < len(one)).sum() and (kept >= len(one)).sum() < 50


def test_a_surface_alone_goes_and_what_hides_behind_it_stays() -> None:
    rng = np.random.default_rng(1)
    wall = np.column_stack([rng.uniform(-1, 1, 40_000), np.zeros(40_000), rng.uniform(0, 2, 40_000)])
    behind = wall + [0, 0.5, 0]
    view = seen_from((0, -4, 1), (0, 0, 1), True)
    lasso = Lasso(view, np.array([[-0.3, -0.3], [0.3, -0.3], [0.3, 0.3], [-0.3, 0.3]]), front=0.1)
    points = np.concatenate([wall, behind])
    inside = np.nonzero(lasso.inside(points))[0]
    kept = lasso.in_front(points[inside])
    assert kept[inside < len(wall)].all() and not kept[inside >= len(wall)].any()
    assert Lasso(view, lasso.outline).in_front(points[inside]).all()
    for wrong in (0.0, 100.0):
        with pytest.raises(BadInput, match="deep"):
            Lasso(view, lasso.outline, front=wrong)
