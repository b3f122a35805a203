"""Steel members and boxes from picks, held to what was put up before simulated instruments."""

from __future__ import annotations

import numpy as np
import pytest
import trimesh

from taut_lantern.core import frames
from taut_lantern.core.draw import steel
from taut_lantern.core.draw.solids import boxed, member
from taut_lantern.core.errors import NotEnough
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import Scene

GREY = (0.4, 0.42, 0.45)
STANDS = ((-2.0, -1.0), (2.2, -0.4), (0.3, 4.6))


def bar(scene: Scene, name: str, there: np.ndarray, long: float) -> None:
    """A member of a standard section, as the boxes of its web and flanges."""
    if name in steel.I_SHAPES:
        h, b, w, f = (v / 1000 for v in steel.I_SHAPES[name])
        rects = [(-b / 2, -h / 2, b / 2, f - h / 2), (-b / 2, h / 2 - f, b / 2, h / 2), (-w / 2, f - h / 2, w / 2, h / 2 - f)]
    elif name in steel.U_SHAPES:
        h, b, w, f = (v / 1000 for v in steel.U_SHAPES[name])
        rects = [(-b / 2, -h / 2, b / 2, f - h / 2), (-b / 2, h / 2 - f, b / 2, h / 2), (-b / 2, f - h / 2, w - b / 2, h / 2 - f)]
    else:
        a = int(name.split()[1]) / 2000
        rects = [(-a, -a, a, a)]
    for x0, y0, x1, y1 in rects:
        m = trimesh.creation.box((x1 - x0, y1 - y0, long)).apply_translation(((x0 + x1) / 2, (y0 + y1) / 2, long / 2))
        scene.add(m.apply_transform(there), GREY, 0.4, by_face_normal=True)


def seen(scene: Scene, count: int, points: int = 1_200_000) -> tuple[np.ndarray, np.ndarray]:
    found, stands = [], []
    for k, (x, y) in enumerate(STANDS[:count]):
        cloud, pose = scan(scene, (x, y, 1.7), 0.3 * k, 50 + k, Scanner(points=points))
        found.append(frames.apply(pose, cloud.xyz))
        stands.append(pose[:3, 3])
    return np.concatenate(found), np.array(stands)


UPRIGHT = np.eye(4)
LYING = np.array([[0, 0, 1, 0], [1, 0, 0, 0], [0, 1, 0, 0], [0, 0, 0, 1.0]])


