"""Journal and undo are one mechanism.

Every use case runs in ``with change(...)``: the states of all journaled rows before and after are recorded.
Undo puts the states before back, if the rows still are as this change left them, and says so if not. No row is ever
deleted, by a change or by undo: what is made and taken back is put out of sight, with everything that hangs on it.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from typing import Any

from sqlalchemy import event, inspect, select
from sqlalchemy.orm import Session, defer

from ..core.errors import Conflict, NotFound
from . import earlier
from .db import GONE, actor, notify, session, within
from .models import JOURNALED, Journal, Journaled, Project, new_id, now

SKIP = {"project": {"network_revision"}}  # bookkeeping that undo must not turn back


def _state(row: Any) -> dict[str, Any]:
    out = {}
    for column in inspect(type(row)).columns:
        value = getattr(row, column.key)
        out[column.key] = value.isoformat() if isinstance(value, datetime) else value
    return out


def _before(row: Any) -> dict[str, Any]:
    """State of a dirty row as it was loaded."""
    out = _state(row)
    for attribute in inspect(row).attrs:
        history = attribute.history
        if history.deleted:
            value = history.deleted[0]
            out[attribute.key] = value.isoformat() if isinstance(value, datetime) else value
    return out


class Change:
    """What a use case sees: the session, the project (its row is locked), and whether the network changed."""

    def __init__(self, s: Session, project: Project) -> None:
        self.s, self.project = s, project
        self.network = False
        self.title = ""
        self.rows: list[dict[str, Any]] = []

    def record(self, s: Session, *_: Any) -> None:
        for row in s.new:
            if isinstance(row, Journaled):
                row.id = row.id or new_id()
                self._note(row, None, row)
        for row in s.dirty:
            if isinstance(row, Journaled) and s.is_modified(row):
                before = _before(row)
                ignored = SKIP.get(str(row.__tablename__), set())  # type: ignore[attr-defined]
                if all(before[k] == v for k, v in _state(row).items() if k not in ignored):
                    continue
                row.version = before["version"] + 1
                self._note(row, before, row)
        if gone := [row for row in s.deleted if isinstance(row, Journaled)]:
            raise TypeError(f"journaled rows are put out of sight, never deleted: {gone[0]!r}")

    def remove(self, row: Journaled) -> None:
        """Put a row out of sight."""
        row.deleted = True

    def _note(self, row: Any, before: dict[str, Any] | None, after: Any) -> None:
        self.rows.append({"table": row.__tablename__, "id": row.id, "before": before, "row": after})

    def entries(self) -> list[dict[str, Any]]:
        """Merged: the first state before and the last state after of each row."""
        merged: dict[tuple[str, str], dict[str, Any]] = {}
        for r in self.rows:
            key = (r["table"], r["id"])
            first = merged.get(key, r)
            merged[key] = {
                "table": r["table"],
                "id": r["id"],
                "before": first["before"],
                "after": None if r["row"] is None else _state(r["row"]),
            }
        return [m for m in merged.values() if m["before"] is not None or m["after"] is not None]


def locked_project(s: Session, project_id: str) -> Project:
    """The project's row, locked against other changes (not against jobs and uploads that name it)."""
    project = s.scalar(select(Project).where(Project.id == project_id).with_for_update(key_share=True))
    if project is None:
        raise NotFound("this project does not exist", subject=project_id, remedy="go back to the list of projects")
    return project


@contextmanager
def change(
    project_id: str,
    title: str,
    network: bool = False,
    new_project: Project | None = None,
    topic: str = "project",
    s: Session | None = None,
) -> Iterator[Change]:
    """One undoable change in one transaction (the caller's, if ``s`` is given: what takes long is written there before).

    network: stations, links or sightings change, so the solution is old. The project is locked from here on: heavy work
    is done before.
    """
    with within(s) as s:
        if new_project is not None:
            s.add(new_project)
            s.flush()
        project = locked_project(s, project_id)
        c = Change(s, project)
        c.network, c.title = network, title
        event.listen(s, "before_flush", c.record)
        try:
            yield c
            if c.network:
                project.network_revision += 1
            s.flush()
        finally:
            event.remove(s, "before_flush", c.record)
        rows = c.entries()
        if rows or new_project is not None:
            s.query(Journal).filter(Journal.project_id == project_id, Journal.undone).update({"undoable": False})
            s.add(
                Journal(project_id=project_id, actor=actor.get(), title=c.title, rows=rows, network=c.network, undoable=new_project is None)
            )
        notify(s, project_id, "network" if c.network and topic not in ("stations", "network") else topic)


