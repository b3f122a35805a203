"""The registration report as PDF (ReportLab): sentences, tables and the string drawing of the network."""

from __future__ import annotations

import io
import math
from pathlib import Path

from reportlab.graphics.shapes import Circle, Drawing, Line, PolyLine, String
from reportlab.lib import colors
from reportlab.lib.enums import TA_RIGHT
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.pdfbase.pdfmetrics import stringWidth
from reportlab.platypus import Flowable, Image, KeepTogether, Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

from . import fonts
from .part import whole
from .report import STATUS, NetworkPlan, Report, ReportPicture, ReportTable, string_points

INK, QUIET, RULE = colors.HexColor("#1E2530"), colors.HexColor("#5A6170"), colors.HexColor("#D9D2C3")
TEXT = ParagraphStyle("text", fontName="Helvetica", fontSize=9, leading=12, textColor=INK)
LEAD = ParagraphStyle("lead", parent=TEXT, fontSize=12, leading=16, spaceAfter=4)
HEAD = ParagraphStyle("head", parent=TEXT, fontName="Helvetica-Bold", fontSize=11, leading=16, spaceBefore=8, keepWithNext=1)
NOTE = ParagraphStyle("note", parent=TEXT, keepWithNext=1)
CELL = ParagraphStyle("cell", parent=TEXT, fontSize=7.5, leading=9)
FIGURE = ParagraphStyle("figure", parent=CELL, alignment=TA_RIGHT)
WIDE = 170 * mm - 12  # points of a line: A4 with 20 mm at the sides, and what the frame keeps free
PAD = 5.5  # points right of each cell


def _drawing(plan: NetworkPlan, width: float = 480, height: float = 240) -> Drawing:
    xs, ys = [p[0] for p in plan.stations.values()], [p[1] for p in plan.stations.values()]
    span = max(max(xs) - min(xs), (max(ys) - min(ys)) * width / height, 1.0)
    scale = (width - 80) / span
    at = {n: (40 + (x - min(xs)) * scale, 20 + (y - min(ys)) * scale) for n, (x, y) in plan.stations.items()}
    d = Drawing(width, max(60.0, 40 + (max(ys) - min(ys)) * scale))
    for a, b, status, sag in plan.strings:
        colour = colors.HexColor(STATUS[status])
        if status == "parted":
            for p, q in ((at[a], at[b]), (at[b], at[a])):
                end = (p[0] + 0.42 * (q[0] - p[0]), p[1] + 0.42 * (q[1] - p[1]))
                d.add(Line(*p, *end, strokeColor=colour, strokeWidth=0.8))
                for turn in (-0.5, 0.5):
                    angle = math.atan2(q[1] - p[1], q[0] - p[0]) + turn
                    d.add(Line(*end, end[0] + 4 * math.cos(angle), end[1] + 4 * math.sin(angle), strokeColor=colour, strokeWidth=0.8))
            continue
        points = string_points(at[a], at[b], sag if status == "slack" else 0.0)
        d.add(
            PolyLine(
                [c for p in points for c in p], strokeColor=colour, strokeWidth=0.8, strokeDashArray=[1, 2] if status == "loose" else None
            )
        )
    for name, (x, y) in at.items():
        d.add(Circle(x, y, 3.2, fillColor=INK, strokeColor=colors.white))
        d.add(String(x + 5, y + 4, fonts.told(name), fontSize=7, fillColor=INK, fontName=fonts.for_all(name)))
    d.add(Line(40, 6, 40 + 5 * scale, 6, strokeColor=QUIET))
    d.add(String(44 + 5 * scale, 4, "5 m", fontSize=6, fillColor=QUIET))
    return d


def _escape(text: str, bold: bool = False) -> str:
    """A text as a paragraph takes it, each character in a font that has it."""
    out = []
    for font, piece in fonts.runs(text, bold):
        safe = piece.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
        out.append(safe if font.startswith("Helvetica") else f'<font name="{font}">{safe}</font>')
    return "".join(out)


def _everything(report: Report) -> str:
    """All words of a report, to see which characters cannot be shown."""
    cells = (c for t in report.tables for r in t.rows for c in r)
    names = report.plan.stations if report.plan else ()
    captions = (p.caption for p in report.pictures)
    return " ".join(
        (
            report.title,
            report.made,
            report.company,
            *captions,
            *report.sentences,
            *(t.title + t.note for t in report.tables),
            *cells,
            *names,
        )
    )


