"""Pictures that somebody brought: those of a report in their order, the one below the field sketch, and those pinned to drawings."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..formats.picture import looked_at
from ..store import journal, scratch
from ..store.db import actor, file_chunks, store_file
from ..store.models import Picture, new_id, now


def pictures_of(s: Session, project_id: str) -> list[Picture]:
    q = select(Picture).where(Picture.project_id == project_id, Picture.sketch.is_(None), ~Picture.pinned)
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


def pinned(s: Session, project_id: str, ids: Iterable[str]) -> dict[str, bytes]:
    """The bytes of pictures that are pinned to drawings, by their ids; what is gone is left out."""
    rows = s.scalars(select(Picture).where(Picture.project_id == project_id, Picture.id.in_(set(ids))))
    return {x.id: b"".join(file_chunks(x.id, x.size)) for x in rows}
