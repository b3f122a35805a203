"""Zones: selections that were kept under a name, in a tree; shown or not, locked or not. What is hidden by hand lies in one of its own."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from ...core.errors import BadInput
from ...site.common import clean_name, get_project, owned
from ...store import journal
from ...store.db import session
from ...store.marks import counts_of, deletions_of, keep_set, packed, read_set, zones_of
from ...store.models import Zone

Index = NDArray[np.int64]
HIDDEN = "Hidden points"


def list_zones(s: Session, project_id: str) -> list[dict[str, Any]]:
    """Zones in the order they were made, those nested in others among them."""
    get_project(s, project_id)
    rows = zones_of(s, project_id)
    inside = counts_of(s, [z.points for z in rows])
    shown = ("id", "version", "parent_id", "name", "kind", "hue", "shown", "locked", "apart", "count", "detail")
    return [{**{k: getattr(z, k) for k in shown}, "stations": sorted(inside.get(z.points, {})), "old": _why_old(s, z)} for z in rows]


def _why_old(s: Session, zone: Zone) -> str:
    """Why what is left out at one spacing is to be found again; "" when it is of now, and of all other zones."""
    if zone.kind != "even":
        return ""
    if zone.detail.get("network") != get_project(s, zone.project_id).network_revision:
        return "stations were moved since"
    return "" if zone.detail.get("gone") == deletions_of(s, zone.project_id) else "points were deleted or brought back since"


def keep(c: journal.Change, parts: Mapping[str, Index], name: str, parent: str | None = None) -> Zone:
    """A new zone of these points. A point may be in several."""
    rows = zones_of(c.s, c.project.id)
    if parent is not None:
        owned(c.s, Zone, c.project.id, parent, "zone")
    zone = Zone(
        project_id=c.project.id,
        parent_id=parent,
        name=clean_name(name, "zone")[:120],
        hue=len(rows) % 12,
        points=keep_set(c.s, c.project.id, packed(parts)),
        count=_count(parts),
        place=1 + max((z.place for z in rows), default=0),
    )
    c.title = f"Kept {zone.count:,} points as the zone {zone.name}"
    c.s.add(zone)
    c.s.flush()
    return zone


def _count(parts: Mapping[str, Index]) -> int:
    return sum(len(index) for index in parts.values())


def change_points(c: journal.Change, zone: Zone, parts: Mapping[str, Index], more: bool) -> None:
    """Add points to a zone, or take them out of it."""
    held = read_set(c.s, zone.points)
    nothing = np.zeros(0, np.int64)
    meet = np.union1d if more else np.setdiff1d
    new = {x: meet(held.get(x, nothing), parts.get(x, nothing)) for x in sorted({*held, *parts})}
    new = {x: index for x, index in new.items() if len(index)}
    before, zone.count = zone.count, _count(new)
    zone.points = keep_set(c.s, c.project.id, packed(new))
    c.title = f"{'Added' if more else 'Took'} {abs(zone.count - before):,} points {'to' if more else 'out of'} the zone {zone.name}"
    c.s.flush()


def hide(c: journal.Change, parts: Mapping[str, Index]) -> int:
    """Put points out of sight. Returns how many are."""
    row = next((z for z in zones_of(c.s, c.project.id) if z.kind == "hidden"), None)
    count = _count(parts)
    if row is None:
        row = keep(c, parts, HIDDEN)
        row.kind, row.shown = "hidden", False
    else:
        change_points(c, row, parts, True)
    c.title = f"Hid {count:,} points"
    c.s.flush()
    return count


def show_all(project_id: str) -> int:
    """Show what was hidden by hand. Returns how many points that are."""
    with journal.change(project_id, "", topic="zones") as c:
        row = next((z for z in zones_of(c.s, project_id) if z.kind == "hidden"), None)
        if row is None:
            return 0
        c.title = f"Showed {row.count:,} hidden points"
        c.remove(row)
        return row.count


def change_zone(project_id: str, zone_id: str, version: int | None, values: Mapping[str, Any]) -> None:
    """Rename it, nest it in another, show, hide, lock, unlock it, hand it over apart or not. values: those that change."""
    with journal.change(project_id, "", topic="zones") as c:
        zone = owned(c.s, Zone, project_id, zone_id, "zone")
        journal.checked_version(zone, version, f"the zone {zone.name}")
        if "parent_id" in values:
            _nestable(c.s, project_id, zone, values["parent_id"])
        name = zone.name
        for key, value in values.items():
            setattr(zone, key, clean_name(value, "zone")[:120] if key == "name" else value)
        words = {"shown": ("Hid", "Showed"), "locked": ("Unlocked", "Locked"), "apart": ("Merged back", "Isolated")}
        said = [words[k][bool(v)] for k, v in values.items() if k in words]
        c.title = f"{said[0] if said else 'Changed'} the zone {name}"


def _nestable(s: Session, project_id: str, zone: Zone, parent: str | None) -> None:
    rows = {z.id: z for z in zones_of(s, project_id)}
    if parent is not None and (parent not in rows or rows[parent].kind == "hidden"):
        raise BadInput("there is no such zone to nest it in", subject=zone.name, remedy="choose one of the list")
    at = parent
    while at is not None:
        if at == zone.id:
            raise BadInput("a zone cannot lie within itself", subject=zone.name, remedy="choose another one to nest it in")
        at = rows[at].parent_id if at in rows else None


def remove_zone(project_id: str, zone_id: str, version: int | None) -> None:
    """The name goes, its points stay; what is nested in it moves up."""
    with journal.change(project_id, "", topic="zones") as c:
        zone = owned(c.s, Zone, project_id, zone_id, "zone")
        journal.checked_version(zone, version, f"the zone {zone.name}")
        for below in zones_of(c.s, project_id):
            if below.parent_id == zone.id:
                below.parent_id = zone.parent_id
        c.title = f"Gave up the zone {zone.name}"
        c.remove(zone)


def listed(project_id: str) -> list[dict[str, Any]]:
    with session() as s:
        return list_zones(s, project_id)
