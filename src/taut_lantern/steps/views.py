"""Saved views: what a bench showed, to be shown again by anybody."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..site.common import clean_name, matrix, numbers, owned
from ..site.parts import wanted
from ..store import journal
from ..store.models import SavedView


def make(project_id: str, name: str, shows: dict[str, Any], part_id: str | None = None) -> str:
    """Keep what a bench shows; lengths in metres of the part. A view of the same name is replaced. Returns its id."""
    with journal.change(project_id, "", topic="views") as c:
        part, name = wanted(c.s, c.project, part_id), clean_name(name, "view")
        q = select(SavedView).where(SavedView.project_id == project_id, SavedView.name == name, SavedView.part_id == part)
        row = c.s.scalar(q.limit(1)) or SavedView(project_id=project_id, part_id=part, name=name)
        row.shows, row.T_part_base = shows, None
        c.title = f"Kept the view {name}"
        c.s.add(row)
        c.s.flush()
        return row.id


def change(project_id: str, view_id: str, version: int, name: str | None, deleted: bool | None) -> None:
    with journal.change(project_id, "", topic="views") as c:
        row = owned(c.s, SavedView, project_id, view_id, "view")
        journal.checked_version(row, version, f"the view {row.name}")
        if name is not None:
            c.title = f"Renamed the view {row.name} to {clean_name(name, row.name)}"
            row.name = clean_name(name, row.name)
        if deleted:
            c.title = f"Deleted the view {row.name}"
            row.deleted = True


def list_views(s: Session, project_id: str) -> list[dict[str, Any]]:
    q = select(SavedView).where(SavedView.project_id == project_id).order_by(SavedView.name, SavedView.id)
    keys = ("id", "version", "name", "shows")
    return [{**{k: getattr(r, k) for k in keys}, "part": r.part_id, "T_part_base": numbers(matrix(r.T_part_base))} for r in s.scalars(q)]
