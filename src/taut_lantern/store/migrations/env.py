"""Alembic environment: online migrations only."""

from alembic import context
from sqlalchemy import create_engine

from taut_lantern.store.models import Base

engine = create_engine(context.config.get_main_option("sqlalchemy.url") or "")
with engine.connect() as connection:
    context.configure(
        connection=connection,
        target_metadata=Base.metadata,
        include_name=lambda name, kind, parents: not (kind == "table" and str(name).startswith("procrastinate")),
    )
    with context.begin_transaction():
        context.run_migrations()
