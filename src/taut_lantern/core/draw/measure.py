"""What people measure with picks: point, distance, polyline, angle, area, distance from a plane."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import BadInput, NotEnough
from ..scan.surface import Plane

Array = NDArray[np.float64]
LEAST = {
    "point": 1,
    "distance": 2,
    "polyline": 2,
    "angle": 3,
    "area": 3,
    "plane": 2,
    "pipe": 1,
    "clearance": 2,
    "profile": 2,
    "box": 2,
    "sphere": 1,
}
MOST = {"point": 1, "distance": 2, "angle": 3, "plane": 2, "clearance": 2, "profile": 2, "box": 4, "sphere": 1}


def checked(kind: str, points: Array) -> Array:
    """The picks (n, 3) of a measure; BadInput when the kind is none, or they are too few or too many for it."""
    if kind not in LEAST:
        raise BadInput(f"unknown measure {kind!r}", subject=kind, remedy=f"use one of {', '.join(LEAST)}")
    p = np.asarray(points, float).reshape(-1, 3)
    if not np.isfinite(p).all() or not LEAST[kind] <= len(p) <= MOST.get(kind, 2000):
        wanted = str(LEAST[kind]) if kind in MOST else f"{LEAST[kind]} or more"
        raise BadInput(f"a {kind} takes {wanted} picks; {len(p)} came", subject=kind, remedy="pick again")
    return p


def measured(kind: str, points: Array, plane: Plane | None = None, pipe: dict[str, Any] | None = None) -> dict[str, float]:
    """Figures of a measure by name: metres, square metres, degrees. points (n, 3) in a frame whose z is up.

    slope, level, height: along the line, its level projection, the difference in height (last minus first). area: of the polygon
    in its own plane (Newell's normal); level_area: of its projection; flat: how far its corners leave the plane. off: signed
    distance from the plane, towards the side of the scanner when that is how the normal points. Of a pipe (its corners, and what was
    fitted): diameter, standard_diameter when the fit allows one, slope: its length over all corners, fall: how far its longest run leaves
    the level, or height when it stands. Of a steel member (its ends): section_height, section_width, and as of a pipe. Of a box (a corner, and
    where its three edges from there end): long, wide, high, the last of the edge that stands, and error, how
    far apart its points lie. Of a sphere: diameter, error. Of a clearance (the two places nearest to each other): clearance, level, height, and error, its
    deviation.
    """
    p = checked(kind, points)
    if kind == "point":
        return {}
    step = np.diff(p, axis=0)
    out: dict[str, float] = {}
    if kind == "clearance":
        out["clearance"] = float(np.linalg.norm(step))
        out["level"], out["height"] = float(np.linalg.norm(step[0, :2])), float(step[0, 2])
        if plane is None and pipe is not None:
            out["error"] = float(pipe["error"])
    elif kind in ("distance", "polyline"):
        out["slope"] = float(np.linalg.norm(step, axis=1).sum())
        out["level"] = float(np.linalg.norm(step[:, :2], axis=1).sum())
        out["height"] = float(p[-1, 2] - p[0, 2])
    elif kind == "angle":
        a, b = p[0] - p[1], p[2] - p[1]
        out["angle"] = float(np.degrees(np.arctan2(np.linalg.norm(np.cross(a, b)), a @ b)))
        level = np.arctan2(a[0] * b[1] - a[1] * b[0], a[:2] @ b[:2])
        out["level_angle"] = float(abs(np.degrees(level)))
    elif kind == "area":
        turned = np.roll(p, -1, axis=0)
        normal = 0.5 * np.cross(p - p[0], turned - p[0]).sum(axis=0)
        out["area"] = float(np.linalg.norm(normal))
        out["level_area"] = float(abs(normal[2]))
        out["round"] = float(np.linalg.norm(turned - p, axis=1).sum())
        if out["area"] > 0:
            off = (p - p.mean(axis=0)) @ (normal / out["area"])
            out["flat"] = float(np.abs(off).max())
    elif kind == "pipe":
        if pipe is None:
            raise NotEnough("the pipe of this measure is not known", remedy="measure it again")
        out["diameter"] = 2 * pipe["radius"]
        if pipe.get("nominal"):
            out["standard_diameter"] = pipe["nominal"]
        if len(step):
            out["slope"] = float(np.linalg.norm(step, axis=1).sum())
            longest = step[int(np.argmax(np.linalg.norm(step, axis=1)))]
            out["height" if abs(longest[2]) > np.linalg.norm(longest[:2]) else "fall"] = float(abs(longest[2]))
        out["rms"] = pipe["rms"]
    elif kind in ("profile", "box", "sphere"):
        out |= _of_body(kind, p, pipe)
    elif kind == "plane":
        if plane is None:
            raise NotEnough("the plane of this measure is not known", remedy="measure it again")
        out["off"] = float(plane.normal @ p[1] + plane.offset)
        out["rms"] = plane.rms
    return out


def _of_body(kind: str, p: Array, detail: dict[str, Any] | None) -> dict[str, float]:
    if detail is None:
        raise NotEnough("what was measured here is not known", remedy="measure it again")
    out: dict[str, float] = {}
    if kind == "profile":
        step = p[1] - p[0]
        out = {"section_height": detail["height"], "section_width": detail["width"], "slope": float(np.linalg.norm(step))}
        out["height" if abs(step[2]) > np.linalg.norm(step[:2]) else "fall"] = float(abs(step[2]))
    elif kind == "box":
        edges = p[1:] - p[0]
        long = np.linalg.norm(edges, axis=1)
        up = int(np.argmax(np.abs(edges[:, 2]) / np.maximum(long, 1e-9)))
        flat = sorted((float(v) for k, v in enumerate(long) if k != up), reverse=True)
        out = {"long": flat[0], "wide": flat[1], "high": float(long[up]), "error": detail["error"]}
    else:
        out = {"diameter": 2 * detail["radius"], "error": detail["error"]}
    return out | {"rms": detail["rms"]}