@pytest.mark.parametrize(
    ("name", "lies", "count", "turn"),
    [("IPE 270", LYING, 2, 0.4), ("HE 180 A", UPRIGHT, 2, 1.1), ("UPE 180", UPRIGHT, 3, 2.0)],
)
def test_a_member_is_told_by_its_section_and_lies_where_it_was_put(name: str, lies: np.ndarray, count: int, turn: float) -> None:
    """Out of plumb by half a degree; a name is told only when no other would do."""
    scene = Scene()
    scene.box((-6, -6, -0.2), (6, 6, 0), (0.5, 0.5, 0.5))
    scene.box((-6, 5.5, 0), (6, 6, 4), (0.7, 0.7, 0.7))
    there = frames.pose(turn, (0.2, 2.0, 0.05 if lies is UPRIGHT else 0.8)) @ frames.small(np.array([0.008, -0.006, 0, 0, 0, 0])) @ lies
    bar(scene, name, there, 2.2)
    points, stands = seen(scene, count)
    profile = next(p for p in steel.series() if p.name == name)
    local = frames.apply(frames.inverse(there), points)
    on = points[(np.abs(local[:, 2] - 1.1) < 0.1) & (steel.distances(profile.outline, local[:, :2]) < 0.003)]
    m = member(points, on[len(on) // 3], stands)
    assert m.section.profile.name == name and not m.section.alike and m.rms < 0.002
    way = (m.b - m.a) / np.linalg.norm(m.b - m.a)
    for end in frames.apply(there, np.array([[0.0, 0, 0], [0, 0, 2.2]])):
        d = end - m.a
        assert np.linalg.norm(d - way * float(d @ way)) < 0.0015
    assert abs(float(np.linalg.norm(m.b - m.a)) - 2.2) < 0.02
    flat = abs(float(m.x @ (there[:3, :3] @ [1, 0, 0])))
    assert min(flat, 1 - flat) < 1e-3 and np.abs(m.corners - m.a).max() < 0.2


def test_a_wall_and_a_round_pipe_are_no_members() -> None:
    scene = Scene()
    scene.box((-6, -6, -0.2), (6, 6, 0), (0.5, 0.5, 0.5))
    scene.box((-6, 3.0, 0), (6, 3.3, 4), (0.7, 0.7, 0.7))
    scene.tube((-1.0, 1.5, 0.0), (-1.0, 1.5, 2.5), 0.11, GREY)
    points, stands = seen(scene, 2)
    wall = points[np.argmin(np.linalg.norm(points - [1.0, 3.0, 1.5], axis=1))]
    pipe = points[np.argmin(np.linalg.norm(points - [-1.0, 1.39, 1.2], axis=1))]
    for pick in (wall, pipe):
        with pytest.raises(NotEnough):
            member(points, pick, stands)


def test_a_plate_that_hides_what_tells_sections_apart_names_none() -> None:
    """Only the outer face of a flange 200 mm wide is seen: four sections have one."""
    rng = np.random.default_rng(4)
    face = np.column_stack([np.zeros(6000), rng.uniform(-0.1, 0.1, 6000), rng.uniform(0, 2, 6000)]) + rng.normal(0, 0.001, (6000, 3)) * [
        1,
        0,
        0,
    ]
    m = member(face, np.array([0.0, 0.01, 1.0]), np.array([[-4.0, 0.0, 1.6]]))
    assert {"HE 200 A", "HE 200 B"} & {m.section.profile.name, *m.section.alike} and len(m.section.alike) >= 2


@pytest.mark.parametrize("seed", [1, 3])
def test_a_box_has_its_size_from_two_of_its_faces(seed: int) -> None:
    rng = np.random.default_rng(seed)
    size = rng.uniform(0.4, 1.1, 3)
    there = frames.pose(rng.uniform(0, 6), (0.3, 1.8, 0.0)) @ frames.small(np.array([*rng.normal(0, 0.01, 2), 0, 0, 0, 0]))
    scene = Scene()
    scene.box((-6, -6, -0.5), (6, 6, -0.3), (0.5, 0.5, 0.5))
    scene.add(trimesh.creation.box(size).apply_translation(size / 2).apply_transform(there), GREY, 0.5, by_face_normal=True)
    points, _ = seen(scene, 1, 1_600_000)
    local = frames.apply(frames.inverse(there), points)
    inner = lambda free: np.abs(local[:, free] / size[free] - 0.5) < 0.2  # noqa: E731
    top = points[(np.abs(local[:, 2] - size[2]) < 0.004) & inner(0) & inner(1)]
    sides = []
    for k in (0, 1):
        for at in (0.0, size[k]):
            own = points[(np.abs(local[:, k] - at) < 0.004) & inner(1 - k) & inner(2)]
            sides.append(own)
    side = max(sides, key=len)
    assert len(top) > 30 and len(side) > 30
    b = boxed(points, np.array([top[len(top) // 2], side[len(side) // 2]]))
    assert np.abs(np.sort(np.linalg.norm(b.edges, axis=1)) - np.sort(size)).max() < b.error + 0.003 < 0.04, (
        np.linalg.norm(b.edges, axis=1),
        size,
    )
    middle = b.corner + b.edges.sum(axis=0) / 2
    assert np.linalg.norm(middle - frames.apply(there, size[None] / 2)[0]) < b.error and b.rms < 0.002
    wall = points[np.abs(points[:, 2] + 0.3) < 0.01]
    with pytest.raises(NotEnough):
        boxed(points, np.array([top[0], wall[np.argmin(np.linalg.norm(wall - middle, axis=1))]]))
