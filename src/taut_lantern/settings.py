"""Settings, read once from the environment (the launcher sets them): each by its name with LANTERN_ before it."""

from __future__ import annotations

import os
from functools import lru_cache
from pathlib import Path

from pydantic import Field
from pydantic_settings import BaseSettings, SettingsConfigDict


def _machine() -> int:
    """Bytes of memory of this machine, or of the control group it is confined to."""
    found = [os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")]
    for limit in (Path("/sys/fs/cgroup/memory.max"), Path("/sys/fs/cgroup/memory/memory.limit_in_bytes")):
        try:
            found.append(int(limit.read_text()))
        except (OSError, ValueError):
            continue
    return min(found)


class Settings(BaseSettings):
    """What cannot be read is refused with the name of the setting."""

    model_config = SettingsConfigDict(env_prefix="LANTERN_", frozen=True)

    database: str = "postgresql://lantern@127.0.0.1:5433/lantern"
    web: Path = Path(__file__).resolve().parents[2] / "web" / "dist"
    host: str = "127.0.0.1"
    port: int = Field(default=8420, ge=0, le=65535)
    token: str = ""
    devices: str = ""  # instruments: "Name=http://host:port/path; Name=..."
    demo_points: int = Field(default=800_000, gt=0)
    upload_limit: int = Field(default=64 << 30, gt=0)  # bytes
    memory: int = Field(default_factory=lambda: int(0.7 * _machine()), gt=0)  # bytes that all jobs of a worker may take together


@lru_cache
def settings() -> Settings:
    return Settings()
