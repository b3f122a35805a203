"""What all tables share: naming, ids, the clock, and the mixins of rows that people edit."""

from __future__ import annotations

import uuid
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import DateTime, ForeignKey, MetaData, String
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

NAMING = {
    "ix": "ix_%(table_name)s_%(column_0_N_name)s",
    "uq": "uq_%(table_name)s_%(column_0_N_name)s",
    "fk": "fk_%(table_name)s_%(column_0_N_name)s",
    "pk": "pk_%(table_name)s",
}


class Base(DeclarativeBase):
    metadata = MetaData(naming_convention=NAMING)
    type_annotation_map = {dict[str, Any]: JSONB, list[Any]: JSONB, datetime: DateTime(timezone=True)}


def new_id() -> str:
    return uuid.uuid4().hex


def now() -> datetime:
    return datetime.now(UTC)


class Journaled:
    """Mixin: edited by people, recorded by the journal, guarded by a version. deleted: out of sight, never gone."""

    id: Mapped[str] = mapped_column(String(32), primary_key=True, default=new_id)
    version: Mapped[int] = mapped_column(default=1)
    deleted: Mapped[bool] = mapped_column(default=False)


class Handled:
    """Mixin: automatic runs make these rows, people decide on them. by_hand: the fields that somebody set, which
    automatic runs leave as they are; "made" when somebody made the row itself."""

    by_hand: Mapped[list[Any]] = mapped_column(default=list)

    def decided(self, *fields: str) -> None:
        self.by_hand = sorted({*self.by_hand, *fields})


def project_key() -> Mapped[str]:
    return mapped_column(ForeignKey("project.id"), index=True)
