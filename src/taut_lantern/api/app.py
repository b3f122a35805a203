"""The web application: API, events, and the built front end."""

from __future__ import annotations

import contextlib
import gzip
import mimetypes
import re
import threading
from collections.abc import AsyncIterator, Iterable
from contextlib import asynccontextmanager
from functools import lru_cache
from pathlib import Path
from typing import Any

from fastapi import FastAPI, Request, Response
from fastapi.openapi.utils import get_openapi
from fastapi.responses import FileResponse
from sqlalchemy.exc import SQLAlchemyError

from .. import __version__
from ..settings import settings
from ..store import queue
from ..store.db import engine, session
from ..store.tiles import first_stations
from . import errors
from .events import hub
from .guard import Guard
from .routes import ROUTERS


@asynccontextmanager
async def lifespan(app: FastAPI) -> AsyncIterator[None]:
    hub.start()
    with contextlib.ExitStack() as stack:  # the first page asks for much at once: let connections stand ready
        for _ in range(6):
            stack.enter_context(engine().connect())
    stopping = threading.Event()
    house = threading.Thread(target=_reconcile, args=(stopping,), daemon=True, name="jobs")
    house.start()
    with queue.app.open():
        yield
    stopping.set()
    hub.stopping.set()
    house.join(5)


def _reconcile(stopping: threading.Event) -> None:
    """Jobs come to an end even when no worker is left to see to it."""
    while not stopping.wait(3.0):
        try:
            queue.reconcile()
        except Exception:  # the database is away; the next turn tries again
            continue


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


def _opening(index: str, path: str, files: Iterable[str]) -> str:
    """The page; for a project it names what is needed first, so that it is asked for before the program has arrived: the
    part of the program that draws the first points, and the points."""
    found = re.match(r"p/([0-9a-f]{32})(/|$)", path)
    if not found:
        return index
    project = found[1]
    urls = [f"/api/projects/{project}/stations"]
    try:
        with session() as s:
            for station in first_stations(s, project):
                tiles = f"/api/projects/{project}/stations/{station}/tiles"
                urls += [tiles, f"{tiles}/0"]
    except SQLAlchemyError:  # the page itself can say that the database is away
        return index
    links = "".join(f'<link rel="preload" as="fetch" crossorigin="anonymous" href="{url}">' for url in urls)
    early = sorted(f for f in files if re.match(r"assets/(early|three|react|rolldown-runtime)-[\w-]+\.js$", f))
    links += "".join(f'<link rel="modulepreload" crossorigin href="/{file}">' for file in early)
    return index.replace("<!-- first -->", links, 1)


def make_app() -> FastAPI:
    app = FastAPI(
        title="Taut Lantern", version=__version__, lifespan=lifespan, docs_url=None, redoc_url=None, openapi_url="/api/openapi.json"
    )
    errors.install(app)
    app.openapi = lambda: _document(app)  # type: ignore[method-assign]
    for router in ROUTERS:
        app.include_router(router)
    app.add_middleware(Guard)  # type: ignore[arg-type]
    web = settings().web.resolve()

    @app.get("/{path:path}", include_in_schema=False)
    def page(path: str, request: Request) -> Response:
        """The front end: its files, and the page itself for the routes that it knows."""
        if path.startswith("api/"):
            return errors.problem(404, "not_found", f"there is no /{path[:100]}")
        index = web / "index.html"
        if not index.is_file():
            return errors.problem(404, "no_front_end", "the front end is not built", remedy="run ./lantern serve")
        files = _files(web, index.stat().st_mtime_ns)
        if path and (file := files.get(path)) is not None:
            return _file(file, path.startswith("assets/"), "gzip" in request.headers.get("accept-encoding", ""))
        if not re.fullmatch(r"(p/[0-9A-Za-z_/.-]{0,200})?", path):
            return errors.problem(404, "not_found", "there is no such page", remedy="go back to the list of projects")
        return Response(_opening(index.read_text(), path, files), media_type="text/html", headers={"Cache-Control": "no-cache"})

    return app


@lru_cache(maxsize=4)
def _files(web: Path, changed: int) -> dict[str, Path]:
    """What may be asked for, by its path; anything else is not there, whatever it is called."""
    return {f.relative_to(web).as_posix(): f for f in web.rglob("*") if f.is_file()}
