"""Coordinates: a part's own, control, site grids; which are in use, in which unit, and whether their inputs still stand."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import frames
from ..core.errors import NotFound
from ..core.network.predicted import form
from ..core.place.solve import placed_covariance
from ..store.models import Control, Frame, Part, Project, Station
from .common import Array, matrix
from .parts import wanted
from .solution import solution_of

SAME = 1e-6  # metres: inputs that moved by less are the same


@dataclass(frozen=True)
class InUse:
    """The coordinates of one part as everything shows them. kind: project | control | grid; row: None for the part's own."""

    id: str
    name: str
    kind: str
    unit: str
    part: str | None
    T_frame_part: Array
    row: Frame | None = None
    network_revision: int = 0  # of the project, now


def in_use(s: Session, project: Project, part_id: str | None = None) -> InUse:
    """The frame in use when it belongs to the part (of which None means the one that is shown first), else its own."""
    part = wanted(s, project, part_id)
    row = None if project.active_frame == "project" else s.get(Frame, project.active_frame)
    if row is not None and row.project_id == project.id and row.part_id == part:
        return InUse(row.id, row.name, row.kind, row.unit, part, matrix(row.T_frame_part), row, project.network_revision)
    return InUse("project", "project", "project", project.unit, part, np.eye(4))


def frames_of(s: Session, project_id: str) -> list[Frame]:
    """Control and grids that can be used."""
    return list(s.scalars(select(Frame).where(Frame.project_id == project_id, Frame.active).order_by(Frame.kind, Frame.name, Frame.id)))


def inputs_of_control(rows: Sequence[Control], targets: Sequence[dict[str, Any]], part_id: str | None) -> dict[str, Any]:
    """What a placement on control is computed from: by control point its coordinates, role, and where its target is."""
    at = {t["id"]: t["position"] for t in targets if t["part"] == part_id}
    return {r.id: {"enh": r.enh, "role": r.role, "at": at[r.target_id]} for r in rows if r.target_id in at and r.role != "off"}


def inputs_of_grid(stations: Sequence[Station]) -> dict[str, Any]:
    """What a grid along a wall is computed from: where the stations stand that saw the wall."""
    return {x.id: {"pose": list(matrix(x.pose).ravel())} for x in stations}


class Currency:
    """Whether frames still follow from their inputs; reads each kind of input once."""

    def __init__(self, s: Session, project_id: str) -> None:
        self.s, self.project_id = s, project_id
        self._targets: list[dict[str, Any]] | None = None
        self._control: list[Control] = []
        self._stations: list[Station] = []

    def _read(self) -> list[dict[str, Any]]:
        if self._targets is None:
            own = {"project_id": self.project_id}
            self._targets = solution_of(self.s, self.project_id)["targets"]
            self._control = list(self.s.scalars(select(Control).filter_by(**own)))
            self._stations = list(self.s.scalars(select(Station).filter_by(**own)))
        return self._targets

    def why_old(self, frame: Frame) -> str:
        """Why a frame is out of date, or "" when it is not."""
        targets, made = self._read(), frame.made_from
        motion = matrix(made.get("T_new_old"))
        if "inputs" not in made:
            return "it was made by an earlier version, which did not keep what it was made from"
        if frame.kind == "control":
            now = inputs_of_control(self._control, targets, frame.part_id)
            then = {k: {**v, "at": list(frames.apply(motion, np.array([v["at"]]))[0])} for k, v in made["inputs"].items()}
            return "" if _alike(now, then) else "control or the network changed since it was applied"
        now = inputs_of_grid([x for x in self._stations if x.id in made["inputs"] and x.part_id == frame.part_id])
        then = {k: {"pose": list((motion @ matrix(v["pose"])).ravel())} for k, v in made["inputs"].items()}
        return "" if _alike(now, then) else "the stations that saw the wall moved since"


def _alike(a: dict[str, Any], b: dict[str, Any]) -> bool:
    return a.keys() == b.keys() and all(
        np.allclose(np.array(a[k][field], float), np.array(value, float), rtol=0, atol=SAME, equal_nan=True)
        if isinstance(value, list)
        else a[k].get(field) == value
        for k in a
        for field, value in b[k].items()
    )


