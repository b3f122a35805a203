"""Selections, cuts and fits against constructed truth."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from taut_lantern.core import frames
from taut_lantern.core.clean.ground import above_ground, lowest
from taut_lantern.core.clean.select import Box, Lasso, Slab, Sphere
from taut_lantern.core.draw.fit import find_circles, find_lines, fit_circle
from taut_lantern.core.draw.foot import Foot
from taut_lantern.core.draw.section import Cut, about, boxes_meet, plan, slab, stepped, unrolled, upright
from taut_lantern.core.errors import BadInput
from taut_lantern.core.kernels import outline, reference

L_SHAPE = np.array([[0, 0], [4, 0], [4, 1], [1, 1], [1, 4], [0, 4.0]])


@given(st.lists(st.tuples(st.floats(-1, 5), st.floats(-1, 5)), min_size=1, max_size=60))
def test_the_polygon_rule_agrees_with_two_boxes(points: list[tuple[float, float]]) -> None:
    p = np.array(points)
    p = p[(np.abs(p[:, :1] - [0, 1, 4]).min(axis=1) > 1e-6) & (np.abs(p[:, 1:] - [0, 1, 4]).min(axis=1) > 1e-6)]
    x, y = p[:, 0], p[:, 1]
    expected = ((x > 0) & (x < 4) & (y > 0) & (y < 1)) | ((x > 0) & (x < 1) & (y > 0) & (y < 4))
    for inside in (outline.inside, reference.in_outline):
        np.testing.assert_array_equal(inside(p, L_SHAPE), expected)
        np.testing.assert_array_equal(inside(p, L_SHAPE[::-1]), expected)


@pytest.mark.parametrize("corners", [3, 40, 5000])
def test_outlines_of_any_number_of_corners_take_what_the_plain_rule_takes(corners: int) -> None:
    rng = np.random.default_rng(corners)
    turn = np.sort(rng.uniform(0, 2 * np.pi, corners))
    star = np.column_stack([np.cos(turn), np.sin(turn)]) * rng.uniform(0.2, 1, (corners, 1)) + (3e5, -2e5)
    level = np.repeat(star, 2, axis=0)
    level[1::2, 1] = level[::2, 1]  # level edges between
    p = np.vstack([rng.uniform(-1.1, 1.1, (4000, 2)) + (3e5, -2e5), star[:50]])
    for outline_ in (star, level, star[:2], star[:1]):
        np.testing.assert_array_equal(outline.inside(p, outline_), reference.in_outline(p, outline_))


@given(st.floats(-3, 3), st.integers(0, 9))
def test_a_turned_box_takes_what_the_unturned_one_takes(yaw: float, seed: int) -> None:
    p = np.random.default_rng(seed).uniform(-3, 3, (200, 3))
    straight = Box((0, 0, 0), (1.0, 2.0, 0.5)).inside(p)
    turned = Box((7, -4, 2), (1.0, 2.0, 0.5), yaw).inside(frames.apply(frames.pose(yaw, (7, -4, 2)), p))
    assert (straight != turned).sum() <= 1


def test_a_lasso_takes_only_what_stands_in_front_and_in_depth() -> None:
    view = np.array([[1, 0, 0, 0], [0, 1, 0, 0], [0, 0, 0.1, 0], [0, 0, 1, 0.0]])  # looks along +z, w = z
    p = np.array([[0, 0, 5.0], [0, 0, -5.0], [4, 0, 5.0], [0.4, 0.4, 1.0], [0, 0, 400.0]])
    square = np.array([[-0.5, -0.5], [0.5, -0.5], [0.5, 0.5], [-0.5, 0.5]])
    np.testing.assert_array_equal(Lasso(view, square).inside(p), [True, False, False, True, True])
    view[2] = [0, 0, 1.01, -0.5]
    np.testing.assert_array_equal(Lasso(view, square).inside(p), [True, False, False, True, False])
    for bad in (square[:2], np.full((4, 2), np.nan)):
        with pytest.raises(BadInput):
            Lasso(view, bad)


@given(st.integers(0, 400))
def test_a_box_that_a_shape_covers_has_every_point_inside_it(seed: int) -> None:
    """And most boxes well within an outline are told without looking at their points."""
    rng = np.random.default_rng(seed)
    low = rng.uniform(-2, 2, 3)
    high = low + rng.uniform(0.02, 0.6, 3)
    corners = np.array([[x, y, z] for x in (low[0], high[0]) for y in (low[1], high[1]) for z in (low[2], high[2])])
    p = np.concatenate([rng.uniform(low, high, (400, 3)), corners])
    turn = np.sort(rng.uniform(0, 2 * np.pi, 9)) if seed % 3 else rng.uniform(0, 2 * np.pi, 9)  # every third crosses itself
    line = np.stack([np.cos(turn), np.sin(turn)], axis=1) * rng.uniform(0.2, 1.0, (9, 1))
    view = np.diag([0.45, 0.45, 0.1, 1.0])
    if seed % 2:  # in perspective, from above
        view = np.array([[1.2, 0, 0, 0], [0, 1.2, 0, 0], [0, 0, -0.1, 0.2], [0, 0, -1.0, 5.0]])
    shapes = [
        Lasso(view, line),
        Slab(np.zeros(3), np.array([0, 0.6, 0.8]), -1.0, 1.5),
        Sphere(np.zeros(3), 2.0),
        Box((0, 0, 0), (1.5, 2, 1), 0.4),
    ]
    for shape in shapes:
        meets, inside = shape.meets(corners[None])[0], shape.inside(p)
        assert meets or not inside.any()
        assert inside.all() or not shape.covers(corners[None])[0]
    flat = (corners @ view[:, :3].T + view[:, 3])[:, :2] / (corners @ view[:, :3].T + view[:, 3])[:, 3:]
    wide = np.array([[-3, -3], [3, -3], [3, 3], [-3, 3.0]])
    within = Lasso(view, flat.mean(axis=0) + 0.1 * np.ptp(flat, axis=0) * wide)
    assert Lasso(view, wide).covers(corners[None])[0] and not within.covers(corners[None])[0]


@given(st.integers(0, 200))
def test_what_stands_on_an_unrolled_wall_is_found_there_and_laid_back(seed: int) -> None:
    """Lengths along it are those along the wall; what lies outside a corner of it is on no piece."""
    rng = np.random.default_rng(seed)
    bent = bool(seed % 2)
    if bent:
        radius, begin, sweep = rng.uniform(0.5, 40), rng.uniform(-3, 3), rng.uniform(0.2, 6.0) * rng.choice([-1, 1])
        angle = begin + np.array([0, rng.uniform(0.2, 0.8), 1]) * sweep
        foot = Foot.through(7.0 + radius * np.column_stack([np.cos(angle), np.sin(angle)]), True)
        np.testing.assert_allclose(foot.long, radius * abs(sweep), rtol=1e-6)
    else:
        picks = np.cumsum(rng.uniform(1, 4, 5)[:, None] * np.array([[1, 0], [0.6, 0.8], [1, 0.2], [0.2, -1], [1, 0]]), axis=0)
        foot = Foot.through(picks, False)
        np.testing.assert_allclose(foot.long, np.linalg.norm(np.diff(picks, axis=0), axis=1).sum())
    flat = np.column_stack([rng.uniform(0.25, foot.long - 0.25, 50), rng.uniform(0, 3, 50), rng.uniform(-0.05, 0.05, 50)])
    if not bent:  # at corners pieces share what lies inside, and none has what lies outside
        at = np.array([x for x, _, _ in foot.line()])
        flat = flat[np.abs(flat[:, :1] - at).min(axis=1) > 0.2]
    there = foot.rolled(flat)
    back, on = foot.unrolled(there)
    assert on.all()
    np.testing.assert_allclose(back, flat, atol=1e-7)
    assert foot.away(there).max() < 0.052
    if not bent:
        corner = foot.corners[1]
        ways = [(corner - p) / np.linalg.norm(corner - p) for p in (foot.corners[0], foot.corners[2])]
        outside = corner + 0.2 * sum(ways) / np.linalg.norm(sum(ways))
        assert not foot.unrolled(np.array([[*outside, 1.0]]))[1][0]


def test_a_plan_takes_its_slab_and_looks_down() -> None:
    cut = plan(1.2, before=0.0, behind=0.05)
    p, inside = slab(cut, np.array([[3, 4, 1.2], [3, 4, 1.16], [3, 4, 1.14], [3, 4, 1.21]]))
    np.testing.assert_array_equal(inside, [True, True, False, False])
    np.testing.assert_allclose(p[1], [3, 4, -0.04], atol=1e-12)


@pytest.mark.parametrize("cut", [plan(1.2), upright((10, 0), (10, 8)), upright((3, 1), (-4, 2.5))])
def test_a_section_is_a_proper_rotation_of_its_base(cut: Cut) -> None:
    assert frames.is_rigid(cut.T_section_base)  # det +1: nothing that is drawn is mirrored


def test_an_upright_section_runs_from_the_first_pick_and_looks_to_the_left() -> None:
    cut = upright((10, 0), (10, 8), before=0.05, behind=0.3)
    p, inside = slab(cut, np.array([[9.9, 2, 1.5], [10.2, 2, 1.5], [9.9, 20, 1.5]]))
    np.testing.assert_allclose(p[0], [2.0, 1.5, -0.1], atol=1e-12)
    np.testing.assert_array_equal(inside, [True, False, False])
    for a, b, depth in (((1, 1), (1, 1.001), 0.1), ((0, 0), (1, 0), 0.0)):
        with pytest.raises(BadInput):
            upright(a, b, 0, depth)


def test_a_cut_in_steps_goes_through_the_picks_of_each_leg_and_takes_what_lies_at_it() -> None:
    picks = np.array([[0.0, 0.02], [3.0, -0.02], [3.4, 2.0], [6.0, 2.0], [6.2, -1.0], [9.0, -1.0]])
    a, b, steps = stepped(picks)
    np.testing.assert_allclose([*a, *b], [0, 0, 9, 0], atol=0.05)  # the picks are 2 cm off
    np.testing.assert_allclose(steps, [[3.2, 2.0], [6.1, -1.0]], atol=0.05)
    cut = upright((0, 0), (9, 0), before=0.05, behind=0.3, steps=[(3.2, 2.0), (6.1, -1.0)])
    at = np.array([[1, 0.1, 1], [5, 2.1, 1], [5, 0.1, 1], [8, -0.9, 1], [8, -1.2, 1], [8, 0.0, 1]])
    p, inside = slab(cut, at)
    np.testing.assert_array_equal(inside, [True, True, False, True, False, False])
    np.testing.assert_allclose(p[[0, 1, 3]], [[1, 1, -0.1], [5, 1, -0.1], [8, 1, -0.1]], atol=1e-12)
    for wrong in ([(3.0, 1.0), (2.0, 1.0)], [(9.5, 1.0)], [(3.0, math.inf)]):
        with pytest.raises(BadInput, match="steps"):
            upright((0, 0), (9, 0), steps=wrong)
    for line in (picks[:3], picks[[0, 1, 1, 0]]):
        with pytest.raises(BadInput):
            stepped(line)


@given(st.integers(0, 50))
def test_no_tile_with_points_in_the_slab_is_passed_over(seed: int) -> None:
    rng = np.random.default_rng(seed)
    t = frames.pose(float(rng.uniform(-3, 3)), tuple(rng.normal(size=3) * 5))
    p = rng.uniform(-1, 1, (300, 3)) + rng.normal(size=3) * 3
    a, b = tuple(rng.normal(size=2)), tuple(rng.normal(size=2) + 3)
    for cut in (
        plan(float(rng.normal()), 0.02, 0.05),
        upright(a, b, 0.05, 0.05),
        upright(a, b, 0.05, 0.05, [(1.0, rng.normal()), (1.5, -1)]),
        unrolled(np.array([a, b, rng.normal(size=2) - 4]), 0.1, 0.2),
        unrolled(np.array([a, b, rng.normal(size=2) - 4]), 0.1, 0.2, bent=True),
    ):
        _, inside = slab(cut, frames.apply(t, p))
        assert set(np.nonzero(inside)[0]) <= set(about(cut, t, p.astype(np.float32)))
        if inside.any():
            assert boxes_meet(cut, t, p.min(axis=0)[None], p.max(axis=0)[None])[0]


def walls(noise: float = 0.0015, seed: int = 3) -> tuple[np.ndarray, list[tuple[tuple[float, float], tuple[float, float]]]]:
    rng = np.random.default_rng(seed)
    true = [((0, 0), (8, 0)), ((8, 0), (8, 5)), ((8, 5), (2, 5)), ((0, 0), (0, 3.2)), ((2.0, 1.0), (4.4, 2.8))]
    parts = []
    for a, b in true:
        length = math.dist(a, b)
        s = rng.random(int(300 * length))[:, None]
        n = np.array([a[1] - b[1], b[0] - a[0]]) / length
        parts.append(np.array(a) + s * (np.array(b) - a) + rng.normal(0, noise, len(s))[:, None] * n)
    return np.concatenate([*parts, rng.uniform(-1, 9, (60, 2))]), true


@pytest.mark.parametrize("shift", [(0.0, 0.0), (437_215.0, 5_812_904.0)])
def test_walls_are_found_to_a_millimetre_with_their_ends(shift: tuple[float, float]) -> None:
    points, true = walls()
    lines = find_lines(points + shift)
    assert len(lines) == len(true)
    for a, b in true:
        ends = np.array([a, b]) + shift
        best = min(lines, key=lambda k: min(np.abs(np.array([k.a, k.b]) - e).sum() for e in (ends, ends[::-1])))
        d = (ends[1] - ends[0]) / np.linalg.norm(ends[1] - ends[0])
        normal = np.array([-d[1], d[0]])
        assert max(abs((np.array(p) - ends[0]) @ normal) for p in (best.a, best.b)) < 0.0015
        assert abs(math.dist(best.a, best.b) - math.dist(*ends)) < 0.06
        assert 0.0005 < best.rms < 0.003


def test_a_gap_splits_a_line_and_a_filled_face_gives_none() -> None:
    rng = np.random.default_rng(1)
    x = np.concatenate([rng.uniform(0, 2, 500), rng.uniform(2.9, 5, 500)])
    assert len(find_lines(np.stack([x, rng.normal(0, 0.001, 1000)], axis=1))) == 2
    inside = [
        k
        for k in find_lines(rng.uniform(0, 1.2, (40_000, 2)))
        if np.mean([k.a, k.b], axis=0).min() > 0.1 and np.mean([k.a, k.b], axis=0).max() < 1.1
    ]
    assert inside == []  # its edges may be lines
    assert find_lines(np.zeros((5, 2))) == []


@pytest.mark.parametrize("share", [1.0, 0.5, 0.4])
def test_pipes_are_found_from_the_part_that_was_seen(share: float) -> None:
    rng = np.random.default_rng(7)
    points = []
    for (x, y), r in (((1.0, 1.0), 0.15), ((3.0, 1.2), 0.30)):
        a = rng.uniform(0, 2 * np.pi * share, 700)
        ring = r + rng.normal(0, 0.001, 700)
        points.append(np.stack([x + ring * np.cos(a), y + ring * np.sin(a)], axis=1))
    found = sorted(find_circles(np.concatenate(points)), key=lambda c: c.radius)
    assert len(found) == 2
    for c, ((x, y), r) in zip(found, (((1.0, 1.0), 0.15), ((3.0, 1.2), 0.30)), strict=True):
        assert math.dist(c.centre, (x, y)) < 0.002 and abs(c.radius - r) < 0.002


def test_a_circle_through_exact_points_is_exact() -> None:
    a = np.linspace(0, 1.5, 20)
    centre, radius, rms = fit_circle(np.stack([5 + 0.4 * np.cos(a), -3 + 0.4 * np.sin(a)], axis=1))
    np.testing.assert_allclose([*centre, radius, rms], [5, -3, 0.4, 0], atol=1e-6)


def test_the_ground_under_a_roof_is_told_by_another_scan_of_the_storey_but_not_by_the_storey_below() -> None:
    side = np.stack(np.meshgrid(np.arange(0.0, 4.0, 0.1), np.arange(0.0, 4.0, 0.1)), axis=-1).reshape(-1, 2)
    roof, floor, below = (np.column_stack([side + 500_000.03, np.full(len(side), z)]) for z in (1.4, 0.0, -2.7))
    assert (above_ground(roof) == 0).all()
    assert np.allclose(above_ground(roof, [lowest(floor)]), 1.4)
    assert np.allclose(above_ground(roof, [lowest(below), lowest(floor + [100.0, 0.0, 0.0])]), 0.0)
