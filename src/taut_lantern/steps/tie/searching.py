"""How stations are looked for in each other: in what order, where a field sketch has them, whether the scanners stood level."""

from __future__ import annotations

from typing import Any

from sqlalchemy.orm import Session

from ...core.align.search import Search, read_spots
from ...core.errors import BadInput
from ...site.common import get_project, matrix, stations_of
from ...site.groups import bodies_of
from ...store import journal
from ...store.models import Project

PLAIN: dict[str, Any] = {"in_order": False, "level": True, "reach": 0.0, "spots": {}}


def search_of(s: Session, project: Project) -> Search:
    """What the core needs, with the groups that are held."""
    kept = PLAIN | project.search
    here = {x.id for x in stations_of(s, project.id)}
    spots = {k: (float(x), float(y)) for k, (x, y) in kept["spots"].items() if k in here}
    bodies = [{k: matrix(t) for k, t in row.members.items() if k in here} for row in bodies_of(s, project.id)]
    return Search(kept["in_order"], spots, kept["reach"], bodies, kept["level"])


def describe(s: Session, project_id: str) -> dict[str, Any]:
    project = get_project(s, project_id)
    kept = PLAIN | project.search
    stations = stations_of(s, project_id)
    spots = [
        {"station": x.id, "station_name": x.name, "x": kept["spots"][x.id][0], "y": kept["spots"][x.id][1]}
        for x in stations
        if x.id in kept["spots"]
    ]
    return {"version": project.version, "in_order": kept["in_order"], "level": kept["level"], "reach": kept["reach"], "spots": spots}


def change(
    project_id: str,
    version: int | None = None,
    *,
    in_order: bool | None = None,
    level: bool | None = None,
    reach: float | None = None,
    sketch: str | None = None,
) -> None:
    """Set what is given. sketch: lines of station name, x, y in metres; an empty one takes the sketch away."""
    drawn = None if sketch is None else read_spots(sketch)
    with journal.change(project_id, "") as c:
        journal.checked_version(c.project, version, f"the project {c.project.name}")
        kept, said = PLAIN | c.project.search, []
        if in_order is not None and in_order != kept["in_order"]:
            kept["in_order"] = in_order
            said.append("in the order of the stations" if in_order else "all in all")
        if level is not None and level != kept["level"]:
            kept["level"] = level
            said.append("scanners stood level" if level else "scanners may lean")
        if reach is not None and reach != kept["reach"]:
            kept["reach"] = reach
            said.append(f"no farther than {reach:g} m on the sketch" if reach else "at any distance")
        if drawn is not None:
            ids = {x.name: x.id for x in stations_of(c.s, project_id)}
            unknown = [n for n in drawn if n not in ids]
            if unknown:
                raise BadInput(
                    f"the sketch names {', '.join(unknown[:5])}{' and more' if len(unknown) > 5 else ''}, which are no stations here",
                    subject="sketch",
                    remedy="write the stations' names as they stand in the roster",
                )
            kept["spots"] = {ids[n]: list(xy) for n, xy in drawn.items()}
            said.append(f"{len(drawn)} stations on a sketch" if drawn else "no sketch")
        c.project.search = kept
        c.title = "Set how stations are looked for" + (": " + ", ".join(said) if said else "")
