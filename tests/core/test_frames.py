from __future__ import annotations

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from taut_lantern.core import frames

angle = st.floats(-3.1, 3.1)
far = st.floats(-6e6, 6e6)


def some_pose(rx: float, ry: float, rz: float, x: float, y: float, z: float) -> np.ndarray:
    t = np.eye(4)
    t[:3, :3] = frames.rotation(np.array([rx, ry, rz]))
    t[:3, 3] = x, y, z
    return t


poses = st.builds(some_pose, angle, angle, angle, far, far, far)


@given(poses, poses)
def test_a_pose_and_its_inverse_cancel_even_at_large_coordinates(a: np.ndarray, b: np.ndarray) -> None:
    p = np.array([[1.0, 2.0, 3.0], [-50.0, 20.0, 0.0]])
    np.testing.assert_allclose(frames.apply(frames.inverse(a), frames.apply(a, p)), p, atol=1e-7)
    np.testing.assert_allclose(frames.inverse(a @ b), frames.inverse(b) @ frames.inverse(a), rtol=1e-9, atol=1e-7)


@given(angle, angle, angle)
def test_rotation_vectors_and_matrices_are_each_others_inverse(x: float, y: float, z: float) -> None:
    w = np.array([x, y, z])
    w = w / max(1.0, np.linalg.norm(w) / 3.1)
    r = frames.rotation(w)
    assert frames.is_rigid(np.block([[r, np.zeros((3, 1))], [np.zeros((1, 3)), np.ones((1, 1))]]))
    np.testing.assert_allclose(frames.rotation_vector(r), w, atol=1e-6)


def test_what_is_no_rotation_is_not_rigid() -> None:
    for bad in (np.diag([1, 1, -1, 1.0]), np.diag([2, 2, 2, 1.0]), np.full((4, 4), np.nan), np.zeros((4, 4))):
        assert not frames.is_rigid(bad)


def test_difference_names_metres_and_radians_apart() -> None:
    metres, radians = frames.difference(frames.pose(0.3, (1, 2, 3)), frames.pose(0.31, (1, 2, 3.005)))
    assert abs(radians - 0.01) < 1e-9 and abs(metres - 0.005) < 1e-6


@given(st.lists(poses, min_size=1, max_size=5))
def test_many_at_once_are_what_each_is_alone(some: list[np.ndarray]) -> None:
    many = np.array(some)
    np.testing.assert_allclose(frames.inverses(many), [frames.inverse(t) for t in some])
    np.testing.assert_allclose(frames.rotation_vectors(many[:, :3, :3]), [frames.rotation_vector(t[:3, :3]) for t in some], atol=1e-9)
    np.testing.assert_allclose(frames.skews(many[:, :3, 3]), [frames.skew(t[:3, 3]) for t in some])
