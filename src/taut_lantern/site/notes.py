"""Measures that are kept as notes, in the coordinates that are in use, and as they go onto a drawing."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import frames
from ..core.draw.measure import measured
from ..core.scan.surface import Plane
from ..formats.bodies import Body, Values
from ..formats.drawn import Entity
from ..store.models import Note
from .common import get_project, matrix
from .frames import InUse, in_use

METRES = ("m", 1.0)
UNIT = {"diameter": ("mm", 1000.0), "standard_diameter": ("mm", 1000.0), "rms": ("mm", 1000.0), "flat": ("mm", 1000.0), "off": ("mm", 1000.0),
        "error": ("mm", 1000.0),
        "angle": ("degrees", 1.0), "level_angle": ("degrees", 1.0), "area": ("m2", 1.0), "level_area": ("m2", 1.0)}  # fmt: skip
WORDS = {"slope": "length", "level": "level length", "height": "difference in height", "rms": "fit", "standard_diameter": "standard diameter",
         "level_angle": "level angle", "level_area": "level area", "round": "length round it", "flat": "out of flat"}  # fmt: skip
LAYER, AXES, PIPES = "notes", "pipe axis", "pipe"


def describe(row: Note, frame: InUse) -> dict[str, Any]:
    """A note with its figures in the coordinates of its part that are in use: metres, square metres, degrees."""
    base = matrix(row.T_part_base)
    in_part = frames.apply(base, np.array(row.points, float))
    t = frame.T_frame_part
    plane = None
    if row.kind == "plane" and row.detail:
        normal = t[:3, :3] @ base[:3, :3] @ np.array(row.detail["normal"])
        through = frames.apply(t @ base, -row.detail["offset"] * np.array([row.detail["normal"]]))[0]
        plane = Plane(normal, -float(normal @ through), row.detail["rms"], row.detail["points"])
    at = frames.apply(t, in_part)
    return {
        **{k: getattr(row, k) for k in ("id", "version", "name", "kind", "remark")},
        "part": row.part_id,
        "points": in_part.tolist(),
        "at": at.tolist(),
        "figures": measured(row.kind, at, plane, stretched(row, frame)),
        "radius": row.detail.get("radius") if row.kind == "pipe" else None,
        "frame": frame.name,
    }


def stretched(row: Note, frame: InUse) -> dict[str, Any] | None:
    """What was fitted of a pipe or a clearance, in the lengths of a frame; None of other notes."""
    if row.kind == "clearance":
        return {"error": row.detail["error"] * frames.stretch(frame.T_frame_part)}
    if row.kind != "pipe":
        return None
    by = frames.stretch(frame.T_frame_part)
    return {k: row.detail[k] and row.detail[k] * by for k in ("radius", "rms")} | {"nominal": row.detail.get("nominal")}


def notes_of(s: Session, project_id: str, part_id: str | None = None) -> list[dict[str, Any]]:
    """All notes, or those of a part."""
    project = get_project(s, project_id)
    known: dict[str | None, InUse] = {}
    q = select(Note).where(Note.project_id == project_id).order_by(Note.name, Note.id)
    out = []
    for row in s.scalars(q if part_id is None else q.where(Note.part_id == part_id)):
        known.setdefault(row.part_id, in_use(s, project, row.part_id))
        out.append(describe(row, known[row.part_id]))
    return out


def entities(s: Session, project_id: str, frame: InUse) -> list[Entity]:
    """The notes of a part on a layer of their own: points and lines where they were picked, with their names; metres."""
    out: list[Entity] = []
    for n in notes_of(s, project_id, frame.part):
        at = [(float(p[0]), float(p[1]), float(p[2])) for p in n["at"]]
        if n["kind"] == "pipe":
            radius = float(n["radius"]) * frames.stretch(frame.T_frame_part)
            out.append(Entity("polyline", AXES, tuple(at)))
            out += [Entity("tube", PIPES, (a, b), radius=radius) for a, b in zip(at, at[1:], strict=False)]
            out.append(Entity("text", LAYER, (at[0],), text=n["name"]))
            continue
        line = [*at, at[0]] if n["kind"] == "area" else at
        out.append(Entity("polyline", LAYER, tuple(line)) if len(line) > 1 else Entity("point", LAYER, (at[0],)))
        out.append(Entity("text", LAYER, (at[-1],), text=n["name"]))
    return out


def bodies(s: Session, project_id: str, frame: InUse) -> list[Body]:
    """The notes of a part as things in space: pipes as tubes, lines, areas and points, each with its figures; metres."""
    out = []
    rows = {r.id: r for r in s.scalars(select(Note).where(Note.project_id == project_id, Note.part_id == frame.part))}
    for n in notes_of(s, project_id, frame.part):
        kind = {"pipe": "tube", "area": "area", "point": "point"}.get(n["kind"], "line")
        radius = float(n["radius"] or 0.0) * frames.stretch(frame.T_frame_part)
        values: Values = {
            f"{WORDS.get(k, k)} ({unit})": round(float(v) * by, 4) for k, v in n["figures"].items() for unit, by in (UNIT.get(k, METRES),)
        }
        if kind == "tube":
            detail = rows[n["id"]].detail
            values |= {"points": int(detail["points"]), "runs": len(detail["runs"])}
        if n["remark"]:
            values["remark"] = n["remark"]
        out.append(Body(kind, n["name"], np.array(n["at"], float), radius, values))
    return out
