"""What a sheet shows: its views' extents, where they stand, and all that is drawn, as its file takes it."""

from __future__ import annotations

import math
from datetime import UTC, datetime
from typing import Any

import numpy as np
from PIL import Image
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core.draw.layout import Layout, laid_out
from ..core.draw.raster import band, full_ink, gathered, raster
from ..core.draw.shapes import plain
from ..core.frames import METRE_PER_UNIT
from ..formats.block import Block, meant
from ..formats.drawn import Drawn
from ..formats.sheet import Sheet as Page
from ..formats.sheet import View
from ..store.models import Section, Sheet, TitleBlock, Trace
from .common import Progress, get_project
from .drawing import LEVEL, T_frame_section, cut_marks, cut_of, drawn_of, layers_of, sections_of, step_marks
from .frames import in_use
from .models import design_drawn
from .pictures import pinned
from .slab import AT_ONCE, slab_of

EDGE = 0.3  # metres shown round what there is
DOTS = 0.17  # millimetres of a picture's pixel on paper, some 150 an inch


def extent(drawn: list[Drawn], points: np.ndarray | None = None) -> tuple[tuple[float, float], tuple[float, float]] | None:
    """The rectangle (2,), (2,) metres round shapes and points of a section, with some room; None when there are none."""
    at = [np.array(line) for d in drawn for line in plain(d.shape).lines]
    at += [np.array([x.at]) for d in drawn for x in plain(d.shape).letters]
    if points is not None and len(points):
        at.append(np.percentile(points[:, :2], [0.2, 99.8], axis=0))
    if not at:
        return None
    all_ = np.concatenate(at)
    low, high = all_.min(axis=0) - EDGE, all_.max(axis=0) + EDGE
    return (float(low[0]), float(low[1])), (float(high[0]), float(high[1]))


def _own(s: Session, section: Section, rows: list[Section]) -> list[Drawn]:
    """The shapes of a section and the marks of others in it, in its own coordinates."""
    frame = in_use(s, get_project(s, section.project_id), section.part_id)
    hidden = {x["name"] for x in layers_of(get_project(s, section.project_id)) if not x["shown"]}
    drawn = [d for d in drawn_of(s, section, frame, np.eye(4)) if d.layer not in hidden]
    return drawn + cut_marks(section, rows) + step_marks(section, [d.shape for d in drawn])


def laid(s: Session, sheet: Sheet) -> tuple[Layout, list[Section], list[tuple[tuple[float, float], tuple[float, float]]]]:
    """Where the views of a sheet stand, its sections, and what part of each is seen."""
    p = sheet.params
    by_id = {x.id: x for x in s.scalars(select(Section).where(Section.project_id == sheet.project_id))}
    sections = [by_id[x] for x in p["sections"] if x in by_id]
    extents = []
    for section in sections:
        if section.params.get("window"):
            x0, y0, x1, y1 = section.params["window"]
            extents.append(((x0, y0), (x1, y1)))
            continue
        if s.scalar(select(Trace.id).where(Trace.section_id == section.id, Trace.state != "rejected").limit(1)) is not None:
            found = extent(_own(s, section, sections_of(s, sheet.project_id, section.part_id)))
        else:  # nothing is drawn: as far as some points go
            found = extent([], slab_of(s, sheet.project_id, section, 20_000, 200_000).points)
        extents.append(found or ((0.0, 0.0), (1.0, 1.0)))
    sizes = [(high[0] - low[0], high[1] - low[1]) for low, high in extents]
    own = title_of(s, sheet)
    size = None if own is None else (own.body["wide"], own.body["tall"])
    return laid_out(sizes, p["paper"], p["upright"], p["scale"], size), sections, extents


def title_of(s: Session, sheet: Sheet) -> TitleBlock | None:
    """The title block of the customer's that a sheet has; None: ours."""
    chosen = sheet.params.get("title")
    return s.scalar(select(TitleBlock).where(TitleBlock.project_id == sheet.project_id, TitleBlock.id == chosen)) if chosen else None


def filled_in(own: Block, given: dict[str, str], known: dict[str, str]) -> dict[str, str]:
    """What stands in each field of a block, by its tag: what was given for the sheet, else what the field's name asks for, else its own text."""
    at_first = {t.tag: t.text for t in own.texts if t.tag}
    return {tag: given[tag] if tag in given else known.get(meant(tag), at_first[tag]) for tag in own.tags}


