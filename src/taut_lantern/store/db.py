"""The database: engine, sessions, migrations, notifications, and files kept in chunks.

Sessions read only rows that are in sight: whoever needs what was taken out of sight too asks with ``gone=True``.
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from contextvars import ContextVar
from functools import lru_cache
from pathlib import Path
from typing import Any

import psycopg
from alembic import command
from alembic.config import Config
from alembic.script import ScriptDirectory
from sqlalchemy import Engine, create_engine, event, text
from sqlalchemy.orm import ORMExecuteState, Session, sessionmaker, with_loader_criteria

from ..core.errors import LanternError
from ..settings import settings
from .models import Chunk, Journaled

CHUNK = 4 << 20
STILL = 30  # seconds a change may stand still between two statements, holding up who waits for its rows; then the database ends it
GONE = {"gone": True}  # execution options of a statement that also reads what is out of sight

actor: ContextVar[str] = ContextVar("actor", default="you")
"""Who makes the changes of this request, job or command: every line of the journal names them."""

fence: ContextVar[Callable[[Session], None] | None] = ContextVar("fence", default=None)
"""Called in every transaction before it commits; raises when whoever works here may no longer change anything."""


class Damaged(LanternError):
    """Something stored is not whole; nothing is made up in its place."""

    code = "store_damaged"


def sqlalchemy_url(url: str) -> str:
    return url.replace("postgresql://", "postgresql+psycopg://", 1)


@lru_cache
def engine() -> Engine:
    told = {"options": f"-c idle_in_transaction_session_timeout={STILL}s"}  # else a machine that is put to sleep keeps its locks
    return create_engine(
        sqlalchemy_url(settings().database), pool_size=8, max_overflow=8, pool_timeout=5, pool_pre_ping=True, connect_args=told
    )


@event.listens_for(Session, "do_orm_execute")
def _only_in_sight(state: ORMExecuteState) -> None:
    if state.is_select and not state.is_column_load and not state.execution_options.get("gone"):
        state.statement = state.statement.options(with_loader_criteria(Journaled, lambda cls: ~cls.deleted, include_aliases=True))


@event.listens_for(Session, "before_commit")
def _fenced(s: Session) -> None:
    if check := fence.get():
        check(s)


@lru_cache
def _factory() -> sessionmaker[Session]:
    return sessionmaker(engine(), expire_on_commit=False)


@contextmanager
def session() -> Iterator[Session]:
    """A session in one transaction: committed at the end, rolled back on any error."""
    with _factory()() as s, s.begin():
        yield s


@contextmanager
def snapshot() -> Iterator[Session]:
    """A session that sees one state of the whole database, however long it reads, and changes nothing."""
    with _factory()() as s:
        s.connection(execution_options={"isolation_level": "REPEATABLE READ", "postgresql_readonly": True})
        s.execute(text("SET LOCAL idle_in_transaction_session_timeout = 0"))  # it holds up nobody
        yield s


@contextmanager
def within(s: Session | None) -> Iterator[Session]:
    """The caller's transaction, or one of its own."""
    if s is not None:
        yield s
        return
    with session() as own:
        yield own


def migrate(url: str | None = None) -> None:
    """Bring the schema to the newest version. Changes nothing, and needs no right to, when it is that already."""
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parent / "migrations"))
    config.set_main_option("sqlalchemy.url", sqlalchemy_url(url or settings().database).replace("%", "%%"))
    newest = ScriptDirectory.from_config(config).get_current_head()
    own = create_engine(sqlalchemy_url(url or settings().database))
    with own.connect() as c:
        found = c.execute(text("SELECT to_regclass('alembic_version')")).scalar()
        here = c.execute(text("SELECT version_num FROM alembic_version")).scalar() if found else None
    own.dispose()
    if here != newest:
        command.upgrade(config, "head")


def notify(s: Session, project_id: str, topic: str, **extra: Any) -> None:
    """Tell listeners (events of the API) when this transaction commits."""
    s.execute(text("SELECT pg_notify('lantern', :payload)"), {"payload": json.dumps({"project": project_id, "topic": topic, **extra})})


def store_file(s: Session, file_id: str, path: Path) -> tuple[int, str]:
    """Keep a file's bytes in chunks; returns (size, sha256)."""
    digest, offset = hashlib.sha256(), 0
    with path.open("rb") as stream:
        while piece := stream.read(CHUNK):
            s.add(Chunk(file_id=file_id, offset=offset, data=piece, sha256=hashlib.sha256(piece).hexdigest()))
            s.flush()
            s.expunge_all()
            digest.update(piece)
            offset += len(piece)
    return offset, digest.hexdigest()


def offsets_of(file_id: str, size: int) -> list[int]:
    """Where the pieces of a stored file begin. Damaged when they do not cover its bytes exactly."""
    with engine().connect() as c:
        q = text('SELECT "offset", octet_length(data) FROM chunk WHERE file_id = :id ORDER BY "offset"')
        found = [(int(at), int(n)) for at, n in c.execute(q, {"id": file_id})]
    end = 0
    for at, n in found:
        if at != end:
            break
        end += n
    if end != size or (found and found[-1][0] + found[-1][1] != size):
        raise Damaged(
            f"a stored file is not whole: {end:,} of {size:,} bytes are there",
            subject=file_id,
            remedy="restore the database from a copy, or bring the file in again",
        )
    return [at for at, _ in found]


def file_chunks(file_id: str, size: int) -> Iterator[bytes]:
    """The bytes of a stored file, piece by piece; no connection is held between pieces. Damaged when one is missing."""
    for offset in offsets_of(file_id, size):
        yield _piece(file_id, offset)


def _piece(file_id: str, offset: int) -> bytes:
    with engine().connect() as c:
        raw: psycopg.Connection[Any] = c.connection.driver_connection  # type: ignore[assignment]
        with raw.cursor(binary=True) as cursor:
            row = cursor.execute('SELECT data FROM chunk WHERE file_id = %s AND "offset" = %s', (file_id, offset)).fetchone()
    if row is None:
        raise Damaged("a piece of a stored file is missing", subject=file_id, remedy="restore the database from a copy")
    return bytes(row[0])


def write_out(file_id: str, size: int, path: Path) -> None:
    """A stored file into a path, by two connections at once. Damaged when a piece is missing: never zeros in its place."""
    offsets = offsets_of(file_id, size)

    def fetch(mine: list[int]) -> None:
        with path.open("r+b") as out:
            for offset in mine:
                out.seek(offset)
                out.write(_piece(file_id, offset))

    path.write_bytes(b"")
    with ThreadPoolExecutor(2) as pool:
        list(pool.map(fetch, (offsets[0::2], offsets[1::2])))
