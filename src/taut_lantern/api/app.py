"""The web application: API, events, and the built front end."""

from __future__ import annotations

import contextlib
import secrets
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from typing import Any

from fastapi import FastAPI, Request, Response
from fastapi.openapi.utils import get_openapi
from fastapi.responses import FileResponse, RedirectResponse
from starlette.middleware.trustedhost import TrustedHostMiddleware

from .. import __version__
from ..settings import settings
from ..store.db import engine
from ..store.queue import app as queue
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

    web = settings().web

    @app.get("/{path:path}", include_in_schema=False)
    def page(path: str) -> Response:
        """The front end; every unknown path is the page itself, which knows its routes."""
        if path.startswith("api/"):
            return errors.problem(404, "not_found", f"there is no /{path[:100]}")
        file = (web / path).resolve()
        if path and file.is_relative_to(web.resolve()) and file.is_file():
            return FileResponse(
                file, headers={"Cache-Control": "public, max-age=31536000, immutable"} if path.startswith("assets/") else {}
            )
        index = web / "index.html"
        return (
            FileResponse(index, headers={"Cache-Control": "no-cache"})
            if index.is_file()
            else errors.problem(404, "no_front_end", "the front end is not built", remedy="run ./lantern serve")
        )

    return app
