"""A section as SVG at scale: one group a layer, millimetres on paper."""

from __future__ import annotations

import base64
import math
from pathlib import Path
from xml.sax.saxutils import escape, quoteattr

from ..core.draw.shapes import Shape, plain
from .drawn import Drawn
from .part import whole
from .sheet import DASHES

EDGE = 5.0  # millimetres round what is drawn


def write(
    path: Path, drawn: list[Drawn], layers: list[dict[str, object]], scale: int, title: str, pictures: dict[str, bytes] | None = None
) -> None:
    """Write the shapes of one section, 1 to ``scale``. The upper edge is the largest value across. pictures: what is pinned, by its id."""
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
            if d.shape.kind == "picture" and (body := (pictures or {}).get(str(d.shape.more["picture"]))) is not None:
                out.append(_picture(d.shape, body, at(*d.shape.points[0]), k))
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


def _picture(shape: Shape, body: bytes, at: str, k: float) -> str:
    (x0, y0), (x1, y1) = shape.points
    wide, turn = math.hypot(x1 - x0, y1 - y0) * k, -math.degrees(math.atan2(y1 - y0, x1 - x0))
    tall = wide * float(shape.more["tall"])
    x, y = (float(v) for v in at.split(","))
    kind = "png" if body[:4] == b"\x89PNG" else "jpeg"
    data = f"data:image/{kind};base64,{base64.b64encode(body).decode()}"
    return (
        f'<image x="{x:.4f}" y="{y - tall:.4f}" width="{wide:.4f}" height="{tall:.4f}" preserveAspectRatio="none"'
        f' transform="rotate({turn:.4f} {x:.4f} {y:.4f})" href="{data}"/>'
    )
