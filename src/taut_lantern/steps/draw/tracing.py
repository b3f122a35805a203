"""Trace: what people draw on a section, what they do with it, and the layers that it lies on."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import asdict, replace
from typing import Any

from sqlalchemy import func, select

from ...core.draw import editing
from ...core.draw.layers import TEMPLATES, TO_CHECK, checked
from ...core.draw.shapes import Point, Shape, length
from ...core.draw.shapes import checked as checked_shape
from ...core.errors import BadInput
from ...formats.dxf import layers_of as layers_in_file
from ...formats.page import page_of
from ...site.common import clean_name, get_project, owned
from ...site.drawing import layers_of, open_layer, shape_of
from ...site.pictures import keep
from ...store import journal, scratch
from ...store.db import session
from ...store.models import Picture, Section, Trace

ONE = ("move", "copy", "turn", "mirror", "stretch", "array")  # done with each that is chosen, on its own
MOST = 2000  # traces that are changed at once
WORDS = {
    "move": "Moved",
    "copy": "Copied",
    "turn": "Turned",
    "mirror": "Mirrored",
    "stretch": "Stretched",
    "array": "Repeated",
    "offset": "Set off",
    "trim": "Trimmed",
    "extend": "Extended",
    "corner": "Made a corner of",
    "join": "Joined",
    "break": "Broke",
}


def draw(
    project_id: str,
    section_id: str,
    kind: str,
    layer: str,
    points: list[list[float]],
    radius: float = 0.0,
    more: dict[str, Any] | None = None,
) -> str:
    """Keep what somebody drew; section coordinates, metres."""
    if kind == "picture":
        with session() as s:
            shown = owned(s, Picture, project_id, str((more or {}).get("picture") or ""), "picture")
            more = {"picture": shown.id, "tall": shown.high / shown.wide}
    shape = checked_shape(kind, points, radius, more)
    with journal.change(project_id, "Pinned a picture" if kind == "picture" else f"Drew a {kind}", topic="sections") as c:
        owned(c.s, Section, project_id, section_id, "section")
        if kind in ("text", "dimension") and not shape.more.get("height"):
            shape = replace(shape, more={**shape.more, "height": c.project.letters})
        row = _row(project_id, section_id, open_layer(c.project, layer), shape)
        c.s.add(row)
        c.s.flush()
        return row.id


def bring_picture(project_id: str, data: bytes, page: int = 1) -> dict[str, Any]:
    """Keep a picture, or a page of a PDF document, to be pinned to drawings. Returns its id and how high it is of its width."""
    if data[:1024].lstrip().startswith(b"%PDF"):
        with scratch.folder() as folder:
            (folder / "document").write_bytes(data)
            data = page_of(folder / "document", page)
    with journal.change(project_id, "Brought in a picture for drawings", topic="sections") as c:
        row = keep(c, data, caption="", logo=False, pinned=True)
        return {"id": row.id, "tall": row.high / row.wide}


def _row(project_id: str, section_id: str, layer: str, shape: Shape, state: str = "drawn", fit: dict[str, Any] | None = None) -> Trace:
    return Trace(
        project_id=project_id,
        section_id=section_id,
        kind=shape.kind,
        layer=layer,
        points=[list(p) for p in shape.points],
        radius=shape.radius,
        shape=shape.more,
        state=state,
        fit={**(fit or {}), "length": length(shape)},
    )


def change(
    project_id: str,
    trace_id: str,
    version: int | None,
    state: str | None = None,
    layer: str | None = None,
    points: list[list[float]] | None = None,
    radius: float | None = None,
    more: dict[str, Any] | None = None,
) -> None:
    """state: accepted | found | rejected (rejected is no longer shown, and not found again); points, radius, more: another shape of the
    same kind. What is found and dragged counts as drawn from then on."""
    with journal.change(project_id, "Changed a trace", topic="sections") as c:
        row = owned(c.s, Trace, project_id, trace_id, "trace")
        journal.checked_version(row, version, f"this {row.kind}")
        open_layer(c.project, row.layer)
        if layer is not None:
            row.layer = open_layer(c.project, layer)
            c.title = f"Moved a {row.kind} to the layer {row.layer}"
        if points is not None or radius is not None or more is not None:
            given = row.shape if more is None else {**row.shape, **more}
            shape = checked_shape(row.kind, row.points if points is None else points, row.radius if radius is None else radius, given)
            _laid(row, shape)
            c.title = f"Changed a {row.kind}"
        if state == "rejected":
            row.state = "rejected"
            c.title = f"Rejected a {row.kind}"
        elif state in ("accepted", "found"):
            row.state = state
            c.title = f"Accepted a {row.kind}"
        elif state is not None:
            raise BadInput(f"unknown state {state!r}", subject="state", remedy="use accepted, found or rejected")


def _laid(row: Trace, shape: Shape) -> None:
    """Give a row another shape. What was measured of the old one no longer holds, except where it is drawn on."""
    row.kind, row.points, row.radius, row.shape = shape.kind, [list(p) for p in shape.points], shape.radius, shape.more
    row.fit, row.state = {"length": length(shape)}, "drawn" if row.state in ("found", "accepted") else row.state


def remove(project_id: str, ids: Sequence[str]) -> int:
    """Take traces away, as one change."""
    with journal.change(project_id, "", topic="sections") as c:
        rows = _rows(c, project_id, ids)
        for row in rows:
            row.deleted = True
        c.title = f"Removed a {rows[0].kind}" if len(rows) == 1 else f"Removed {len(rows)} lines and shapes"
        return len(rows)


def _rows(c: journal.Change, project_id: str, ids: Sequence[str]) -> list[Trace]:
    if not 1 <= len(set(ids)) <= MOST:
        raise BadInput("choose what is to be changed first", subject="traces", remedy=f"choose 1 to {MOST}")
    rows = [owned(c.s, Trace, project_id, x, "trace") for x in dict.fromkeys(ids)]
    for row in rows:
        open_layer(c.project, row.layer)
    if len({r.section_id for r in rows}) > 1:
        raise BadInput("they lie on several sections", subject="traces", remedy="choose those of one section")
    return rows


def edit(project_id: str, do: str, ids: Sequence[str], at: Sequence[Sequence[float]], value: float = 0.0, count: int = 2) -> list[str]:
    """Do something with traces of one section, as one change; metres and radians of the section.

    move, copy: by at[0] → at[1]; turn: about at[0] by value; mirror: in the line at[0], at[1]; stretch: corners within at[0], at[1] by
    at[2] → at[3]; array: count at steps of at[0] → at[1]; offset: value, to the side of at[0]; trim: the piece at at[0] between all that
    crosses it; extend: the end near at[0]; corner: of two lines, rounded by value; join; break: at at[0]. Returns the ids of what is new.
    """
    picks = [(float(p[0]), float(p[1])) for p in at]
    need = {"move": 2, "copy": 2, "turn": 1, "mirror": 2, "stretch": 4, "array": 2, "offset": 1, "trim": 1, "extend": 1, "break": 1}
    if do not in WORDS or len(picks) < need.get(do, 0):
        raise BadInput(f"{do!r} needs {need.get(do, 0)} picks", subject="edit", remedy="pick again")
    with journal.change(project_id, "", topic="sections") as c:
        rows = _rows(c, project_id, ids)
        made: list[tuple[Trace, Shape]] = []  # what is new, and what it comes from
        if do in ONE:
            made = [(r, x) for r in rows for x in _each(do, r, shape_of(r), picks, value, count)]
        elif do == "join":
            _join(rows)
        elif do == "corner":
            if len(rows) != 2:
                raise BadInput("a corner is made of two lines", subject="corner", remedy="choose two lines")
            new = editing.rounded(shape_of(rows[0]), shape_of(rows[1]), value)
            for r, x in zip(rows, new, strict=False):
                _bent(r, x)
            made = [(rows[0], x) for x in new[2:]]
        else:
            for r in rows:
                made += [(r, x) for x in _cut(c, do, r, picks[0], value)]
        out = []
        for r, shape in made:
            row = _row(project_id, r.section_id, r.layer, shape)
            c.s.add(row)
            c.s.flush()
            out.append(row.id)
        c.title = f"{WORDS[do]} {len(rows)} lines and shapes" if len(rows) > 1 else f"{WORDS[do]} a {rows[0].kind}"
        return out


def _join(rows: list[Trace]) -> None:
    """What hangs together end to end on one layer becomes one polyline each, with what was measured of its lines."""
    any_ = False
    for layer in sorted({r.layer for r in rows}):
        own = [r for r in rows if r.layer == layer]
        shapes = [shape_of(r) for r in own]
        for chain in editing.chained(shapes):
            any_ = True
            first, *others = (own[k] for k in chain)
            fit, state = _together([own[k] for k in chain]), first.state
            _laid(first, editing.joined([shapes[k] for k in chain]))
            if fit is not None and all(r.state == state for r in others):
                first.fit, first.state = {**fit, "length": length(shape_of(first))}, state
            for r in others:
                r.deleted = True
    if not any_:
        raise BadInput("their ends do not meet", subject="joined", remedy="extend or trim them first, so that ends meet within 1 cm")


def _together(rows: list[Trace]) -> dict[str, Any] | None:
    """What was measured of several lines, as of one; None when some were only drawn."""
    fits = [r.fit for r in rows]
    if not all("rms_mm" in f and f.get("points") for f in fits):
        return None
    points = sum(int(f["points"]) for f in fits)
    out: dict[str, Any] = {"points": points, "rms_mm": math.sqrt(sum(int(f["points"]) * float(f["rms_mm"]) ** 2 for f in fits) / points)}
    out |= {k: sum(float(f.get(k) or 0.0) for f in fits) for k in ("seen", "bridged")}
    if all("error_mm" in f for f in fits):
        out["error_mm"] = max(float(f["error_mm"]) for f in fits)
    for key in ("made_from", "deletions"):
        if len({f.get(key) for f in fits}) == 1 and key in fits[0]:
            out[key] = fits[0][key]
    names = sorted({x for f in fits for x in f.get("stations") or []})
    return out | ({"stations": names[:12]} if names else {})


def _each(do: str, row: Trace, shape: Shape, at: list[Point], value: float, count: int) -> list[Shape]:
    by = (at[1][0] - at[0][0], at[1][1] - at[0][1]) if len(at) > 1 else (0.0, 0.0)
    if do == "copy":
        return [editing.moved(shape, by)]
    if do == "array":
        return editing.arrayed(shape, by, count)
    if do == "move":
        new = editing.moved(shape, by)
    elif do == "turn":
        new = editing.turned(shape, at[0], value)
    elif do == "mirror":
        return [editing.mirrored(shape, at[0], at[1])]
    else:
        low = (min(at[0][0], at[1][0]), min(at[0][1], at[1][1]))
        high = (max(at[0][0], at[1][0]), max(at[0][1], at[1][1]))
        new = editing.stretched(shape, low, high, (at[3][0] - at[2][0], at[3][1] - at[2][1]))
    _laid(row, new)
    return []


def _bent(row: Trace, shape: Shape) -> None:
    """A line that only ends elsewhere: it is still what was fitted; what it gained was not seen."""
    fit, state = dict(row.fit), row.state
    gained = max(0.0, length(shape) - float(fit.get("length") or 0.0))
    _laid(row, shape)
    if "rms_mm" in fit:
        row.fit = {**fit, "length": length(shape), "bridged": float(fit.get("bridged") or 0.0) + gained}
        row.fit["seen"] = min(float(fit.get("seen") or 0.0), length(shape))
    row.state = "accepted" if state in ("found", "accepted") else state


def _cut(c: journal.Change, do: str, row: Trace, pick: Point, value: float) -> list[Shape]:
    shape = shape_of(row)
    if do == "offset":
        return [editing.offset(shape, value, pick)]
    if do == "break":
        pieces = editing.broken(shape, pick)
    else:
        q = select(Trace).where(Trace.section_id == row.section_id, Trace.state != "rejected", Trace.id != row.id)
        others = [shape_of(t) for t in c.s.scalars(q) if t.kind not in ("text", "dimension", "point")]
        pieces = editing.trimmed(shape, others, pick) if do == "trim" else [editing.extended(shape, others, pick)]
    _bent(row, pieces[0])
    return pieces[1:]


def layers(project_id: str) -> list[dict[str, Any]]:
    """The layers of a project's drawing, and how much lies on each; also those that traces are on and nobody listed."""
    with session() as s:
        project = get_project(s, project_id)
        q = select(Trace.layer, func.count(Trace.id)).where(Trace.project_id == project_id, Trace.state != "rejected").group_by(Trace.layer)
        on = dict(s.execute(q).tuples().all())
        rows = layers_of(project)
        return [{**x, "traces": on.get(x["name"], 0)} for x in rows]


