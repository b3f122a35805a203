"""What is seen and handed over: crop boxes over the points of a part."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import frames
from ..core.clean.select import Box
from ..store.models import CropBox
from .common import matrix


def active_box(s: Session, project_id: str, part_id: str | None) -> Box | None:
    """The crop box that is on in a part, in the part's coordinates."""
    q = select(CropBox).where(CropBox.project_id == project_id, CropBox.part_id == part_id, CropBox.active)
    row = s.scalar(q.limit(1))
    return None if row is None else to_box(row)


def box_in_part(row: CropBox) -> tuple[list[float], list[float], float]:
    """(centre, half, yaw) of a box in its part; a base that does not stand upright shows by the box alone, not here."""
    t = to_box(row).T_part_box
    return (row.centre, row.half, row.yaw) if row.T_part_base is None else ([float(v) for v in t[:3, 3]], row.half, frames.yaw_of(t))


def to_box(row: CropBox) -> Box:
    return Box((row.centre[0], row.centre[1], row.centre[2]), (row.half[0], row.half[1], row.half[2]), row.yaw, matrix(row.T_part_base))
