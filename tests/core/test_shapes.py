"""What is done with drawn shapes, proved by what is left and where it lies."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from taut_lantern.core.draw import editing
from taut_lantern.core.draw.fit import refitted
from taut_lantern.core.draw.section import across, along_arc, series
from taut_lantern.core.draw.shapes import Shape, checked, dimension, length, pieces, plain
from taut_lantern.core.draw.stripe import centre_line
from taut_lantern.core.errors import BadInput, NotEnough

near = st.floats(-50, 50)
places = st.tuples(near, near)


def line(*p: tuple[float, float]) -> Shape:
    return checked("line", p)


SQUARE = checked("polyline", [(0, 0), (2, 0), (2, 1), (0, 1)], 0, {"closed": True})
ROUND = checked("circle", [(1, 1)], 0.5)
BENT = checked("polyline", [(0, 0), (2, 0), (2, 1)], 0, {"bulges": [math.tan(math.pi / 8), 0.0]})
ARC = checked("arc", [(1, 1)], 0.5, {"start": 0.2, "end": 1.9})


def same(a: Shape, b: Shape, far: float = 1e-6) -> bool:
    """Whether two shapes are seen as one: each point of either lies on the other."""
    return all(
        editing.nearest(y, p)[1] < far + 3e-4 for x, y in ((a, b), (b, a)) for stroke in plain(x).lines for p in stroke
    ) and math.isclose(length(a), length(b), abs_tol=1e-6)


@given(places, places, st.floats(-3, 3), st.sampled_from([SQUARE, ROUND, BENT, ARC, line((0, 0), (3, 1))]))
def test_moves_turns_and_mirrors_keep_size_and_can_be_taken_back(
    a: tuple[float, float], b: tuple[float, float], turn: float, shape: Shape
) -> None:
    moved = editing.moved(shape, a)
    assert same(editing.moved(moved, (-a[0], -a[1])), shape)
    assert same(editing.turned(editing.turned(shape, b, turn), b, -turn), shape)
    if math.dist(a, b) > 0.1:
        assert same(editing.mirrored(editing.mirrored(shape, a, b), a, b), shape)


def test_a_piece_between_two_cuts_goes_and_the_rest_stays() -> None:
    whole, cuts = line((0, 0), (10, 0)), [line((3, -1), (3, 1)), line((7, -1), (7, 1))]
    left, right = editing.trimmed(whole, cuts, (5, 0.2))
    assert left.points == ((0, 0), (3, 0)) and right.points == ((7, 0), (10, 0))
    (end,) = editing.trimmed(whole, cuts, (9, 0))
    assert end.points == ((0, 0), (7, 0))
    (arc,) = editing.trimmed(ROUND, [line((0, 1), (2, 1))], (1, 1.5))  # the upper half goes
    assert arc.kind == "arc" and length(arc) == pytest.approx(math.pi * 0.5) and editing.nearest(arc, (1, 0.5))[1] < 1e-6
    (open_,) = editing.trimmed(SQUARE, [line((-1, 0.5), (3, 0.5))], (1, 0))
    assert length(open_) == pytest.approx(3.0) and not open_.closed and editing.nearest(open_, (1, 1))[1] < 1e-9
    for shape in (whole, SQUARE, ROUND):
        with pytest.raises(BadInput):
            editing.trimmed(shape, [line((20, 20), (21, 21))], (1, 0))


def test_a_bent_polyline_keeps_its_bend_when_it_is_cut() -> None:
    one, other = editing.broken(BENT, (1, -0.4))
    assert length(one) + length(other) == pytest.approx(length(BENT)) and length(one) == pytest.approx(length(other) - 1, abs=0.05)
    assert same(editing.joined([one, other]), BENT)
    assert pieces(BENT)[0].sweep == pytest.approx(math.pi / 2)


def test_an_end_goes_to_the_first_thing_ahead() -> None:
    near_, far = checked("circle", [(5, 0)], 1), line((9, -1), (9, 1))
    assert editing.extended(line((0, 0), (1, 0)), [far, near_], (1, 0)).points == ((0, 0), (4, 0))
    assert editing.extended(line((0, 0), (1, 0)), [line((-3, -1), (-3, 1)), far], (0, 0)).points == ((-3, 0), (1, 0))
    with pytest.raises(BadInput, match="nothing lies ahead"):
        editing.extended(line((0, 0), (1, 0)), [far], (0, 0))


@pytest.mark.parametrize("radius", [0.0, 0.3])
def test_a_corner_touches_both_lines(radius: float) -> None:
    one, other = line((0, 0), (4, 0.2)), line((5, 1), (4.6, 5))
    new = editing.rounded(one, other, radius)
    assert len(new) == (3 if radius else 2)
    ends = [p for s in new[:2] for p in s.points]
    if not radius:
        assert math.dist(new[0].points[1], new[1].points[1]) < 1e-9
    else:
        arc = new[2]
        assert all(min(math.dist(q, p) for q in ends) < 1e-9 for p in (pieces(arc)[0].a, pieces(arc)[0].b))
        along = np.subtract(*new[0].points)
        foot = min((pieces(arc)[0].a, pieces(arc)[0].b), key=lambda p: editing.nearest(new[0], p)[1])
        assert abs(np.subtract(foot, arc.points[0]) @ along) / np.linalg.norm(along) < 1e-9  # square to the radius: it touches
    with pytest.raises(BadInput):
        editing.rounded(line((0, 0), (1, 0)), line((0, 1), (1, 1)), radius)


def test_offsets_lie_at_their_distance_on_the_side_of_the_pick() -> None:
    for shape, at in ((line((0, 0), (4, 1)), (2, 3)), (SQUARE, (1, 0.5)), (SQUARE, (5, 5)), (ROUND, (1, 1)), (BENT, None)):
        if at is None:
            with pytest.raises(BadInput):
                editing.offset(shape, 0.2, (0, 0))
            continue
        new = editing.offset(shape, 0.2, at)
        inside = [tuple(np.add(p, q) / 2) for stroke in plain(new).lines for p, q in zip(stroke, stroke[1:], strict=False)]
        assert min(editing.nearest(shape, p)[1] for p in inside) == pytest.approx(0.2, abs=1e-3)
        assert editing.nearest(new, at)[1] < editing.nearest(shape, at)[1]
    with pytest.raises(BadInput):
        editing.offset(ROUND, 0.6, (1, 1))


def test_a_rectangle_is_stretched_by_the_corners_in_the_window() -> None:
    new = editing.stretched(SQUARE, (1.5, -1), (3, 3), (1, 0))
    assert new.points == ((0, 0), (3, 0), (3, 1), (0, 1)) and len(editing.arrayed(SQUARE, (3, 0), 4)) == 3


def test_dimensions_measure_what_lies_between() -> None:
    of = lambda measure, *p: dimension(checked("dimension", p, 0, {"measure": measure}))  # noqa: E731
    assert (
        of("aligned", (0, 0), (3, 4), (0, 5)) == 5
        and of("linear", (0, 0), (3, 4), (1.5, 9)) == 3
        and of("linear", (0, 0), (3, 4), (9, 2)) == 4
    )
    assert of("angle", (0, 0), (1, 0), (0, 2), (0.5, 0.5)) == pytest.approx(math.pi / 2) and of("level", (1, 2.5), (2, 2.5)) == 2.5


@pytest.mark.parametrize("seed", range(3))
def test_what_is_drawn_roughly_is_laid_on_its_points(seed: int) -> None:
    rng = np.random.default_rng(seed)
    t = rng.uniform(0, 4, 900)
    wall = np.column_stack([t, 0.3 + 0.05 * t]) + rng.normal(0, 0.001, (900, 2))
    new, note = refitted(line((0, 0.31), (4, 0.49)), np.concatenate([wall, rng.uniform(-1, 5, (300, 2))]))
    assert all(abs(0.3 + 0.05 * x - y) < 0.0005 for x, y in new.points) and note["rms_mm"] < 2 and 5 < note["moved_mm"] < 20
    a = rng.uniform(0, 4, 500)
    pipe = np.column_stack([2 + 0.1 * np.cos(a), 1 + 0.1 * np.sin(a)]) + rng.normal(0, 0.0008, (500, 2))
    ring, _ = refitted(checked("circle", [(2.006, 0.996)], 0.094), pipe)
    assert math.dist(ring.points[0], (2, 1)) < 0.0004 and abs(ring.radius - 0.1) < 0.0004
    square = np.concatenate([wall, np.column_stack([rng.normal(4, 0.001, 600), rng.uniform(0.5, 3, 600)])])
    bent, _ = refitted(checked("polyline", [(0, 0.31), (3.99, 0.49), (4.01, 3)]), square)
    assert math.dist(bent.points[1], (4, 0.5)) < 0.001  # the corner is where both sides cross
    with pytest.raises(NotEnough):
        refitted(line((10, 10), (12, 10)), wall)


@pytest.mark.parametrize("seed", range(4))
def test_a_stroke_along_a_stripe_is_laid_on_its_middle_with_heights(seed: int) -> None:
    """10 points in 10 cm of the stripe; ground that falls by 2 %."""
    rng, wide = np.random.default_rng(seed), 0.12
    x, y = rng.uniform(0, 6, 3500), rng.uniform(-0.35, 0.35, 3500)
    middle = 0.03 + 0.01 * x
    bright = np.where(np.abs(y - middle) < wide / 2, 180, 90) + rng.normal(0, 18, 3500)
    points = np.column_stack([x, y, -1.2 - 0.02 * x + rng.normal(0, 0.002, 3500)])
    new, note = centre_line(line((0, 0), (6, 0)), points, bright.clip(0, 255).astype(np.uint8), wide)
    assert all(abs(q - 0.03 - 0.01 * p) < 0.005 for p, q in new.points) and note["rms_mm"] < 8
    assert new.more["towards"] == pytest.approx([-1.2, -1.32], abs=0.004)
    with pytest.raises(NotEnough):
        centre_line(line((0, 0), (6, 0)), points, np.full(3500, 100, np.uint8), wide)


def test_a_row_of_sections_stands_square_to_its_line() -> None:
    rows = series(np.array([(0, 0), (4, 0), (4, 3)], float), 2.0, 1.0)
    assert [tuple(np.round(np.add(a, b) / 2, 6)) for a, b in rows] == [(0, 0), (2, 0), (4, 0), (4, 2)]
    assert all(math.dist(a, b) == pytest.approx(1.0) for a, b in rows)
    (a, b), *_ = rows
    assert a[1] > b[1]  # left of the way from a to b lies what is ahead


@pytest.mark.parametrize("way", [1, -1])
def test_a_row_of_sections_along_an_arc_looks_along_it(way: int) -> None:
    """Three quarters of a circle of 10 m, either way round: the three picks say which."""
    middle, angles = np.array([3.0, -2.0]), way * np.radians([10, 100, 280])
    places, ways = along_arc(middle + 10 * np.column_stack([np.cos(angles), np.sin(angles)]), 5.0)
    assert len(places) == 1 + int(10 * math.radians(270) / 5)
    assert np.allclose(np.linalg.norm(places - middle, axis=1), 10) and np.allclose(
        places[0], middle + 10 * np.array([np.cos(angles[0]), np.sin(angles[0])])
    )
    chords = np.diff(places, axis=0)
    assert np.allclose(np.linalg.norm(chords, axis=1), 20 * math.sin(0.25)) and ((chords * ways[:-1]).sum(axis=1) > 4.7).all()
    for (a, b), at, u in zip(across(places, ways, 3.0), places, ways, strict=True):
        assert np.allclose(np.add(a, b) / 2, at) and abs(float(np.subtract(b, a) @ u)) < 1e-9
        assert float(np.array([a[1] - b[1], b[0] - a[0]]) @ u) > 0  # ahead lies left of a -> b
    with pytest.raises(BadInput):
        along_arc(np.array([[0, 0], [1, 1], [2, 2.0]]), 1.0)
