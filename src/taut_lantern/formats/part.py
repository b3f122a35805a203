"""Files that appear only when they are whole."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


@contextmanager
def whole(path: Path) -> Iterator[Path]:
    """A name to write to; it becomes ``path`` when all went well and vanishes when not."""
    part = path.with_name(path.name + ".part")
    part.unlink(missing_ok=True)
    try:
        yield part
        part.replace(path)
    finally:
        part.unlink(missing_ok=True)
