"""Cut: plans, ceilings, elevations, upright sections and rows of them; moved, renamed, deleted, and laid again on another project."""

from __future__ import annotations

import math
from collections.abc import Container, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.clean.rooms import direction_of
from ...core.draw.fit import find_lines
from ...core.draw.section import across, along_arc, ceiling, plan, series, stepped, unrolled, upright
from ...core.draw.shapes import Style, plain
from ...core.errors import BadInput, NotFound
from ...site.common import clean_name, finite, get_project, heavy, matrix, numbers, owned, stations_of
from ...site.drawing import (
    LEVEL,
    T_section_other,
    cut_marks,
    cut_of,
    guessed,
    in_pieces,
    marked_in,
    shape_of,
    step_marks,
    style_of,
    words_of,
)
from ...site.frames import InUse, in_use
from ...site.parts import stations_in, wanted
from ...site.slab import cleaning_of, slab_of
from ...store import journal
from ...store.db import session, snapshot
from ...store.marks import zones_of
from ...store.models import CropBox, Section, Trace
from ...store.tiles import read_tiles

KINDS = ("plan", "ceiling", "upright", "elevation", "unrolled")
STEP_UP = 0.12  # metres that parts two floors


def checked(kind: str, params: dict[str, Any]) -> dict[str, Any]:
    """The parameters of a cut as they are kept: plan, ceiling: height; upright, elevation: a, b, steps (or line: the ends of the legs
    in turn); unrolled: line, and bent when it is the arc through three picks; before, behind; of: ids of the stations, zones or boxes that
    it is of alone. BadInput else."""
    depth = finite([params.get("before", 0.0), params.get("behind", 0.05)], 2, "the depth")
    if kind in LEVEL:
        kept: dict[str, Any] = {"height": finite([params.get("height", math.nan)], 1, "the height")[0]}
        if params.get("turn"):
            kept["turn"] = finite([params["turn"]], 1, "the turn")[0]
        (plan if kind == "plan" else ceiling)(kept["height"], *depth)
    elif kind == "unrolled":
        kept = {"line": [finite(list(p), 2, "a pick") for p in params.get("line") or []], "bent": bool(params.get("bent"))}
        unrolled(np.array(kept["line"], float).reshape(-1, 2), depth[0], depth[1], kept["bent"])
    elif kind in KINDS:
        if params.get("line"):
            line = np.array([finite(list(p), 2, "a pick") for p in params["line"]], float)
            a, b, steps = stepped(line)
            params = {**params, "a": a, "b": b, "steps": steps}
        kept = {
            "a": finite(list(params.get("a") or []), 2, "the first pick"),
            "b": finite(list(params.get("b") or []), 2, "the second pick"),
        }
        if params.get("steps"):
            kept["steps"] = [finite(list(x), 2, "a step") for x in params["steps"]]
        ends = ((kept["a"][0], kept["a"][1]), (kept["b"][0], kept["b"][1]))
        upright(*ends, depth[0], depth[1], kept.get("steps") or ())
    else:
        raise BadInput(f"unknown kind of section {kind!r}", subject="kind", remedy=f"use {', '.join(KINDS)}")
    if params.get("window"):
        x0, y0, x1, y1 = finite(list(params["window"]), 4, "the window")
        if x1 - x0 < 0.01 or y1 - y0 < 0.01:
            raise BadInput("the window on sheets has no size", subject="window", remedy="show more of the section")
        kept["window"] = [x0, y0, x1, y1]
    if of := {k: sorted({str(x) for x in v}) for k, v in (params.get("of") or {}).items() if k in ("stations", "zones", "boxes") and v}:
        kept["of"] = of
    return {**kept, "before": depth[0], "behind": depth[1]}


