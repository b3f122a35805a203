"""How stations are looked for in each other: in what order, where a field sketch has them, whether the scanners stood level."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from ...core.align.search import Search, laid_on, read_spots
from ...core.errors import BadInput, NotFound
from ...formats.page import page_of
from ...site.common import get_project, matrix, stations_of
from ...site.groups import bodies_of
from ...site.pictures import keep, sketch_picture
from ...site.solution import LEVEL, refresh_solution
from ...store import journal, scratch
from ...store.models import Project, Station

WIDE = 40.0  # metres that a picture is taken to be wide before it is scaled
PLAIN: dict[str, Any] = {"in_order": False, "level": True, "level_sigma": LEVEL, "reach": 0.0, "spots": {}}


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
    return {
        "version": project.version,
        "in_order": kept["in_order"],
        "level": kept["level"],
        "level_sigma_mrad": 1000 * kept["level_sigma"],
        "reach": kept["reach"],
        "spots": spots,
        "picture": _picture(s, project_id),
        "laid": _laid(stations, kept["spots"]),
    }


def _picture(s: Session, project_id: str) -> dict[str, Any] | None:
    row = sketch_picture(s, project_id)
    return None if row is None or row.sketch is None else {"id": row.id, "wide": row.wide, "high": row.high, **row.sketch}


def _laid(stations: list[Station], spots: dict[str, list[float]]) -> list[dict[str, Any]]:
    """How the sketch lies on the plan of each part that has two of its stations."""
    out = []
    known = {k: (float(x), float(y)) for k, (x, y) in spots.items()}
    for part in dict.fromkeys(x.part_id for x in stations if x.part_id is not None):
        t = laid_on(known, {x.id: matrix(x.pose) for x in stations if x.part_id == part})
        if t is not None:
            out.append({"part": part, "T_part_sketch": [float(v) for v in t.ravel()]})
    return out


def lay_below(project_id: str, data: bytes, page: int = 1) -> None:
    """Lay a picture, or a page of a PDF document, below the sketch; it takes the place of the one before. Until it is scaled it is as
    wide as what is drawn."""
    if data[:1024].lstrip().startswith(b"%PDF"):
        with scratch.folder() as folder:
            (folder / "document").write_bytes(data)
            data = page_of(folder / "document", page)
    with journal.change(project_id, "Laid a picture below the sketch") as c:
        spots = np.array(list((PLAIN | c.project.search)["spots"].values()) or [[0.0, 0.0], [WIDE, 0.0]], float)
        if old := sketch_picture(c.s, project_id):
            c.remove(old)
        row = keep(c, data, caption="", logo=False, sketch={"x": 0.0, "y": 0.0, "size": 1.0})
        low, wide = spots.min(axis=0), max(float(np.ptp(spots, axis=0).max()), WIDE)
        row.sketch = {"x": float(low[0]), "y": float(low[1]), "size": wide / max(row.wide, row.high)}


def take_from_below(project_id: str) -> None:
    """Take the picture away."""
    with journal.change(project_id, "Took the picture from below the sketch") as c:
        row = sketch_picture(c.s, project_id)
        if row is None:
            raise NotFound("no picture lies below the sketch", subject="picture", remedy="lay one there")
        c.remove(row)


def change(
    project_id: str,
    version: int | None = None,
    *,
    in_order: bool | None = None,
    level: bool | None = None,
    level_sigma: float | None = None,
    reach: float | None = None,
    sketch: str | None = None,
    picture: dict[str, float] | None = None,
) -> None:
    """Set what is given. sketch: lines of station name, x, y in metres; an empty one takes the sketch away. picture: where the one below
    it lies, x, y of its lower left corner in metres, size in metres a pixel."""
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
            c.network = True
        if level_sigma is not None and level_sigma != kept["level_sigma"]:
            kept["level_sigma"] = level_sigma
            said.append(f"their levels are good to {1000 * level_sigma:g} mrad")
            c.network = True
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
        if picture is not None:
            row = sketch_picture(c.s, project_id)
            if row is None:
                raise BadInput("no picture lies below the sketch", subject="picture", remedy="lay one there first")
            if row.sketch != picture:
                row.sketch = picture
                said.append("a picture below it")
        c.project.search = kept
        if c.network:  # levels are observations of the network
            c.s.flush()
            refresh_solution(c.s, c.project)
        c.title = "Set how stations are looked for" + (": " + ", ".join(said) if said else "")
