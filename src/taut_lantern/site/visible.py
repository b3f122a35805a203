"""What is seen and handed over: crop boxes over the points of a part."""

from __future__ import annotations

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import frames
from ..core.clean.select import Box, Clip
from ..store.models import CropBox
from .common import matrix


def clip_of(s: Session, project_id: str, part_id: str | None) -> Clip | None:
    """The crop boxes that are on in a part, in the part's coordinates; None when none is."""
    q = select(CropBox).where(CropBox.project_id == project_id, CropBox.part_id == part_id, CropBox.active)
    rows = list(s.scalars(q.order_by(CropBox.id)))
    if not rows:
        return None
    return Clip(tuple(to_box(r) for r in rows if not r.outside), tuple(to_box(r) for r in rows if r.outside))


def box_in_part(row: CropBox) -> tuple[list[float], list[float], float]:
    """(centre, half, yaw) of a box in its part; a base that does not stand upright shows by the box alone, not here."""
    t = to_box(row).T_part_box
    return (row.centre, row.half, row.yaw) if row.T_part_base is None else ([float(v) for v in t[:3, 3]], row.half, frames.yaw_of(t))


def outline_in_part(row: CropBox) -> list[list[float]] | None:
    """The corners (k, 2) of a prism in plan of its part; None of a box."""
    if row.outline is None:
        return None
    flat = np.array(row.outline, float)
    there = frames.apply(matrix(row.T_part_base), np.column_stack([flat, np.full(len(flat), row.centre[2])]))
    return [[float(x), float(y)] for x, y, _ in there]


def to_box(row: CropBox) -> Box:
    (x, y, z), (dx, dy, dz) = row.centre, row.half
    return Box((x, y, z), (dx, dy, dz), row.yaw, matrix(row.T_part_base), None if row.outline is None else np.array(row.outline, float))
