"""Recorded states of rows as earlier versions wrote them, told in today's columns, so that undo reaches back to them."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from .models import Target, new_id

TABLES = {"placement": "frame"}  # what is called otherwise now
COLUMNS = {"T_frame_project": "T_frame_part"}


def table_of(name: str) -> str:
    return TABLES.get(name, name)


def today(s: Session, table: str, state: dict[str, Any] | None) -> dict[str, Any] | None:
    """A recorded state with today's names. Sightings and control named their target in words: it is found by its name, or
    made when it is no longer there."""
    if state is None:
        return None
    out = {COLUMNS.get(k, k): v for k, v in state.items()}
    if table in ("sighting", "control") and "target" in out:
        name = out.pop("target")
        out["target_id"] = _target(s, out["project_id"], name) if name else None
    return out


def _target(s: Session, project_id: str, name: str) -> str:
    found = s.scalar(select(Target).where(Target.project_id == project_id, Target.name == name))
    if found is None:
        found = Target(id=new_id(), project_id=project_id, name=name)
        s.add(found)
        s.flush()
    return found.id
