"""A sheet as PDF: views at scale with their slab's picture below, title block, scale bar, north arrow, legend, revisions, and how good it is."""

from __future__ import annotations

import io
import math
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from PIL import Image
from reportlab.lib import colors
from reportlab.lib.units import mm
from reportlab.lib.utils import ImageReader
from reportlab.pdfbase.pdfmetrics import stringWidth
from reportlab.pdfgen.canvas import Canvas

from ..core.draw.layout import CAPTION, MARGIN, STRIP, Layout, Place, framing
from ..core.draw.shapes import Plain, plain
from . import fonts
from .block import Block
from .drawn import Drawn
from .part import whole

INK, QUIET = colors.HexColor("#1E2530"), colors.HexColor("#5A6170")
DASHES = {"continuous": [], "dashed": [3.0, 1.2], "dotted": [0.4, 1.0], "dash-dot": [4.0, 1.0, 0.4, 1.0]}  # millimetres
FINE = 0.02  # millimetres on paper that a curve may be left by


@dataclass(frozen=True)
class View:
    """Part of a section, from low to high (2,) metres; north: the turn of north from up on the paper, against the clock, radians, None
    when it is no plan; picture and the rectangle (left, bottom, right, top) that it fills."""

    title: str
    low: tuple[float, float]
    high: tuple[float, float]
    drawn: list[Drawn]
    north: float | None = None
    picture: Image.Image | None = None
    filled: tuple[float, float, float, float] = (0.0, 0.0, 0.0, 0.0)


@dataclass(frozen=True)
class Sheet:
    """block: what the title block says, name and value; quality: what is known of each view's lines; revisions: date, words."""

    layout: Layout
    views: list[View]
    layers: list[dict[str, object]]
    title: str
    block: list[tuple[str, str]]
    quality: list[list[str]] = field(default_factory=list)
    revisions: list[tuple[str, str]] = field(default_factory=list)
    unit: str = "m"
    metre: float = 1.0
    own: Block | None = None  # a title block of the customer's, in place of ours
    fields: dict[str, str] = field(default_factory=dict)  # what stands in its fields, by their tags
    pictures: dict[str, bytes] = field(default_factory=dict)  # what is pinned to the drawings, by its id


class _Pen:
    """Millimetres and texts on a canvas."""

    def __init__(self, canvas: Canvas) -> None:
        self.c = canvas

    def text(self, x: float, y: float, text: str, high: float, colour: colors.Color = INK, bold: bool = False, right: bool = False) -> None:
        """Letters of a height (of capitals, mm) from the left, or to the right end."""
        size = high / 0.72 * mm
        pieces = fonts.runs(text, bold)
        self.c.setFillColor(colour)
        at = x * mm - (sum(stringWidth(p, f, size) for f, p in pieces) if right else 0.0)
        for font, piece in pieces:
            self.c.setFont(font, size)
            self.c.drawString(at, y * mm, piece)
            at += stringWidth(piece, font, size)

    def cut(self, x: float, y: float, text: str, high: float, room: float, colour: colors.Color = INK, bold: bool = False) -> None:
        """The same, smaller or shortened where it would not fit into so many millimetres."""
        wide = self.wide(text, high)
        if wide > room:
            high = max(high * 0.7, high * room / wide)
        while len(text) > 4 and self.wide(text, high) > room:
            text = text[:-2].rstrip() + "…"
        self.text(x, y, text, high, colour, bold)

    def wide(self, text: str, high: float) -> float:
        return float(sum(stringWidth(p, f, high / 0.72 * mm) for f, p in fonts.runs(text))) / mm

    def line(self, *p: float, weight: float = 0.18, colour: colors.Color = INK) -> None:
        self.c.setStrokeColor(colour)
        self.c.setLineWidth(weight * mm)
        self.c.setDash([])
        self.c.line(*(v * mm for v in p))

    def box(self, x: float, y: float, wide: float, tall: float, weight: float = 0.18) -> None:
        self.c.setStrokeColor(INK)
        self.c.setLineWidth(weight * mm)
        self.c.setDash([])
        self.c.rect(x * mm, y * mm, wide * mm, tall * mm)


def write(path: Path, sheet: Sheet) -> None:
    """Write the sheet; the file appears only when it is whole."""
    lay = sheet.layout
    with whole(path) as part:
        canvas = Canvas(str(part), pagesize=(lay.wide * mm, lay.tall * mm), pageCompression=1)
        canvas.setTitle(sheet.title)
        canvas.setAuthor("Taut Lantern")
        pen = _Pen(canvas)
        frame = sheet.own is not None and framing((sheet.own.wide, sheet.own.tall), lay.wide, lay.tall)
        if not frame:
            pen.box(MARGIN, MARGIN, lay.wide - 2 * MARGIN, lay.tall - 2 * MARGIN, 0.5)
        styles = {str(x["name"]): x for x in sheet.layers}
        for view, place in zip(sheet.views, lay.places, strict=True):
            _view(pen, view, place, lay.scale, styles, sheet.pictures)
        _strip(pen, sheet, styles)
        canvas.save()


