"""A mirror and a door of the same size in the same wall: what stations say of what was measured behind it."""

from __future__ import annotations

import numpy as np
import pytest

from taut_lantern.core.clean.gaps import SIGHTS, Gap
from taut_lantern.core.clean.ghosts import among, gaps
from taut_lantern.core.clean.movers import Seen
from taut_lantern.core.scan.grid import range_image
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import Mirror, Scene

WHERE = ((1.2, -1.0, 1.6), (2.9, 1.6, 1.6), (6.6, 0.8, 1.5))  # two before the wall at x = 4, one behind it
GREY = (0.6, 0.6, 0.6)


def looked(door: bool, mirror: bool) -> Gap:
    """The gap that the first station sees in the wall between two rooms."""
    seen = []
    for k, (x, y, z) in enumerate(WHERE):
        s = Scene()
        s.box((0, -3, -0.2), (10.7, 3, 0), GREY)
        s.box((0, -3, 2.6), (10.7, 3, 2.8), GREY)
        for axis, at, span in ((0, -0.1, (-3, 3)), (0, 10.7, (-3, 3)), (1, -3.1, (0, 10.7)), (1, 3.0, (0, 10.7))):
            s.wall(axis, at, 0.1, span, (0, 2.6), [], GREY)
        s.wall(0, 4.0, 0.2, (-3, 3), (0, 2.6), [(-0.6, 0.6, 0.4, 1.9)] if door else [], GREY)
        for low, high in (((0.2, 1.4, 0), (1.1, 2.0, 1.2)), ((2.0, -2.8, 0), (2.6, -2.2, 1.8)), ((6.0, -2.0, 0), (7.0, -1.2, 0.9))):
            s.box(low, high, GREY)
        s.mirrors = [Mirror((3.994, 0.0, 1.15), (-1, 0, 0), 1.2, 1.5)] if mirror else []
        cloud, pose = scan(s, (x, y, z), 0.3 * k, k, Scanner(points=120_000))
        seen.append(Seen(f"S{k}", range_image(cloud), cloud.xyz, pose))
    own = seen[0]
    of_wall = [g for g in gaps(own, seen) if abs(g.plane.far - 2.8) < 0.03 and (own.T_part_station[:3, :3] @ g.plane.normal)[0] < -0.99]
    return max(of_wall, key=lambda g: len(g.points))


def shares(gap: Gap) -> dict[str, float]:
    whole = np.ones(len(gap.points), bool)
    met = np.zeros(len(gap.points), bool)
    return {k: float(v.mean()) for k, v in gap.said(gap.points, met, gap.facing, whole).items()}


@pytest.fixture(scope="module")
def mirror() -> Gap:
    return looked(door=False, mirror=True)


@pytest.fixture(scope="module")
def door() -> Gap:
    return looked(door=True, mirror=False)


def test_through_a_door_others_measured_the_places_and_behind_a_mirror_the_images(mirror: Gap, door: Gap) -> None:
    at, through = shares(mirror), shares(door)
    assert at["met_by_own"] > 0.5 and through["met_by_own"] < 0.5 * at["met_by_own"], (at, through)
    assert through["real"] > 0.8 and at["real"] < 0.4, (at, through)
    assert at["barred_behind"] > 0.9 and through["barred_behind"] < 0.2, (at, through)  # by the face of the wall in the next room
    assert at["empty"] < 0.1


def test_every_patch_with_points_is_told_of_and_taken_whole(mirror: Gap) -> None:
    looked_at = mirror.looked_at()
    assert looked_at is not None
    there, seen = looked_at
    patch = mirror.patch(mirror.cell)
    assert seen.shape == (len(there), SIGHTS) and np.isfinite(seen).all()
    assert list(there) == list(np.unique(patch))
    some = np.zeros(mirror.shape[0] * mirror.shape[1], bool)
    some[there[: len(there) // 2]] = True
    np.testing.assert_array_equal(mirror.taken(some)[mirror.cell], some[patch])


def test_what_crosses_a_plane_beside_a_known_mirror_is_not_of_it() -> None:
    """A mirror of 1 x 1 m: places within it are of it, but for some at its edge; the reveal of a door 4 cm beside it is not, nor, when rays crossed it
    5 cm apart, what is seen 1 cm beside it."""
    rng = np.random.default_rng(2)
    random = rng.uniform(0, 1, (4000, 2))
    sparse = np.stack(np.meshgrid(*2 * [np.arange(0.025, 1, 0.05)]), axis=-1).reshape(-1, 2)
    for crossed, off in ((random, 0.04), (sparse, 0.01)):
        known = np.column_stack([crossed, np.zeros(len(crossed))])
        x = rng.uniform(0.01, 0.99, 300), np.full(300, 1 + off)
        within, beside = (np.column_stack([v, rng.uniform(0.1, 0.9, 300), np.zeros(300)]) for v in x)
        assert among(within, known).mean() > 0.97 and not among(beside, known).any()
