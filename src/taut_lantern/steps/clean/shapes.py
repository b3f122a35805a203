"""Shapes as they are asked for, with what the project knows of them: a zone's points, a class, the active coordinates' height."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import cKDTree
from sqlalchemy.orm import Session

from ...core.clean.grow import KINDS, grown
from ...core.clean.select import WHOLE, All, Away, Box, Bright, Lasso, Shape, Slab, Sphere, Stroke
from ...core.errors import BadInput
from ...site.common import Array, finite, get_project, owned, stations_of
from ...site.frames import in_use
from ...site.near import caught_near
from ...site.visible import to_box
from ...store.marks import class_marks, classes_from, read_set
from ...store.models import CropBox, Station, Zone

Flags = NDArray[np.bool_]
MANY = 1_500_000  # points that are followed at most; of more, those beside them go along


@dataclass(frozen=True)
class Marked:
    """Points that are known by their numbers: by station a mask (points,)."""

    masks: dict[str, Flags]
    reads: tuple[str, ...] = ()

    def meets(self, corners: Array) -> Flags:
        return np.ones(len(corners), bool)

    def holds(self, points: Any) -> Flags:
        raise NotImplementedError("told by number, not by place")


@dataclass(frozen=True)
class Chosen:
    """shape: what is looked through; choose: which of all points (n, 3) that are inside it are meant, None for all of them."""

    shape: Shape | Marked
    choose: Callable[[Array], Flags] | None = None


def drawn(spec: dict[str, Any]) -> Lasso | Stroke:
    """An outline or a brush in a view. BadInput when it cannot be one."""
    if len(spec["outline"]) > 5000:
        raise BadInput("the outline has too many corners", subject="outline", remedy="draw it more coarsely")
    view = np.array(finite(spec["view"], 16, "the view")).reshape(4, 4)
    line, front = np.array(spec["outline"], dtype=float).reshape(-1, 2), spec.get("front")
    if spec["kind"] == "brush":
        across, up = finite(spec["radius"], 2, "the brush's width")
        return Stroke(view, line, front, (across, up))
    return Lasso(view, line, front)


def of_spec(
    s: Session, project_id: str, spec: dict[str, Any], station_ids: list[str], among: str, selected: dict[str, NDArray[np.int64]]
) -> Chosen:
    """What is meant by a shape as it was asked for. selected: what is selected before, by station."""
    kind = spec["kind"]
    if kind in ("lasso", "brush"):
        line = drawn(spec)
        return Chosen(line, line.in_front if line.front is not None else None)
    if kind == "box":
        return Chosen(to_box(owned(s, CropBox, project_id, spec["box"], "crop box")))
    if kind == "frame":
        (x, y, z), (a, b, c) = finite(spec["centre"], 3, "the box's centre"), finite(spec["half"], 3, "the box's half size")
        if min(a, b, c) <= 0:
            raise BadInput("a box needs a size above zero in every direction", subject="half", remedy="check its limits")
        return Chosen(Box((x, y, z), (a, b, c), float(spec["yaw"])))
    if kind == "sphere":
        return Chosen(Sphere(np.array(finite(spec["centre"], 3, "the sphere's centre")), float(spec["radius"])))
    if kind == "slab":
        at, normal = finite(spec["at"], 3, "the plane's place"), np.array(finite(spec["normal"], 3, "the plane's direction"))
        length = float(np.linalg.norm(normal))
        return Chosen(Slab(np.array(at), normal / length if length > 1e-9 else normal, *_limits(spec)))
    if kind == "height":
        return Chosen(_height(s, project_id, spec, station_ids))
    if kind == "intensity":
        return Chosen(Bright(*_limits(spec)))
    if kind == "range":
        return Chosen(Away(*_limits(spec)))
    if kind == "stations":
        return Chosen(All())
    if kind == "grow":
        return _grow(s, project_id, spec, station_ids)
    stations = [x for x in stations_of(s, project_id) if x.id in set(station_ids)]
    if kind == "zone":
        zone = owned(s, Zone, project_id, spec["zone"], "zone")
        held = read_set(s, zone.points)
        return Chosen(Marked({x.id: _mask(x, held[x.id]) for x in stations if x.id in held}))
    if kind == "class":
        return Chosen(Marked({x.id: classes_from(class_marks(s, x.id), x.points) == int(spec["code"]) for x in stations}))
    if kind == "inverse":
        nothing = np.zeros(0, np.int64)
        return Chosen(Marked({x.id: ~_mask(x, selected.get(x.id, nothing)) for x in stations}))
    raise BadInput(f"unknown shape {kind!r}", subject="shape", remedy="use one of those in the documentation")


def _mask(station: Station, index: NDArray[np.int64]) -> Flags:
    out = np.zeros(station.points, bool)
    out[index] = True
    return out


def _limits(spec: dict[str, Any]) -> tuple[float, float]:
    low, high = spec.get("low"), spec.get("high")
    if low is None and high is None:
        raise BadInput("between nothing and nothing lies everything", subject=spec["kind"], remedy="give a lower or a higher limit")
    return -WHOLE if low is None else float(low), WHOLE if high is None else float(high)


def _height(s: Session, project_id: str, spec: dict[str, Any], station_ids: list[str]) -> Slab:
    """Between two heights of the coordinates in use, metres."""
    project = get_project(s, project_id)
    part = next((x.part_id for x in stations_of(s, project_id) if x.id in set(station_ids)), None)
    T = in_use(s, project, part).T_frame_part
    up = T[2, :3]
    stretch = float(np.linalg.norm(up))
    low, high = _limits(spec)
    return Slab(np.zeros(3), up / stretch, (low - T[2, 3]) / stretch, (high - T[2, 3]) / stretch)


def _grow(s: Session, project_id: str, spec: dict[str, Any], station_ids: list[str]) -> Chosen:
    if spec["what"] not in KINDS:
        raise BadInput(f"nothing grows as {spec['what']!r}", subject="what", remedy=f"use {', '.join(KINDS)}")
    station = owned(s, Station, project_id, spec["station"], "station")
    pick = np.array(finite(spec["at"], 3, "the pick"))
    caught = caught_near(s, station, pick)

    def choose(points: Array) -> Flags:
        step = -(-len(points) // MANY)
        if step <= 1:
            return grown(points, pick, spec["what"], caught)
        some = points[::step]  # of many points a part is followed; those beside one that goes, go
        own = grown(some, pick, spec["what"], caught)
        away, at = cKDTree(some).query(points, distance_upper_bound=0.03, workers=2)
        near = np.isfinite(np.asarray(away))
        out = np.zeros(len(points), bool)
        out[near] = own[np.asarray(at)[near]]
        return out

    return Chosen(Sphere(pick, float(spec["reach"])), choose)