def deviation_in(frame: InUse, station: str, pose: Array, sigma_mm: Sequence[float]) -> list[float]:
    """(3,) mm: the deviation of a station in the frame: its own in the network, and for control what placing adds.

    pose T_part_station, sigma_mm along the axes of the part. In control the two go together, as they were found when control
    was applied; once the network is another one they are taken as independent, which claims too much far from the datum.
    """
    detail = frame.row.detail if frame.row is not None else {}
    together = detail.get("stations", {}).get(station)
    if together is not None and detail.get("network_revision") == frame.network_revision:
        return [1000 * float(v) for v in together]
    turn = frames.unstretched(frame.T_frame_part)[:3, :3]
    own = np.diag(turn @ np.diag(np.square(np.array(sigma_mm) / 1000)) @ turn.T)
    placing = (frame.row.detail if frame.row is not None else {}).get("covariance")
    if placing is not None and frame.row is not None:
        at = frames.apply(frame.T_frame_part, pose[None, :3, 3])
        own = own + np.diag(placed_covariance(np.array(placing).reshape(6, 6), np.array(frame.row.detail["centre"]), at)[0])
    return [1000 * float(v) for v in np.sqrt(own)]


def expected_in(frame: InUse, station: str, pose: Array, own: Sequence[float]) -> list[float]:
    """(16,) the form (mm2, of places in the station's frame) that says what any of its points is off by in the frame; like
    :func:`deviation_in`. own: the form in the part."""
    detail = frame.row.detail if frame.row is not None else {}
    together = detail.get("expected", {}).get(station)
    if together is not None and detail.get("network_revision") == frame.network_revision:
        return [float(v) for v in together]
    if detail.get("covariance") is None:
        return list(own)
    placing = form(np.array(detail["covariance"]).reshape(6, 6), frames.unstretched(frame.T_frame_part @ pose), np.array(detail["centre"]))
    return [float(v) for v in np.array(own) + 1e6 * placing.ravel()]


def transforms(s: Session, project: Project, frame_id: str, at: Sequence[float], part_id: str | None = None) -> list[dict[str, Any]]:
    """How coordinates of one frame become those of every other of its part: T_other_frame, metres; turn from E to E about the height axis,
    degrees anticlockwise; tilt between the height axes; and a place ``at`` (3,), given in that frame, in each of them."""
    row = None if frame_id == "project" else s.get(Frame, frame_id)
    if frame_id != "project" and (row is None or row.project_id != project.id):
        raise NotFound("these coordinates do not exist", subject=frame_id, remedy="reload the project")
    part = row.part_id if row is not None else wanted(s, project, part_id)
    here = np.linalg.inv(matrix(row.T_frame_part)) if row is not None else np.eye(4)  # it may hold a scale
    known = [("project", "project", "project", project.unit, np.eye(4))]
    known += [(f.id, f.name, f.kind, f.unit, matrix(f.T_frame_part)) for f in frames_of(s, project.id) if f.part_id == part]
    out = []
    for own, name, kind, unit, T_own_part in known:
        if own == frame_id:
            continue
        t = T_own_part @ here
        out.append(
            {
                "id": own,
                "name": name,
                "kind": kind,
                "unit": unit,
                "T": [float(v) for v in t.ravel()],
                "turn_deg": float(np.degrees(np.arctan2(-t[1, 0], t[0, 0]))),
                "tilt_mrad": 1000 * float(np.arctan2(np.hypot(t[0, 2], t[1, 2]), t[2, 2])),
                "at": [float(v) for v in frames.apply(t, np.array([at], float))[0]],
            }
        )
    return out


def own_frame(part: Part, unit: str) -> dict[str, Any]:
    """A part's own coordinates as a frame."""
    return {
        "id": "project",
        "version": part.version,
        "part": part.id,
        "name": "project",
        "kind": "project",
        "unit": unit,
        "revision": part.version,
        "old": "",
        "provenance": "as tied: its datum stands where it stood first",
    }
