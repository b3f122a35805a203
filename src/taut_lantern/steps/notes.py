"""Measures kept as notes: made with picks, named, remarked on, handed over as a table."""

from __future__ import annotations

import csv
import io
from dataclasses import replace
from typing import Any

import numpy as np
from sqlalchemy import select

from ..core import frames
from ..core.clean.grow import grown
from ..core.draw import piped
from ..core.draw.clearance import Clearance, clearance
from ..core.draw.measure import checked
from ..core.draw.solids import boxed
from ..core.errors import BadInput, NotEnough
from ..core.scan.catch import catch
from ..core.scan.surface import Plane, widest_plane
from ..site.common import Array, clean_name, get_project, heavy, matrix, owned, stations_of
from ..site.frames import in_use
from ..site.near import CATCH, caught_near, points_near
from ..site.notes import notes_of
from ..site.parts import stations_in, wanted
from ..store import journal
from ..store.db import session, snapshot
from ..store.models import Note, Station

ROUND = 0.15  # metres round the first pick through which a plane is fitted
WIDER, FARTHEST = 0.5, 4.0  # metres round each pick of a clearance that its thing is looked for in, beyond their distance, and at most
BOX = 2.0  # metres beyond its picks that a box is looked for in
MANY = 400_000  # points of a thing that are looked at
LEVEL = 0.006  # metres by which the noise of a scan leaves a surface
KINDS = {
    "point": "Point", "distance": "Distance", "polyline": "Line of points", "angle": "Angle", "area": "Area", "plane": "From a plane", "pipe": "Pipe",
    "clearance": "Clearance", "profile": "Steel member", "box": "Box", "sphere": "Sphere",
}  # fmt: skip
FIGURES = (
    "clearance",
    "error",
    "slope",
    "level",
    "height",
    "angle",
    "level_angle",
    "area",
    "level_area",
    "round",
    "flat",
    "off",
    "section_height",
    "section_width",
    "long",
    "wide",
    "high",
    "rms",
    "diameter",
    "standard_diameter",
    "fall",
)


def make(project_id: str, kind: str, points: list[list[float]], name: str = "", remark: str = "", part_id: str | None = None) -> str:
    """Keep a measure; picks (n, 3) m in the part. Of a plane, the first pick is where it is fitted. Returns its id."""
    p = checked(kind, np.array(points, float))
    detail: dict[str, Any] = {}
    if kind == "plane":
        plane = plane_at(project_id, p[0], part_id)
        detail = {"normal": plane.normal.tolist(), "offset": plane.offset, "rms": plane.rms, "points": plane.points}
    elif kind == "clearance":
        found = clearance_at(project_id, p, part_id)
        detail, p = {"error": found.error}, np.array([found.a, found.b])
    elif kind in ("box", "sphere"):
        p, detail = body_at(project_id, kind, p, part_id)
    with journal.change(project_id, "", topic="notes") as c:
        row = keep(c, kind, p, detail, name, remark, part_id)
        c.title = f"Measured {row.name}"
        return row.id


def keep(c: journal.Change, kind: str, points: Array, detail: dict[str, Any], name: str, remark: str, part_id: str | None) -> Note:
    """Keep a measure within a change; without a name it is numbered."""
    count = len(c.s.scalars(select(Note.id).where(Note.project_id == c.project.id)).all())
    row = Note(project_id=c.project.id, part_id=wanted(c.s, c.project, part_id), kind=kind, points=points.tolist(), detail=detail)
    row.name, row.remark = clean_name(name or f"{KINDS[kind]} {count + 1}", KINDS[kind]), remark.strip()[:300]
    c.s.add(row)
    c.s.flush()
    return row


