"""Rooms from a pick, images in mirrors, doors that turned: held to what was built."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
import trimesh

from taut_lantern.core import frames
from taut_lantern.core.clean.doors import doors
from taut_lantern.core.clean.ghosts import Ghost, ghosts
from taut_lantern.core.clean.grow import grown
from taut_lantern.core.clean.movers import Seen
from taut_lantern.core.clean.rooms import levels_of, room_of
from taut_lantern.core.errors import NotEnough
from taut_lantern.core.scan.catch import catch
from taut_lantern.core.scan.grid import range_image
from taut_lantern.formats.trees import trees
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import STATIONS, Mirror, Scene, ottermere
from taut_lantern.standins.site import simulate, station_pose
from tests.truth.layouts import LAYOUTS, room

TURN = frames.pose(0.4, (3.0, -2.0, 0.5))  # what stands square in the site does not in the part


@pytest.fixture(scope="module")
def demo() -> list[tuple[np.ndarray, np.ndarray]]:
    return [(s.xyz, pose) for s, pose in (simulate(name, Scanner(points=150_000)) for name in STATIONS)]


@pytest.mark.parametrize(
    ("pick", "low", "high"),
    [
        ((28.0, 3.0, 0.0), (24.3, 0.0, 0.0), (31.0, 6.0, 3.0)),  # the control room, from its middle
        ((25.3, 1.0, 0.0), (24.3, 0.0, 0.0), (31.0, 6.0, 3.0)),  # and from a corner
        ((12.0, 8.6, -3.2), (1.6, 6.9, -3.2), (22.0, 11.0, -0.3)),  # the gallery, with pipes before its walls
        ((5.0, 3.0, 0.0), (0.0, 0.0, 0.0), (24.0, 12.0, 2.8)),  # the engine hall: a gate, no level ceiling
    ],
)
def test_a_room_is_boxed_from_a_pick_on_its_floor(demo: list[tuple[np.ndarray, np.ndarray]], pick: Any, low: Any, high: Any) -> None:
    points = np.concatenate([frames.apply(TURN @ pose, xyz) for xyz, pose in demo])
    scanner = np.concatenate([np.broadcast_to((TURN @ pose)[:3, 3], xyz.shape) for xyz, pose in demo])
    found = room_of(points, frames.apply(TURN, np.array([pick]))[0], scanner=scanner)
    own = frames.inverse(TURN) @ found.box.T_part_box
    quarter = round(frames.yaw_of(own) / (math.pi / 2)) * math.pi / 2
    assert abs(frames.yaw_of(own) - quarter) < math.radians(0.3) and found.sides == 4
    half = np.abs(frames.pose(quarter)[:3, :3] @ found.box.half)
    np.testing.assert_allclose(own[:3, 3] - half, low, atol=0.12)
    np.testing.assert_allclose(own[:3, 3] + half, high, atol=0.12)


def test_rooms_of_a_terrace_are_told_apart() -> None:
    layout = next(x for x in LAYOUTS if x.name.startswith("terrace"))
    clouds = layout.scans(Scanner(points=150_000), 31).values()
    points = np.concatenate([frames.apply(pose, s.xyz) for s, pose in clouds])
    for k in range(5):
        found = room_of(points, np.array([5.0 * k + 1.6, 1.0, 0.0]))
        own, half = np.array(found.box.centre), np.array(found.box.half)
        turned = frames.yaw_of(frames.pose(found.box.yaw))
        half = half if abs(turned) < 0.1 else half[[1, 0, 2]]
        np.testing.assert_allclose(own - half, (5.0 * k, 0.1, 0.0), atol=0.15)
        np.testing.assert_allclose(own + half, (5.0 * k + 4.8, 5.0, 2.7), atol=0.15)
    with pytest.raises(NotEnough, match="no floor"):
        room_of(points, np.array([2.0, 2.0, 1.3]))


def test_a_room_that_is_longer_than_the_reach_is_boxed_to_where_that_ends() -> None:
    rng = np.random.default_rng(3)
    room = rng.uniform((-6, -2, 0), (6, 2, 2.6), (60_000, 3))
    side = rng.integers(6, size=len(room))
    for axis, end in ((0, 6.0), (1, 2.0)):
        room[side == 2 * axis, axis], room[side == 2 * axis + 1, axis] = -end, end
    room[side == 4, 2], room[side == 5, 2] = 0.0, 2.6
    points = frames.apply(frames.pose(math.radians(45)), room)
    found = room_of(points, np.zeros(3), reach=5.0, scanner=np.broadcast_to([0.0, 0.0, 1.6], points.shape))
    assert found.sides == 4 and np.allclose(sorted(found.box.half)[1:], [2.06, 5.06], atol=0.12)


def test_a_wall_behind_a_cupboard_is_the_face_of_its_own_room() -> None:
    scene = Scene()
    for x in (0.0, 4.2):
        room(scene, (x, 0.0, 0.0), (x + 4.0, 4.0, 2.6), {})
    scene.box((3.4, 0.2, 0.0), (4.0, 3.9, 2.0), (0.5, 0.4, 0.3), 0.45)
    clouds = [scan(scene, where, 0.4, k, Scanner(points=200_000)) for k, where in enumerate([(1.6, 2.2, 1.6), (6.0, 1.9, 1.6)])]
    points = np.concatenate([frames.apply(pose, cloud.xyz) for cloud, pose in clouds])
    scanner = np.concatenate([np.broadcast_to(pose[:3, 3], cloud.xyz.shape) for cloud, pose in clouds])
    for pick, low, high in (((1.0, 1.0, 0.0), (0.0, 0.0), (4.0, 4.0)), ((7.0, 1.0, 0.0), (4.2, 0.0), (8.2, 4.0))):
        found = room_of(points, np.array(pick), scanner=scanner)
        half = np.array(found.box.half)[[0, 1] if abs(math.sin(found.box.yaw)) < 0.5 else [1, 0]]
        np.testing.assert_allclose(np.array(found.box.centre[:2]) - half, low, atol=0.12)
        np.testing.assert_allclose(np.array(found.box.centre[:2]) + half, high, atol=0.12)


def test_floor_and_ceiling_are_the_outermost_levels_in_which_points_gather() -> None:
    rng = np.random.default_rng(5)
    heights = np.concatenate(
        [rng.normal(0.0, 0.004, 4000), rng.uniform(0, 2.7, 3000), rng.normal(0.74, 0.004, 900), rng.normal(2.7, 0.004, 3000)]
    )
    found = levels_of(heights)
    assert found.floor == pytest.approx(0.0, abs=0.03) and found.ceiling == pytest.approx(2.7, abs=0.03)
    assert levels_of(heights[heights < 2.0]).ceiling is None


MIRRORS = [
    Mirror((25.2, 0.006, 1.5), (0, 1, 0), 0.9, 1.2),
    Mirror((13.1, 0.006, 1.6), (0, 1, 0), 1.6, 1.6),
    Mirror((10.5, 4.0, 0.001), (0, 0, 1), 4.0, 3.0, 0.5),  # a wet floor
]


def behind(own: Seen, m: Mirror) -> np.ndarray:
    """(n,) which points of a station are images: their rays met the mirror."""
    p, origin, c = frames.apply(own.T_part_station, own.xyz), own.T_part_station[:3, 3], np.array(m.centre)
    right, up, n = m.axes()
    off, high = (p - c) @ n, float((origin - c) @ n)
    at = origin + (p - origin) * (high / (high - off))[:, None] - c
    return np.asarray((off < -0.06) & (high > 0) & (np.abs(at @ right) < m.width / 2) & (np.abs(at @ up) < m.height / 2))


def looked(mirrors: list[Mirror], names: tuple[str, ...]) -> list[Seen]:
    out = []
    for name in names:
        scene = ottermere(3, [])
        scene.mirrors = mirrors
        where, yaw = station_pose(name)
        cloud, pose = scan(scene, where, yaw, int(name[-2:]), Scanner(points=300_000))
        out.append(Seen(name, range_image(cloud), cloud.xyz, pose))
    return out


def scored(stations: list[Seen], mirrors: list[Mirror]) -> tuple[list[Ghost], int, int, int]:
    """What is found, and how many points are images, are images that were found, were found and are none."""
    found = ghosts(stations, trees("mirrors"))
    images = hit = wrong = 0
    for own in stations:
        mine = np.zeros(len(own.xyz), bool)
        for g in found:
            if g.station == own.name:
                mine[g.points] = True
        true = np.any([behind(own, m) for m in mirrors], axis=0)
        images, hit, wrong = images + int(true.sum()), hit + int((true & mine).sum()), wrong + int((mine & ~true).sum())
    return found, images, hit, wrong


def test_images_in_mirrors_and_on_a_wet_floor_are_found_and_nothing_of_the_rooms() -> None:
    names = ("ST-01", "ST-02", "ST-04", "ST-05", "ST-06")
    found, images, hit, wrong = scored(looked(MIRRORS, names), MIRRORS)
    assert images > 15_000 and hit > 0.9 * images, hit / images
    assert wrong < 60, wrong  # at the rims of the mirrors
    assert {g.level for g in found} == {True, False} and all(g.share > 0.5 for g in found)
    assert ghosts(looked([], names[:3]), trees("mirrors")) == []


@pytest.mark.parametrize("x", [5.46, 6.43])
def test_a_mirror_that_reaches_to_the_end_of_a_cabinet_is_told_from_the_open_beside_it(x: float) -> None:
    """Of its images half are found, as what borders on the open is left; no beam met two surfaces."""
    mirror = Mirror((x, 4.906, 1.3), (0, 1, 0), 0.9, 1.15)
    stations = []
    for k, place in enumerate(((5.9, 6.4), (3.0, 7.6), (10.5, 7.4), (11.5, 2.2), (3.5, 2.4))):
        s, pale = Scene(), (0.8, 0.8, 0.75)
        s.box((0, 0, -0.2), (14, 9, 0), (0.5, 0.5, 0.5))
        s.box((0, 0, 4.5), (14, 9, 4.7), pale)
        for axis, at, span in ((1, -0.1, (0, 14)), (1, 9.0, (0, 14)), (0, -0.1, (0, 9)), (0, 14.0, (0, 9))):
            s.wall(axis, at, 0.1, span, (0, 4.5), [], pale)
        s.box((5.0, 4.0, 0), (6.9, 4.9, 1.9), pale)  # the cabinet
        for a, b, high in ((1.5, 7.5, 1.9), (11.0, 6.8, 0.8), (2.0, 1.2, 1.3), (9.5, 1.0, 2.1), (12.5, 3.5, 0.7)):
            s.box((a, b, 0), (a + 0.9, b + 0.6, high), (0.5, 0.35, 0.2), 0.5)
        s.mirrors = [mirror]
        cloud, pose = scan(s, (*place, 1.6 + 0.03 * k), 0.5 * k, 80 + k, Scanner(points=200_000, mixed=0.0))
        stations.append(Seen(f"S{k}", range_image(cloud), cloud.xyz, pose))
    _, images, hit, wrong = scored(stations, [mirror])
    assert images > 4000 and hit > 0.4 * images, hit / images
    assert wrong == 0


def test_a_window_to_a_room_as_deep_as_that_before_it_is_no_mirror() -> None:
    """From one station, where nobody else says anything: the next room's far wall is met as far before the window as it stands behind."""
    s, pale = Scene(), (0.8, 0.8, 0.75)
    s.box((0, -6.1, -0.2), (10, 6, 0), (0.5, 0.5, 0.5))
    s.box((0, -6.1, 3), (10, 6, 3.2), pale)
    for axis, at, span in ((1, -6.1, (0, 10)), (1, 6.0, (0, 10)), (0, -0.1, (-6.1, 6)), (0, 10.0, (-6.1, 6))):
        s.wall(axis, at, 0.1, span, (0, 3), [], pale)
    s.wall(1, -0.1, 0.1, (0, 10), (0, 3), [(5.0, 5.8, 1.0, 2.0)], pale)
    for a, b, high in ((1.5, 3.0, 0.9), (8.0, 2.0, 1.2), (2.0, 1.5, 0.5)):
        s.box((a, b, 0), (a + 0.8, b + 0.5, high), (0.5, 0.35, 0.2), 0.5)
    cloud, pose = scan(s, (5.2, 2.9, 1.6), 0.0, 80, Scanner(points=250_000))
    assert (frames.apply(pose, cloud.xyz)[:, 1] < -5.9).sum() > 500  # it looks through
    assert ghosts([Seen("S0", range_image(cloud), cloud.xyz, pose)], trees("mirrors")) == []


