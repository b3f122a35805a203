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
from .common import Array, get_project, matrix
from .frames import InUse, in_use

METRES = ("m", 1.0)
UNIT = {"diameter": ("mm", 1000.0), "standard_diameter": ("mm", 1000.0), "rms": ("mm", 1000.0), "flat": ("mm", 1000.0), "off": ("mm", 1000.0),
        "error": ("mm", 1000.0), "section_height": ("mm", 1000.0), "section_width": ("mm", 1000.0),
        "angle": ("degrees", 1.0), "level_angle": ("degrees", 1.0), "area": ("m2", 1.0), "level_area": ("m2", 1.0)}  # fmt: skip
WORDS = {"slope": "length", "level": "level length", "height": "difference in height", "rms": "fit", "standard_diameter": "standard diameter",
         "section_height": "height of the section", "section_width": "width of the section",
         "level_angle": "level angle", "level_area": "level area", "round": "length round it", "flat": "out of flat"}  # fmt: skip
LAYER, AXES, PIPES, SOLIDS = "notes", "pipe axis", "pipe", "solids"


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
        "bends": bends_of(row, frame),
        "section": section_words(row.detail) if row.kind == "profile" else None,
        "frame": frame.name,
    }


def bends_of(row: Note, frame: InUse) -> list[dict[str, float] | None]:
    """The bends of a pipe, corner by corner: turn in degrees, radius of the axis in metres; None where the points do not tell it."""
    by = frames.stretch(frame.T_frame_part)
    return (
        [None if b is None else {"turn": b["turn"], "radius": b["radius"] * by} for b in row.detail.get("bends", [])]
        if row.kind == "pipe"
        else []
    )


def section_words(detail: dict[str, Any]) -> str:
    """A section, and what it is not told apart from."""
    return " or ".join([detail["section"], *detail["alike"]])


def stretched(row: Note, frame: InUse) -> dict[str, Any] | None:
    """What was fitted of a pipe or a clearance, in the lengths of a frame; None of other notes."""
    if row.kind == "clearance":
        return {"error": row.detail["error"] * frames.stretch(frame.T_frame_part)}
    by = frames.stretch(frame.T_frame_part)
    if row.kind in ("profile", "box", "sphere"):
        return {k: v * by for k, v in row.detail.items() if k in ("height", "width", "radius", "rms", "error")}
    if row.kind != "pipe":
        return None
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
    rows = {r.id: r for r in s.scalars(select(Note).where(Note.project_id == project_id, Note.part_id == frame.part))}
    for n in notes_of(s, project_id, frame.part):
        at = [(float(p[0]), float(p[1]), float(p[2])) for p in n["at"]]
        if n["kind"] == "pipe":
            radius = float(n["radius"]) * frames.stretch(frame.T_frame_part)
            out.append(Entity("polyline", AXES, tuple(at)))
            out.append(Entity("tube", PIPES, tuple(at), radius=radius, bends=_bends(n)))
            out.append(Entity("text", LAYER, (at[0],), text=n["name"]))
            continue
        if n["kind"] in ("profile", "box", "sphere"):
            base, along = prism_of(rows[n["id"]], frame)
            radius = float(n["figures"].get("diameter", 0.0)) / 2
            shape = Entity("ball", SOLIDS, (at[0],), radius=radius) if n["kind"] == "sphere" else _prism(base, along)
            out += [shape, Entity("text", LAYER, (at[0],), text=n["name"])]
            if n["kind"] == "profile":
                out.append(Entity("polyline", LAYER, tuple(at)))
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
        kind = {"pipe": "tube", "area": "area", "point": "point", "profile": "prism", "box": "prism", "sphere": "ball"}.get(
            n["kind"], "line"
        )
        radius = float(n["radius"] or 0.0) * frames.stretch(frame.T_frame_part)
        values: Values = {
            f"{WORDS.get(k, k)} ({unit})": round(float(v) * by, 4) for k, v in n["figures"].items() for unit, by in (UNIT.get(k, METRES),)
        }
        if kind == "tube":
            detail = rows[n["id"]].detail
            values |= {"points": int(detail["points"]), "runs": len(detail["runs"])}
        if n["kind"] == "profile":
            values |= {"section": str(n["section"]), "points": int(rows[n["id"]].detail["points"])}
        if kind == "ball":
            radius = float(n["figures"]["diameter"]) / 2
        if n["remark"]:
            values["remark"] = n["remark"]
        base, along = prism_of(rows[n["id"]], frame) if kind == "prism" else (np.array(n["at"], float), None)
        out.append(Body(kind, n["name"], base, radius, values, along, "member" if n["kind"] == "profile" else "", _bends(n)))
    return out


def _bends(note: dict[str, Any]) -> tuple[float | None, ...]:
    return tuple(None if b is None else float(b["radius"]) for b in note["bends"])


def prism_of(row: Note, frame: InUse) -> tuple[Array, Array]:
    """(outline (k, 3) of a body at its first end, (3,) how far and which way it goes from there) in a frame."""
    t = frame.T_frame_part @ matrix(row.T_part_base)
    p = np.array(row.points, float)
    if row.kind == "profile":
        flat, x, y = (np.array(row.detail[k], float) for k in ("outline", "x", "y"))
        base, along = p[0] + flat[:, :1] * x + flat[:, 1:] * y, p[1] - p[0]
    elif row.kind == "box":
        a, b, along = p[1:] - p[0]
        base = np.array([p[0], p[0] + a, p[0] + a + b, p[0] + b])
    else:
        return frames.apply(t, p), np.zeros(3)
    return frames.apply(t, base), np.asarray(t[:3, :3] @ along)


def _prism(base: Array, along: Array) -> Entity:
    corners = [(float(x), float(y), float(z)) for x, y, z in [*base, *(base + along)]]
    return Entity("prism", SOLIDS, tuple(corners))
