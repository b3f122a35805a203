"""Acceptances, and the pictures of the report."""

from __future__ import annotations

import asyncio
from typing import Annotated

from fastapi import Query, Request, Response

from ...site.accepted import acceptances
from ...site.common import get_project
from ...steps.prove import acceptances as step
from ...steps.prove import pictures
from ...store import db
from .. import schemas as x
from .base import BYTES, P, V, picture_in, router

api = router()


@api.get("/projects/{project_id}/acceptances", operation_id="list_acceptances")
def list_acceptances(project_id: P) -> list[x.AcceptanceOut]:
    """Of the network and of each link the last acceptance, and whether it stands."""
    with db.session() as s:
        return [x.AcceptanceOut(**a) for a in acceptances(s, get_project(s, project_id))]


@api.post("/projects/{project_id}/acceptances", operation_id="accept", status_code=201)
def accept(project_id: P, body: x.AcceptIn) -> x.Made:
    return x.Made(id=step.accept(project_id, body.link, body.remark, body.name))


@api.post("/projects/{project_id}/acceptances/{acceptance_id}/withdraw", operation_id="withdraw_acceptance")
def withdraw_acceptance(project_id: P, acceptance_id: P, body: x.WithdrawIn) -> list[x.AcceptanceOut]:
    step.withdraw(project_id, acceptance_id, body.version)
    return list_acceptances(project_id)


@api.get("/projects/{project_id}/pictures", operation_id="list_pictures")
def list_pictures(project_id: P) -> list[x.PictureOut]:
    """What goes into the report, in its order; the logo among it."""
    with db.session() as s:
        return [x.PictureOut(**p) for p in pictures.describe(s, project_id)]


@api.post(
    "/projects/{project_id}/pictures",
    operation_id="add_picture",
    status_code=201,
    openapi_extra=BYTES,
)
async def add_picture(project_id: P, request: Request, caption: Annotated[str, Query(max_length=300)] = "", logo: bool = False) -> x.Made:
    """A PNG or JPEG for the report, or the logo on it."""
    data = await picture_in(request)
    return x.Made(id=await asyncio.to_thread(pictures.add, project_id, data, caption, logo))


@api.get(
    "/projects/{project_id}/pictures/{picture_id}/file",
    operation_id="get_picture",
    response_class=Response,
    responses={200: {"content": {"image/png": {}, "image/jpeg": {}}}},
)
def get_picture(project_id: P, picture_id: P) -> Response:
    kind, data = pictures.data_of(project_id, picture_id)
    return Response(data, media_type=f"image/{kind}", headers={"Cache-Control": "private, max-age=31536000, immutable"})


@api.patch("/projects/{project_id}/pictures/{picture_id}", operation_id="change_picture")
def change_picture(project_id: P, picture_id: P, body: x.PicturePatch) -> list[x.PictureOut]:
    pictures.change(project_id, picture_id, body.version, body.caption)
    return list_pictures(project_id)


@api.delete("/projects/{project_id}/pictures/{picture_id}", operation_id="take_out_picture")
def take_out_picture(project_id: P, picture_id: P, version: V) -> x.Said:
    pictures.take_out(project_id, picture_id, version)
    return x.Said(message="taken out")
