"""Groups of stations: named, one within another, held or not.

Terms: under a group: the stations in it and in the groups within it; held: they keep their shape as they stood to each other when the
group was held, and are one unknown of the network (a body). A station is in one group at most.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Any

from sqlalchemy.orm import Session

from ...core import frames
from ...core.errors import BadInput
from ...site.common import Array, clean_name, get_project, matrix, numbers, owned, stations_of
from ...site.groups import bodies_of, free_name, groups_of, under
from ...site.solution import refresh_solution
from ...store import journal
from ...store.models import Body, Group, Station, new_id

TOP = ""  # as a parent or a group: none


def list_groups(s: Session, project_id: str) -> list[dict[str, Any]]:
    """Groups in the order in which they were made, each with the stations that are in it and in none within it."""
    get_project(s, project_id)
    stations = stations_of(s, project_id)
    held = {b.group_id for b in bodies_of(s, project_id)}
    return [
        {
            "id": g.id,
            "version": g.version,
            "name": g.name,
            "parent": g.parent_id,
            "held": g.id in held,
            "stations": [x.id for x in stations if x.group_id == g.id],
        }
        for g in groups_of(s, project_id)
    ]


def make(project_id: str, name: str, station_ids: Iterable[str], parent: str | None = None, held: bool = False) -> str:
    """A group of stations, which leave the groups they were in."""
    with journal.change(project_id, "", topic="network") as c:
        stations = _chosen(c.s, project_id, station_ids)
        if parent:
            owned(c.s, Group, project_id, parent, "group")
        label = _free(c.s, project_id, clean_name(name, _of(stations)), unless=None, number=not name.strip())
        row = Group(id=new_id(), project_id=project_id, name=label, parent_id=parent or None, place=len(groups_of(c.s, project_id)))
        c.s.add(row)
        for x in stations:
            x.group_id = row.id
        c.title = f"Held {len(stations)} stations as {label}" if held else f"Made the group {label} of {_count(len(stations))}"
        _settle(c)
        if held:
            _hold(c, row)
        return str(row.id)


def hold_as_measured(project_id: str, poses: dict[str, Array], name: str) -> str:
    """A group of stations held as a file has them, before anything is tied: poses T_file_station."""
    with journal.change(project_id, f"Held {len(poses)} stations as {name}", topic="network") as c:
        row = Group(id=new_id(), project_id=project_id, name=_free(c.s, project_id, name, None, number=True), place=0)
        c.s.add(row)
        for x in _chosen(c.s, project_id, poses):
            x.group_id = row.id
        first = next(iter(poses.values()))
        _keep(c, row, {k: numbers(frames.inverse(first) @ t) for k, t in poses.items()})
        return str(row.id)


def change(
    project_id: str, group_id: str, version: int, name: str | None = None, parent: str | None = None, held: bool | None = None
) -> None:
    """Rename, put into another group (TOP: into none), hold or release."""
    with journal.change(project_id, "", topic="network") as c:
        row = _checked(c, group_id, version)
        if name is not None:
            new = _free(c.s, project_id, clean_name(name, row.name), unless=row.id)
            c.title, row.name = f"Renamed the group {row.name} to {new}", new
        if parent is not None:
            into = owned(c.s, Group, project_id, parent, "group") if parent != TOP else None
            if into is not None and into.id in under(groups_of(c.s, project_id), row.id):
                raise BadInput(f"{into.name} is within {row.name}", subject=row.name, remedy="choose a group that is not within it")
            row.parent_id = into.id if into else None
            c.title = f"Put {row.name} into {into.name}" if into else f"Took {row.name} out of its group"
        _settle(c)
        body = next((b for b in bodies_of(c.s, project_id) if b.group_id == row.id), None)
        if held is False and body is not None:
            c.title = f"Released {row.name}"
            c.remove(body)
            _renew(c)
        if held and body is None:
            c.title = f"Held {row.name} as one"
            _hold(c, row)


def put(project_id: str, station_ids: Iterable[str], group: str) -> None:
    """Put stations into a group, or (TOP) out of theirs. One that comes into a held group is held where it stands."""
    with journal.change(project_id, "", topic="network") as c:
        stations = _chosen(c.s, project_id, station_ids)
        into = owned(c.s, Group, project_id, group, "group") if group != TOP else None
        for x in stations:
            x.group_id = into.id if into else None
        c.title = f"Put {_of(stations)} into {into.name}" if into else f"Took {_of(stations)} out of {_their(stations)} group"
        _settle(c)


def merge(project_id: str, group_id: str, version: int, other: str) -> None:
    """Everything of another group comes into this one; the other is no more."""
    with journal.change(project_id, "", topic="network") as c:
        row, gone = _checked(c, group_id, version), owned(c.s, Group, project_id, other, "group")
        groups = groups_of(c.s, project_id)
        if row.id in under(groups, gone.id) or gone.id in under(groups, row.id):
            raise BadInput(
                f"{row.name} and {gone.name} lie one within the other", subject=row.name, remedy="dissolve the inner one instead"
            )
        c.title = f"Merged {gone.name} into {row.name}"
        _empty(c, gone, row.id, groups)
        _settle(c)


def dissolve(project_id: str, group_id: str, version: int) -> None:
    """The group is no more; what is in it comes into the one around it, if any."""
    with journal.change(project_id, "", topic="network") as c:
        row = _checked(c, group_id, version)
        c.title = f"Dissolved the group {row.name}"
        _empty(c, row, row.parent_id, groups_of(c.s, project_id))
        _settle(c)


def _empty(c: journal.Change, row: Group, into: str | None, groups: list[Group]) -> None:
    for x in stations_of(c.s, row.project_id):
        if x.group_id == row.id:
            x.group_id = into
    for g in groups:
        if g.parent_id == row.id:
            g.parent_id = into
    c.remove(row)


def _settle(c: journal.Change) -> None:
    """Bring the held shapes up to date with the groups: who left one is free, who came into one is held where it stands.

    BadInput when one that came stands in no coordinates of the others, or when a held group would lie within another.
    """
    c.s.flush()
    project_id = c.project.id
    groups, stations = groups_of(c.s, project_id), {x.id: x for x in stations_of(c.s, project_id)}
    bodies = {b.group_id: b for b in bodies_of(c.s, project_id)}
    changed = False
    for group_id, body in bodies.items():
        row = next((g for g in groups if g.id == group_id), None)
        inside = under(groups, group_id) if row else set()
        inner = next((g for g in groups if g.id in inside and g.id != group_id and g.id in bodies), None)
        if row is not None and inner is not None:
            raise BadInput(f"{row.name} is held, and so is {inner.name} in it", subject=inner.name, remedy="release one of the two first")
        stay = {k: t for k, t in body.members.items() if k not in stations or stations[k].group_id in inside}  # out of sight: undo knows
        come = [x for x in stations.values() if x.group_id in inside and x.id not in body.members]
        if row is not None and come:
            stay |= _joined({k: t for k, t in stay.items() if k in stations}, come, stations, row.name)
        if stay == body.members and row is not None:
            continue
        changed = True
        if row is None or len(stay) < 2:
            c.remove(body)
        else:
            body.members = stay
    if changed:
        _renew(c)


def _joined(members: dict[str, Any], come: list[Station], stations: dict[str, Station], name: str) -> dict[str, Any]:
    """T_body_station of those who come into a held group."""
    first = next(iter(members), None)
    if first is None or any(x.part_id != stations[first].part_id for x in come):
        raise BadInput(
            f"{name} is held, and {come[0].name} shares no coordinates with it",
            subject=come[0].name,
            remedy="tie them first, or release the group",
        )
    T_body_part = matrix(members[first]) @ frames.inverse(matrix(stations[first].pose))
    return {x.id: numbers(T_body_part @ matrix(x.pose)) for x in come}


def _hold(c: journal.Change, row: Group) -> None:
    """Hold what is under a group as it stands now."""
    groups = groups_of(c.s, row.project_id)
    inside = under(groups, row.id)
    stations = [x for x in stations_of(c.s, row.project_id) if x.group_id in inside]
    if len(stations) < 2 or len({x.part_id for x in stations}) != 1:
        raise BadInput(
            "a held group needs at least two stations of one part",
            subject="stations",
            remedy="tie them first, or choose stations that hang together",
        )
    around = {g.id for g in groups if row.id in under(groups, g.id)}
    if other := next((g for g in groups if g.id in {b.group_id for b in bodies_of(c.s, row.project_id)} & (inside | around)), None):
        raise BadInput(f"stations of it are held in {other.name} already", subject=other.name, remedy="release that group first")
    back = frames.inverse(matrix(stations[0].pose))
    _keep(c, row, {x.id: numbers(back @ matrix(x.pose)) for x in stations})


def _keep(c: journal.Change, row: Group, members: dict[str, Any]) -> None:
    c.s.add(Body(project_id=row.project_id, group_id=row.id, name=row.name, held=True, members=members))
    _renew(c)


def _renew(c: journal.Change) -> None:
    """The network is another one: adjust it."""
    c.network = True
    c.s.flush()
    refresh_solution(c.s, c.project)


def _chosen(s: Session, project_id: str, station_ids: Iterable[str]) -> list[Station]:
    wanted = set(station_ids)
    stations = [x for x in stations_of(s, project_id) if x.id in wanted]
    if not stations or len(stations) != len(wanted):
        raise BadInput("no such stations are in this project", subject="stations", remedy="choose stations of the roster")
    return stations


def _checked(c: journal.Change, group_id: str, version: int) -> Group:
    row: Group = owned(c.s, Group, c.project.id, group_id, "group")
    journal.checked_version(row, version, f"the group {row.name}")
    return row


def _free(s: Session, project_id: str, name: str, unless: str | None, number: bool = False) -> str:
    """A name that no other group has; number: one that nobody typed is told apart by a number."""
    if not number and any(g.name == name and g.id != unless for g in groups_of(s, project_id)):
        raise BadInput(f"there is a group {name} already", subject=name, remedy="choose another name, or merge the two")
    return free_name(name, {g.name for g in groups_of(s, project_id) if g.id != unless})


def _of(stations: Collection[Station]) -> str:
    names = [x.name for x in stations]
    return names[0] if len(names) == 1 else f"{names[0]} to {names[-1]}"


def _their(stations: Collection[Station]) -> str:
    return "its" if len(stations) == 1 else "their"


def _count(n: int) -> str:
    return f"{n} station" if n == 1 else f"{n} stations"
