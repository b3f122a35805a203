"""The database: engine, sessions, migrations, notifications, and files kept in chunks."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from functools import lru_cache
from pathlib import Path
from typing import Any

import psycopg
from alembic import command
from alembic.config import Config
from sqlalchemy import Engine, create_engine, text
from sqlalchemy.orm import Session, sessionmaker

from ..settings import settings
from .models import Chunk

CHUNK = 4 << 20


def sqlalchemy_url(url: str) -> str:
    return url.replace("postgresql://", "postgresql+psycopg://", 1)


@lru_cache
def engine() -> Engine:
    return create_engine(sqlalchemy_url(settings().database), pool_size=8, max_overflow=8, pool_pre_ping=True)


@lru_cache
def _factory() -> sessionmaker[Session]:
    return sessionmaker(engine(), expire_on_commit=False)


@contextmanager
def session() -> Iterator[Session]:
    """A session in one transaction: committed at the end, rolled back on any error."""
    with _factory()() as s, s.begin():
        yield s


def migrate(url: str | None = None) -> None:
    """Bring the schema to the newest version, the task queue's included."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.set_main_option("sqlalchemy.url", sqlalchemy_url(url or settings().database).replace("%", "%%"))
    command.upgrade(config, "head")


def notify(s: Session, project_id: str, topic: str, **extra: Any) -> None:
    """Tell listeners (events of the API) when this transaction commits."""
    s.execute(text("SELECT pg_notify('lantern', :payload)"), {"payload": json.dumps({"project": project_id, "topic": topic, **extra})})


def store_file(s: Session, file_id: str, path: Path) -> tuple[int, str]:
    """Keep a file's bytes in chunks; returns (size, sha256)."""
    digest, offset = hashlib.sha256(), 0
    with path.open("rb") as stream:
        while piece := stream.read(CHUNK):
            s.add(Chunk(file_id=file_id, offset=offset, data=piece))
            s.flush()
            s.expunge_all()
            digest.update(piece)
            offset += len(piece)
    return offset, digest.hexdigest()


def file_chunks(file_id: str) -> Iterator[bytes]:
    """The bytes of a stored file, piece by piece, through a binary cursor."""
    with psycopg.connect(settings().database) as c, c.cursor(binary=True) as cur:
        offset = 0
        while True:
            row = cur.execute('SELECT data FROM chunk WHERE file_id = %s AND "offset" = %s', (file_id, offset)).fetchone()
            if row is None:
                return
            yield row[0]
            offset += len(row[0])
            if not row[0]:
                return


def write_out(file_id: str, path: Path) -> None:
    """A stored file into a path, by two connections at once."""
    with psycopg.connect(settings().database) as c:
        found = c.execute('SELECT "offset" FROM chunk WHERE file_id = %s ORDER BY "offset"', (file_id,)).fetchall()
    offsets = [int(x) for (x,) in found]

    def fetch(mine: list[int]) -> None:
        with psycopg.connect(settings().database) as c, c.cursor(binary=True) as cur, path.open("r+b") as out:
            for offset in mine:
                row = cur.execute('SELECT data FROM chunk WHERE file_id = %s AND "offset" = %s', (file_id, offset)).fetchone()
                if row is not None:
                    out.seek(offset)
                    out.write(row[0])

    path.write_bytes(b"")
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(fetch, (offsets[0::2], offsets[1::2])))
