"""Files on their way in: pieces that can be resumed, then a reading of what is in them before anything is stored
as a station."""

from __future__ import annotations

import hashlib
from pathlib import Path
from typing import Any, BinaryIO

from sqlalchemy import func, select, text
from sqlalchemy.orm import Session

from ...core.errors import BadInput, Conflict, LanternError, NotFound
from ...formats import e57
from ...settings import settings
from ...site.common import Progress, clean_name, get_project
from ...store import bin, scratch
from ...store.db import file_chunks, notify, session
from ...store.models import Chunk, Job, Original, Station, now
from ...store.queue import LIVE, enqueue

SUFFIXES = (".e57",)


def begin(project_id: str, name: str, size: int, sha256: str = "") -> str:
    """Announce a file; returns the upload's id.

    sha256: of the whole file. With it an unfinished upload of the very same bytes is gone on with, and the file is refused
    when other bytes arrive. Without it every call begins a new upload; ``unfinished`` tells what could be gone on with.
    """
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
        row = s.scalar(_receiving(project_id, size).where(Original.sha256 == sha256).limit(1)) if sha256 else None
        if row is None:
            row = Original(project_id=project_id, name=shown, size=size, sha256=sha256)
            s.add(row)
            s.flush()
        return row.id


def _receiving(project_id: str, size: int) -> Any:
    return select(Original).where(
        Original.project_id == project_id, Original.size == size, Original.state == "receiving", Original.discarded_at.is_(None)
    )


def unfinished(project_id: str, size: int) -> list[dict[str, Any]]:
    """Uploads of this size that broke off: what has arrived of each, piece by piece with checksums. Whoever holds a file
    that begins with these bytes may go on with the upload."""
    with session() as s:
        get_project(s, project_id)
        out = []
        for row in s.scalars(_receiving(project_id, size).where(Original.received > 0).order_by(Original.created_at)):
            q = select(Chunk.offset, func.octet_length(Chunk.data), Chunk.sha256).where(Chunk.file_id == row.id).order_by(Chunk.offset)
            pieces = [{"offset": at, "size": n, "sha256": digest} for at, n, digest in s.execute(q)]
            if all(p["sha256"] for p in pieces):
                out.append({"id": row.id, "name": row.name, "size": row.size, "received": row.received, "pieces": pieces})
        return out


def get(original_id: str) -> Original:
    with session() as s:
        return s.get_one(Original, original_id)


def append(project_id: str, original_id: str, offset: int, data: bytes) -> Original:
    """Take the next piece; the last one starts the reading. Conflict names where to go on from."""
    digest = hashlib.sha256(data).hexdigest()
    with session() as s:
        row = s.scalar(select(Original).where(Original.id == original_id, Original.project_id == project_id).with_for_update())
        if row is None or row.discarded_at is not None:
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
        s.add(Chunk(file_id=row.id, offset=offset, data=data, sha256=digest))
        row.received += len(data)
        if row.received == row.size:
            row.state = "complete"
            enqueue(s, project_id, "read", f"Reading {row.name}", original_id=row.id)
        return row


def put_file(project_id: str, path: Path) -> str:
    """Bring a file on this machine in through the same door, piece by piece; returns the upload's id. What broke off goes on
    when the file still begins with what had arrived."""
    size = path.stat().st_size
    with path.open("rb") as stream:
        original_id, start = _to_go_on_with(project_id, size, stream) or (begin(project_id, path.name, size), 0)
        stream.seek(start)
        while piece := stream.read(4 << 20):
            append(project_id, original_id, start, piece)
            start += len(piece)
    return original_id


def _to_go_on_with(project_id: str, size: int, stream: BinaryIO) -> tuple[str, int] | None:
    for upload in unfinished(project_id, size):

        def same(piece: dict[str, Any]) -> bool:
            stream.seek(piece["offset"])
            return hashlib.sha256(stream.read(piece["size"])).hexdigest() == piece["sha256"]

        if all(same(piece) for piece in upload["pieces"]):
            return upload["id"], upload["received"]
    return None