def _there(s: Session, project_id: str, of: dict[str, list[str]], part: str | None) -> None:
    """NotFound when a station or a zone that a cut is to be of does not exist, BadInput when no station of it is in the part."""
    known = {"stations": {x.id for x in stations_of(s, project_id)}, "zones": {z.id for z in zones_of(s, project_id)}}
    known["boxes"] = set(s.scalars(select(CropBox.id).where(CropBox.project_id == project_id, CropBox.part_id == part)))
    for key, chosen in of.items():
        if set(chosen) - known[key]:
            raise NotFound(f"one of the {key} to cut does not exist any more", subject=key, remedy="choose again what is cut")
    if of.get("stations") and not {x.id for x in stations_in(stations_of(s, project_id), part)} & set(of["stations"]):
        raise BadInput("the station to cut is not tied to what is shown", subject="stations", remedy="tie it, or choose another one")


def _label(c: journal.Change, kind: str, kept: dict[str, Any], frame: InUse, taken: set[str]) -> str:
    """A name that no other cut of the project has; a height is said in the coordinates and the unit that are in use."""
    if kind in LEVEL:
        height = float((frame.T_frame_part @ [0.0, 0.0, kept["height"], 1.0])[2]) / frames.METRE_PER_UNIT[frame.unit]
        first = f"{'Plan' if kind == 'plan' else 'Ceiling'} {height:+.{0 if frame.unit == 'mm' else 2}f}"
        return next(n for k in range(1, 1000) if (n := first if k == 1 else f"{first} ({k})") not in taken)
    word = {"upright": "Section", "unrolled": "Unrolled"}.get(kind, "Elevation")
    letters = (chr(65 + k) if k < 26 else f"{chr(64 + k // 26)}{chr(65 + k % 26)}" for k in range(700))
    return next(f"{word} {x}" for x in letters if f"{word} {x}" not in taken)


def make_sections(project_id: str, wishes: Sequence[tuple[str, dict[str, Any], str]], part_id: str | None = None) -> list[str]:
    """Cuts (kind, params, name) of a part, in its frame, metres, as one change. Returns their ids."""
    ready = [(kind, checked(kind, params), name) for kind, params, name in wishes]
    with session() as s:
        for _, kept, _ in ready:
            _there(s, project_id, kept.get("of") or {}, wanted(s, get_project(s, project_id), part_id))
    with journal.change(project_id, "", topic="sections") as c:
        taken = set(c.s.scalars(select(Section.name).where(Section.project_id == project_id)))
        frame = in_use(c.s, c.project, part_id)
        out: list[str] = []
        for kind, kept, name in ready:
            label = clean_name(name, "") or _label(c, kind, kept, frame, taken)
            taken.add(label)
            row = Section(project_id=project_id, part_id=frame.part, name=label, kind=kind, params=kept)
            c.s.add(row)
            c.s.flush()
            out.append(row.id)
        c.title = f"Cut {label}" if len(out) == 1 else f"Cut {len(out)} sections"
        return out


def make_section(project_id: str, kind: str, params: dict[str, Any], name: str = "", part_id: str | None = None) -> str:
    return make_sections(project_id, [(kind, params, name)], part_id)[0]


def make_series(
    project_id: str,
    line: Sequence[Sequence[float]],
    spacing: float,
    width: float,
    depth: float,
    part_id: str | None = None,
    arc: bool = False,
) -> list[str]:
    """Upright cuts square to a line of picks, or to the arc through three, at equal spacing, each ``width`` wide; metres."""
    kept = [finite(list(p), 2, "a pick") for p in line]
    at = np.array(kept, float).reshape(-1, 2)
    if arc and len(at) != 3:
        raise BadInput(
            f"an arc goes through three picks; {len(at)} came", subject="sections", remedy="pick its beginning, a place on it, and its end"
        )
    rows = across(*along_arc(at, spacing), width) if arc else series(at, spacing, width)
    wishes = [("upright", {"a": list(a), "b": list(b), "before": depth / 2, "behind": depth / 2}, "") for a, b in rows]
    return make_sections(project_id, wishes, part_id)


