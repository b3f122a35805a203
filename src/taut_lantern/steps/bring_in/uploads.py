"""Files on their way in: pieces that can be resumed, then a reading of what is in them before anything is stored
as a station."""

from __future__ import annotations

import hashlib
import tempfile
from pathlib import Path
from typing import Any

from sqlalchemy import select, text
from sqlalchemy.orm import Session

from ...core.errors import BadInput, Conflict, LanternError, NotFound
from ...formats import e57
from ...settings import settings
from ...store.db import file_chunks, notify, session, write_out
from ...store.models import Chunk, Original, Station
from ...store.queue import enqueue
from ..common import Progress, clean_name, get_project

SUFFIXES = (".e57",)


def begin(project_id: str, name: str, size: int) -> str:
    """Announce a file. Asking again for the same unfinished name and size gives the same upload, to resume."""
    bare = name.strip()
    suffix = next((x for x in SUFFIXES if bare.lower().endswith(x)), None)
    shown = clean_name(bare) if suffix is None else clean_name(bare[: -len(suffix)], "scan") + suffix  # a long name keeps its kind
    if suffix is None:
        raise BadInput(
            f"{shown} is not an E57 file",
            subject=shown,
            remedy="bring in scans as .e57; control files belong to the step Place",
            code="unknown_kind",
        )
    if size <= 0:
        raise BadInput(f"{shown} is empty (0 bytes)", subject=shown, remedy="copy it from the scanner again", code="empty_file")
    if size > settings().upload_limit:
        raise BadInput(
            f"{shown} has {size:,} bytes, more than this server takes",
            subject=shown,
            remedy="split it, or raise LANTERN_UPLOAD_LIMIT",
            code="too_large",
        )
    with session() as s:
        get_project(s, project_id)
        q = select(Original).where(
            Original.project_id == project_id, Original.name == shown, Original.size == size, Original.state == "receiving"
        )
        row = s.scalar(q)
        if row is None:
            row = Original(project_id=project_id, name=shown, size=size)
            s.add(row)
            s.flush()
        return row.id


def append(project_id: str, original_id: str, offset: int, data: bytes) -> Original:
    """Take the next piece; the last one starts the reading. Conflict names where to go on from."""
    with session() as s:
        row = s.scalar(select(Original).where(Original.id == original_id, Original.project_id == project_id).with_for_update())
        if row is None:
            raise NotFound("this upload does not exist", subject=original_id, remedy="start it again")
        if row.state != "receiving" or offset != row.received:
            raise Conflict(
                f"{row.name} goes on at byte {row.received:,}, not {offset:,}",
                subject=str(row.received),
                remedy="send the piece from there",
                code="wrong_offset",
            )
        if not data or offset + len(data) > row.size:
            raise BadInput(f"{row.name}: a piece of {len(data):,} bytes does not fit", subject=row.name, remedy="start the upload again")
        s.add(Chunk(file_id=row.id, offset=offset, data=data))
        row.received += len(data)
        if row.received == row.size:
            row.state = "complete"
            enqueue(s, project_id, "read", f"Reading {row.name}", original_id=row.id)
        return row


def put_file(project_id: str, path: Path) -> str:
    """Bring a file on this machine in through the same door, piece by piece; returns the upload's id."""
    original_id = begin(project_id, path.name, path.stat().st_size)
    with session() as s:
        start = s.get_one(Original, original_id).received
    with path.open("rb") as stream:
        stream.seek(start)
        while piece := stream.read(4 << 20):
            append(project_id, original_id, start, piece)
            start += len(piece)
    return original_id


def discard(project_id: str, original_id: str) -> None:
    """Forget an upload nobody brought in."""
    with session() as s:
        row = s.get(Original, original_id)
        if row is None or row.project_id != project_id:
            raise NotFound("this upload does not exist", subject=original_id, remedy="reload the page")
        if s.scalar(select(Station.id).where(Station.original_id == original_id).limit(1)) is None:
            s.execute(text("DELETE FROM chunk WHERE file_id = :id"), {"id": original_id})
        s.delete(row)
        notify(s, project_id, "originals")


def read_original(project_id: str, original_id: str, progress: Progress) -> dict[str, Any]:
    """The reading of a file's headers, kept with it. What is wrong becomes part of the reading, not an outage."""
    with session() as s:
        row = s.get_one(Original, original_id)
        name, size = row.name, row.size
    digest = hashlib.sha256()
    for piece in file_chunks(original_id):
        digest.update(piece)
        progress.check()
    reading: dict[str, Any]
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "in.e57"
        write_out(original_id, path)
        try:
            scans = e57.headers(path, name)
            reading = {
                "scans": [
                    {
                        "name": h.name,
                        "points": h.points,
                        "rows": h.rows,
                        "columns": h.columns,
                        "has_pose": h.pose is not None,
                        "intensity": "intensity" in h.fields,
                        "colour": "colorRed" in h.fields,
                        "problems": list(h.problems),
                    }
                    for h in scans
                ],
                "problem": None,
            }
        except LanternError as problem:
            reading = {"scans": [], "problem": {"code": problem.code, "message": problem.message, "remedy": problem.remedy}}
    with session() as s:
        row = s.get_one(Original, original_id)
        row.sha256, row.reading = digest.hexdigest(), reading
        twin = s.scalar(
            select(Original.name).where(Original.project_id == project_id, Original.sha256 == row.sha256, Original.id != row.id).limit(1)
        )
        if twin is not None:
            row.reading = {**reading, "same_as": twin}
        if reading["problem"] is not None:
            row.state = "bad"
            s.execute(text("DELETE FROM chunk WHERE file_id = :id"), {"id": original_id})
        notify(s, project_id, "originals")
    return {"size": size, **reading}


def list_originals(s: Session, project_id: str) -> list[dict[str, Any]]:
    rows = s.scalars(select(Original).where(Original.project_id == project_id).order_by(Original.created_at)).all()
    taken = {x for (x,) in s.execute(select(Station.original_id).where(Station.project_id == project_id, ~Station.deleted))}
    return [
        {
            "id": r.id,
            "name": r.name,
            "size": r.size,
            "received": r.received,
            "state": r.state,
            "scans": r.reading.get("scans", []),
            "problem": r.reading.get("problem"),
            "same_as": r.reading.get("same_as"),
            "brought_in": r.id in taken,
        }
        for r in rows
    ]
