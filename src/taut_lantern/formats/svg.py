"""A section as SVG at scale: one group a layer, millimetres on paper."""

from __future__ import annotations

import math
from pathlib import Path
from xml.sax.saxutils import escape, quoteattr

from ..core.draw.shapes import plain
from .drawn import Drawn
from .part import whole
from .sheet import DASHES

EDGE = 5.0  # millimetres round what is drawn


def write(path: Path, drawn: list[Drawn], layers: list[dict[str, object]], scale: int, title: str) -> None:
    """Write the shapes of one section, 1 to ``scale``. The upper edge is the largest value across."""
    k = 1000 / scale
    flat = [(d, plain(d.shape, 0.02 / 1000 * scale, d.words)) for d in drawn]
    xs = [x for _, f in flat for line in f.lines for x, _ in line] + [x.at[0] for _, f in flat for x in f.letters]
    ys = [y for _, f in flat for line in f.lines for _, y in line] + [x.at[1] for _, f in flat for x in f.letters]
    low, high = (min(xs, default=0.0), min(ys, default=0.0)), (max(xs, default=1.0), max(ys, default=1.0))
    wide, tall = ((high[j] - low[j]) * k + 2 * EDGE for j in (0, 1))
    styles = {str(x["name"]): x for x in layers}
    out = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{wide:.3f}mm" height="{tall:.3f}mm" viewBox="0 0 {wide:.3f} {tall:.3f}">',
        f"<title>{escape(title)} 1:{scale}</title>",
    ]

    def at(x: float, y: float) -> str:
        return f"{(x - low[0]) * k + EDGE:.4f},{(high[1] - y) * k + EDGE:.4f}"

    for name in sorted({d.layer for d in drawn}):
        style = styles.get(name, {})
        colour, weight = str(style.get("colour", "#1e2530")), float(str(style.get("weight", 0.25)))
        out.append(f'<g id={quoteattr(name)} fill="none" stroke="{colour}" stroke-width="{weight}" stroke-linecap="round">')
        for d, f in flat:
            if d.layer != name:
                continue
            dash = DASHES["dashed" if d.dashed else str(style.get("line_type", "continuous"))]
            dashed = f' stroke-dasharray="{" ".join(f"{v:g}" for v in dash)}"' if dash else ""
            out += [f'<polyline points="{" ".join(at(x, y) for x, y in line)}"{dashed}/>' for line in f.lines]
            for x in f.letters:
                px, py = at(*x.at).split(",")
                turn = f' transform="rotate({-math.degrees(x.turn):.3f} {px} {py})"' if x.turn else ""
                anchor = ' text-anchor="middle" dominant-baseline="central"' if x.middle else ""
                size = x.height * k / 0.72
                out.append(
                    f'<text x="{px}" y="{py}" font-family="sans-serif" font-size="{size:.3f}" fill="{colour}" stroke="none"'
                    f"{anchor}{turn}>{escape(x.text)}</text>"
                )
        out.append("</g>")
    with whole(path) as part:
        part.write_text("\n".join([*out, "</svg>", ""]), encoding="utf-8")
