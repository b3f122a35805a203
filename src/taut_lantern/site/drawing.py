"""What is drawn: the cut of a section, and its traces as drawing entities."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import frames
from ..core.draw.section import Cut, plan, upright
from ..formats.dxf import Entity
from ..store.models import Section, Trace
from .common import Array, matrix
from .frames import InUse


def cut_of(section: Section) -> Cut:
    p = section.params
    if section.kind == "plan":
        return plan(p["height"], p["before"], p["behind"])
    return upright((p["a"][0], p["a"][1]), (p["b"][0], p["b"][1]), p["before"], p["behind"])


def entities(s: Session, project_id: str, frame: InUse, section_ids: list[str] | None, in_section: bool) -> list[Entity]:
    """Traces of a part as drawing entities in a frame of it, or in section coordinates (along, across); metres."""
    out: list[Entity] = []
    q = select(Section).where(Section.project_id == project_id, Section.part_id == frame.part).order_by(Section.kind, Section.name)
    for section in s.scalars(q):
        if section_ids and section.id not in section_ids:
            continue
        T_frame_section = frame.T_frame_part @ matrix(section.T_part_base) @ frames.inverse(cut_of(section).T_section_base)
        whole = frames.stretch(T_frame_section)
        stretch = 1.0 if in_section else whole
        towards = T_frame_section[:3, 2] / whole
        normal = (0.0, 0.0, 1.0) if in_section else (float(towards[0]), float(towards[1]), float(towards[2]))

        def place(p: Any, t: Array = T_frame_section) -> tuple[float, float, float]:
            if in_section:
                return float(p[0]), float(p[1]), 0.0
            q = frames.apply(t, np.array([[p[0], p[1], 0.0]]))[0]
            return float(q[0]), float(q[1]), float(q[2])

        for t in s.scalars(select(Trace).where(Trace.section_id == section.id, Trace.state != "rejected").order_by(Trace.id)):
            layer = "to check" if t.state == "found" else t.layer  # nobody has said yes to it yet
            out.append(Entity(t.kind, layer, tuple(place(p) for p in t.points), t.radius * stretch, normal=normal))
        out.append(Entity("text", "section", (place([0.0, 0.0]),), text=section.name))
    return out
