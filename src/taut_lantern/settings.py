"""Settings, read once from the environment (the launcher sets them)."""

from __future__ import annotations

import os
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path


@dataclass(frozen=True)
class Settings:
    database: str
    web: Path
    host: str
    port: int
    token: str
    demo_points: int
    upload_limit: int
    memory: int  # bytes that all jobs of a worker may take together


def _machine() -> int:
    """Bytes of memory of this machine, or of the control group it is confined to."""
    found = [os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")]
    for limit in (Path("/sys/fs/cgroup/memory.max"), Path("/sys/fs/cgroup/memory/memory.limit_in_bytes")):
        try:
            found.append(int(limit.read_text()))
        except (OSError, ValueError):
            continue
    return min(found)


@lru_cache
def settings() -> Settings:
    env = os.environ.get
    root = Path(__file__).resolve().parents[2]
    return Settings(
        database=env("LANTERN_DATABASE", "postgresql://lantern@127.0.0.1:5433/lantern"),
        web=Path(env("LANTERN_WEB", str(root / "web" / "dist"))),
        host=env("LANTERN_HOST", "127.0.0.1"),
        port=int(env("LANTERN_PORT", "8420")),
        token=env("LANTERN_TOKEN", ""),
        demo_points=int(env("LANTERN_DEMO_POINTS", "800000")),
        upload_limit=int(env("LANTERN_UPLOAD_LIMIT", str(64 << 30))),
        memory=int(env("LANTERN_MEMORY", "0")) or int(0.7 * _machine()),
    )
