"""Temporary folders that name the process they belong to, so that what a killed one left is known and cleared."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


def _root() -> Path:
    root = Path(tempfile.gettempdir()) / f"taut-lantern-{os.getuid()}"
    root.mkdir(mode=0o700, exist_ok=True)
    return root


def born(pid: int) -> str:
    """When a process began (clock ticks since boot), "" when it is not there: tells it from a later one of its number."""
    try:
        return Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[19]
    except OSError:
        return ""


@contextmanager
def folder() -> Iterator[Path]:
    """A folder that is gone afterwards, at the latest when the next worker starts."""
    me = os.getpid()
    with tempfile.TemporaryDirectory(dir=_root(), prefix=f"{me}-{born(me)}-", ignore_cleanup_errors=True) as name:
        yield Path(name)


def clear() -> int:
    """Remove what processes left that are no longer there. Returns how many folders."""
    count = 0
    for path in _root().iterdir():
        pid, _, rest = path.name.partition("-")
        if pid.isdigit() and born(int(pid)) != rest.partition("-")[0]:
            shutil.rmtree(path, ignore_errors=True)
            count += 1
    return count
