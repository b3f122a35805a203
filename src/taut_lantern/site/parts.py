"""Which part each station belongs to, and what happens to coordinates when parts join, split or lose their datum.

A part row stands for the coordinates that its stations share. When the network changes, each connected group takes over the
part that most of its stations come from; another part that has come into it brings along what was placed in its
coordinates: sections, crop boxes and frames move with its stations. A group that splits off gets a part of its own, with the
numbers its stations had.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import frames
from ..core.errors import NotFound
from ..core.network.parts import Part as Group
from ..core.network.parts import carry
from ..core.network.solution import Solution
from ..store.models import CropBox, DesignModel, Frame, Note, Part, Project, SavedView, Section, Station, new_id
from .common import Array, matrix, numbers, stations_of

EXACT = 1e-9  # metres and units of rotation: closer is the same pose


def parts_of(s: Session, project_id: str) -> list[Part]:
    """All parts with stations in sight: the largest first, of equal ones that with the first station of the roster."""
    rows = {p.id: p for p in s.scalars(select(Part).where(Part.project_id == project_id))}
    held = Counter(x.part_id for x in stations_of(s, project_id))  # in the order of the roster
    return [rows[p] for p, _ in held.most_common() if p is not None and p in rows]


def main_part(s: Session, project_id: str) -> Part | None:
    return next(iter(parts_of(s, project_id)), None)


def wanted(s: Session, project: Project, part_id: str | None) -> str | None:
    """The part that is meant: the one that is named, else the one whose coordinates are in use, else the largest."""
    if part_id is not None:
        row = s.get(Part, part_id)
        if row is None or row.project_id != project.id:
            raise NotFound("this part of the network is no longer there", subject=part_id, remedy="reload the project")
        return part_id
    known = parts_of(s, project.id)
    used = None if project.active_frame == "project" else s.get(Frame, project.active_frame)
    if used is not None and used.part_id in {p.id for p in known}:
        return used.part_id
    return known[0].id if known else None


def stations_in(stations: list[Station], part_id: str | None) -> list[Station]:
    return [x for x in stations if x.part_id == part_id]


DRAWN: tuple[type[Any], ...] = (Section, CropBox, DesignModel, Note, SavedView)  # stand in the coordinates of a part, by T_part_base


@dataclass(frozen=True)
class Holding:
    """Which part row each group takes over, and the pose of the station that holds it."""

    rows: list[Part]
    datum: dict[str, Array]


def hold(s: Session, project_id: str, stations: list[Station], groups: list[Group]) -> Holding:
    """Give each group of connected stations its part row, and each row a datum that is in it. Poses stay as they are."""
    rows = {p.id: p for p in s.scalars(select(Part).where(Part.project_id == project_id))}
    station = {x.id: x for x in stations}
    common = [
        (n, rows[p].datum_station in g.poses, -rows[p].place, -k, p)
        for k, g in enumerate(groups)
        for p, n in Counter(station[x].part_id for x in g.stations).items()
        if p in rows
    ]
    taken: dict[int, Part] = {}
    for _, _, _, k, p in sorted(common, reverse=True):
        if -k not in taken and rows[p] not in taken.values():
            taken[-k] = rows[p]
    place = max((p.place for p in rows.values()), default=-1)
    held: list[Part] = []
    datum: dict[str, Array] = {}
    for k, group in enumerate(groups):
        row = taken.get(k)
        if row is None:
            place += 1
            first = station[group.stations[0]]
            row = Part(id=new_id(), project_id=project_id, name="", place=place)
            row.datum_station, row.datum_pose = first.id, numbers(matrix(first.pose))
            s.add(row)
        elif row.datum_station not in group.poses:  # it left: another that was here holds the part where it stands
            heir = next(station[x] for x in group.stations if station[x].part_id == row.id)
            row.datum_station, row.datum_pose = heir.id, numbers(matrix(heir.pose))
        if len(group.stations) > 1 and not row.name:  # a station alone goes by its own name
            taken_names = {p.name for p in [*rows.values(), *held]}
            row.name = next(name for k in range(1, len(taken_names) + 2) if (name := f"Part {k}") not in taken_names)
        held.append(row)
        datum[row.datum_station] = matrix(row.datum_pose)
    return Holding(held, datum)


def settle(s: Session, project_id: str, stations: list[Station], holding: Holding, solution: Solution, move: bool) -> None:
    """Write parts and poses of an adjusted network; what was placed in a part that joined another moves with it.

    move: False after undo, where the rows say how things stand already; then only what they leave open is written.
    """
    station = {x.id: x for x in stations}
    for row, group in zip(holding.rows, solution.parts, strict=True):
        if move:
            for old in {station[x].part_id for x in group} - {row.id, None}:
                same = [x for x in group if station[x].part_id == old]
                motion = carry([matrix(station[x].pose) for x in same], [solution.poses[x] for x in same])
                if not any(x.part_id == old and x.id not in group for x in stations):  # all of it came
                    _bring_along(s, project_id, str(old), row.id, motion)
        for x in group:
            own = station[x]
            own.part_id = row.id
            standing = own.pose is not None or len(group) == 1  # a station alone stands at the origin without saying so
            if move and not (standing and np.allclose(matrix(own.pose), solution.poses[x], rtol=0, atol=EXACT)):
                own.pose = numbers(solution.poses[x])
    used = {p.id for p in holding.rows}
    for gone in s.scalars(select(Part).where(Part.project_id == project_id)):
        if gone.id not in used and not _holds_something(s, gone.id):
            gone.deleted = True


def _bring_along(s: Session, project_id: str, old: str, new: str, T_new_old: Array) -> None:
    drawn: list[Any] = []
    for model in DRAWN:
        drawn += s.scalars(select(model).where(model.project_id == project_id, model.part_id == old))
    for row in drawn:
        row.part_id, row.T_part_base = new, numbers(T_new_old @ matrix(row.T_part_base))
    for frame in s.scalars(select(Frame).where(Frame.project_id == project_id, Frame.part_id == old)):
        frame.part_id = new
        frame.T_frame_part = numbers(matrix(frame.T_frame_part) @ frames.inverse(T_new_old))
        frame.made_from = {**frame.made_from, "T_new_old": numbers(T_new_old @ matrix(frame.made_from.get("T_new_old")))}


def _holds_something(s: Session, part_id: str) -> bool:
    """Whether something is drawn or placed in a part's coordinates although no station is left in it."""
    holding: tuple[Any, ...] = (*DRAWN, Frame)
    return any(s.scalar(select(m.id).where(m.part_id == part_id).limit(1)) is not None for m in holding)
