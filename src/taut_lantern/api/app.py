"""The web application: API, events, and the built front end."""

from __future__ import annotations

import contextlib
import gzip
import json
import mimetypes
import re
import secrets
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from functools import lru_cache
from pathlib import Path
from typing import Any

from fastapi import FastAPI, Request, Response
from fastapi.openapi.utils import get_openapi
from fastapi.responses import FileResponse, RedirectResponse
from sqlalchemy.exc import SQLAlchemyError
from starlette.middleware.trustedhost import TrustedHostMiddleware

from .. import __version__
from ..settings import settings
from ..store.db import engine, session
from ..store.queue import app as queue
from ..store.tiles import first_tiles
from . import errors
from .events import hub
from .routes import ROUTERS


@asynccontextmanager
async def lifespan(app: FastAPI) -> AsyncIterator[None]:
    hub.start()
    with contextlib.ExitStack() as stack:  # the first page asks for much at once: let connections stand ready
        for _ in range(6):
            stack.enter_context(engine().connect())
    with queue.open():
        yield
    hub.stopping.set()


def _document(app: FastAPI) -> dict[str, Any]:
    """The OpenAPI document; errors are problem+json (RFC 9457) there too."""
    if app.openapi_schema is None:
        made = get_openapi(title=app.title, version=app.version, routes=app.routes)
        for operations in made["paths"].values():
            for operation in operations.values():
                for status, answer in operation["responses"].items():
                    if int(status) >= 400 and "application/json" in answer.get("content", {}):
                        answer["content"] = {"application/problem+json": answer["content"]["application/json"]}
        app.openapi_schema = made
    return app.openapi_schema


@lru_cache(maxsize=32)
def _squeezed(file: Path, changed: int) -> bytes:
    return gzip.compress(file.read_bytes(), 6)


def _file(file: Path, forever: bool, gzipped: bool) -> Response:
    """A file of the front end; text is sent compressed, which the browser is through with sooner."""
    headers = {"Cache-Control": "public, max-age=31536000, immutable"} if forever else {}
    if not gzipped or file.suffix not in (".js", ".css", ".svg"):
        return FileResponse(file, headers=headers)
    kind = mimetypes.guess_type(file.name)[0] or "text/plain"
    return Response(
        _squeezed(file, file.stat().st_mtime_ns),
        media_type=kind,
        headers=headers | {"Content-Encoding": "gzip", "Vary": "Accept-Encoding"},
    )


def _opening(index: str, path: str) -> str:
    """The page; for a project it says which tiles come first, so that they are asked for before the program has arrived."""
    found = re.match(r"p/([0-9a-f]{32})(/|$)", path)
    if not found:
        return index
    try:
        with session() as s:
            first = first_tiles(s, found[1])
    except SQLAlchemyError:  # the page itself can say that the database is away
        return index
    return index.replace("<!-- first tiles -->", f"<script>window.first = {json.dumps(first)};</script>", 1)


def make_app() -> FastAPI:
    app = FastAPI(
        title="Taut Lantern", version=__version__, lifespan=lifespan, docs_url=None, redoc_url=None, openapi_url="/api/openapi.json"
    )
    errors.install(app)
    app.openapi = lambda: _document(app)  # type: ignore[method-assign]
    for router in ROUTERS:
        app.include_router(router)
    token = settings().token
    if token:

        @app.middleware("http")
        async def sign_in(request: Request, go_on: Callable[[Request], Awaitable[Response]]) -> Response:
            """Away from loopback every request needs the token: as a header, or as a cookie after ?token=."""
            given = (
                request.query_params.get("token")
                or request.headers.get("authorization", "").removeprefix("Bearer ")
                or request.cookies.get("lantern", "")
            )
            if not secrets.compare_digest(given.encode(), token.encode()):
                return errors.problem(
                    401, "sign_in", "this server asks for its token", remedy="open the address that the server printed at its start"
                )
            if "token" in request.query_params and request.method == "GET":
                response: Response = RedirectResponse(request.url.path)
                response.set_cookie("lantern", token, httponly=True, samesite="strict")
                return response
            return await go_on(request)
    else:
        app.add_middleware(TrustedHostMiddleware, allowed_hosts=["127.0.0.1", "localhost", "[::1]", "testserver"])

    web = settings().web.resolve()

    @app.get("/{path:path}", include_in_schema=False)
    def page(path: str, request: Request) -> Response:
        """The front end; every unknown path is the page itself, which knows its routes."""
        if path.startswith("api/"):
            return errors.problem(404, "not_found", f"there is no /{path[:100]}")
        file = (web / path).resolve()
        if path and file.is_relative_to(web) and file.is_file():
            return _file(file, path.startswith("assets/"), "gzip" in request.headers.get("accept-encoding", ""))
        index = web / "index.html"
        if not index.is_file():
            return errors.problem(404, "no_front_end", "the front end is not built", remedy="run ./lantern serve")
        return Response(_opening(index.read_text(), path), media_type="text/html", headers={"Cache-Control": "no-cache"})

    return app
