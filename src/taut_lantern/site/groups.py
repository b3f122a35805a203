"""Groups of stations and their held shapes, as rows."""

from __future__ import annotations

from collections.abc import Collection

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..store.models import Body, Group


def groups_of(s: Session, project_id: str) -> list[Group]:
    """In the order in which they were made."""
    return list(s.scalars(select(Group).where(Group.project_id == project_id).order_by(Group.place, Group.name, Group.id)))


def bodies_of(s: Session, project_id: str) -> list[Body]:
    """The held shapes."""
    return list(s.scalars(select(Body).where(Body.project_id == project_id, Body.held).order_by(Body.id)))


def under(groups: Collection[Group], group_id: str | None) -> set[str | None]:
    """A group and all within it."""
    found: set[str | None] = {group_id}
    before = 0
    while len(found) > before:
        before = len(found)
        found |= {g.id for g in groups if g.parent_id in found}
    return found


def free_name(name: str, taken: Collection[str], most: int = 110) -> str:
    """The name, or the name with the first number that nobody has."""
    return next(n for n in (name[:most], *(f"{name[:most]} ({k})" for k in range(2, 100_000))) if n not in taken)
