"""What speaks for and against a placement, on small scenes where the answer is known."""

from __future__ import annotations

from collections.abc import Callable
from functools import cache

import numpy as np
import pytest

from taut_lantern.core import frames
from taut_lantern.core.align.evidence import dense, evidence, patches
from taut_lantern.core.align.fine import fine
from taut_lantern.core.align.matches import Matches
from taut_lantern.core.align.prepared import Prepared, prepare
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import Scene

FAR = 900.0  # north of the demo site's own targets
STANDS = {"a": (1.5, FAR + 1.5, 1.5), "b": (6.5, FAR + 3.0, 1.6), "next door": (11.5, FAR + 2.0, 1.5)}


def shell(s: Scene, x: float, size: tuple[float, float, float]) -> None:
    """Four walls, floor and ceiling from (x, FAR) on."""
    grey, (w, d, h), t = (160, 160, 160), size, 0.2
    s.box((x - t, FAR - t, -t), (x + w + t, FAR + d + t, 0), grey)
    s.box((x - t, FAR - t, h), (x + w + t, FAR + d + t, h + t), grey)
    for y in (-t, d):
        s.box((x - t, FAR + y, 0), (x + w + t, FAR + y + t, h), grey)
    for at in (x - t, x + w):
        s.box((at, FAR - t, 0), (at + t, FAR + d + t, h), grey)


@cache
def seen(stand: str, cupboard: float = 5.0) -> tuple[Prepared, np.ndarray]:
    """A room of 8 x 5 x 3 m with a cupboard at x, and another room behind its wall."""
    s = Scene()
    shell(s, 0.0, (8.0, 5.0, 3.0))
    shell(s, 9.0, (5.0, 4.0, 2.6))
    s.box((cupboard, FAR + 3.9, 0.0), (cupboard + 1.2, FAR + 5.0, 2.0), (90, 60, 40))
    cloud, pose = scan(s, STANDS[stand], 0.3 * len(stand), 7, Scanner(points=150_000, surface_offset=0.0))
    return prepare(cloud), pose


def between(a: tuple[Prepared, np.ndarray], b: tuple[Prepared, np.ndarray]) -> np.ndarray:
    return frames.inverse(a[1]) @ b[1]


def test_the_true_placement_is_clean_and_both_saw_most_of_the_room() -> None:
    a, b = seen("a"), seen("b")
    d = dense(a[0], b[0], between(a, b))
    assert d.clean and d.see_through < 0.002 and d.overlap > 0.85
    across = 0.0  # what both images see, measured across the rays
    for grid in (a[0].grid, b[0].grid):
        rho2, elevation = (grid.image.astype(float) ** 2).sum(axis=2), grid.geo[2] + grid.geo[3] * np.arange(grid.image.shape[0])
        across += float((rho2 * np.cos(elevation)[:, None]).sum()) * grid.geo[1] * grid.geo[3]
    assert 0.7 < d.agree_m2 / (across * d.overlap) < 1.0  # edges, where no plane can be fitted, are left out


@pytest.mark.parametrize(
    "wrong",
    [
        lambda t: frames.pose(0, (0.8, 0, 0)) @ t,
        lambda t: frames.pose(0, (0, 0, 0.5)) @ t,
        lambda t: t @ frames.pose(np.pi / 2),
        lambda t: t @ frames.pose(np.pi),
    ],
    ids=["along", "up", "a quarter turn", "half a turn"],
)
def test_a_wrong_placement_is_seen_through(wrong: Callable[[np.ndarray], np.ndarray]) -> None:
    a, b = seen("a"), seen("b")
    d = dense(a[0], b[0], wrong(between(a, b)))
    assert not d.clean and d.see_through > 0.05 and d.violated_m2 > 2


def test_a_cupboard_that_was_moved_is_measured_in_square_metres() -> None:
    """One side of it and its front, where it stood and where it went: the rest of the room still agrees."""
    a, b = seen("a"), seen("b", cupboard=2.0)
    d = dense(a[0], b[0], between(a, b))
    assert not d.clean and 2 < d.violated_m2 < 12 and d.overlap > 0.6


def test_rooms_behind_one_wall_share_nothing_whatever_their_walls_look_like() -> None:
    a, b = seen("a"), seen("next door")
    d = dense(a[0], b[0], between(a, b))
    assert d.overlap < 0.02 and d.violated_m2 < 0.5


def test_the_test_is_the_same_from_either_side() -> None:
    a, b = seen("a"), seen("b")
    t = frames.pose(0.01, (0.3, 0.1, 0.0)) @ between(a, b)
    one, other = dense(a[0], b[0], t), dense(b[0], a[0], frames.inverse(t))
    assert one.see_through == pytest.approx(other.see_through, rel=1e-9) and one.overlap == pytest.approx(other.overlap, rel=1e-9)


def test_all_evidence_of_a_fine_alignment_is_of_one_kind() -> None:
    a, b = seen("a"), seen("b")
    result = fine(a[0], b[0], frames.pose(0.01, (0.05, -0.04, 0.02)) @ between(a, b))
    assert result is not None and frames.difference(result.T_a_b, between(a, b))[0] < 0.001
    e = evidence(a[0], b[0], result)
    assert e.fit_median < e.fit_rms < 0.002 and e.fit_median < e.fit_p90 < 0.003 and e.patch_share == 0 and e.patches > 100
    assert e.weak_sigma == result.weak_sigma < 0.001 and e.smallest > 0.01 and len(e.histogram) == 24
    assert set(e.as_dict()) >= {"overlap", "see_through", "violated_m2", "offset_sigma"}


def test_patches_that_stand_off_are_counted_and_thin_ones_have_no_say() -> None:
    rng = np.random.default_rng(4)
    place = np.concatenate(
        [np.array([k, 0.0, 0.0]) + rng.uniform(0.05, 0.45, (6, 3)) for k in range(8)] + [rng.uniform(0.05, 0.45, (3, 3)) + 50]
    )
    distance = np.concatenate([np.repeat([0.001, 0.009], [36, 12]), [0.1, 0.1, 0.1]])
    m = Matches(place, np.tile([0, 0, 1.0], (51, 1)), distance, np.full(51, -1.0), np.full(51, -1.0))
    assert patches(m) == (pytest.approx(2 / 8), 8)
    assert patches(Matches(place[:3], m.normal[:3], distance[:3], m.cos_a[:3], m.cos_b[:3])) == (1.0, 0)
