"""What is deleted for good: projects and originals that have lain in the bin for 30 days, and what belongs to nobody."""

from __future__ import annotations

import logging

from sqlalchemy import text
from sqlalchemy.orm import Session

from .db import actor, engine, session
from .models import Delivery, Original, now

DAYS = 30
log = logging.getLogger("taut_lantern.store")
OF_STATIONS = ("tile", "layer", "grid")
OF_PROJECTS = (
    "design_model", "model_mesh", "note", "sheet", "selection", "zone", "saved_view", "question", "trace", "section", "crop_box", "frame", "known", "control",
    "sighting", "target", "link", "body", "station_group", "part", "solution", "delivery", "original", "job", "journal", "station",
)  # fmt: skip
HEAVY = ("tile", "layer", "grid", "point_set", "chunk")


def empty(days: float = DAYS) -> dict[str, int]:
    """Delete for good what has lain in the bin for so long; each project in a transaction of its own.

    A failure leaves what it was at as it was. Originals stay while a station of a project that is not in the bin was made
    from them, even one that is out of sight: undo can bring it back.
    """
    with session() as s:
        q = text("SELECT id FROM project WHERE deleted AND deleted_at < now() - make_interval(secs => :old)")
        projects = [x for (x,) in s.execute(q, {"old": 86400 * days})]
    for project_id in projects:
        purge(project_id)
    with session() as s:
        q = text(
            """DELETE FROM original o WHERE discarded_at < now() - make_interval(secs => :old)
            AND NOT EXISTS (SELECT 1 FROM station s WHERE s.original_id = o.id) RETURNING id"""
        )
        originals = len(s.execute(q, {"old": 86400 * days}).all())
        s.execute(text("DELETE FROM chunk WHERE file_id NOT IN (SELECT id FROM original UNION ALL SELECT id FROM delivery)"))
        s.execute(text("DELETE FROM tile WHERE station_id NOT IN (SELECT id FROM station)"))
        s.execute(text("DELETE FROM layer WHERE station_id NOT IN (SELECT id FROM station)"))
        s.execute(text("DELETE FROM grid WHERE station_id NOT IN (SELECT id FROM station)"))
        s.execute(text("DELETE FROM proposal WHERE a NOT IN (SELECT id FROM station) OR b NOT IN (SELECT id FROM station)"))
        s.execute(text("DELETE FROM point_set WHERE project_id IS NULL OR project_id NOT IN (SELECT id FROM project)"))
        s.execute(text("DELETE FROM checkpoint WHERE job_id NOT IN (SELECT id FROM job WHERE state IN ('waiting', 'running'))"))
    if projects or originals or _let_go_lately():
        give_back()
    return {"projects": len(projects), "originals": originals}


def _let_go_lately(hours: float = 2.0) -> bool:
    """Whether files were let go of since the bin was emptied last, which happens every hour."""
    since = "(let_go->>'at')::timestamptz > now() - make_interval(secs => :old)"
    q = text(f"SELECT EXISTS (SELECT 1 FROM original WHERE {since}) OR EXISTS (SELECT 1 FROM delivery WHERE {since})")
    with session() as s:
        return bool(s.execute(q, {"old": 3600 * hours}).scalar())


def let_go(s: Session, row: Original | Delivery, reason: str) -> None:
    """Give up the bytes of a file; its line stays, with who did so, when and why. This cannot be taken back."""
    row.let_go = {"at": now().isoformat(), "by": actor.get(), "reason": reason}
    s.execute(text("DELETE FROM chunk WHERE file_id = :id"), {"id": row.id})


def purge(project_id: str) -> None:
    """Delete a project that lies in the bin, with everything of it, in one transaction."""
    own = {"p": project_id}
    with session() as s:
        if s.execute(text("SELECT 1 FROM project WHERE id = :p AND deleted FOR UPDATE"), own).first() is None:
            return
        for table in OF_STATIONS:
            s.execute(text(f"DELETE FROM {table} WHERE station_id IN (SELECT id FROM station WHERE project_id = :p)"), own)
        s.execute(text("DELETE FROM point_set WHERE project_id = :p"), own)
        s.execute(text("DELETE FROM proposal WHERE a IN (SELECT id FROM station WHERE project_id = :p)"), own)
        s.execute(text("DELETE FROM checkpoint WHERE job_id IN (SELECT id FROM job WHERE project_id = :p)"), own)
        files = "SELECT id FROM original WHERE project_id = :p UNION ALL SELECT id FROM delivery WHERE project_id = :p"
        s.execute(text(f"DELETE FROM chunk WHERE file_id IN ({files})"), own)
        for table in (*OF_PROJECTS, "edit"):
            s.execute(text(f"DELETE FROM {table} WHERE project_id = :p"), own)
        s.execute(text("DELETE FROM project WHERE id = :p"), own)


def give_back() -> None:
    """Give the space of deleted rows back to the disk. Where most of a large table is free it is written anew, unless
    somebody is at work on it; what is left free is used again by what comes in next."""
    with engine().connect().execution_options(isolation_level="AUTOCOMMIT") as c:
        c.execute(text("SET lock_timeout = '2s'"))
        for table in HEAVY:
            try:
                c.execute(text(f"VACUUM (ANALYZE) {table}"))
                held = int(c.execute(text("SELECT pg_total_relation_size(:t)"), {"t": table}).scalar() or 0)
                live = int(c.execute(text(f"SELECT coalesce(sum(octet_length(data)), 0) FROM {table}")).scalar() or 0)
                if held > 2 * live + (64 << 20):
                    c.execute(text(f"VACUUM (FULL, ANALYZE) {table}"))
            except Exception as problem:  # a lock that others hold, or a role that owns no table: next time
                log.warning("the space of %s was not given back: %s", table, str(problem).splitlines()[0])