def _passage(angle: float) -> Scene:
    """Two rooms and a door between them that is opened by an angle."""
    s, pale = Scene(), (0.8, 0.8, 0.75)
    s.box((-1, -4, -0.2), (7, 4, 0), (0.5, 0.5, 0.5))
    s.box((-1, -4, 2.7), (7, 4, 2.9), pale)
    for axis, at, span in ((1, -4.1, (-1, 7)), (1, 4.0, (-1, 7)), (0, -1.1, (-4, 4)), (0, 7.0, (-4, 4))):
        s.wall(axis, at, 0.1, span, (0, 2.7), [], pale)
    s.wall(0, 3.0, 0.1, (-4, 4), (0, 2.7), [(0.0, 0.9, 0.0, 2.05)], pale)
    s.box((4.5, 2, 0), (6, 3.5, 0.8), pale)
    leaf = trimesh.creation.box((0.04, 0.86, 2.0))
    leaf.apply_translation((0, 0.45, 1.02))
    leaf.apply_transform(trimesh.transformations.rotation_matrix(-angle, (0, 0, 1)))
    leaf.apply_translation((3.05, 0.0, 0))
    s.add(leaf, (0.5, 0.35, 0.2), 0.5, True)
    return s


def test_a_door_that_was_open_in_one_scan_and_closed_in_others_is_offered_both_ways() -> None:
    where = (((0.8, 1.3, 1.6), 75.0), ((1.2, 1.8, 1.7), 0.0), ((5.0, -1.0, 1.65), 0.0))
    stations = []
    for k, (at, angle) in enumerate(where):
        cloud, pose = scan(_passage(math.radians(angle)), at, 0.3 * k, k + 5, Scanner(points=250_000))
        stations.append(Seen(f"S{k}", range_image(cloud), cloud.xyz, pose))
    (door,) = doors(stations)
    assert math.degrees(door.angle) == pytest.approx(75, abs=2)
    assert [x.station for x in door.one] == ["S0"] and [x.station for x in door.other] == ["S1", "S2"]
    for leaf, angle in ((door.one[0], 75.0), (door.other[0], 0.0)):
        own = next(x for x in stations if x.name == leaf.station)
        turned = frames.pose(math.radians(angle)) @ frames.pose(0.0, (-3.05, 0.0, 0.0)) @ own.T_part_station
        p = frames.apply(turned, own.xyz[leaf.points])  # the leaf as it stands closed
        assert np.abs(p[:, 0]).max() < 0.06 and p[:, 1].min() > -0.05 and p[:, 1].max() < 0.93 and p[:, 2].max() < 2.06
    still = [Seen(x.name, x.grid, x.xyz, x.T_part_station) for x in stations[1:]]
    assert doors(still) == []  # it stood closed in both


def test_what_bends_on_is_followed_round_a_pipe_and_not_onto_the_wall_behind_it() -> None:
    rng = np.random.default_rng(8)
    turn, along = rng.uniform(0, 2 * math.pi, 30_000), rng.uniform(-1.5, 1.5, 30_000)
    pipe = np.stack([0.15 * np.cos(turn), 0.15 * np.sin(turn), along], axis=1)
    wall = np.stack([np.full(30_000, 0.24), rng.uniform(-1.5, 1.5, 30_000), rng.uniform(-1.5, 1.5, 30_000)], axis=1)
    points = np.concatenate([pipe, wall]) + rng.normal(0, 0.0012, (60_000, 3))
    pick = np.array([-0.15, 0.0, 0.1])
    caught = catch(points[np.linalg.norm(points - pick, axis=1) < 0.1], pick, np.array([-3.0, 0, 0]))
    for what in ("surface", "smooth"):
        found = grown(points, pick, what, caught)
        assert found[:30_000].mean() > 0.97 and found[30_000:].sum() == 0, what
