"""Pictures that somebody chose for the report, and the logo on it."""

from __future__ import annotations

from typing import Any

from sqlalchemy.orm import Session

from ...core.errors import BadInput
from ...site.common import get_project, owned
from ...site.pictures import keep, pictures_of
from ...store import journal
from ...store.db import file_chunks, session
from ...store.models import Picture

MOST = 40  # pictures of a report: what still opens on a tablet


def add(project_id: str, data: bytes, caption: str, logo: bool) -> str:
    """Keep a picture; a new logo takes the place of the one before."""
    what = "logo" if logo else "picture"
    with journal.change(project_id, f"Put a {what} into the report" + (f": {caption[:100]}" if caption else "")) as c:
        have = pictures_of(c.s, project_id)
        if logo:
            for old in (x for x in have if x.logo):
                c.remove(old)
        elif sum(not x.logo for x in have) >= MOST:
            raise BadInput(f"the report has {MOST} pictures already", subject="pictures", remedy="take one out first", code="too_many")
        return keep(c, data, caption=caption.strip(), logo=logo).id


def change(project_id: str, picture_id: str, version: int, caption: str) -> None:
    with journal.change(project_id, f"Wrote under a picture: {caption[:120]}") as c:
        row = owned(c.s, Picture, project_id, picture_id, "picture")
        journal.checked_version(row, version, "the picture")
        row.caption = caption.strip()


def take_out(project_id: str, picture_id: str, version: int) -> None:
    with journal.change(project_id, "Took a picture out of the report") as c:
        row = owned(c.s, Picture, project_id, picture_id, "picture")
        journal.checked_version(row, version, "the picture")
        c.remove(row)


def describe(s: Session, project_id: str) -> list[dict[str, Any]]:
    get_project(s, project_id)
    keys = ("id", "version", "caption", "logo", "wide", "high", "made_by", "made_at")
    return [{k: getattr(x, k) for k in keys} for x in pictures_of(s, project_id)]


def data_of(project_id: str, picture_id: str) -> tuple[str, bytes]:
    """(kind, bytes) of a picture."""
    with session() as s:
        row = owned(s, Picture, project_id, picture_id, "picture")
        return row.kind, b"".join(file_chunks(row.id, row.size))
