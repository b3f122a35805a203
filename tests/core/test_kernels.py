"""Compiled loops beside their plain references, on a simulated scan with edges, gaps and mixed pixels."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from taut_lantern.core import frames
from taut_lantern.core.align.fine import refine
from taut_lantern.core.align.matches import hits, match, tukey
from taut_lantern.core.align.prepared import PYRAMID_STEP, Prepared, prepare
from taut_lantern.core.kernels import beams, images, noise, objects, order, rays, reference
from taut_lantern.core.kernels.apart import apart, settled
from taut_lantern.core.scan.grid import range_image
from taut_lantern.standins.scanner import Scanner
from taut_lantern.standins.site import simulate
from tests.support import room


@pytest.fixture(scope="module")
def pair() -> tuple[Prepared, Prepared, np.ndarray]:
    (a, pose_a), (b, pose_b) = (simulate(n, Scanner(points=40_000)) for n in ("ST-01", "ST-02"))
    return prepare(a), prepare(b), frames.inverse(pose_a) @ pose_b


def test_pixels_of_directions_are_the_same(pair: Any) -> None:
    grid = pair[0].grid
    rng = np.random.default_rng(2)
    for p in rng.normal(size=(500, 3)) * 9:
        assert rays.pixel(*p, grid.geo, *grid.image.shape[:2], grid.wrap) == reference.pixel(*p, grid.geo, *grid.image.shape[:2], grid.wrap)


def test_planes_are_the_same(pair: Any) -> None:
    grid = pair[0].grid
    rng = np.random.default_rng(3)
    rc = np.stack([rng.integers(0, n, 400) for n in grid.image.shape[:2]], axis=1).astype(np.int32)
    found, ok = rays.planes(grid.image, grid.step, grid.wrap, rc)
    expected = [reference.plane_at(grid.image, grid.step, grid.wrap, r, c) for r, c in rc]
    assert ok.any() and not ok.all()
    assert sum(o != (e is not None) for o, e in zip(ok, expected, strict=True)) <= 2  # rounding at a limit
    for f, o, e in zip(found, ok, expected, strict=True):
        if o and e is not None and f[7] == e[7]:
            np.testing.assert_allclose(f[:3], e[:3], atol=1e-9)
            assert abs(f[3:6] @ e[3:6]) > 1 - 1e-6 or e[6] < 1e-6


def test_matches_are_the_same(pair: Any) -> None:
    a, b, t = pair
    g, points, normals = a.grid, b.fine.points[:600], b.fine.normals[:600]
    hit, out = np.full((600, 2), -1, np.int32), np.empty((600, 8))
    astray = frames.pose(0.002, (0.003, 0, 0)) @ t  # what was kept from a first call must not leak into the second
    rays.associate(g.image, g.geo, g.wrap, astray, points, normals, 0.05, 0.85, 1, hit, out)
    ok = rays.associate(g.image, g.geo, g.wrap, t, points, normals, 0.05, 0.85, 1, hit, out)
    expected, said = reference.associate(g.image, g.geo, g.wrap, t, points, normals, 0.05, 0.85)
    assert ok.sum() > 50 and (ok != said).sum() <= 2
    np.testing.assert_allclose(out[ok & said][:, :3], expected[ok & said][:, :3], atol=1e-6)


@pytest.mark.parametrize("known", [False, True])
def test_a_step_is_that_of_weighted_least_squares(pair: Any, known: bool) -> None:
    a, b, t = pair
    start, sides = frames.pose(0.01, (0.05, -0.04, 0.02)) @ t, (a, b, a.balanced, b.balanced, known)
    m = match(hits(*sides), start, 0.3, 1, 0.6)
    w = tukey(m.distance, 0.3)
    centre = np.average(m.place, axis=0, weights=w)
    lever = np.sqrt(np.average(((m.place - centre) ** 2).sum(axis=1), weights=w))
    rows = np.hstack([np.cross(m.place - centre, m.normal) / lever, m.normal]) * np.sqrt(w)[:, None]
    assert np.linalg.eigvalsh(rows.T @ rows / w.sum())[0] > 2e-4  # every direction is held
    step = np.linalg.lstsq(rows, -m.distance * np.sqrt(w), rcond=None)[0]
    motion = np.eye(4)
    motion[:3, :3] = frames.rotation(step[:3] / lever)
    motion[:3, 3] = centre - motion[:3, :3] @ centre + step[3:]
    found, count, _, _, _ = refine(a, b, start, ((0.3, 1),), 0.6, hits(*sides))
    assert count == len(m.distance) > 100 and np.linalg.norm(step) > 0.01
    np.testing.assert_allclose(found, motion @ start, atol=1e-9)


def test_placements_are_ranked_by_what_the_pyramid_holds(pair: Any) -> None:
    a, b, t = pair
    s, poses, found = b.balanced, np.array([t, frames.pose(0.3, (1.0, 0, 0.2)) @ t]), np.zeros((2, 3))
    rays.rank(a.pyramid, PYRAMID_STEP, poses, s.points, s.normals, 0.15, found)
    for pose, (agree, violated, near) in zip(poses, found, strict=True):
        p, n = frames.apply(pose, s.points), s.normals @ pose[:3, :3].T
        rho = np.linalg.norm(p, axis=1)
        row, column = np.arctan2(p[:, 2], np.hypot(p[:, 0], p[:, 1])) + np.pi / 2, np.arctan2(p[:, 1], p[:, 0]) + np.pi
        low, high = a.pyramid[:, (row / PYRAMID_STEP).astype(int), (column / PYRAMID_STEP).astype(int)]
        cosine = np.abs((p * n).sum(axis=1)) / rho
        slack = 0.16 / np.maximum(cosine, 1e-9)
        speaks = (rho >= 0.5) & (low > 0) & (cosine >= 0.1)
        before = speaks & (rho < low - slack)
        assert abs(agree - (speaks & ~before & (rho <= high + slack)).sum()) <= 2  # rounding at a limit
        assert abs(violated - (before & (rho < low - 2 * slack)).sum()) <= 2 and abs(violated + near - before.sum()) <= 2
    assert found[0, 0] > 2 * found[1, 0] and found[1, 1] > 20


@pytest.mark.parametrize("shift", [(0, 0, 0), (0.8, 0, 0), (0, 0, 1.5)])
@pytest.mark.parametrize("wrap", [True, False])
def test_what_rays_say_of_points_is_the_same(pair: Any, shift: tuple[float, float, float], wrap: bool) -> None:
    a, b, t = pair
    g, s, moved = replace(a.grid, wrap=wrap), b.speakers, frames.pose(0, shift) @ t
    some = np.random.default_rng(1).choice(len(s.points), 1500, replace=False)
    for points, normals, agree, behind, grazing in (
        (s.points[some], s.normals[some], 0.04, 0.02, 0.0),
        (b.raw.points[:1500], b.raw.normals[:1500], 0.05, 0.07, 0.1),
    ):
        found = objects.say(g.ring, g.geo, g.wrap, moved, points, normals, agree, behind, grazing)
        expected = reference.say(g.image, g.geo, g.wrap, moved, points, normals, agree, behind, grazing)
        assert (found != expected).sum() <= 2 and len(set(found.tolist())) > 2


def test_which_pixels_are_solid_is_the_same(pair: Any) -> None:
    g = pair[0].grid
    rc = np.stack([np.random.default_rng(4).integers(0, n, 400) for n in g.image.shape[:2]], axis=1).astype(np.int32)
    np.testing.assert_array_equal(objects.solid(g.image, g.step, g.wrap, rc), reference.solid(g.image, g.step, g.wrap, rc))


def test_what_was_measured_beside_places_and_on_ways_is_the_same(pair: Any) -> None:
    """Of places of another scan's frame: a third on what it measured, a third a little off, a third anywhere."""
    a, b, t = pair
    grid, rng = a.grid, np.random.default_rng(5)
    points = b.fine.points[:600].astype(float)
    points[200:400] += rng.normal(0, 0.05, (200, 3))
    points[400:] = rng.uniform(-6, 6, (200, 3))
    own = frames.apply(t, points)
    near = [reference.beside(grid.image, grid.geo, grid.wrap, p, 0.02) for p in own]
    got = images.beside(grid.image, grid.geo, grid.wrap, t, points, 0.02)
    assert 100 < got.sum() < 500
    np.testing.assert_array_equal(got, [len(v) > 0 for v in near])

    normals = b.fine.normals[:600].astype(float)
    faced = images.facing(grid.image, grid.facing, grid.geo, grid.wrap, t, points, normals, 0.02, 0.9)
    likes = [any(grid.facing[r, c] @ t[:3, :3] @ n >= 0.9 for r, c in v) for v, n in zip(near, normals, strict=True)]
    assert 50 < faced.sum() < got.sum()
    np.testing.assert_array_equal(faced, likes)

    ends = points[::-1].copy()
    barred = images.barred(grid.image, grid.geo, grid.wrap, t, points, ends, 0.3, 0.02)
    for k in range(0, 600, 7):
        count = int(np.linalg.norm(ends[k] - points[k]) / 0.3)
        way = (own[k] + (own[599 - k] - own[k]) * s / count for s in range(1, count))
        assert barred[k] == any(len(reference.beside(grid.image, grid.geo, grid.wrap, p, 0.02)) for p in way)
    assert 50 < barred.sum() < 550


