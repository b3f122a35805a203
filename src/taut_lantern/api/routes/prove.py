"""Acceptances."""

from __future__ import annotations

from ...site.accepted import acceptances
from ...site.common import get_project
from ...steps.prove import acceptances as step
from ...store import db
from .. import schemas as x
from .base import P, router

api = router()


@api.get("/projects/{project_id}/acceptances", operation_id="list_acceptances")
def list_acceptances(project_id: P) -> list[x.AcceptanceOut]:
    """Of the network and of each link the last acceptance, and whether it stands."""
    with db.session() as s:
        return [x.AcceptanceOut(**a) for a in acceptances(s, get_project(s, project_id))]


@api.post("/projects/{project_id}/acceptances", operation_id="accept", status_code=201)
def accept(project_id: P, body: x.AcceptIn) -> x.Made:
    return x.Made(id=step.accept(project_id, body.link, body.remark))


@api.post("/projects/{project_id}/acceptances/{acceptance_id}/withdraw", operation_id="withdraw_acceptance")
def withdraw_acceptance(project_id: P, acceptance_id: P, body: x.WithdrawIn) -> list[x.AcceptanceOut]:
    step.withdraw(project_id, acceptance_id, body.version)
    return list_acceptances(project_id)
