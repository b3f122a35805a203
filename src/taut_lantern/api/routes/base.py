"""What all routes share: ids in paths, the errors they answer with, binary answers."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Path

from .. import schemas as x

P = Annotated[str, Path(pattern=r"^[0-9a-f]{32}$")]
ERRORS: dict[int | str, dict[str, Any]] = {
    k: {"model": x.Problem, "description": d}
    for k, d in ((400, "not readable"), (404, "no such thing"), (409, "changed meanwhile"), (422, "cannot be used as it is"))
}
BINARY: dict[int | str, dict[str, Any]] = {200: {"content": {"application/octet-stream": {}}}}


def router() -> APIRouter:
    return APIRouter(prefix="/api", responses=ERRORS)
