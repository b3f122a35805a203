"""Another project brought in as a group: its stations with their points, links, targets and deletions, told apart by their names.

What stands in coordinates of its own (control, grids, sections, notes) stays where it is: it says nothing here. The other project is
read and not touched. Points are copied within the database before the project is locked, in the transaction that then makes the rows.
"""

from __future__ import annotations

import json
from collections.abc import Iterable
from typing import Any

from sqlalchemy import inspect, select, text
from sqlalchemy.orm import Session

from ...core import frames
from ...core.errors import BadInput, Conflict
from ...site.common import Progress, get_project, matrix, numbers, stations_of
from ...site.groups import bodies_of, free_name, groups_of
from ...site.parts import parts_of
from ...site.solution import refresh_solution
from ...store import journal
from ...store.db import session
from ...store.models import Body, Edit, Group, Link, Part, Project, Question, Sighting, Station, Target, Zone, new_id
from ...store.queue import enqueue

BEFORE = (Part, Group, Target, Edit, Zone)  # rows that come with their ids, those first that others name
AFTER = (Body, Link, Sighting, Question)
POINTS = {
    "tile": "level, first, count, low, high, spacing, data",
    "layer": "first, kind, revision, data",
    "grid": "data",
}  # tables of points, and their columns beside the station's


def start(project_id: str, source_id: str, held: bool = False, again: bool = False) -> str:
    """A background job. Conflict when the other project was brought in before, unless it is to be brought in ``again``."""
    with session() as s:
        project, source = journal.locked_project(s, project_id), get_project(s, source_id)
        if project.id == source.id:
            raise BadInput("a project cannot be brought into itself", subject=source.name, remedy="choose another project")
        stations = stations_of(s, source_id)
        if not stations:
            raise BadInput(f"{source.name} has no stations", subject=source.name, remedy="choose another project")
        if held:
            _one_part(source, stations)
        here = _come_before(s, project_id, {x.id for x in stations})
        if here and not again:
            raise Conflict(
                f"{len(here)} stations of {source.name} are here already: {', '.join(here[:3])}{' and more' if len(here) > 3 else ''}",
                subject=source.name,
                remedy="leave it, or say that you want a second copy beside them",
                code="here_already",
            )
        return enqueue(s, project_id, "merge", f"Bringing in the project {source.name}", source=source_id, held=held).id


def _one_part(source: Project, stations: list[Station]) -> None:
    if len({x.part_id for x in stations}) > 1:
        raise BadInput(
            f"{source.name} is in several parts, so it cannot be held as one",
            subject=source.name,
            remedy="bring it in without holding it, or tie it first",
        )


def _come_before(s: Session, project_id: str, stations: set[str]) -> list[str]:
    """The names of stations here that were copied from one of those."""
    return [x.name for x in stations_of(s, project_id) if x.report.get("from", {}).get("station") in stations]