def discard(project_id: str, original_id: str) -> None:
    """Put a file into the bin, from which it comes back for 30 days. Refused while stations or running work need it."""
    with session() as s:
        row = s.scalar(select(Original).where(Original.id == original_id, Original.project_id == project_id).with_for_update())
        if row is None or row.discarded_at is not None:
            raise NotFound("this upload does not exist", subject=original_id, remedy="reload the page")
        if station := s.scalar(select(Station.name).where(Station.original_id == original_id).limit(1)):
            raise Conflict(
                f"{row.name} is kept: the station {station} was made from it",
                subject=row.name,
                remedy="take the station out of the project first",
                code="in_use",
            )
        q = select(Job.title).where(Job.project_id == project_id, Job.state.in_(LIVE), Job.params["original_id"].astext == original_id)
        if work := s.scalar(q.limit(1)):
            raise Conflict(
                f"{row.name} is needed by work under way: {work}",
                subject=row.name,
                remedy="wait until it is done, or cancel it",
                code="in_use",
            )
        row.discarded_at = now()
        notify(s, project_id, "originals")


def let_go(project_id: str, original_id: str, reason: str) -> None:
    """Give up the bytes of a file whose scans have all been brought in: their points stay, the file cannot be read again."""
    with session() as s:
        row = s.scalar(select(Original).where(Original.id == original_id, Original.project_id == project_id).with_for_update())
        if row is None:
            raise NotFound("this file does not exist", subject=original_id, remedy="reload the page")
        if row.let_go is not None:
            return
        scans = [k for k, scan in enumerate(row.reading.get("scans", [])) if scan["points"]]
        here = set(s.scalars(select(Station.scan_index).where(Station.original_id == original_id)))
        if row.state != "complete" or not scans or not set(scans) <= here:
            raise Conflict(
                f"{row.name} holds scans that are not brought in: without the file they would be lost",
                subject=row.name,
                remedy="bring its scans in first, or discard the file",
                code="in_use",
            )
        bin.let_go(s, row, reason)
        notify(s, project_id, "originals")


def restore(project_id: str, original_id: str) -> None:
    """Bring a discarded file back from the bin."""
    with session() as s:
        row = s.scalar(select(Original).where(Original.id == original_id, Original.project_id == project_id).with_for_update())
        if row is None or row.discarded_at is None:
            raise NotFound("this file does not lie in the bin", subject=original_id, remedy="reload the page")
        row.discarded_at = None
        notify(s, project_id, "originals")


def read_original(project_id: str, original_id: str, progress: Progress) -> dict[str, Any]:
    """The reading of a file's headers, kept with it. What is wrong becomes part of the reading, not an outage."""
    with session() as s:
        row = s.get_one(Original, original_id)
        name, size, announced = row.name, row.size, row.sha256
    digest = hashlib.sha256()
    with scratch.folder() as folder:
        path = folder / "in.e57"
        with path.open("wb") as out:
            for piece in file_chunks(original_id, size):
                digest.update(piece)
                out.write(piece)
                progress.check()
        reading = _reading(path, name, announced, digest.hexdigest())
    with session() as s:
        row = s.get_one(Original, original_id, with_for_update=True)
        row.sha256, row.reading = digest.hexdigest(), reading
        q = select(Original.name).where(Original.project_id == project_id, Original.sha256 == row.sha256, Original.id != row.id)
        twin = s.scalar(q.where(Original.discarded_at.is_(None)).limit(1))
        if twin is not None:
            row.reading = {**reading, "same_as": twin}
        if reading["problem"] is not None:
            row.state = "bad"
            s.execute(text("DELETE FROM chunk WHERE file_id = :id"), {"id": original_id})
        notify(s, project_id, "originals")
        return progress.conclude(s, {"size": size, **reading})


def _reading(path: Path, name: str, announced: str, found: str) -> dict[str, Any]:
    try:
        if announced and announced != found:
            raise BadInput(
                f"{name}: other bytes arrived than were announced (SHA-256 {found[:12]}, not {announced[:12]})",
                subject=name,
                remedy="send it again",
                code="other_bytes",
            )
        scans = e57.headers(path, name)
    except LanternError as problem:
        return {"scans": [], "problem": {"code": problem.code, "message": problem.message, "remedy": problem.remedy}}
    return {
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


def list_originals(s: Session, project_id: str) -> list[dict[str, Any]]:
    rows = s.scalars(select(Original).where(Original.project_id == project_id).order_by(Original.created_at)).all()
    taken = {x for (x,) in s.execute(select(Station.original_id).where(Station.project_id == project_id))}
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
            "discarded": r.discarded_at is not None,
            "let_go": r.let_go,
        }
        for r in rows
    ]
