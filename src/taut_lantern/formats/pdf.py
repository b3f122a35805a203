"""The registration report as PDF (ReportLab): sentences, tables and the string drawing of the network."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from pathlib import Path

from reportlab.graphics.shapes import Circle, Drawing, Line, PolyLine, String
from reportlab.lib import colors
from reportlab.lib.pagesizes import A4
from reportlab.lib.styles import ParagraphStyle
from reportlab.lib.units import mm
from reportlab.platypus import Flowable, Paragraph, SimpleDocTemplate, Spacer, Table, TableStyle

from . import fonts
from .part import whole

INK, QUIET, RULE = colors.HexColor("#1E2530"), colors.HexColor("#5A6170"), colors.HexColor("#D9D2C3")
STATUS = {"taut": "#0B6B68", "slack": "#A34E12", "parted": "#8A1846", "loose": "#6C7280"}
TEXT = ParagraphStyle("text", fontName="Helvetica", fontSize=9, leading=12, textColor=INK)
LEAD = ParagraphStyle("lead", parent=TEXT, fontSize=12, leading=16, spaceAfter=4)
HEAD = ParagraphStyle("head", parent=TEXT, fontName="Helvetica-Bold", fontSize=11, leading=16, spaceBefore=8)
CELL = ParagraphStyle("cell", parent=TEXT, fontSize=7.5, leading=9)


@dataclass(frozen=True)
class ReportTable:
    title: str
    columns: tuple[str, ...]
    rows: tuple[tuple[str, ...], ...]
    note: str = ""


@dataclass(frozen=True)
class NetworkPlan:
    """stations: name -> (x, y) metres; strings: (a, b, status, sag 0..1)."""

    stations: dict[str, tuple[float, float]]
    strings: tuple[tuple[str, str, str, float], ...]


@dataclass(frozen=True)
class Report:
    title: str
    made: str
    sentences: tuple[str, ...]
    tables: tuple[ReportTable, ...]
    plan: NetworkPlan | None = None
    footer: str = field(default="Taut Lantern")


def string_points(a: tuple[float, float], b: tuple[float, float], sag: float, steps: int = 16) -> list[tuple[float, float]]:
    """A hanging string between two points, sag as a share of its length (parabola)."""
    return [
        (a[0] + (b[0] - a[0]) * t, a[1] + (b[1] - a[1]) * t - 4 * sag * t * (1 - t) * math.dist(a, b))
        for t in (k / steps for k in range(steps + 1))
    ]


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
    return " ".join((report.title, report.made, *report.sentences, *(t.title + t.note for t in report.tables), *cells, *names))


def _widths(table: ReportTable) -> list[float]:
    """Millimetre-true widths (points) that fill 170 mm: short values as wide as they need, the rest for the words."""
    longest = [max(len(c), *(len(r[k]) for r in table.rows)) for k, c in enumerate(table.columns)]
    heads = [max(len(word) for word in c.split()) for c in table.columns]
    need = [1.4 * max(min(n, 17), h) + 2.6 for n, h in zip(longest, heads, strict=True)]
    wish = [float(max(0, min(n, 110) - 17)) for n in longest]
    for_words = max(0.0, 170 - sum(need))
    if any(wish):
        for_words = max(for_words, 50.0)
        squeeze = min(1.0, (170 - for_words) / sum(need))
        return [(squeeze * n + for_words * w / sum(wish)) * mm for n, w in zip(need, wish, strict=True)]
    return [170 * n / sum(need) * mm for n in need]


def write(path: Path, report: Report) -> None:
    """Write the report; the file appears only when it is whole."""
    story: list[Flowable] = [
        Paragraph(_escape(report.title, True), ParagraphStyle("t", parent=HEAD, fontSize=16, leading=20)),
        Paragraph(_escape(report.made), TEXT),
        Spacer(1, 6),
    ]
    story += [Paragraph(_escape(s), LEAD) for s in report.sentences]
    if missing := fonts.lacking(_everything(report)):
        numbers = ", ".join(f"U+{ord(c):04X}" for c in missing[:40])
        said = f"No font on this machine has {len(missing)} of the characters used here; they are written as their numbers: {numbers}."
        story.append(Paragraph(said, TEXT))
    if report.plan is not None and len(report.plan.stations) > 1:
        story += [Paragraph("The network", HEAD), _drawing(report.plan)]
    for table in report.tables:
        story.append(Paragraph(_escape(table.title, True), HEAD))
        if table.note:
            story.append(Paragraph(_escape(table.note), TEXT))
        if not table.rows:
            continue
        data = [
            [Paragraph(f"<font color='#5A6170'>{_escape(c)}</font>", CELL) for c in table.columns],
            *[[Paragraph(_escape(c), CELL) for c in row] for row in table.rows],
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
