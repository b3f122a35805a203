"""What all routes share: ids in paths, the errors they answer with, binary answers."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Depends, Path, Query, Request

from ...core.errors import BadInput
from .. import schemas as x
from ..who import who

V = Annotated[int, Query(ge=0, le=2**31 - 1, description="the version that whoever asks has before them")]
P = Annotated[str, Path(pattern=r"^[0-9a-f]{32}$")]
Part = Annotated[
    str | None, Query(pattern=r"^[0-9a-f]{32}$", description="the part of the network that is meant; else the one that is shown first")
]
ERRORS: dict[int | str, dict[str, Any]] = {
    k: {"model": x.Problem, "description": d}
    for k, d in (
        (400, "not readable"),
        (404, "no such thing"),
        (409, "changed meanwhile"),
        (413, "holds too much"),
        (422, "cannot be used as it is"),
        (503, "busy; ask again after a moment"),
    )
}
PNG: dict[int | str, dict[str, Any]] = {200: {"content": {"image/png": {}}}}
BINARY: dict[int | str, dict[str, Any]] = {200: {"content": {"application/octet-stream": {}}}}

BYTES: dict[str, Any] = {
    "requestBody": {"content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}, "required": True}
}
LARGEST = 8 << 20  # bytes of a picture


async def picture_in(request: Request) -> bytes:
    """The body of a request that brings a picture."""
    return await bytes_in(request, "picture")


async def bytes_in(request: Request, what: str, largest: int = LARGEST) -> bytes:
    """The body of a request that brings a small file, or one that is taken whole. BadInput as soon as it holds too much."""
    data = bytearray()
    async for piece in request.stream():
        data += piece
        if len(data) > largest:
            raise BadInput(f"the {what} holds more than {largest >> 20} MiB", subject=what, remedy="bring a smaller one", code="too_large")
    return bytes(data)


def router() -> APIRouter:
    return APIRouter(prefix="/api", responses=ERRORS, dependencies=[Depends(who)])