def checked_version(row: Journaled, version: int | None, subject: str) -> None:
    """Conflict when somebody changed the row since it was read."""
    if version is not None and row.version != version:
        raise Conflict(
            f"{subject} was changed by somebody else meanwhile",
            subject=subject,
            remedy="look at the new state and change it again if you still want to",
        )


def _known(model: type[Any], state: dict[str, Any]) -> dict[str, Any]:
    """Of a recorded state, what is compared and put back: no bookkeeping, no columns of other versions."""
    columns = {c.key for c in inspect(model).columns}
    ignored = SKIP.get(str(model.__tablename__), set()) | {"version"}
    return {k: v for k, v in state.items() if k in columns and k not in ignored}


def _restore(s: Session, entry: dict[str, Any], to: str, other: str) -> None:
    """Put one row into a recorded state; None stands for out of sight."""
    table = earlier.table_of(entry["table"])
    model = JOURNALED[table]
    row = s.get(model, entry["id"], execution_options=GONE)
    expected, target = earlier.today(s, table, entry[other]), earlier.today(s, table, entry[to])
    if expected is None:
        as_left = row is None or row.deleted
    else:
        current = None if row is None else _state(row)
        as_left = current is not None and all(current[k] == v for k, v in _known(model, {"deleted": False, **expected}).items())
    if not as_left:
        raise Conflict(f"a {table.replace('_', ' ')} was changed after this", subject=entry["id"], remedy="undo the later change first")
    if target is None:
        if row is not None:
            row.deleted, row.version = True, row.version + 1
        return
    values = {"deleted": False, **_known(model, target)}
    for column in inspect(model).columns:
        if values.get(column.key) is not None and column.type.python_type is datetime:
            values[column.key] = datetime.fromisoformat(values[column.key])
    if row is None:  # only what an earlier version deleted
        s.add(model(**values))
        return
    for k, v in values.items():
        setattr(row, k, v)
    row.version += 1


def last_entry(s: Session, project_id: str, redo: bool = False) -> Journal | None:
    """The change that undo would take back, or that redo would bring back; what it changed is loaded when it is asked for."""
    q = select(Journal).options(defer(Journal.rows)).where(Journal.project_id == project_id, Journal.undoable, Journal.undone == redo)
    return s.scalar(q.order_by(Journal.id.asc() if redo else Journal.id.desc()).limit(1))


def undo(s: Session, project: Project, redo: bool = False, entry_id: int | None = None) -> str:
    """Take back the last change that is not taken back yet (or bring back the first that is). Returns its title.

    entry_id: the entry that whoever asks has before them; Conflict when it is no longer the one.
    """
    entry = last_entry(s, project.id, redo)
    if entry is None:
        raise NotFound("there is nothing to redo" if redo else "there is nothing to undo", code="nothing_to_undo")
    if entry_id is not None and entry.id != entry_id:
        raise Conflict(
            f"the {'next change to bring back' if redo else 'last change'} is now “{entry.title}”",
            subject=entry.title,
            remedy="look at the journal, and ask again if you still want to",
            code="not_the_last",
        )
    for r in entry.rows if redo else list(reversed(entry.rows)):
        _restore(s, r, "after" if redo else "before", "before" if redo else "after")
    s.flush()
    entry.undone = not redo
    # a line of its own: whatever was made from an earlier state is known to be older
    title = f"{'Brought back' if redo else 'Took back'}: {entry.title}"
    s.add(Journal(project_id=project.id, actor=actor.get(), title=title, undoable=False))
    if entry.network:
        project.network_revision += 1
    notify(s, project.id, "project")
    return entry.title


def project_in_sight(project_id: str, seen: bool) -> None:
    """Put a project into the bin, or bring it back whole. Not undone: the bin itself is the way back."""
    with session() as s:
        q = select(Project).where(Project.id == project_id, Project.deleted == seen)
        project = s.scalar(q.with_for_update(key_share=True), execution_options=GONE)
        if project is None:
            raise NotFound("this project does not exist", subject=project_id, remedy="go back to the list of projects")
        project.deleted, project.deleted_at, project.version = not seen, None if seen else now(), project.version + 1
        title = "Brought the project back from the bin" if seen else "Put the project into the bin"
        s.add(Journal(project_id=project_id, actor=actor.get(), title=title, undoable=False))
        notify(s, project_id, "projects")
