"""Marks: which points of a station edits delete, as sorted indices of the one order of its points."""

from __future__ import annotations

import numpy as np
import zstandard
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from .models import Edit, EditDelta, Station

Marks = list[tuple[int, bytes]]


def pack_indices(index: NDArray[np.int64]) -> bytes:
    """Sorted indices as compressed differences."""
    return zstandard.ZstdCompressor(level=3).compress(np.diff(index, prepend=0).astype(np.uint32).tobytes())


def unpack_indices(data: bytes, count: int) -> NDArray[np.int64]:
    body = zstandard.ZstdDecompressor().decompress(data, max_output_size=4 * count + 64)
    return np.cumsum(np.frombuffer(body, np.uint32).astype(np.int64))


def marks_of(s: Session, station_id: str) -> Marks:
    """What active edits mark of a station, as it is stored: (count, packed indices) of each."""
    q = select(EditDelta.count, EditDelta.data).join(Edit, Edit.id == EditDelta.edit_id)
    return [(n, data) for n, data in s.execute(q.where(EditDelta.station_id == station_id, Edit.active))]


def touched_by(s: Session, station_id: str, edits: list[str]) -> NDArray[np.int64]:
    """Sorted indices of a station that any of the edits names, active or not."""
    q = select(EditDelta.count, EditDelta.data).where(EditDelta.station_id == station_id, EditDelta.edit_id.in_(edits))
    found = [unpack_indices(data, count) for count, data in s.execute(q)]
    return np.unique(np.concatenate(found)) if found else np.zeros(0, np.int64)


def mask_of(marks: Marks, points: int) -> NDArray[np.bool_]:
    """(points,) bool: which points the marks name."""
    mask = np.zeros(points, bool)
    for count, data in marks:
        mask[unpack_indices(data, count)] = True
    return mask


def deleted_mask(s: Session, station: Station) -> NDArray[np.bool_]:
    """(points,) bool: which points any active edit marks as deleted."""
    return mask_of(marks_of(s, station.id), station.points)