def words_known(s: Session, sheet: Sheet, sections: list[Section], scale: int) -> dict[str, str]:
    """What a sheet can say in a title block, by names of ours."""
    project = get_project(s, sheet.project_id)
    p = sheet.params
    last = p["revisions"][-1] if p["revisions"] else None
    return {
        "project": project.name,
        "sheet": sheet.name,
        "scale": f"1:{scale}",
        "date": datetime.now(UTC).strftime("%Y-%m-%d"),
        "coordinates": ", ".join(sorted({in_use(s, project, x.part_id).name for x in sections})),
        "revision": f"{len(p['revisions'])} {last['words']}" if last else "",
        **{k: str(p["block"].get(k, "")) for k in ("client", "drawn by", "checked by", "number")},
    }


def page(s: Session, sheet: Sheet, progress: Progress) -> Page:
    """The whole sheet, with the pictures of the slabs."""
    lay, sections, extents = laid(s, sheet)
    project = get_project(s, sheet.project_id)
    views, quality = [], [["view", "lines", "length m", "fit mm", "bridged %", "± mm"]]
    unit, metre = "m", 1.0
    for section, (low, high) in zip(sections, extents, strict=True):
        frame = in_use(s, project, section.part_id)
        unit, metre = frame.unit, METRE_PER_UNIT[frame.unit]
        drawn = _own(s, section, sections_of(s, sheet.project_id, section.part_id)) + design_drawn(s, section, np.eye(4))
        north = None
        if section.kind in LEVEL:
            t = T_frame_section(section, frame)
            north = math.atan2(float(t[1, 1]), float(t[1, 0])) - math.pi / 2
        picture, filled = None, (0.0, 0.0, 0.0, 0.0)
        if sheet.params["picture"]:
            picture, filled = _picture(s, section, low, high, DOTS / 1000 * lay.scale, sheet.params["picture"], progress)
        views.append(View(section.name, low, high, drawn, north, picture, filled))
        quality.append(_quality(s, section))
    known = words_known(s, sheet, sections, lay.scale)
    block = [("project", project.name), *sheet.params["block"].items(), *((k, known[k]) for k in ("coordinates", "date"))]
    title = title_of(s, sheet)
    own = None if title is None else Block.of(title.body)
    return Page(
        lay,
        views,
        layers_of(project),
        sheet.name,
        block,
        quality,
        [(r["date"], r["words"]) for r in sheet.params["revisions"]],
        unit,
        metre,
        own,
        {} if own is None else filled_in(own, sheet.params.get("fields") or {}, known),
        pinned(s, project.id, (str(d.shape.more["picture"]) for v in views for d in v.drawn if d.shape.kind == "picture")),
    )


def _picture(
    s: Session, section: Section, low: tuple[float, float], high: tuple[float, float], pixel: float, mode: str, progress: Progress
) -> tuple[Image.Image, tuple[float, float, float, float]]:
    slab = slab_of(s, section.project_id, section, 5_000_000, AT_ONCE, progress)
    to = raster(np.array(low), np.array(high), pixel)
    cut = cut_of(section)
    seen = gathered(to, slab.points, slab.rgb, slab.intensity)
    full = full_ink(to, [seen], mode)
    rows = [band(to, k, seen, mode, (cut.behind, cut.before), full) for k in range(to.bands)]
    image = np.concatenate(rows)
    picture = Image.fromarray(image if image.shape[2] == 3 else image[:, :, 0])
    return picture, (to.low, to.high - to.tall * pixel, to.low + to.wide * pixel, to.high)


def _quality(s: Session, section: Section) -> list[str]:
    """How good the lines of a view are: how many, their length, residual, what was bridged, and what they are expected to be off by."""
    q = select(Trace).where(Trace.section_id == section.id, Trace.state != "rejected")
    fits: list[dict[str, Any]] = [t.fit for t in s.scalars(q) if "rms_mm" in t.fit]
    if not fits:
        return [section.name, "drawn by hand", "", "", "", ""]
    long = sum(float(f.get("length") or 0.0) for f in fits)
    bridged = sum(float(f.get("bridged") or 0.0) for f in fits)
    error = [float(f["error_mm"]) for f in fits if "error_mm" in f]
    return [
        section.name,
        str(len(fits)),
        f"{long:.1f}",
        f"{np.median([float(f['rms_mm']) for f in fits]):.1f}",
        f"{100 * bridged / long:.0f}" if long else "",
        f"{np.median(error):.1f}" if error else "",
    ]