def change_section(
    project_id: str, section_id: str, version: int | None, name: str | None = None, params: dict[str, Any] | None = None
) -> None:
    """Rename a cut, or move it: what was drawn stays where it is on the section; what was found is out of date then."""
    with journal.change(project_id, "", topic="sections") as c:
        row = owned(c.s, Section, project_id, section_id, "section")
        journal.checked_version(row, version, f"the section {row.name}")
        if name is not None:
            c.title = f"Renamed {row.name} to {clean_name(name, row.name)}"
            row.name = clean_name(name, row.name)
        if params:
            before = row.params
            row.params = checked(row.kind, {**row.params, **params})
            _there(c.s, project_id, params.get("of") or {}, row.part_id)
            c.title = f"Moved {row.name}"
            if {k: v for k, v in before.items() if k != "window"} == {k: v for k, v in row.params.items() if k != "window"}:
                c.title = f"Chose what sheets show of {row.name}"
                return
            for t in c.s.scalars(select(Trace).where(Trace.section_id == section_id)):
                if t.fit.get("made_from") is not None:
                    t.fit = {**t.fit, "moved": True}


def pull_cut(project_id: str, section_id: str, cut_id: str, version: int, a: list[float], b: list[float]) -> None:
    """Lay the line of an upright cut through two places (2,) of a plan or ceiling that it is marked in."""
    with session() as s:
        section, cut = owned(s, Section, project_id, section_id, "section"), owned(s, Section, project_id, cut_id, "section")
        ends = marked_in(section, cut)
        if ends is None:
            raise BadInput(
                f"{cut.name} is not marked in {section.name}", subject=cut.name, remedy="choose a plan, and an upright cut of its part"
            )
        places = np.column_stack([np.array([a, b], float), ends[:, 2]])
        new = frames.apply(frames.inverse(T_section_other(section, cut)), places)
    change_section(project_id, cut_id, version, params={"a": new[0, :2].tolist(), "b": new[1, :2].tolist()})


def delete_section(project_id: str, section_id: str, version: int | None = None) -> None:
    with journal.change(project_id, "", topic="sections") as c:
        row = owned(c.s, Section, project_id, section_id, "section")
        journal.checked_version(row, version, f"the section {row.name}")
        row.deleted = True
        c.title = f"Deleted {row.name}"


@dataclass(frozen=True)
class Floor:
    """A level surface that instruments stood on. height: its z in the part, metres; stations: names of those."""

    height: float
    stations: list[str]


def floors(project_id: str, part_id: str | None = None) -> list[Floor]:
    """The floors of a part, the one that most instruments stood on first: below each instrument the strongest peak of its points."""
    with session() as s:
        stations = stations_in(stations_of(s, project_id), wanted(s, get_project(s, project_id), part_id))
        seen = []
        for x in stations:
            pose = matrix(x.pose)
            z = [frames.apply(pose, t.xyz)[:, 2] - pose[2, 3] for t in read_tiles(station_id=x.id, most_level=1, kinds=())]
            below = np.concatenate(z) if z else np.zeros(0)
            count, edge = np.histogram(below[(below > -2.6) & (below < -0.4)], bins=110, range=(-2.6, -0.4))
            if count.sum() < 10:
                count, edge = np.histogram(below, bins=1200, range=(-60, 60))
            peak = int(np.argmax(count))
            near = below[np.abs(below - edge[peak] - (edge[1] - edge[0]) / 2) < 0.03]
            seen.append((float(pose[2, 3] + (np.median(near) if len(near) else edge[peak])), x.name))
    if not seen:
        raise BadInput("there are no stations to cut", subject="section", remedy="bring in a scan first")
    groups: list[list[tuple[float, str]]] = []
    for height, name in sorted(seen):
        if groups and height - groups[-1][-1][0] < STEP_UP:
            groups[-1].append((height, name))
        else:
            groups.append([(height, name)])
    out = [Floor(float(np.median([h for h, _ in g])), [n for _, n in g]) for g in groups]
    return sorted(out, key=lambda f: (-len(f.stations), f.height))


