"""One table from errors to problem+json."""

from __future__ import annotations

import logging

import psycopg
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from procrastinate.exceptions import ConnectorException
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from starlette.exceptions import HTTPException

from ..core.errors import BadInput, Busy, Cancelled, Conflict, LanternError, NotEnough, NotFound

STATUS: list[tuple[type[LanternError], int]] = [
    (NotFound, 404),
    (Conflict, 409),
    (BadInput, 422),
    (NotEnough, 422),
    (Cancelled, 409),
    (Busy, 503),
    (LanternError, 500),
]
log = logging.getLogger("taut_lantern.api")


AGAIN = "3"  # seconds after which whoever was turned away may ask again


def problem(status: int, code: str, detail: str, subject: str = "", remedy: str = "") -> JSONResponse:
    body = {
        "type": f"about:{code}",
        "title": code.replace("_", " "),
        "status": status,
        "code": code,
        "detail": detail,
        "subject": subject,
        "remedy": remedy,
    }
    headers = {"Retry-After": AGAIN} if status == 503 else None
    return JSONResponse(body, status_code=status, media_type="application/problem+json", headers=headers)


def install(app: FastAPI) -> None:
    @app.exception_handler(LanternError)
    def _(request: Request, error: LanternError) -> JSONResponse:
        status = next(code for kind, code in STATUS if isinstance(error, kind))
        return problem(status, error.code, error.message, error.subject, error.remedy)

    @app.exception_handler(RequestValidationError)
    def _(request: Request, error: RequestValidationError) -> JSONResponse:
        first = error.errors()[0]
        where = ".".join(str(x) for x in first["loc"][1:]) or str(first["loc"][0])
        return problem(422, "bad_request", f"{where}: {first['msg']}", where, "correct the request")

    @app.exception_handler(HTTPException)
    def _(request: Request, error: HTTPException) -> JSONResponse:
        response = problem(
            error.status_code,
            {400: "not_readable", 404: "not_found", 405: "method_not_allowed", 413: "too_large"}.get(error.status_code, "refused"),
            str(error.detail),
            remedy="send JSON in UTF-8" if error.status_code == 400 else "",
        )
        response.headers.update(error.headers or {})
        return response

    @app.exception_handler(PoolTimeout)
    def _(request: Request, error: PoolTimeout) -> JSONResponse:
        return problem(503, "busy", "all connections to the database are in use", remedy="try again in a moment")

    @app.exception_handler(ConnectorException)
    def _(request: Request, error: ConnectorException) -> JSONResponse:
        return problem(503, "no_database", "the database does not answer", remedy="wait a moment and try again")

    @app.exception_handler(psycopg.OperationalError)
    @app.exception_handler(InterfaceError)
    @app.exception_handler(OperationalError)
    def _(request: Request, given: Exception) -> JSONResponse:
        error = given if isinstance(given, DBAPIError) else DBAPIError("", None, given)
        full = "No space left" in str(error.orig) or "DiskFull" in type(error.orig).__name__
        if full:
            return problem(
                507, "disk_full", "the disk of the database is full", remedy="free some space and try again; nothing half-done was kept"
            )
        return problem(503, "no_database", "the database does not answer", remedy="wait a moment and try again")

    @app.exception_handler(Exception)
    def _(request: Request, error: Exception) -> JSONResponse:
        log.exception("unexpected", exc_info=error)
        return problem(
            500,
            "unexpected",
            "something went wrong in the server; nothing half-done was kept",
            remedy="try again; if it happens again, report what you did",
        )
