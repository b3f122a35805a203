"""The simulated instruments behind the HTTP protocol of docs/instruments.md.

A line breaks in the middle of a file when it is asked to, as real ones do.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Annotated, Any, Literal

import numpy as np
from fastapi import APIRouter, FastAPI, Query, Request
from fastapi.responses import JSONResponse, Response, StreamingResponse
from pydantic import BaseModel, Field

from ..core import frames
from .devices import MONUMENTS, Faults, FieldScanner, Made, Refused, TotalStation
from .scene import BOARDS, SPHERES
from .site import T_CONTROL_SITE


class ScanIn(BaseModel):
    name: str = Field(min_length=1, max_length=120)
    points: int | None = Field(default=None, ge=20_000, le=50_000_000)


class AimIn(BaseModel):
    azimuth: float
    elevation: float
    kind: Literal["sphere", "board"]
    size: float = Field(gt=0.005, le=2.0)


class SetUpIn(BaseModel):
    marks: dict[str, Annotated[list[float], Field(min_length=3, max_length=3)]]


class MeasureIn(BaseModel):
    target: str


class FaultsIn(BaseModel):
    busy: bool = False
    line: bool = False
    battery: int | None = None


def make_instruments(points: int = 800_000) -> FastAPI:
    """Both stand-ins behind one address: /scanner and /total-station."""
    app = FastAPI(title="Instruments", docs_url=None, redoc_url=None, openapi_url=None)
    scanner, station = FieldScanner(points), TotalStation()
    app.include_router(_scanner(scanner))
    app.include_router(_station(station))

    @app.exception_handler(Refused)
    def refused(request: Request, problem: Refused) -> JSONResponse:
        return JSONResponse({"code": problem.code, "message": problem.message}, problem.status)

    @app.post("/{which}/faults")
    def faults(which: Literal["scanner", "total-station"], body: FaultsIn) -> dict[str, bool]:
        (scanner if which == "scanner" else station).faults = Faults(body.busy, body.line, body.battery)
        return {"set": True}

    return app


def _scanner(scanner: FieldScanner) -> APIRouter:
    api = APIRouter(prefix="/scanner")

    def shown(m: Made) -> dict[str, Any]:
        return {"id": m.id, "name": m.name, "points": m.points, "state": m.state, "progress": m.progress, "size": len(m.file)}

    @api.get("")
    def state() -> dict[str, Any]:
        return {
            "kind": "scanner",
            "state": "busy" if scanner.live or scanner.faults.busy else "ready",
            "battery": scanner.charge(),
            "scans": [shown(m) for m in scanner.scans],
            "here": next((m.name for m in scanner.scans if m.place == scanner.place and m.state == "done"), None),
        }

    @api.get("/view")
    def view(
        azimuth: float, elevation: Annotated[float, Query(ge=-1.2, le=1.5)] = 0.0, wide: Annotated[float, Query(ge=0.005, le=1.5)] = 0.6
    ) -> Response:
        return Response(scanner.view(azimuth, elevation, wide), media_type="image/png")

    @api.post("/scans", status_code=202)
    def begin(body: ScanIn) -> dict[str, Any]:
        return shown(scanner.begin(body.name, body.points))

    @api.get("/scans/{scan_id}")
    def one(scan_id: str) -> dict[str, Any]:
        return shown(scanner.one(scan_id))

    @api.delete("/scans/{scan_id}")
    def cancel(scan_id: str) -> dict[str, Any]:
        made = scanner.one(scan_id)
        if made.state == "scanning":
            made.state = "cancelled"
        return shown(made)

    @api.get("/scans/{scan_id}/file")
    def fetch(scan_id: str) -> StreamingResponse:
        made = scanner.one(scan_id)
        if made.state != "done":
            raise Refused(409, "not_done", f"the scan {made.name} is not done")
        breaks, scanner.faults.line = scanner.faults.line, False
        body = made.file[: len(made.file) // 2] if breaks else made.file

        def pieces() -> Iterator[bytes]:
            for k in range(0, len(body), 1 << 18):
                yield body[k : k + (1 << 18)]

        return StreamingResponse(pieces(), media_type="model/e57", headers={"Content-Length": str(len(made.file))})

    @api.post("/aim")
    def aim(body: AimIn) -> dict[str, Any]:
        return scanner.aim(body.azimuth, body.elevation, body.kind, body.size)

    return api


def _station(station: TotalStation) -> APIRouter:
    api = APIRouter(prefix="/total-station")

    @api.get("")
    def state() -> dict[str, Any]:
        return {
            "kind": "total-station",
            "state": "busy" if station.faults.busy else "ready",
            "battery": station.charge(),
            "set_up": station.placed is not None,
            "sigma": station.sigma if station.placed is not None else None,
            "measured": [{"name": n, "enh": [float(v) for v in p], "sigma": s} for n, (p, s) in station.measured.items()],
            "targets": [*SPHERES, *BOARDS],
            "marks": {n: [float(v) for v in frames.apply(T_CONTROL_SITE, np.array([at]))[0]] for n, at in MONUMENTS.items()},
        }

    @api.post("/set-up")
    def set_up(body: SetUpIn) -> dict[str, Any]:
        return station.set_up(body.marks)

    @api.post("/measure")
    def measure(body: MeasureIn) -> dict[str, Any]:
        return station.measure(body.target)

    @api.get("/file")
    def file() -> Response:
        return Response(station.file(), media_type="text/plain")

    return api
