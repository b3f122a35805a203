"""Rigid transforms between named frames.

A pose is a (4, 4) float64 array ``T_target_source`` with ``p_target = T_target_source @ [p_source, 1]``.
Small motions are six numbers ``[rx, ry, rz, tx, ty, tz]`` (radians, metres) applied on the left:
``T' = small(d) @ T`` (Barfoot, *State Estimation for Robotics*, ch. 7, left perturbation, rotation and
translation kept apart).
"""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial.transform import Rotation

Array = NDArray[np.float64]
UNIT_WORDS = {"m": "metres", "mm": "millimetres", "ft": "international feet", "us_ft": "US survey feet"}
METRE_PER_UNIT = {"m": 1.0, "mm": 0.001, "ft": 0.3048, "us_ft": 1200.0 / 3937.0}


def skew(v: Array) -> Array:
    """Cross-product matrix of a (3,) vector."""
    return np.array([[0, -v[2], v[1]], [v[2], 0, -v[0]], [-v[1], v[0], 0]], dtype=float)


def skews(v: Array) -> Array:
    """(n, 3, 3) of (n, 3), each as :func:`skew`."""
    out = np.zeros((len(v), 3, 3))
    out[:, 0, 1], out[:, 0, 2], out[:, 1, 2] = -v[:, 2], v[:, 1], -v[:, 0]
    return out - out.transpose(0, 2, 1)


def rotation(w: Array) -> Array:
    """(3, 3) rotation of the rotation vector w (3,), radians."""
    return Rotation.from_rotvec(w).as_matrix()


def rotation_vector(r: Array) -> Array:
    """Rotation vector (3,), radians, of a (3, 3) rotation; inverse of :func:`rotation`."""
    return Rotation.from_matrix(r, assume_valid=True).as_rotvec()


def rotation_vectors(r: Array) -> Array:
    """(n, 3) of (n, 3, 3), each as :func:`rotation_vector`."""
    return Rotation.from_matrix(r, assume_valid=True).as_rotvec() if len(r) else np.zeros((0, 3))


def inverses(t: Array) -> Array:
    """(n, 4, 4) inverses of rigid transforms."""
    out = np.zeros_like(t)
    out[:, :3, :3] = t[:, :3, :3].transpose(0, 2, 1)
    out[:, :3, 3] = -np.einsum("nij,nj->ni", out[:, :3, :3], t[:, :3, 3])
    out[:, 3, 3] = 1
    return out


def small(d: Array) -> Array:
    """(4, 4) transform of a small motion [rx, ry, rz, tx, ty, tz]."""
    t = np.eye(4)
    t[:3, :3] = rotation(np.asarray(d[:3], float))
    t[:3, 3] = d[3:]
    return t


_CORNERS = np.array([[i, j, k] for i in (0, 1) for j in (0, 1) for k in (0, 1)])  # of a box: lowest or highest in x, y, z


def pose(yaw_rad: float = 0.0, xyz: tuple[float, float, float] = (0.0, 0.0, 0.0)) -> Array:
    t = np.eye(4)
    c, s = math.cos(yaw_rad), math.sin(yaw_rad)
    t[:2, :2] = [[c, -s], [s, c]]
    t[:3, 3] = xyz
    return t


def inverse(t: Array) -> Array:
    out = np.eye(4)
    out[:3, :3] = t[:3, :3].T
    out[:3, 3] = -t[:3, :3].T @ t[:3, 3]
    return out


def apply(t: Array, p: NDArray[Any]) -> Array:
    """Points (n, 3) in the source frame -> (n, 3) float64 in the target frame."""
    return np.asarray(p, dtype=float) @ t[:3, :3].T + t[:3, 3]


def corners(low: NDArray[Any], high: NDArray[Any]) -> Array:
    """The eight corners (n, 8, 3) of boxes from low (n, 3) to high (n, 3) along the axes of their frame."""
    return np.stack([low, high], axis=1).astype(float)[:, _CORNERS, [0, 1, 2]]


def orthonormal(t: Array) -> Array:
    """The closest proper rigid transform to t (removes rounding drift)."""
    u, _, vt = np.linalg.svd(t[:3, :3])
    out = np.eye(4)
    out[:3, :3] = u @ np.diag([1, 1, np.linalg.det(u @ vt)]) @ vt
    out[:3, 3] = t[:3, 3]
    return out


def difference(a: Array, b: Array) -> tuple[float, float]:
    """How far two poses are apart: (metres between origins, radians)."""
    (x, y, z), turned = (b[:3, 3] - a[:3, 3]).tolist(), (b[:3, :3] - a[:3, :3]).ravel()
    chord = math.sqrt(float(turned @ turned) / 8)  # of the difference of two rotations: 2 sqrt 2 sin of half the angle
    return math.sqrt(x * x + y * y + z * z), 2 * math.asin(min(chord, 1.0))


def yaw_of(t: Array) -> float:
    return math.atan2(t[1, 0], t[0, 0])


def is_rigid(t: Array) -> bool:
    return bool(
        t.shape == (4, 4)
        and np.isfinite(t).all()
        and np.allclose(t[:3, :3] @ t[:3, :3].T, np.eye(3), atol=1e-6)
        and np.linalg.det(t[:3, :3]) > 0
    )


def upright(up: Array) -> Array:
    """(4, 4) the least turn that brings a direction to the z axis."""
    turn, out = np.cross(up, [0.0, 0.0, 1.0]), np.eye(4)
    size = float(np.linalg.norm(turn))
    if size > 1e-12:
        out[:3, :3] = rotation(turn / size * np.arctan2(size, up[2]))
    return out


def stretch(t: Array) -> float:
    """By how much a transform lengthens, alike in all directions."""
    return float(np.cbrt(np.linalg.det(t[:3, :3])))


def unstretched(t: Array) -> Array:
    """(4, 4) the transform without its stretch: where it puts the origin, and how it turns."""
    out = t.copy()
    out[:3, :3] /= stretch(t)
    return out
