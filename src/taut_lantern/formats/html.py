"""The registration report as one HTML file that needs nothing else: pictures and the drawing of the network are within it."""

from __future__ import annotations

import base64
import math
from html import escape
from pathlib import Path

from .part import whole
from .report import STATUS, NetworkPlan, Report, ReportPicture, ReportTable, string_points

STYLE = """
:root { color-scheme: light; }
body { font: 15px/1.5 system-ui, sans-serif; color: #1E2530; background: #FCFAF5; max-width: 62rem; margin: 2rem auto; padding: 0 1.2rem; }
h1 { font-size: 1.6rem; line-height: 1.25; margin: .2rem 0; } h2 { font-size: 1.05rem; margin: 2rem 0 .4rem; }
.made { color: #5A6170; } .lead { font-size: 1.15rem; margin: .35rem 0; }
header { display: flex; justify-content: space-between; align-items: flex-start; gap: 2rem; } header img { max-height: 64px; max-width: 220px; }
table { border-collapse: collapse; width: 100%; font-size: .85rem; } .wide { overflow-x: auto; }
th { text-align: left; font-weight: normal; color: #5A6170; vertical-align: bottom; } th, td { padding: .22rem .7rem .22rem 0; border-bottom: 1px solid #D9D2C3; }
td { vertical-align: top; } td.n, th.n { text-align: right; } td.n { font-variant-numeric: tabular-nums; white-space: nowrap; } td.s { white-space: nowrap; }
figure { margin: 1rem 0; break-inside: avoid; } figure img { max-width: 100%; } figcaption { color: #5A6170; font-size: .9rem; }
svg text { font: 11px system-ui, sans-serif; fill: #1E2530; }
@media print { body { background: none; margin: 0; max-width: none; } thead { display: table-header-group; } tr { break-inside: avoid; } }
"""


def _source(picture: ReportPicture) -> str:
    return f"data:image/{picture.kind};base64,{base64.b64encode(picture.data).decode()}"


def _table(table: ReportTable) -> str:
    short = [all(len(r[k]) <= 28 for r in table.rows) for k in range(len(table.columns))]
    kind = [' class="n"' if f else ' class="s"' if n else "" for f, n in zip(table.figures, short, strict=True)]
    head = "".join(f"<th{k}>{escape(c)}</th>" for c, k in zip(table.columns, kind, strict=True))
    body = "".join("<tr>" + "".join(f"<td{k}>{escape(c)}</td>" for c, k in zip(r, kind, strict=True)) + "</tr>" for r in table.rows)
    note = f"<p class='made'>{escape(table.note)}</p>" if table.note else ""
    return f"<h2>{escape(table.title)}</h2>{note}<div class='wide'><table><thead><tr>{head}</tr></thead><tbody>{body}</tbody></table></div>"


def _plan(plan: NetworkPlan, wide: float = 900.0) -> str:
    """The string drawing: taut straight, slack hanging, parted broken with frayed ends, loose dotted."""
    xs, ys = [p[0] for p in plan.stations.values()], [p[1] for p in plan.stations.values()]
    scale = (wide - 140) / max(max(xs) - min(xs), (max(ys) - min(ys)) * 1.6, 1.0)
    high = (max(ys) - min(ys)) * scale + 90
    at = {n: (60 + (x - min(xs)) * scale, high - 50 - (y - min(ys)) * scale) for n, (x, y) in plan.stations.items()}
    out = []
    for a, b, status, sag in plan.strings:
        colour = STATUS[status]
        if status == "parted":
            for p, q in ((at[a], at[b]), (at[b], at[a])):
                end = (p[0] + 0.42 * (q[0] - p[0]), p[1] + 0.42 * (q[1] - p[1]))
                turn = math.atan2(q[1] - p[1], q[0] - p[0])
                frayed = "".join(
                    f"M{end[0]:.1f} {end[1]:.1f}l{7 * math.cos(turn + w):.1f} {7 * math.sin(turn + w):.1f}" for w in (-0.5, 0.5)
                )
                out.append(f'<path d="M{p[0]:.1f} {p[1]:.1f}L{end[0]:.1f} {end[1]:.1f}{frayed}" stroke="{colour}" fill="none"/>')
            continue
        hanging = string_points((at[a][0], -at[a][1]), (at[b][0], -at[b][1]), sag if status == "slack" else 0.0)
        points = " ".join(f"{x:.1f},{-y:.1f}" for x, y in hanging)
        dots = ' stroke-dasharray="1 4"' if status == "loose" else ""
        out.append(f'<polyline points="{points}" stroke="{colour}" fill="none"{dots}/>')
    for name, (x, y) in at.items():
        out.append(f'<circle cx="{x:.1f}" cy="{y:.1f}" r="4" fill="#1E2530"/><text x="{x + 7:.1f}" y="{y - 5:.1f}">{escape(name)}</text>')
    out.append(
        f'<path d="M60 {high - 12:.1f}h{5 * scale:.1f}" stroke="#5A6170"/><text x="{66 + 5 * scale:.1f}" y="{high - 8:.1f}">5 m</text>'
    )
    return f'<svg viewBox="0 0 {wide:.0f} {high:.0f}" width="100%" role="img" aria-label="plan of the network" stroke-width="1.2">{"".join(out)}</svg>'


def write(path: Path, report: Report) -> None:
    """Write the report; the file appears only when it is whole."""
    logo = f'<img src="{_source(report.logo)}" alt="{escape(report.company)}">' if report.logo else ""
    by = f"{escape(report.company)} · " if report.company else ""
    parts = [
        f"<header><div><h1>{escape(report.title)}</h1><p class='made'>{by}{escape(report.made)}</p></div>{logo}</header>",
        *(f"<p class='lead'>{escape(s)}</p>" for s in report.sentences),
    ]
    if report.plan is not None and len(report.plan.stations) > 1:
        parts += ["<h2>The network</h2>", _plan(report.plan)]
    if report.pictures:
        parts.append("<h2>Pictures</h2>")
        parts += [
            f'<figure><img src="{_source(p)}" alt="{escape(p.caption)}"><figcaption>{escape(p.caption)}</figcaption></figure>'
            for p in report.pictures
        ]
    parts += [_table(t) for t in report.tables]
    text = (
        f"<!doctype html><html lang='en'><head><meta charset='utf-8'><meta name='viewport' content='width=device-width'>"
        f"<title>{escape(report.title)}</title><style>{STYLE}</style></head><body>{''.join(parts)}"
        f"<p class='made'>{escape(report.footer)}</p></body></html>"
    )
    with whole(path) as part:
        part.write_text(text, encoding="utf-8")