def clearance_at(project_id: str, picks: Array, part_id: str | None = None) -> Clearance:
    """Between what hangs together with each of two picks (2, 3), part frame: the plane, pipe or sphere that lies there, else what bends
    gently. Looked at within the distance of the picks and WIDER of each."""
    reach = min(float(np.linalg.norm(picks[1] - picks[0])) + WIDER, FARTHEST)
    with heavy(), snapshot() as s:
        part = wanted(s, get_project(s, project_id), part_id)
        stations = stations_in(stations_of(s, project_id), part)
        near = [points_near(s, stations, pick, reach) for pick in picks]
    things = []
    for pick, own in zip(picks, near, strict=True):
        points = own.points[:: -(-len(own.points) // MANY) or 1]
        if not len(points):
            raise NotEnough("nothing was scanned where it was picked", subject="clearance", remedy="pick on the points of both things")
        beside = points[np.linalg.norm(points - pick, axis=1) < CATCH[1]]
        things.append(points[grown(points, pick, "surface", catch(beside, pick, own.towards))])
    return clearance(*things)


def body_at(project_id: str, kind: str, picks: Array, part_id: str | None = None) -> tuple[Array, dict[str, Any]]:
    """(points, detail) of a note of a box, from two picks on faces that share an edge, or of a sphere from one on its skin; part frame."""
    if kind == "box" and len(picks) != 2:
        raise BadInput(f"a box takes 2 picks; {len(picks)} came", subject=kind, remedy="pick two faces that share an edge")
    reach = min(float(np.linalg.norm(picks[-1] - picks[0])) + BOX, FARTHEST) if kind == "box" else CATCH[-1]
    with heavy(), snapshot() as s:
        part = wanted(s, get_project(s, project_id), part_id)
        near = points_near(s, stations_in(stations_of(s, project_id), part), picks.mean(axis=0), reach)
    if not len(near.points):
        raise NotEnough("nothing was scanned where it was picked", subject=kind, remedy="pick on its points")
    points = near.points[:: -(-len(near.points) // MANY) or 1]
    if kind == "box":
        box = boxed(points, picks, reach)
        return np.array([box.corner, *(box.corner + box.edges)]), {"rms": box.rms, "points": box.points, "error": box.error}
    for radius in CATCH:
        c = catch(points[np.linalg.norm(points - picks[0], axis=1) < radius], picks[0], near.towards)
        if c.kind == "sphere" and c.radius is not None:
            return c.at[None], {"radius": c.radius, "rms": c.rms, "error": c.spread, "points": c.points}
    raise NotEnough("no sphere is seen here", subject=kind, remedy="pick the skin of a ball where more of it was seen")


def plane_at(project_id: str, pick: Array, part_id: str | None = None) -> Plane:
    """The plane through the points round a pick (3,), part frame; its front is where the scanner stood. NotEnough when they
    hold none."""
    with heavy(), snapshot() as s:
        part = wanted(s, get_project(s, project_id), part_id)
        near = points_near(s, stations_in(stations_of(s, project_id), part), pick, ROUND)
    return widest_plane(near.points, LEVEL, through=pick).facing(near.towards)


def caught(project_id: str, pick: list[float], station_id: str) -> dict[str, Any]:
    """What lies under a cursor that has caught a point (frame of its part) of a station: see core/scan/catch.py."""
    at = np.array(pick, float)
    with snapshot() as s:
        station = owned(s, Station, project_id, station_id, "station")
        c = caught_near(s, station, at)
    return {
        **{k: getattr(c, k) for k in ("kind", "rms", "spread", "points", "angle", "radius", "incidence")},
        **{k: None if (v := getattr(c, k)) is None else v.tolist() for k in ("at", "normal", "axis")},
    }


def plane_as_told(project_id: str, pick: list[float], part_id: str | None = None) -> dict[str, Any]:
    plane = plane_at(project_id, np.array(pick, float), part_id)
    return {"normal": plane.normal.tolist(), "offset": plane.offset, "rms": plane.rms, "points": plane.points}


def change(project_id: str, note_id: str, version: int, name: str | None, remark: str | None, deleted: bool | None) -> None:
    with journal.change(project_id, "", topic="notes") as c:
        row = owned(c.s, Note, project_id, note_id, "note")
        journal.checked_version(row, version, f"the note {row.name}")
        c.title = f"Changed the note {row.name}"
        if name is not None:
            row.name = clean_name(name, row.name)
        if remark is not None:
            row.remark = remark.strip()[:300]
        if deleted:
            row.deleted = True
            c.title = f"Deleted the note {row.name}"


def table(project_id: str) -> str:
    """All notes as CSV (RFC 4180): lengths in the unit of their coordinates, each row saying which; picks as E N H."""
    with session() as s:
        project = get_project(s, project_id)
        rows = notes_of(s, project_id)
        units = {n["id"]: in_use(s, project, n["part"]).unit for n in rows}
    out = io.StringIO()
    write = csv.writer(out, lineterminator="\r\n")
    write.writerow(["name", "kind", "remark", "coordinates", "unit", *FIGURES, "picks (E N H)"])
    for n in rows:
        metre = frames.METRE_PER_UNIT[units[n["id"]]]
        figures = [_figure(key, n["figures"].get(key), metre) for key in FIGURES]
        picks = "; ".join(" ".join(f"{v / metre:.4f}" for v in p) for p in n["at"])
        write.writerow([_cell(n["name"]), KINDS[n["kind"]], _cell(n["remark"]), n["frame"], units[n["id"]], *figures, picks])
    return out.getvalue()


def _figure(key: str, value: float | None, metre: float) -> str:
    if value is None:
        return ""
    if key in ("angle", "level_angle"):
        return f"{value:.4f}"
    return f"{value / metre ** (2 if 'area' in key else 1):.4f}"


def _cell(text: str) -> str:
    """Text that no spreadsheet takes for a formula."""
    return f"'{text}" if text[:1] in ("=", "+", "-", "@") else text


def edit_pipe(
    project_id: str, note_id: str, version: int, do: str, at: list[float] | None = None, other_id: str | None = None
) -> list[str]:
    """cut: in two where it is nearest to a place; extend: the nearer end to where a place is abreast; join: with another pipe that it goes on
    into. at: (3,) m in the part. Returns the ids of the pipes that are there then."""
    with journal.change(project_id, "", topic="notes") as c:
        row = owned(c.s, Note, project_id, note_id, "note")
        journal.checked_version(row, version, row.name)
        if row.kind != "pipe":
            raise BadInput(f"{row.name} is no pipe", subject=row.name, remedy="choose a pipe that was followed")
        own = _piped(row)
        if do == "join":
            other = owned(c.s, Note, project_id, other_id or "", "note")
            if other.kind != "pipe" or other.id == row.id or other.part_id != row.part_id:
                raise BadInput("a pipe is joined with another one of its part", subject=row.name, remedy="choose the other pipe")
            to = frames.inverse(matrix(row.T_part_base)) @ matrix(other.T_part_base)
            theirs = _piped(other)
            both = piped.joined(own, replace(theirs, axis=frames.apply(to, theirs.axis)))
            _keep_piped(row, both, {k: row.detail[k] + other.detail[k] for k in ("points",)})
            other.deleted = True
            c.title = f"Joined {other.name} to {row.name}"
            return [row.id]
        if at is None:
            raise BadInput("a place is wanted", subject=row.name, remedy="pick one on the pipe")
        place = frames.apply(frames.inverse(matrix(row.T_part_base)), np.array([at], float))[0]
        if do == "extend":
            _keep_piped(row, piped.extended(own, place), {})
            c.title = f"Led an end of {row.name} on"
            return [row.id]
        one, rest = piped.cut(own, place)
        share = float(np.linalg.norm(np.diff(one.axis, axis=0), axis=1).sum())
        share /= share + float(np.linalg.norm(np.diff(rest.axis, axis=0), axis=1).sum())
        points = round(share * row.detail["points"])
        new = Note(project_id=project_id, part_id=row.part_id, T_part_base=row.T_part_base, kind="pipe", points=[], detail=dict(row.detail))
        new.name, new.remark = clean_name(f"{row.name}, further on", "Pipe"), row.remark
        _keep_piped(new, rest, {"points": row.detail["points"] - points})
        _keep_piped(row, one, {"points": points})
        c.s.add(new)
        c.s.flush()
        c.title = f"Cut {row.name} in two"
        return [row.id, new.id]


def _piped(row: Note) -> piped.Piped:
    axis = np.array(row.points, float)
    runs, bends = row.detail.get("runs") or [], row.detail.get("bends") or []
    runs = runs if len(runs) == len(axis) - 1 else [None] * (len(axis) - 1)
    bends = bends if len(bends) == len(axis) - 2 else [None] * (len(axis) - 2)
    return piped.Piped(axis, float(row.detail["radius"]), tuple(runs), tuple(bends))


def _keep_piped(row: Note, pipe: piped.Piped, more: dict[str, Any]) -> None:
    row.points = pipe.axis.tolist()
    row.detail = {**row.detail, "runs": list(pipe.runs), "bends": list(pipe.bends), **more}
