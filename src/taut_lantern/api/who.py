"""Who asks, and what they may do: one dependency of every route, in one place.

Whoever is let in (guard.py) may do everything today. Users and sharing get their place here: a project lies in every path,
and what is asked is either to look or to change.
"""

from __future__ import annotations

from dataclasses import dataclass

from fastapi import Request

from ..store.db import actor

LOOK = ("GET", "HEAD")


@dataclass(frozen=True)
class Who:
    """name: stands in the journal beside every change; changes: whether something is to be changed; project: which one the
    path lies below, None for the list of projects and the bin."""

    name: str
    changes: bool
    project: str | None


async def who(request: Request) -> Who:
    """The actor of this request; from here on every change is made in their name. On the loop of the request, so that the
    name reaches the thread that answers."""
    asked = Who("you", request.method not in LOOK, request.path_params.get("project_id"))
    actor.set(asked.name)
    return asked