def merge(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """Copy everything in one transaction: nothing stays when it fails or is cancelled."""
    with session() as s:
        source = get_project(s, params["source"])
        stations = stations_of(s, source.id)
        if params["held"]:
            _one_part(source, stations)  # it may have fallen apart since it was asked for
        rows = [r for model in (*BEFORE, *AFTER) for r in _rows(s, model, source.id)]
        new = {r.id: new_id() for r in [*stations, *rows]} | {source.id: project_id}
        new |= {r.points: new_id() for r in rows if isinstance(r, (Edit, Zone))}
        for k, x in enumerate(stations):
            progress.report(f"copying {x.name}", k, len(stations))
            progress.check()
            for table, columns in POINTS.items():
                q = f"INSERT INTO {table} (station_id, {columns}) SELECT :new, {columns} FROM {table} WHERE station_id = :old"
                s.execute(text(q), {"new": new[x.id], "old": x.id})
        _proposals(s, new, [x.id for x in stations])
        progress.check()
        with journal.change(project_id, "", network=True, topic="stations", s=s) as c:
            group = _make(c, source, stations, rows, new)
            if params["held"]:
                back = frames.inverse(matrix(stations[0].pose))
                members = {new[x.id]: numbers(back @ matrix(x.pose)) for x in stations}
                c.s.add(Body(project_id=project_id, group_id=group.id, name=group.name, held=True, members=members))
                c.s.flush()
            refresh_solution(c.s, c.project)
            c.title = f"Brought in the project {source.name} as the group {group.name}, {len(stations)} stations"
        return progress.conclude(s, {"group": group.id, "stations": len(stations)})


def _rows(s: Session, model: type[Any], project_id: str) -> list[Any]:
    if model is Part:
        return list(parts_of(s, project_id))
    if model is Body:
        return list(bodies_of(s, project_id))
    here = {x.id for x in stations_of(s, project_id)}
    q = select(model).where(model.project_id == project_id).order_by(model.id)
    if model is Question:  # what is open is asked again where it stands open
        q = q.where(Question.answer != "")
    rows = list(s.scalars(q))
    ends = {Link: ("a", "b"), Sighting: ("station_id",), Question: ("station", "other")}.get(model, ())
    return [r for r in rows if all(getattr(r, end) in here for end in ends)]


def _proposals(s: Session, new: dict[str, str], stations: list[str]) -> None:
    found = s.execute(text("SELECT a, b FROM proposal WHERE a = ANY(:ids) AND b = ANY(:ids)"), {"ids": stations}).all()
    for a, b in found:
        q = "INSERT INTO proposal (a, b, schema, data) SELECT :x, :y, schema, data FROM proposal WHERE a = :a AND b = :b"
        s.execute(text(q), {"x": new[a], "y": new[b], "a": a, "b": b})


def _make(c: journal.Change, source: Project, stations: list[Station], rows: list[Any], new: dict[str, str]) -> Group:
    s, project_id = c.s, c.project.id
    groups, here = groups_of(s, project_id), stations_of(s, project_id)
    names = {g.name for g in groups}
    top = Group(id=new_id(), project_id=project_id, name=free_name(source.name, names), place=len(groups))
    s.add(top)
    taken = {Target: set(s.scalars(select(Target.name).where(Target.project_id == project_id))), Group: names | {top.name}}
    last = max((x.place for x in here), default=-1)
    station_names = {x.name for x in here}
    old: Any
    for old in [*(r for r in rows if isinstance(r, BEFORE)), *stations]:
        model, row = type(old), _copy(old, new)
        if model in taken:
            row.name = _told_apart(row.name, source.name, taken[model])
        if model is Group and row.parent_id is None:
            row.parent_id = top.id
        if model is Part:
            row.name, row.place = "", len(groups) + row.place + 1
        if model is Station:
            row.original_id, row.twin = None, 0  # its file stays with the other project
            row.group_id = row.group_id or top.id
            row.place = last + 1 + old.place
            row.hue = (old.hue + len(here)) % 12
            row.name = _told_apart(old.name, source.name, station_names)
            told = {"project": source.id, "project_name": source.name, "station": old.id}
            row.report = {**old.report, "from": told, "renamed": row.name != old.name}
        s.add(row)
    s.flush()
    for old in (r for r in rows if isinstance(r, AFTER)):
        s.add(_copy(old, new))
    s.flush()
    q = text(
        """INSERT INTO point_set (set_id, station_id, project_id, count, data) SELECT :to, :x, :p, count, data FROM point_set
        WHERE set_id = :from AND station_id = :station"""
    )
    for own in {r.points for r in rows if isinstance(r, (Edit, Zone))}:
        for x in stations:
            s.execute(q, {"to": new[own], "p": project_id, "x": new[x.id], "from": own, "station": x.id})
    return top


def _told_apart(name: str, source: str, taken: set[str]) -> str:
    """The name; with the project it comes from where it is one that is here."""
    out = name if name not in taken else free_name(f"{name} ({source})", taken)
    taken.add(out)
    return out


def _copy(row: Any, new: dict[str, str]) -> Any:
    """A row with every id in it, its own and those it names, exchanged for the new one."""
    values = {c.key: _renamed(getattr(row, c.key), new) for c in inspect(type(row)).columns}
    return type(row)(**values | {"version": 1})


def _renamed(value: Any, new: dict[str, str]) -> Any:
    if not isinstance(value, str | list | dict):
        return value
    kept = json.dumps(value)
    for old, other in _named(kept, new):
        kept = kept.replace(old, other)
    return json.loads(kept)


def _named(kept: str, new: dict[str, str]) -> Iterable[tuple[str, str]]:
    return ((old, other) for old, other in new.items() if old in kept)