def _view(pen: _Pen, view: View, place: Place, scale: int, styles: dict[str, dict[str, object]], pictures: dict[str, bytes]) -> None:
    c, k = pen.c, 1000 / scale

    def at(p: tuple[float, float]) -> tuple[float, float]:
        return (place.x + (p[0] - view.low[0]) * k) * mm, (place.y + (p[1] - view.low[1]) * k) * mm

    c.saveState()
    frame = c.beginPath()
    frame.rect(place.x * mm, place.y * mm, place.wide * mm, place.tall * mm)
    c.clipPath(frame, stroke=0, fill=0)
    if view.picture is not None:
        (x0, y0), (x1, y1) = at((view.filled[0], view.filled[1])), at((view.filled[2], view.filled[3]))
        out = io.BytesIO()
        view.picture.save(out, "PNG")
        c.drawImage(ImageReader(io.BytesIO(out.getvalue())), x0, y0, x1 - x0, y1 - y0)
    c.setLineCap(1)
    c.setLineJoin(1)
    for d in view.drawn:
        style = styles.get(d.layer, {})
        c.setStrokeColor(colors.HexColor(str(style.get("colour", "#1e2530"))))
        c.setLineWidth(float(str(style.get("weight", 0.25))) * mm)
        c.setDash([v * mm for v in DASHES["dashed" if d.dashed else str(style.get("line_type", "continuous"))]])
        if d.shape.kind == "hatch" and d.shape.more.get("pattern") == "solid":
            _fill(pen, plain(d.shape), at, style)
            continue
        if d.shape.kind == "picture" and (body := pictures.get(str(d.shape.more["picture"]))) is not None:
            (x0, y0), (x1, y1) = at(d.shape.points[0]), at(d.shape.points[1])
            wide = math.hypot(x1 - x0, y1 - y0)
            c.saveState()
            c.translate(x0, y0)
            c.rotate(math.degrees(math.atan2(y1 - y0, x1 - x0)))
            c.drawImage(ImageReader(io.BytesIO(body)), 0, 0, wide, wide * float(d.shape.more["tall"]))
            c.restoreState()
            continue
        flat = plain(d.shape, FINE / 1000 * scale, d.words)
        for line in flat.lines:
            p = c.beginPath()
            p.moveTo(*at(line[0]))
            for q in line[1:]:
                p.lineTo(*at(q))
            c.drawPath(p)
        for x in flat.letters:
            c.saveState()
            c.translate(*at(x.at))
            c.rotate(math.degrees(x.turn))
            high = x.height * k * 0.9
            shift = pen.wide(x.text, high) / 2 if x.middle else 0.0
            pen.text(-shift, -high / 2 if x.middle else 0.0, x.text, high)
            c.restoreState()
    c.restoreState()
    pen.text(place.x, place.y - CAPTION + 2.5, view.title, 2.5, bold=True)
    pen.text(place.x + pen.wide(view.title, 2.7) + 4, place.y - CAPTION + 2.5, f"1:{scale}", 2.0, QUIET)
    if view.north is not None:
        _north(pen, place.x + place.wide - 5, place.y - CAPTION + 2.5, view.north)


def _fill(pen: _Pen, flat: Plain, at: Callable[[tuple[float, float]], tuple[float, float]], style: dict[str, object]) -> None:
    p = pen.c.beginPath()
    p.moveTo(*at(flat.lines[0][0]))
    for q in flat.lines[0][1:]:
        p.lineTo(*at(q))
    pen.c.setFillColor(colors.HexColor(str(style.get("colour", "#8a8f99"))), alpha=0.35)
    pen.c.drawPath(p, stroke=0, fill=1)
    pen.c.setFillAlpha(1)


def _north(pen: _Pen, x: float, y: float, turn: float) -> None:
    c = pen.c
    c.saveState()
    c.translate(x * mm, (y + 1) * mm)
    c.rotate(math.degrees(turn))
    p = c.beginPath()
    for k, q in enumerate(((0, 3.6), (1.3, -2.2), (0, -1.2), (-1.3, -2.2))):
        (p.lineTo if k else p.moveTo)(q[0] * mm, q[1] * mm)
    p.close()
    c.setFillColor(INK)
    c.drawPath(p, stroke=0, fill=1)
    pen.text(1.8, 1.2, "N", 1.8)
    c.restoreState()