def _widths(table: ReportTable) -> list[float]:
    """Widths (points) that fill the line: no word is broken, short values stand on one line, what is long gets the rest."""
    cells = [[c, *(r[k] for r in table.rows)] for k, c in enumerate(table.columns)]
    word = [max(_long(w) for c in column for w in c.split() or [""]) + PAD for column in cells]
    line = [max(max((_long(c) for c in column[1:]), default=0.0) + PAD, w) for column, w in zip(cells, word, strict=True)]
    left = WIDE - sum(word)
    if left <= 0:
        return [WIDE * w / sum(word) for w in word]
    wish = [n - w for n, w in zip(line, word, strict=True)]
    small = [min(x, 90.0) for x in wish]  # points: values of some words first, then sentences
    first = min(1.0, left / sum(small)) if any(small) else 0.0
    out = [w + first * x for w, x in zip(word, small, strict=True)]
    rest, more = WIDE - sum(out), [x - first * y for x, y in zip(wish, small, strict=True)]
    share = sum(more)
    return [w + (rest * x / share if share > 0 else rest / len(out)) for w, x in zip(out, more, strict=True)]


def _long(text: str) -> float:
    """Points that a text is long in a cell."""
    return float(sum(stringWidth(piece, font, CELL.fontSize) for font, piece in fonts.runs(text, False)))


def _image(picture: ReportPicture, wide: float, high: float, align: str) -> Image:
    """A picture as large as fits into so many millimetres."""
    scale = min(wide * mm / picture.wide, high * mm / picture.high)
    return Image(io.BytesIO(picture.data), picture.wide * scale, picture.high * scale, hAlign=align)


def write(path: Path, report: Report) -> None:
    """Write the report; the file appears only when it is whole."""
    by = f"{report.company} · " if report.company else ""
    story: list[Flowable] = [
        *([_image(report.logo, 45, 16, "RIGHT")] if report.logo else []),
        Paragraph(_escape(report.title, True), ParagraphStyle("t", parent=HEAD, fontSize=16, leading=20)),
        Paragraph(_escape(by + report.made), TEXT),
        Spacer(1, 6),
    ]
    story += [Paragraph(_escape(s), LEAD) for s in report.sentences]
    if missing := fonts.lacking(_everything(report)):
        numbers = ", ".join(f"U+{ord(c):04X}" for c in missing[:40])
        said = f"No font on this machine has {len(missing)} of the characters used here; they are written as their numbers: {numbers}."
        story.append(Paragraph(said, TEXT))
    if report.plan is not None and len(report.plan.stations) > 1:
        story += [Paragraph("The network", HEAD), _drawing(report.plan)]
    if report.pictures:
        story.append(Paragraph("Pictures", HEAD))
    story += [KeepTogether([_image(p, 165, 110, "LEFT"), Paragraph(_escape(p.caption), TEXT), Spacer(1, 8)]) for p in report.pictures]
    for table in report.tables:
        story.append(Paragraph(_escape(table.title, True), HEAD))
        if table.note:
            story.append(Paragraph(_escape(table.note), NOTE))
        if not table.rows:
            continue
        kinds = [FIGURE if f else CELL for f in table.figures]
        data = [
            [Paragraph(f"<font color='#5A6170'>{_escape(c)}</font>", k) for c, k in zip(table.columns, kinds, strict=True)],
            *[[Paragraph(_escape(c), k) for c, k in zip(row, kinds, strict=True)] for row in table.rows],
        ]
        grid = Table(data, repeatRows=1, colWidths=_widths(table))
        grid.setStyle(
            TableStyle(
                [
                    ("LINEBELOW", (0, 0), (-1, -1), 0.3, RULE),
                    ("VALIGN", (0, 0), (-1, -1), "TOP"),
                    ("LEFTPADDING", (0, 0), (-1, -1), 0),
                    ("RIGHTPADDING", (0, 0), (-1, -1), 5),
                    ("TOPPADDING", (0, 0), (-1, -1), 1.5),
                    ("BOTTOMPADDING", (0, 0), (-1, -1), 1.5),
                ]
            )
        )
        story.append(grid)

    def foot(canvas: object, doc: object) -> None:
        canvas.setFont("Helvetica", 7)  # type: ignore[attr-defined]
        canvas.setFillColor(QUIET)  # type: ignore[attr-defined]
        canvas.drawString(20 * mm, 10 * mm, report.footer)  # type: ignore[attr-defined]
        canvas.drawRightString(190 * mm, 10 * mm, str(doc.page))  # type: ignore[attr-defined]

    with whole(path) as part:
        SimpleDocTemplate(
            str(part),
            pagesize=A4,
            leftMargin=20 * mm,
            rightMargin=20 * mm,
            topMargin=18 * mm,
            bottomMargin=18 * mm,
            title=report.title,
            author="Taut Lantern",
        ).build(story, onFirstPage=foot, onLaterPages=foot)