def test_what_is_seen_of_a_pixel_does_not_depend_on_how_the_image_is_turned(pair: Any) -> None:
    """Mirrored, turned by a quarter, and rolled where it goes all round: the same pixels are doubtful, and the same is seen of them."""
    grid = pair[0].grid
    ranges = np.linalg.norm(grid.image, axis=2).astype(np.float32)[:160, :300]

    def seen(image: np.ndarray, wrap: bool, number: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Doubtful pixels by their number, and what is seen of them."""
        doubts = beams.doubtful(image, wrap, 0.02, 0.006)
        own, order = number[doubts], np.argsort(number[doubts])
        return own[order], beams.sights(image, wrap, grid.step, doubts, np.argwhere(doubts))[order]

    number = np.arange(ranges.size).reshape(ranges.shape)
    for wrap, changes in ((False, (np.fliplr, np.flipud, np.transpose)), (True, (np.fliplr, np.flipud, lambda v: np.roll(v, 40, 1)))):
        own, here = seen(ranges, wrap, number)
        assert len(own) > 300
        for change in changes:
            again, there = seen(np.ascontiguousarray(change(ranges)), wrap, change(number))
            np.testing.assert_array_equal(again, own)
            np.testing.assert_allclose(there, here, atol=1e-5)


def test_what_is_seen_of_a_beam_between_two_walls() -> None:
    """Walls at 4 and 6 m whose edge one beam met at 5 m: no direction carries on to it, and the walls' own pixels are held."""
    ranges = np.full((11, 12), 4.0, np.float32)
    ranges[:, 6:] = 6.0
    ranges[5, 6] = 5.0
    doubts = beams.doubtful(ranges, False, 0.02, 0.006)
    assert list(map(tuple, np.argwhere(doubts))) == [(5, 6)]
    (row,) = beams.sights(ranges, False, 0.002, doubts, np.array([[5, 6]]))
    np.testing.assert_allclose(row[:8], 1.0, atol=1e-5)  # of all eight
    np.testing.assert_allclose(row[16:24], 1.0, atol=1e-5)
    assert list(row[[beams.NEARER, beams.FARTHER, 40]]) == [3, 5, 8] and list(row[41:48]) == [21, 27, 48, 0, 0, 0, 0]
    assert row[36] == 5.0 and row[37] == np.float32(0.01) and list(row[29:31]) == [1, 1]


def test_trees_are_summed() -> None:
    """Two trees: one asks for the number 1 (at most 0.5: 1, else 2), the other is a leaf of 10."""
    sight = np.array([[9, 0.5], [9, 0.6]], np.float32)
    ints = (np.array(v, np.int32) for v in ([0, 3], [1, -1, -1, -1], [1, 0, 0, 0], [2, 0, 0, 0]))
    first, asks, left, right = ints
    got = beams.grown(sight, first, asks, np.array([0.5, 0, 0, 0], np.float32), left, right, np.array([0, 1, 2, 10], np.float32), -99.0)
    assert list(got) == [11, 12]


@pytest.mark.parametrize("wrap", [True, False])
def test_what_hangs_together_and_what_in_the_air_is_the_same(pair: Any, wrap: bool) -> None:
    """A range image of which every thirtieth pixel is a drop at a range of its own."""
    rng, grid = np.random.default_rng(3), pair[0].grid
    ranges = np.linalg.norm(grid.image, axis=2).astype(np.float32)
    drops = rng.random(ranges.shape) < 1 / 30
    ranges[drops] = rng.uniform(0.5, 3.0, int(drops.sum()))
    bonds = noise.joined(ranges, wrap, 0.012, 5.0 * grid.step, 0.05)
    told = reference.joined(ranges, wrap, 0.012, 5.0 * grid.step, 0.05)
    assert (bonds != told).mean() < 1e-4  # rounding at a limit
    args = (ranges, told, wrap, 8.0, 0.03, 0.015 / grid.step, 16, 64)
    found, expected = noise.afloat(*args), reference.afloat(*args)
    assert (found == expected).all() and found[drops].mean() > 0.5


@pytest.mark.parametrize("shift", [(0, 0, 0), (0.01, 0, 0), (0, 0.02, 1.5)])
def test_distances_from_surfaces_are_the_same(pair: Any, shift: tuple[float, float, float]) -> None:
    a, b, t = pair
    moved = frames.pose(0, shift) @ t
    g, points = a.grid, b.raw.points[:1500].astype(np.float32)
    found = np.empty(len(points), np.float32)
    apart(g.image, g.geo, g.wrap, moved, points, 0.06, found)
    expected = reference.apart(g.image, g.geo, g.wrap, moved, points, 0.06)
    assert np.isnan(found).any() and (~np.isnan(found)).sum() > 100
    assert (np.isnan(found) != np.isnan(expected)).sum() <= 2  # rounding at a limit
    both = ~np.isnan(found) & ~np.isnan(expected)
    np.testing.assert_allclose(found[both], expected[both], atol=1e-6)


def test_points_settle_on_their_surface_and_their_noise_counts_no_more() -> None:
    """A room of 6 x 4 x 3 m seen with 1.5 mm noise along the ray, and a point that stands 20 mm off its wall."""
    scan = room(400_000, seed=4)
    rho = np.linalg.norm(scan.xyz, axis=1, keepdims=True)
    noisy = (scan.xyz * (1 + np.random.default_rng(5).normal(0, 0.0015, rho.shape) / rho)).astype(np.float32)
    grid = range_image(replace(scan, xyz=noisy))
    points = np.concatenate([noisy[:4000], [[2.98, 0.3, 0.2]]]).astype(np.float32)
    out = np.empty((len(points), 3))
    settled(grid.image, grid.geo, grid.wrap, points, 0.006, out)
    off = [np.abs(np.abs(x) / [3, 2, 1.5] - 1) * [3, 2, 1.5] for x in (points[:4000], out[:4000])]
    inner = np.sort(np.abs(np.abs(scan.xyz[:4000]) - [3, 2, 1.5]), axis=1)[:, 1] > 0.3
    raw, now = (np.sqrt((o[inner].min(axis=1) ** 2).mean()) for o in off)
    assert raw > 0.0009 and now < 0.45 * raw
    np.testing.assert_allclose(out[-1], points[-1])  # what stands off is no noise


@given(st.lists(st.tuples(*[st.floats(-400, 400, width=32)] * 3), min_size=1, max_size=30))
def test_morton_codes_are_the_same(points: list[tuple[float, float, float]]) -> None:
    places = np.array(points, np.float32)
    low = places.min(axis=0).astype(float)
    expected = reference.morton(places, low, 0.01)
    np.testing.assert_array_equal(order.morton(places, low, 0.01, 0, 0), expected)
    words = order.morton(places, low, 0.01, 21, 24)
    np.testing.assert_array_equal(words >> np.uint64(24), expected >> np.uint64(21))
    np.testing.assert_array_equal(words & np.uint64((1 << 24) - 1), np.arange(len(places)))
    np.testing.assert_array_equal(order.bounds(places), [places.min(axis=0), places.max(axis=0)])


@given(
    st.lists(st.tuples(*[st.floats(allow_nan=True, width=64)] * 3, st.booleans(), st.floats(width=32)), min_size=1, max_size=30),
    st.sampled_from([1.0, 0.001, 0.3048]),
)
def test_points_are_taken_over_alike(points: list[tuple[float, float, float, bool, float]], factor: float) -> None:
    columns, invalid = np.array([p[:3] for p in points]).T.copy(), np.array([p[3] for p in points])
    brightness, scale, n = np.array([p[4] for p in points], np.float32), np.array([-2.0, 8.0, 1.0]), len(points)
    none, xyz, intensity = np.empty(0, np.uint16), np.zeros((n + 1, 3), np.float32), np.zeros(n + 1, np.float32)
    no_grid, rgb, index = np.empty(0, np.int64), np.empty((0, 0), np.uint8), np.empty(0, np.int32)
    seen = np.array([np.inf, -np.inf, 0.0, 0.0, 0.0])
    count = order.take(
        tuple(columns), invalid.astype(np.int8), brightness, scale, (none, none, none), (no_grid, no_grid),
        factor, 0.4, 200.0, 1, seen, xyz, intensity, rgb, index, index,
    )  # fmt: skip
    places, values, expected = reference.take(columns, invalid, brightness, scale, factor, 0.4, 200.0)
    np.testing.assert_array_equal(count, expected)
    np.testing.assert_array_equal(xyz[1 : 1 + count[0]], places.T.astype(np.float32))
    np.testing.assert_allclose(intensity[1 : 1 + count[0]], values, atol=1e-6)
    with np.errstate(invalid="ignore", over="ignore"):
        rho = np.sqrt(((columns * factor) ** 2).sum(axis=0))
    own = brightness[~invalid & np.isfinite(columns).all(axis=0) & (rho >= 0.4) & (rho <= 200.0)]
    own = own[~np.isnan(own)]
    assert tuple(seen[:2]) == ((own.min(), own.max()) if len(own) else (np.inf, -np.inf))
    with np.errstate(over="ignore"):
        share = (own.astype(float) + 2) / 8
    assert seen[3] == ((share < -1e-5) | (share > 1 + 1e-5)).sum()
    assert not xyz[0].any() and not xyz[1 + count[0] :].any()


def test_height_votes_are_the_same() -> None:
    rng = np.random.default_rng(4)
    occupied = (rng.random((2, 8, 6, 20)) < 0.2).astype(np.uint8)
    points, kind, shifts = rng.normal(size=(50, 3)) * 1.5, rng.integers(0, 2, 50), rng.normal(size=(4, 2))
    out = np.zeros((4, 20), np.int32)
    key = np.nonzero(occupied.ravel())[0]
    ends = np.searchsorted(key, np.arange(2 * 8 * 6 + 1) * 20).astype(np.int32)
    start = np.stack([ends[:-1], ends[1:]], axis=1).reshape(2, 8, 6, 2)
    rays.height_votes(start, (key % 20).astype(np.int32), 0.5, 0.1, points, kind, shifts, out)
    np.testing.assert_array_equal(out, reference.height_votes(occupied, 0.5, 0.1, points, kind, shifts))
    assert out.any()


def test_an_unstructured_scan_gets_a_range_image_that_finds_its_points_again() -> None:
    scan, _ = simulate("ST-01", Scanner(points=40_000))
    bare = type(scan)(scan.xyz, scan.intensity, scan.rgb, None, None)
    grid = range_image(bare)
    filled = grid.index >= 0
    np.testing.assert_array_equal(grid.image[filled], bare.xyz[grid.index[filled]])
    assert filled.sum() > 0.5 * len(bare)


def test_a_quick_turn_is_the_turn() -> None:
    x, y = np.random.default_rng(5).normal(size=(2, 2000))
    found = np.array([rays.turn_of(b, a) for a, b in zip([*x, 1, -1, 0, 0, 0], [*y, 0, 0, 1, -1, 0], strict=True)])
    expected = np.arctan2([*y, 0, 0, 1, -1, 0], [*x, 1, -1, 0, 0, 0])
    np.testing.assert_allclose(found, expected, atol=1e-7)


def test_planes_that_are_known_are_those_of_the_image(pair: Any) -> None:
    """Samples land on the cells of a coarse image; each has the plane that the fine image has at its point."""
    a, b, t = pair
    g, points, normals = a.grid, b.fine.points[:600], b.fine.normals[:600]
    cells, known, geo = rays.coarse(g.image, g.geo, g.wrap, np.radians(1.0))
    has = known[..., 7] > 0
    assert has.sum() > 1000
    plane = np.zeros(8)
    for r, c in np.argwhere(has)[::97]:
        at = rays.pixel(*cells[r, c].astype(float), g.geo, *g.image.shape[:2], g.wrap)
        assert rays.plane_at(g.image, g.geo[3], g.wrap, *at, plane)
        np.testing.assert_allclose(known[r, c], plane, atol=1e-9)
    out = np.zeros((len(points), 8))
    ok = rays.associate_known(cells, known, geo, True, t, points, normals, 0.05, 0.85, 1, out)
    assert ok.mean() > 0.2
    placed, turned = points @ t[:3, :3].T + t[:3, 3], normals @ t[:3, :3].T
    assert (np.abs(((placed - out[:, :3]) * out[:, 3:6]).sum(axis=1))[ok] <= 0.05).all()
    assert ((out[:, 3:6] * turned).sum(axis=1)[ok] >= 0.85).all()
