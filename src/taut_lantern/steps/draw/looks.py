"""Small pictures of cuts, as a list shows them: the points of the slab, and what is drawn on it."""

from __future__ import annotations

import io

import numpy as np
from PIL import Image, ImageDraw
from sqlalchemy import select

from ...core.draw.shapes import plain
from ...site.common import heavy, owned
from ...site.drawing import shape_of
from ...site.slab import slab_of
from ...store.db import snapshot
from ...store.models import Section, Trace

WIDE, TALL, EDGE = 176, 104, 4  # pixels
POINTS, READ = 60_000, 1_000_000  # that are drawn, and that are read for it at most
PAPER, INK, LINES = (252, 250, 245), (110, 116, 126), (35, 64, 122)


def picture(project_id: str, section_id: str) -> bytes:
    """A PNG of a section; empty paper when no point lies in it and nothing is drawn."""
    with heavy(), snapshot() as s:
        section = owned(s, Section, project_id, section_id, "section")
        points = slab_of(s, project_id, section, POINTS, READ).points[:, :2]
        shapes = [shape_of(t) for t in s.scalars(select(Trace).where(Trace.section_id == section_id, Trace.state != "rejected"))]
    lines = [np.array(x) for shape in shapes for x in plain(shape).lines if len(x) > 1]
    image = Image.new("RGB", (WIDE, TALL), PAPER)
    some = [np.percentile(points, [0.5, 99.5], axis=0)] if len(points) else []
    all_ = np.concatenate([*some, *lines]) if some or lines else np.zeros((0, 2))
    if len(all_):
        low, high = all_.min(axis=0), all_.max(axis=0)
        scale = min((WIDE - 2 * EDGE) / max(high[0] - low[0], 0.1), (TALL - 2 * EDGE) / max(high[1] - low[1], 0.1))
        middle = (low + high) / 2

        def pixel(p: np.ndarray) -> np.ndarray:
            return np.asarray((p - middle) * [scale, -scale] + [WIDE / 2, TALL / 2])

        shade = np.array(image)
        at = np.floor(pixel(points)).astype(int) if len(points) else np.zeros((0, 2), int)
        at = at[((at >= 0) & (at < [WIDE, TALL])).all(axis=1)]
        shade[at[:, 1], at[:, 0]] = INK
        image = Image.fromarray(shade)
        pen = ImageDraw.Draw(image)
        for line in lines:
            pen.line([(float(x), float(y)) for x, y in pixel(line)], fill=LINES, width=1)
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()
