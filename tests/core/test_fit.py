"""The nested surface offsets of the fine alignment beside a dense solution that knows every unknown by itself."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest

from taut_lantern.core.align import offsets as f
from taut_lantern.core.kernels import fit

NOISE2 = 0.0006**2


def matches(seed: int, n: int = 400) -> tuple[f.Matches, np.ndarray]:
    rng = np.random.default_rng(seed)
    normal = rng.normal(size=(n, 3))
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    m = f.Matches(rng.uniform(-8, 8, (n, 3)), normal, rng.normal(0, 0.001, n), rng.uniform(-1, -0.1, n), rng.uniform(-1, -0.1, n))
    return m, rng.uniform(0.05, 1, n)


def tree_of(n: int, seed: int) -> list[np.ndarray]:
    """Matches to 24 cells, cells to 7 parts, parts to 3 surfaces, surfaces to the scan; every parent has children."""
    rng = np.random.default_rng(seed)
    sizes = (n, 24, 7, 3, 1)
    return [np.concatenate([np.arange(up), rng.integers(0, up, low - up)]) for low, up in zip(sizes[:-1], sizes[1:], strict=True)]


def rows_of(m: f.Matches, centre: np.ndarray, lever: float) -> np.ndarray:
    return np.concatenate([np.cross(m.place - centre, m.normal) / lever, m.normal, m.cos_a[:, None], -m.cos_b[:, None]], axis=1)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_normal_equations_are_those_of_the_rows(seed: int) -> None:
    m, w = matches(seed)
    (label, *_), (centre, lever) = tree_of(len(w), seed), fit.about(m.place, w)
    np.testing.assert_allclose(centre, np.average(m.place, axis=0, weights=w), atol=1e-12)
    assert lever == pytest.approx(np.sqrt(np.average(((m.place - centre) ** 2).sum(axis=1), weights=w)))
    found = fit.systems(m.place, m.normal, m.distance, m.cos_a, m.cos_b, w, label, 24, centre, lever)
    rows = np.concatenate([rows_of(m, centre, lever), -m.distance[:, None]], axis=1)
    for k in range(24):
        of = label == k
        np.testing.assert_allclose(found[k], (rows[of] * w[of, None]).T @ rows[of], atol=1e-12)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_eliminating_level_by_level_and_coming_back_is_the_dense_solution(seed: int) -> None:
    m, w = matches(seed)
    (cell, *ups), (centre, lever) = tree_of(len(w), seed), fit.about(m.place, w)
    rng = np.random.default_rng(seed)
    sizes = [24, 7, 3]
    prior2 = [rng.uniform(0.0001, 0.0008, n) ** 2 for n in sizes]
    zero2 = 0.0005**2

    # dense: motion, the scan's zero offsets, then the two offsets of each cell, part and surface
    rows = rows_of(m, centre, lever)
    first = np.cumsum([8, *(2 * n for n in sizes)])
    design, place = np.zeros((len(w), int(first[-1]))), cell
    design[:, :8] = rows
    for level in range(3):
        for side in range(2):
            design[np.arange(len(w)), first[level] + 2 * place + side] = rows[:, 6 + side]
        place = ups[level][place] if level < 2 else place
    weight = np.concatenate([[0] * 6, [1 / zero2] * 2, *(np.repeat(1 / p, 2) for p in prior2)])
    inverse = np.linalg.inv((design * w[:, None]).T @ design / NOISE2 + np.diag(weight))
    solution = inverse @ ((design * w[:, None]).T @ -m.distance) / NOISE2

    tree = [fit.systems(m.place, m.normal, m.distance, m.cos_a, m.cos_b, w, cell, 24, centre, lever)]
    for level in range(3):
        tree.append(fit.eliminate(tree[level], NOISE2 / prior2[level], ups[level], int(ups[level].max()) + 1))
    top = np.linalg.inv(tree[-1][0, :8, :8] + np.diag([0] * 6 + [NOISE2 / zero2] * 2))
    state, cov = (top @ tree[-1][0, :8, 8])[None], (NOISE2 * top)[None]
    np.testing.assert_allclose(state[0], solution[:8], rtol=1e-6, atol=1e-10)
    np.testing.assert_allclose(cov[0], inverse[:8, :8], rtol=1e-6, atol=1e-14)
    for level in (2, 1, 0):
        state, cov, squares = fit.descend(tree[level], NOISE2 / prior2[level], ups[level], state, cov, NOISE2, level > 0)
        at = first[level] + 2 * np.arange(sizes[level])
        mean2 = (solution[at] ** 2 + solution[at + 1] ** 2 + inverse[at, at] + inverse[at + 1, at + 1]) / 2
        np.testing.assert_allclose(squares, mean2, rtol=1e-5)
        assert len(state) == len(cov) == (sizes[level] if level else 0)


def test_cells_of_one_plane_are_one_surface_and_parallel_ones_are_not() -> None:
    """A floor in six cells with noise in normals and heights, the same floor 8 cm lower, and a wall."""
    rng = np.random.default_rng(6)
    centre = np.concatenate([rng.uniform(-5, 5, (13, 3)) * [1, 1, 0], [[4.0, 0, 1.5]]])
    centre[6:13, 2] -= 0.08
    centre[:13, 2] += rng.normal(0, 0.003, 13)
    normal = np.concatenate([rng.normal([0, 0, 1], 0.004, (13, 3)), [[-1.0, 0, 0]]])
    normal /= np.linalg.norm(normal, axis=1, keepdims=True)
    label, count = f.surfaces(centre, normal, np.ones(14))
    assert count == 3
    assert [len(set(label[part])) for part in (slice(0, 6), slice(6, 13), slice(13, 14))] == [1, 1, 1]


@pytest.mark.parametrize("forward", [True, False])
def test_rows_of_matches_lie_in_the_frame_of_a(forward: bool) -> None:
    """A floor seen from two stations that stand apart and turned: no distance, the floor's own normal, cosines of both rays."""
    from taut_lantern.core import frames

    rng = np.random.default_rng(7)
    t = frames.pose(0.7, (3.0, -2.0, 0.4))
    floor_a = np.concatenate([rng.uniform(-6, 6, (50, 2)), np.full((50, 1), -1.6)], axis=1)
    floor_b, up = frames.apply(frames.inverse(t), floor_a), np.tile([0.0, 0.0, 1.0], (50, 1))
    near_a, near_b = floor_a + rng.uniform(-0.02, 0.02, (50, 3)) * [1, 1, 0], floor_b + rng.uniform(-0.02, 0.02, (50, 3)) * [1, 1, 0]
    points, met = (floor_b, near_a) if forward else (floor_a, near_b)
    plane, ok = np.concatenate([met, up, np.zeros((50, 2))], axis=1), rng.random(50) < 0.7
    out: list[Any] = [np.empty((60, 3)), np.empty((60, 3)), *np.empty((3, 60))]
    end = fit.rows(ok, plane, points, up, t, forward, 4, *out)
    place, normal, distance, cos_a, cos_b = (v[4:end] for v in out)
    assert end == 4 + ok.sum()
    np.testing.assert_allclose(distance, 0, atol=1e-12)
    np.testing.assert_allclose(normal, np.tile([0, 0, 1.0], (len(normal), 1)), atol=1e-12)
    np.testing.assert_allclose(place, (floor_a if forward else frames.apply(t, near_b))[ok], atol=1e-12)
    seen_a = near_a if forward else floor_a
    np.testing.assert_allclose(cos_a, -1.6 / np.linalg.norm(seen_a[ok], axis=1))
    np.testing.assert_allclose(cos_b, (place[:, 2] - 0.4) / np.linalg.norm(place - t[:3, 3], axis=1))
