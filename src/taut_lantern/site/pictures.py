"""Pictures that somebody brought: those of a report in their order, and the one below the field sketch."""

from __future__ import annotations

from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..formats.picture import looked_at
from ..store import journal, scratch
from ..store.db import actor, store_file
from ..store.models import Picture, new_id, now


def pictures_of(s: Session, project_id: str) -> list[Picture]:
    q = select(Picture).where(Picture.project_id == project_id, Picture.sketch.is_(None))
    return list(s.scalars(q.order_by(Picture.made_at)))


def sketch_picture(s: Session, project_id: str) -> Picture | None:
    """What lies below the field sketch."""
    q = select(Picture).where(Picture.project_id == project_id, Picture.sketch.is_not(None))
    return s.scalar(q.order_by(Picture.made_at.desc()).limit(1))


def keep(c: journal.Change, data: bytes, **own: Any) -> Picture:
    """Keep a picture's bytes and its row in a change. BadInput when it is none, or too large."""
    kind, wide, high = looked_at(data)
    row = Picture(id=new_id(), project_id=c.project.id, kind=kind, wide=wide, high=high, size=len(data), **own)
    row.made_by, row.made_at = actor.get(), now()
    key = row.id
    with scratch.folder() as folder:
        path = folder / "picture"
        path.write_bytes(data)
        store_file(c.s, key, path)
    c.s.add(row)
    return row