def set_layers(project_id: str, rows: list[dict[str, Any]], title: str = "Changed the layers") -> None:
    """Instead of those that were. What is drawn on a layer that is no longer listed keeps its name; the layer for what is to be checked
    always stays."""
    kept = checked(rows)
    with journal.change(project_id, title, topic="sections") as c:
        old = {x["name"]: x for x in layers_of(c.project)}
        names = {x["name"] for x in kept}
        q = select(Trace.layer).where(Trace.project_id == project_id).distinct()
        used = [str(n) for n in c.s.scalars(q) if n not in names]
        plain = {"colour": "#1e2530", "line_type": "continuous", "weight": 0.25, "locked": False, "shown": True}
        missing = [n for n in dict.fromkeys([*used, TO_CHECK]) if n not in names]
        c.project.layers = [*kept, *({**plain, **old.get(n, {}), "name": n} for n in missing)]


def rename_layer(project_id: str, old: str, new: str) -> None:
    """Another name for a layer, and for what lies on it."""
    with journal.change(project_id, "", topic="sections") as c:
        rows = layers_of(c.project)
        new = clean_name(new, old)[:60]
        if old not in {x["name"] for x in rows} or new.casefold() in {x["name"].casefold() for x in rows if x["name"] != old}:
            raise BadInput(f"there is another layer {new}, or none {old}", subject=old, remedy="choose another name")
        c.project.layers = [{**x, "name": new} if x["name"] == old else x for x in rows]
        for t in c.s.scalars(select(Trace).where(Trace.project_id == project_id, Trace.layer == old)):
            t.layer = new
        c.title = f"Renamed the layer {old} to {new}"


def layers_from(project_id: str, template: str) -> None:
    """The layers of one of our lists."""
    if template not in TEMPLATES:
        raise BadInput(f"there is no list of layers {template!r}", subject="layers", remedy=f"use one of {', '.join(TEMPLATES)}")
    set_layers(project_id, [asdict(x) for x in TEMPLATES[template]], f"Took the layers of {template}")


def layers_of_file(project_id: str, data: bytes) -> int:
    """The layers of a DXF file beside those that are there. Returns how many came."""
    with scratch.folder() as folder:
        (folder / "layers.dxf").write_bytes(data)
        found = layers_in_file(folder / "layers.dxf")
    with session() as s:
        here = layers_of(get_project(s, project_id))
    names = {x["name"].casefold() for x in found}
    set_layers(project_id, [*found, *(x for x in here if x["name"].casefold() not in names)], f"Took {len(found)} layers of a drawing")
    return len(found)