def _bar(pen: _Pen, x: float, y: float, scale: int, unit: str, metre: float) -> None:
    """A scale bar some 50 mm long, in round numbers of the unit."""
    most = 55 * scale / 1000 / metre
    step = 10 ** math.floor(math.log10(most / 4))
    each = next(m * step for m in (5, 2, 1) if 4 * m * step <= most)
    wide = each * metre * 1000 / scale
    for k in range(4):
        pen.c.setFillColor(INK if k % 2 == 0 else colors.white)
        pen.c.setStrokeColor(INK)
        pen.c.setLineWidth(0.13 * mm)
        pen.c.setDash([])
        pen.c.rect((x + k * wide) * mm, y * mm, wide * mm, 1.4 * mm, stroke=1, fill=1)
    for k in range(5):
        label = f"{k * each:g}" + (f" {unit}" if k == 4 else "")
        pen.text(x + k * wide - (pen.wide(label, 1.6) / 2 if k < 4 else 0.8), y + 2.2, label, 1.6, QUIET)


def _strip(pen: _Pen, sheet: Sheet, styles: dict[str, dict[str, object]]) -> None:
    """Below the views: legend and scale bar, how good it is, revisions, and the title block at the right."""
    lay, low = sheet.layout, MARGIN
    top, left, right = low + lay.strip, MARGIN, lay.wide - MARGIN
    own = sheet.own
    frame = own is not None and framing((own.wide, own.tall), lay.wide, lay.tall)
    block = min(80.0, (right - left) * 0.36) if own is None or frame else own.wide
    x = right - block
    if own is not None:
        at = ((lay.wide - own.wide) / 2, (lay.tall - own.tall) / 2) if frame else (x, low)
        _block(pen, own, sheet.fields, at)
    if not frame:
        pen.line(left, top, right, top, weight=0.35)
        pen.line(x, low, x, top, weight=0.35)
    if own is None:
        pen.cut(x + 3, top - 7, sheet.title, 3.5, block - 6, bold=True)
        rows = [*sheet.block, ("scale", f"1:{lay.scale}")]
        step = min(4.6, (STRIP - 12) / max(len(rows), 1))
        for k, (name, value) in enumerate(rows):
            y = top - 13 - step * k
            pen.text(x + 3, y, name, 1.6, QUIET)
            pen.cut(x + 24, y, value, 2.0, block - 27)
    _bar(pen, left + 4, low + 4, lay.scale, sheet.unit, sheet.metre)
    used = sorted({d.layer for v in sheet.views for d in v.drawn})
    pen.text(left + 4, top - 5, "layers", 1.6, QUIET)
    for k, name in enumerate(used[:14]):
        style = styles.get(name, {})
        lx, ly = left + 4 + 32 * (k // 7), top - 9.5 - 3.7 * (k % 7)
        pen.c.setStrokeColor(colors.HexColor(str(style.get("colour", "#1e2530"))))
        pen.c.setLineWidth(float(str(style.get("weight", 0.25))) * mm)
        pen.c.setDash([v * mm for v in DASHES[str(style.get("line_type", "continuous"))]])
        pen.c.line(lx * mm, (ly + 0.8) * mm, (lx + 7) * mm, (ly + 0.8) * mm)
        pen.cut(lx + 9, ly, name, 1.8, 21)
    middle = left + 4 + 32 * (1 + (len(used) > 7)) + 4
    _table(pen, sheet, max(middle, left + 66), top, x)


def _block(pen: _Pen, own: Block, fields: dict[str, str], at: tuple[float, float]) -> None:
    """A customer's block with its lower left corner at a place; fields that nothing is known of stay empty."""
    c = pen.c
    for weight, line in own.lines:
        c.setStrokeColor(INK)
        c.setLineWidth(weight * mm)
        c.setDash([])
        p = c.beginPath()
        p.moveTo((at[0] + line[0][0]) * mm, (at[1] + line[0][1]) * mm)
        for x, y in line[1:]:
            p.lineTo((at[0] + x) * mm, (at[1] + y) * mm)
        c.drawPath(p)
    for t in own.texts:
        text = fields.get(t.tag, "") if t.tag else t.text
        if not text:
            continue
        c.saveState()
        c.translate((at[0] + t.at[0]) * mm, (at[1] + t.at[1]) * mm)
        c.rotate(math.degrees(t.turn))
        pen.text(-pen.wide(text, t.height) * t.anchor / 2, 0.0, text, t.height)
        c.restoreState()


def _table(pen: _Pen, sheet: Sheet, x: float, top: float, end: float) -> None:
    room = end - x - 3
    if room < 40:
        return
    y = top - 5
    if sheet.quality:
        columns = len(sheet.quality[0])
        wide = [room * 0.34, *[room * 0.66 / (columns - 1)] * (columns - 1)]
        for k, row in enumerate(sheet.quality[:8]):
            at = x
            for text, w in zip(row, wide, strict=True):
                pen.cut(at, y, text, 1.6 if k == 0 else 1.8, w - 1.5, QUIET if k == 0 else INK)
                at += w
            y -= 3.6
    y -= 1.5
    for date, words in sheet.revisions[-4:]:
        if y < MARGIN + 3:
            break
        pen.text(x, y, date, 1.6, QUIET)
        pen.cut(x + 20, y, words, 1.8, room - 22)
        y -= 3.4
