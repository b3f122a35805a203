"""What is drawn: the cut of a section, its traces as shapes, the marks of other cuts in it, and the layers they lie on."""

from __future__ import annotations

import math
from dataclasses import asdict, replace
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import frames
from ..core.draw.faces import unseen
from ..core.draw.layers import BUILDING, TO_CHECK
from ..core.draw.section import Cut, ceiling, plan, unrolled, upright
from ..core.draw.shapes import Shape, Style, dimension, plain
from ..core.errors import Conflict
from ..formats.drawn import Drawn, Entity
from ..store.models import Project, Section, Trace
from .common import Array, clean_name, get_project, matrix
from .frames import InUse

LEVEL = ("plan", "ceiling")  # cuts that lie level
MARKS = "section"  # the layer of cuts and titles
GUESSED = 0.4  # share of a line that was bridged, from which it is dashed


def cut_of(section: Section) -> Cut:
    p = section.params
    if section.kind in LEVEL:
        return (plan if section.kind == "plan" else ceiling)(p["height"], p["before"], p["behind"], p.get("turn", 0.0))
    if section.kind == "unrolled":
        return unrolled(np.array(p["line"], float), p["before"], p["behind"], bool(p.get("bent")))
    return upright((p["a"][0], p["a"][1]), (p["b"][0], p["b"][1]), p["before"], p["behind"], p.get("steps") or ())


def layers_of(project: Project) -> list[dict[str, Any]]:
    """The layers of a project's drawing; those that one begins with when it has none of its own."""
    return list(project.layers) or [asdict(x) for x in BUILDING]


def locked_of(project: Project) -> set[str]:
    """The names, in small letters, of layers that nothing is changed on."""
    return {str(x["name"]).casefold() for x in layers_of(project) if x["locked"]}


def open_layer(project: Project, name: str) -> str:
    """A layer's name as it is listed; Conflict when it is locked."""
    name = clean_name(name, "wall")
    if name.casefold() in locked_of(project):
        raise Conflict(f"the layer {name} is locked", subject=name, remedy="unlock it, or draw on another one")
    return next((str(x["name"]) for x in layers_of(project) if x["name"].casefold() == name.casefold()), name)


def shape_of(trace: Trace) -> Shape:
    return Shape(trace.kind, tuple((float(x), float(y)) for x, y in trace.points), trace.radius, dict(trace.shape))


def guessed(trace: Trace) -> bool:
    """Whether a trace is drawn dashed as a whole: nobody has said yes to it, or much of it was bridged and it is not known where, unless
    somebody decided otherwise."""
    if "dashed" in trace.shape:
        return bool(trace.shape["dashed"])
    long = float(trace.fit.get("length") or 0.0)
    return trace.state == "found" or (long > 0 and "pieces" not in trace.fit and float(trace.fit.get("bridged") or 0.0) > GUESSED * long)


def in_pieces(trace: Trace) -> list[tuple[Shape, bool]]:
    """A trace as it is drawn: whole, or what of a line was seen, and dashed what was not."""
    shape, dashed = shape_of(trace), guessed(trace)
    if trace.kind != "line" or dashed or "dashed" in trace.shape or not trace.fit.get("pieces"):
        return [(shape, dashed)]
    seen = [((p[0], p[1]), (q[0], q[1])) for p, q in trace.fit["pieces"]]
    parts = unseen((shape.points[0], shape.points[1]), seen)
    return [(replace(shape, points=ends), gap) for ends, gap in parts] if len(parts) > 1 else [(shape, False)]


def T_frame_section(section: Section, frame: InUse, shape: Shape | None = None) -> Array:
    """From a section to the coordinates that are in use; may stretch. Of a cut in steps, from the leg that most of a shape lies on."""
    cut = cut_of(section)
    out = frame.T_frame_part @ matrix(section.T_part_base) @ frames.inverse(cut.T_section_base)
    if shape is not None and cut.steps:
        out = out @ frames.pose(0.0, (0.0, 0.0, -float(cut.shift(np.array([np.mean([x for x, _ in shape.points])]))[0])))
    return out


def style_of(project: Project) -> Style:
    return Style(**project.dimensions)


