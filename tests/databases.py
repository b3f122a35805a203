"""Databases for tests and measures: made by the superuser, used by the role that the application has everywhere."""

from __future__ import annotations

import os
from pathlib import Path
from urllib.parse import urlsplit

import psycopg

ROLES = Path(__file__).resolve().parents[1] / "src/taut_lantern/store/roles.sql"
SERVER = os.environ["LANTERN_SERVER"]  # the superuser's address, set by ./lantern test and measure
_APP = urlsplit(os.environ["LANTERN_DATABASE"])


def address(name: str) -> str:
    """A database as the application reaches it."""
    return _APP._replace(path=f"/{name}").geturl()


def give_roles(name: str) -> None:
    with psycopg.connect(f"{SERVER}/{name}", autocommit=True) as c:
        c.execute(ROLES.read_text())  # type: ignore[arg-type]


def fresh_database(name: str) -> str:
    """An empty database of this name; whatever had it is gone."""
    with psycopg.connect(f"{SERVER}/postgres", autocommit=True) as c:
        c.execute(f'DROP DATABASE IF EXISTS "{name}" WITH (FORCE)')  # type: ignore[arg-type]
        c.execute(f'CREATE DATABASE "{name}"')  # type: ignore[arg-type]
    give_roles(name)
    return address(name)
