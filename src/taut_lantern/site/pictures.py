"""The pictures of a report in their order."""

from __future__ import annotations

from sqlalchemy import select
from sqlalchemy.orm import Session

from ..store.models import Picture


def pictures_of(s: Session, project_id: str) -> list[Picture]:
    return list(s.scalars(select(Picture).where(Picture.project_id == project_id).order_by(Picture.made_at)))