def words_of(shape: Shape, section: Section, frame: InUse, style: Style) -> str:
    """What a dimension says, in the unit and heights that are in use; its own words when it has some."""
    if shape.kind != "dimension":
        return ""
    if shape.more.get("text"):
        return str(shape.more["text"])
    measure, value = shape.more["measure"], dimension(shape)
    t = T_frame_section(section, frame)
    if measure == "angle":
        return f"{math.degrees(value):.2f}°"
    if measure == "level":
        x, y = shape.points[0]
        at = frames.apply(t, np.array([[0.0, 0.0, y] if section.kind == "unrolled" else [x, y, 0.0]]))[0]
        return style.figure(float(at[2]), frame.unit, "+")
    return ("R " if measure == "radius" else "") + style.figure(value * frames.stretch(t), frame.unit)


def sections_of(s: Session, project_id: str, part_id: str | None) -> list[Section]:
    q = select(Section).where(Section.project_id == project_id, Section.part_id == part_id)
    return list(s.scalars(q.order_by(Section.kind, Section.name, Section.id)))


def marked_in(section: Section, other: Section) -> Array | None:
    """The ends (2, 3) of an upright cut in the coordinates of a level one; None when it is not marked there."""
    if (
        section.kind not in LEVEL
        or other.kind not in ("upright", "elevation")
        or other.id == section.id
        or other.part_id != section.part_id
    ):
        return None
    to = T_section_other(section, other)
    return frames.apply(to, np.array([[*other.params[end][:2], 0.0] for end in ("a", "b")]))


def T_section_other(section: Section, other: Section) -> Array:
    """From the coordinates that another cut's ends are kept in to those of a section."""
    return cut_of(section).T_section_base @ frames.inverse(matrix(section.T_part_base)) @ matrix(other.T_part_base)


def cut_marks(section: Section, others: list[Section], T_there: Array | None = None) -> list[Drawn]:
    """Upright cuts as a level one shows them: a line with an arrow at each end towards what is seen, and the name."""
    if section.kind not in LEVEL:
        return []
    t = np.eye(4) if T_there is None else T_there
    out: list[Drawn] = []
    for other in others:
        out += _foot_mark(section, other, t)
        ends = marked_in(section, other)
        if ends is None:
            continue
        a, b = ends[:, :2]
        long = float(np.linalg.norm(b - a))
        along = (b - a) / max(long, 1e-9)
        look = np.array([-along[1], along[0]])
        size = min(0.6, 0.1 * long)
        line = [a - along * size]
        shift = 0.0
        for at, more in other.params.get("steps") or ():
            corner = a + along * at
            line += [corner + look * shift, corner + look * more]
            shift = more
        lines = [[*line, b + along * size + look * shift]]
        for end in (lines[0][0], lines[0][-1]):
            tip = end + look * size
            lines += [[end, tip], [tip - look * size * 0.4 - along * size * 0.2, tip], [tip - look * size * 0.4 + along * size * 0.2, tip]]
        shapes = [Shape("line" if len(x) == 2 else "polyline", tuple((float(p), float(q)) for p, q in x)) for x in lines]
        short = other.name.removeprefix("Section ").removeprefix("Elevation ") or other.name
        for end in (lines[0][0], lines[0][-1]):
            at = end + look * size * 1.25 - [0.35 * size, 0.0]
            shapes.append(Shape("text", ((float(at[0]), float(at[1])),), 0.0, {"text": short, "height": 0.7 * size}))
        out += [Drawn(x, MARKS, t, dashed=k == 0) for k, x in enumerate(shapes)]
    return out


def _foot_mark(section: Section, other: Section, T_there: Array) -> list[Drawn]:
    """The line that an unrolled wall stands on, and its name at both ends; nothing of another cut."""
    foot = cut_of(other).foot
    if foot is None or other.part_id != section.part_id:
        return []
    line = foot.line()
    flat = frames.apply(T_section_other(section, other), np.array([[x, y, 0.0] for _, x, y in line]))[:, :2]
    points = tuple((float(x), float(y)) for x, y in flat)
    size = min(0.4, 0.07 * foot.long)
    name = other.name.removeprefix("Unrolled ") or other.name
    letters = [Shape("text", (at,), 0.0, {"text": name, "height": size}) for at in (points[0], points[-1])]
    return [Drawn(Shape("polyline", points), MARKS, T_there, dashed=True), *(Drawn(x, MARKS, T_there) for x in letters)]


