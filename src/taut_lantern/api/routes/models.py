"""Design models beside the cloud."""

from __future__ import annotations

import math
from typing import Annotated, Literal

from fastapi import Path, Query, Request, Response
from fastapi.concurrency import run_in_threadpool

from ...site import compared
from ...site import models as site
from ...steps.draw import models
from ...store import db
from .. import schemas as x
from ..schemas.base import Id, Unit
from .base import BINARY, BYTES, P, bytes_in, router

api = router()


@api.get("/projects/{project_id}/models", operation_id="list_models")
def list_models(project_id: P) -> list[x.DesignModelOut]:
    with db.snapshot() as s:
        return [x.DesignModelOut(**m) for m in models.list_models(s, project_id)]


@api.post("/projects/{project_id}/models", operation_id="bring_model", status_code=202, openapi_extra=BYTES)
async def bring_model(
    project_id: P,
    request: Request,
    name: Annotated[str, Query(min_length=1, max_length=300)],
    unit: Unit | None = None,
    part: Id | None = None,
) -> x.Started:
    """The bytes of an IFC, DXF, OBJ, STL, PLY or GLB file, at most 128 MiB; read in the background. It stands where its coordinates say in
    those in use. unit: of its lengths; none: as the file says, else metres."""
    data = await bytes_in(request, "model", models.LARGEST)
    return x.Started(jobs=[await run_in_threadpool(models.bring_in, project_id, name, data, unit, part)])


@api.patch("/projects/{project_id}/models/{model_id}", operation_id="change_model")
def change_model(project_id: P, model_id: P, body: x.ModelPatch) -> x.Said:
    turn = math.radians(body.turn or 0.0)
    models.change(project_id, model_id, body.version, body.name, body.shown, body.deleted, body.shift, turn)
    return x.Said(message="changed")


@api.post("/projects/{project_id}/models/{model_id}/{do}", operation_id="compare_model", status_code=202)
def compare_model(project_id: P, model_id: P, do: Annotated[Literal["compare", "lay"], Path()], body: x.BesideIn) -> x.Started:
    """compare: how far the cloud lies from it, element by element. lay: move it to where it fits the cloud best."""
    return x.Started(jobs=[models.start(project_id, model_id, do, body.reach, body.tolerance)])


@api.get("/projects/{project_id}/models/{model_id}/compared", operation_id="get_comparison")
def get_comparison(project_id: P, model_id: P) -> x.ElementsOut:
    """The last comparison with every element, those farthest off first."""
    with db.snapshot() as s:
        return x.ElementsOut(**compared.compared(s, project_id, model_id)[1])


@api.get("/projects/{project_id}/models/{model_id}/edges", operation_id="get_model_edges", response_class=Response, responses=BINARY)
def get_model_edges(project_id: P, model_id: P) -> Response:
    """float32 (k, 2, 3): the edges of its faces that are seen, metres, the longest first."""
    with db.snapshot() as s:
        body = site.edges_of(s, project_id, model_id)
    return Response(body, media_type="application/octet-stream", headers={"Cache-Control": "private, max-age=31536000, immutable"})


@api.get(
    "/projects/{project_id}/stations/{station_id}/models/{first}",
    operation_id="get_model_distances",
    response_class=Response,
    responses=BINARY,
)
def get_model_distances(project_id: P, station_id: P, first: Annotated[int, Path(ge=0, le=2**62)]) -> Response:
    """int16 a point: its distance from the nearest model that is shown in steps of 0.1 mm, positive before its faces; -32768 beyond 250 mm."""
    with db.snapshot() as s:
        body = site.distances(s, project_id, station_id, first)
    return Response(body, media_type="application/octet-stream", headers={"Cache-Control": "no-store"})


@api.get("/projects/{project_id}/sections/{section_id}/design", operation_id="get_design_lines")
def get_design_lines(project_id: P, section_id: P) -> list[list[list[float]]]:
    """Where a section cuts the models that are shown, as lines in its coordinates, metres."""
    with db.snapshot() as s:
        return site.design_lines_of(s, project_id, section_id)