def direction(project_id: str, part_id: str | None = None) -> float:
    """The turn of a plan that lies along the walls, radians: of the four ways that do the one nearest to east of the grid in use."""
    with session() as s:
        project = get_project(s, project_id)
        frame = in_use(s, project, part_id)
        stations = stations_in(stations_of(s, project_id), frame.part)
        points = [frames.apply(matrix(x.pose), t.xyz) for x in stations for t in read_tiles(station_id=x.id, most_level=1, kinds=())]
    east = math.atan2(-float(frame.T_frame_part[1, 0]), float(frame.T_frame_part[0, 0]))
    if not points or sum(len(p) for p in points) < 500:
        return east
    flat = np.concatenate(points)[:, :2]
    walls = direction_of(flat)
    lines = find_lines(flat[:: max(1, len(flat) // 60_000)], most=40)
    angles = np.array([math.atan2(x.b[1] - x.a[1], x.b[0] - x.a[0]) for x in lines])
    long = np.array([math.dist(x.a, x.b) for x in lines])
    near = np.abs((angles - walls + math.pi / 4) % (math.pi / 2) - math.pi / 4) < math.radians(1.5)
    if near.any():
        walls = float(np.angle((np.exp(4j * angles[near]) * long[near] ** 2).sum())) / 4
    turn = east + (walls - east + math.pi / 4) % (math.pi / 2) - math.pi / 4
    return 0.0 if abs(turn) < math.radians(0.05) else turn


def floor_height(project_id: str, part_id: str | None = None) -> float:
    """Height of the floor that most instruments stood on (its z in the part, metres)."""
    return floors(project_id, part_id)[0].height


def slab_bytes(project_id: str, section_id: str) -> tuple[bytes, dict[str, int]]:
    """A slab for a picture: 12 bytes a point, float32 along and across of all points, then rgb and intensity of all."""
    with heavy(), snapshot() as s:
        slab = slab_of(s, project_id, owned(s, Section, project_id, section_id, "section"))
    flat = np.ascontiguousarray(slab.points[:, :2].astype(np.float32)).tobytes()
    return flat + np.column_stack([slab.rgb, slab.intensity]).tobytes(), slab.counts


def _lines(lines: list[list[tuple[float, float]]]) -> list[list[list[float]]]:
    return [[[round(x, 5), round(y, 5)] for x, y in line] for line in lines]


TraceKey = tuple[Any, ...]
"""What a trace is told from: as long as it is the same, so is what is told."""


def list_sections(s: Session, project_id: str, known: Container[TraceKey] = ()) -> list[dict[str, Any]]:
    """All cuts with what is drawn on them, as plain lines too, and how they are marked in each other. traces: of each its key, and what is
    told of it, None where its key is known to whoever asks: of thousands of lines a stroke changes one."""
    project = get_project(s, project_id)
    revision, style = project.network_revision, style_of(project)
    rows = list(s.scalars(select(Section).where(Section.project_id == project_id).order_by(Section.kind, Section.name)))
    shown = select(Trace.section_id, Trace.id, Trace.version).where(Trace.project_id == project_id, Trace.state != "rejected")
    by_section: dict[str, list[tuple[str, int]]] = {}
    for section_id, trace_id, version in s.execute(shown.order_by(Trace.layer, Trace.id)):
        by_section.setdefault(section_id, []).append((trace_id, version))
    in_part: dict[str | None, InUse] = {}
    names: dict[str, str] = {}
    if any(r.params.get("of") for r in rows):
        names = {x.id: x.name for x in stations_of(s, project_id)} | {z.id: z.name for z in zones_of(s, project_id)}
        names |= {b.id: b.name for b in s.scalars(select(CropBox).where(CropBox.project_id == project_id))}
    out = []
    for r in rows:
        frame = in_part.setdefault(r.part_id, in_use(s, project, r.part_id))
        cleaning = cleaning_of(s, project_id, r) if r.id in by_section else ""
        steps = bool(r.params.get("steps"))
        hangs_on = (r.id, r.version, frame.unit, frame.T_frame_part.tobytes(), style, revision, cleaning)
        keys = [(*own, *hangs_on) for own in by_section.get(r.id, [])]
        new = [key[0] for key in keys if key not in known]
        told = (
            {t.id: _trace(t, r, frame, style, revision, cleaning) for t in s.scalars(select(Trace).where(Trace.id.in_(new)))} if new else {}
        )
        shapes = [shape_of(t) for t in s.scalars(select(Trace).where(Trace.section_id == r.id, Trace.state != "rejected"))] if steps else []
        marks = [plain(d.shape) for d in [*cut_marks(r, [x for x in rows if x.part_id == r.part_id]), *step_marks(r, shapes)]]
        out.append(
            {
                "id": r.id,
                "version": r.version,
                "name": r.name,
                "kind": r.kind,
                "params": r.params,
                "of": _of_words(r, names),
                "part": r.part_id,
                "T_section_part": numbers(cut_of(r).T_section_base @ frames.inverse(matrix(r.T_part_base))),
                "foot": [] if (foot := cut_of(r).foot) is None else _in_part(r, foot.line()),
                "marks": {
                    "lines": _lines([x for m in marks for x in m.lines]),
                    "letters": [vars(x) for m in marks for x in m.letters],
                    "cuts": [
                        {"id": x.id, "version": x.version, "name": x.name, "a": e[0, :2].tolist(), "b": e[1, :2].tolist()}
                        for x in rows
                        if (e := marked_in(r, x)) is not None
                    ],
                },
                "traces": [(key, told.get(key[0])) for key in keys if key[0] in told or key in known],
            }
        )
    return out


def _in_part(section: Section, line: list[tuple[float, float, float]]) -> list[list[float]]:
    """Of an unrolled wall's foot metres along, x, y in the part."""
    flat = frames.apply(matrix(section.T_part_base), np.array([[x, y, 0.0] for _, x, y in line]))
    return [[t, float(p[0]), float(p[1])] for (t, _, _), p in zip(line, flat, strict=True)]


def _of_words(section: Section, names: dict[str, str]) -> str:
    of = section.params.get("of") or {}
    seen = [f"what {names.get(x, 'a station that is gone')} saw" for x in of.get("stations") or ()]
    for key, what in (("zones", "zone"), ("boxes", "box")):
        seen += [f"the {what} {names[x]}" if x in names else f"a {what} that is gone" for x in of.get(key) or ()]
    return ", ".join(seen)


def _trace(t: Trace, section: Section, frame: InUse, style: Style, revision: int, deletions: str) -> dict[str, Any]:
    flat = plain(style.of(shape_of(t)), words=words_of(shape_of(t), section, frame, style))
    parts = in_pieces(t)
    return {
        "id": t.id,
        "version": t.version,
        "kind": t.kind,
        "layer": t.layer,
        "points": t.points,
        "radius": t.radius,
        "shape": t.shape,
        "state": t.state,
        "fit": t.fit,
        "dashed": guessed(t),
        "lines": _lines(flat.lines),
        "solid": _lines([list(x.points) for x, gap in parts if not gap and len(parts) > 1]),
        "dashes": _lines([list(x.points) for x, gap in parts if gap and len(parts) > 1]),
        "letters": [vars(x) for x in flat.letters],
        "why_old": why_old(t, revision, deletions),
    }


def why_old(t: Trace, revision: int, deletions: str) -> str:
    """Why what was found is out of date, or "": the network, the cut or the cleaning changed since."""
    if t.fit.get("made_from", revision) != revision:
        return "the network changed since"
    if t.fit.get("moved"):
        return "the cut was moved since"
    return "points were deleted or brought back since" if t.fit.get("deletions", deletions) != deletions else ""