def rolled(s: Session, project: Project, frame: InUse, section_ids: list[str] | None) -> list[Entity]:
    """What is drawn on unrolled walls where it stands in space, as lines and texts, in a frame of the part, metres."""
    hidden = {x["name"] for x in layers_of(project) if not x["shown"]}
    out: list[Entity] = []
    for section in sections_of(s, project.id, frame.part):
        foot = cut_of(section).foot
        if foot is None or (section_ids and section.id not in section_ids):
            continue
        to = frame.T_frame_part @ matrix(section.T_part_base)
        for d in drawn_of(s, section, frame, np.eye(4)):
            if d.layer in hidden:
                continue
            flat = plain(d.shape, words=d.words)
            for line in flat.lines:
                p = _close_together(np.array(line, float), 0.02 if foot.arc is not None else 0.05)
                p = frames.apply(to, foot.rolled(np.column_stack([p, np.zeros(len(p))])))
                out.append(Entity("polyline", d.layer, tuple((float(x), float(y), float(z)) for x, y, z in p), dashed=d.dashed))
            for x in flat.letters:
                (at,) = frames.apply(to, foot.rolled(np.array([[*x.at, 0.0]])))
                out.append(Entity("text", d.layer, ((float(at[0]), float(at[1]), float(at[2])),), x.text))
    return out


def _close_together(line: Array, step: float) -> Array:
    """A line (n, 2) with corners between its own, no farther apart along than ``step``; none where it goes straight up."""
    parts = [line[:1]]
    for a, b in zip(line[:-1], line[1:], strict=True):
        n = max(1, math.ceil(abs(float(b[0] - a[0])) / step))
        parts.append(a + (b - a) * (np.arange(1, n + 1) / n)[:, None])
    return np.concatenate(parts)


def step_marks(section: Section, shapes: list[Shape], T_there: Array | None = None) -> list[Drawn]:
    """Where a cut in steps goes from one leg to the next: an upright line over what is drawn on it, and beyond by 0.3 m."""
    steps = section.params.get("steps") or ()
    heights = [y for x in shapes for _, y in x.points]
    if not steps or not heights:
        return []
    low, high = min(heights) - 0.3, max(heights) + 0.3
    t = np.eye(4) if T_there is None else T_there
    return [Drawn(Shape("line", ((float(at), low), (float(at), high))), MARKS, t, dashed=True) for at, _ in steps]


def drawn_of(s: Session, section: Section, frame: InUse, T_there: Array) -> list[Drawn]:
    """The traces of a section that nobody rejected, on their layers; those that nobody said yes to on ``to check``."""
    style, out = style_of(get_project(s, section.project_id)), list[Drawn]()
    for t in s.scalars(select(Trace).where(Trace.section_id == section.id, Trace.state != "rejected").order_by(Trace.id)):
        layer = TO_CHECK if t.state == "found" else t.layer
        out += [Drawn(style.of(x), layer, T_there, dashed, words_of(x, section, frame, style)) for x, dashed in in_pieces(t)]
    return out


def drawn(s: Session, project: Project, frame: InUse, section_ids: list[str] | None, in_section: bool) -> list[Drawn]:
    """Traces of a part in a frame of it, or in section coordinates; titles of the sections, and the cuts' marks in plans; metres. What is
    drawn on unrolled walls lies on no plane in a frame: see ``rolled``."""
    rows = sections_of(s, project.id, frame.part)
    hidden = {x["name"] for x in layers_of(project) if not x["shown"]}
    out: list[Drawn] = []
    for section in rows:
        if (section_ids and section.id not in section_ids) or (section.kind == "unrolled" and not in_section):
            continue
        there = np.eye(4) if in_section else T_frame_section(section, frame)
        own = [d for d in drawn_of(s, section, frame, there) if d.layer not in hidden]
        out += own if in_section else [replace(d, T_frame_section=T_frame_section(section, frame, d.shape)) for d in own]
        out += cut_marks(section, rows, there) + step_marks(section, [d.shape for d in own], there)
        out.append(Drawn(Shape("text", ((0.0, 0.0),), 0.0, {"text": section.name}), MARKS, there))
    return out
