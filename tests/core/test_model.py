"""Distances from a design model, its edges and cuts, and where it fits best, held to solids whose surface is known."""

from __future__ import annotations

import math

import numpy as np
import pytest
import trimesh

from taut_lantern.core import frames
from taut_lantern.core.draw.model import Mesh, Near, Tally, cut, edges, laid
from taut_lantern.core.errors import NotEnough


def mesh(*solids: trimesh.Trimesh) -> Mesh:
    shift, v, f, e = 0, [], [], []
    for k, x in enumerate(solids):
        v.append(np.asarray(x.vertices, float))
        f.append(np.asarray(x.faces, np.int64) + shift)
        e.append(np.full(len(x.faces), k))
        shift += len(x.vertices)
    return Mesh(np.concatenate(v), np.concatenate(f), np.concatenate(e), tuple(f"solid {k}" for k in range(len(solids)))).sound()


def box(*size: float, at: tuple[float, float, float] = (0, 0, 0)) -> trimesh.Trimesh:
    return trimesh.creation.box(size, frames.pose(0.0, at))


def ball(radius: float, at: tuple[float, float, float], fine: int = 3) -> trimesh.Trimesh:
    return trimesh.creation.icosphere(fine, radius).apply_translation(at)


@pytest.mark.parametrize("seed", [1, 2])
def test_distances_are_those_of_asking_every_triangle_and_their_sign_says_the_side(seed: int) -> None:
    m = mesh(box(4, 3, 2), ball(0.5, (3.4, 0.2, 0.1), 2))
    rng = np.random.default_rng(seed)
    p = rng.uniform(-3, 4.5, (1500, 3))
    p[:8] = m.vertices[:8] * 1.1  # before a corner, where three faces are equally near
    expected = np.full(len(p), np.inf)
    for corners in m.corners:
        foot = trimesh.triangles.closest_point(np.repeat(corners[None], len(p), 0), p)
        expected = np.minimum(expected, np.linalg.norm(foot - p, axis=1))
    found, face = Near(m).asked(p, 1.0)
    near = expected <= 1.0
    assert near.sum() > 300 and (face >= 0).tolist() == near.tolist() and np.isnan(found[~near]).all()
    np.testing.assert_allclose(np.abs(found[near]), expected[near], atol=1e-12)
    assert ((found < 0) == _within(p))[near].all()
    assert set(m.element[face[near]]) == {0, 1}


def _within(p: np.ndarray) -> np.ndarray:
    ball_ = ball(0.5, (3.4, 0.2, 0.1), 2)
    hull = ((p[:, None] - ball_.triangles_center) * ball_.face_normals).sum(axis=2).max(axis=1) < 0
    return np.asarray((np.abs(p) < [2, 1.5, 1]).all(axis=1) | hull)


def test_edges_are_where_faces_turn_and_cuts_lie_in_the_plane_of_the_section() -> None:
    solid = mesh(box(4, 3, 2, at=(5e5, 5e6, 10)), ball(1.0, (5e5, 5e6, 20)))
    found = edges(solid)
    assert len(found) == 12  # not the diagonals of its sides, and none of the ball
    assert sorted(np.round(np.linalg.norm(found[:, 1] - found[:, 0], axis=1), 6)) == [2] * 4 + [3] * 4 + [4] * 4
    section = frames.inverse(frames.pose(0.3, (5e5, 5e6, 10.4)))
    lines = cut(solid, section)
    assert np.linalg.norm(lines[:, 1] - lines[:, 0], axis=1).sum() == pytest.approx(14.0, abs=1e-6)
    corner = np.array([2 * math.cos(-0.3) - 1.5 * math.sin(-0.3), 2 * math.sin(-0.3) + 1.5 * math.cos(-0.3)])
    assert np.linalg.norm(lines.reshape(-1, 2) - corner, axis=1).min() < 1e-6
    assert len(cut(solid, frames.pose(0.0, (0, 0, -30)))) == 0


def test_a_model_is_laid_on_the_cloud_and_one_plane_does_not_hold_it() -> None:
    m = mesh(box(4, 3, 2), box(0.8, 0.6, 1.4, at=(3.5, 0.7, -0.3)))
    true = frames.small(np.array([0.004, -0.006, 0.012, 0.03, -0.02, 0.015]))
    rng = np.random.default_rng(4)
    on, _ = trimesh.sample.sample_surface(trimesh.Trimesh(m.vertices, m.faces), 20_000, seed=5)
    points = frames.apply(true, on) + rng.normal(0, 0.0015, (20_000, 3))
    points = np.concatenate([points, rng.uniform(-2, 4, (3000, 3))])  # and what is of no model
    found, rms, count = laid(Near(m), points, 0.15)
    shift, angle = frames.difference(found, true)
    assert max(np.linalg.norm((found - true)[:3, 3]), 3 * max(shift, angle)) < 0.0015 and rms < 0.004 and count > 19_000
    floor = np.column_stack([rng.uniform(-1, 1, (4000, 2)), np.full(4000, 1.002)])
    with pytest.raises(NotEnough):
        laid(Near(m), floor, 0.15)


def test_figures_are_those_of_the_distances() -> None:
    m = mesh(box(4, 3, 2), box(1, 1, 1, at=(9, 0, 0)))
    rng = np.random.default_rng(6)
    d = rng.normal(0.004, 0.006, 50_000)
    points = np.column_stack([np.tile(rng.uniform(-1, 1, (1, 2)), (len(d), 1)), 1 + d])
    tally = Tally(m, 0.01, 0.05)
    for some in np.array_split(points, 3):
        tally.add(*Near(m).asked(some, 0.05))
    told = tally.told
    assert told["points"] == len(d) and told["within"] == (np.abs(d) <= 0.01).sum() == told["elements"][0]["within"]
    assert told["median"] == pytest.approx(np.median(d), abs=0.0005) and told["p95"] == pytest.approx(np.percentile(d, 95), abs=0.0006)
    assert told["rms"] == pytest.approx(math.sqrt(np.mean(d**2))) and told["elements"][0]["mean"] == pytest.approx(d.mean())
    assert told["elements"][0]["p95"] == pytest.approx(np.percentile(np.abs(d), 95), abs=0.001)
    assert told["elements"][1]["points"] == 0 and told["elements"][1]["mean"] is None
    assert sum(told["histogram"]) == len(d)
