"""Control and site grids."""

from __future__ import annotations

from ...site.common import get_project
from ...site.placing import residuals_of
from ...steps.place import control
from ...store import db
from .. import schemas as x
from .base import P, Part, router
from .project import get_one_project

api = router()


@api.post("/projects/{project_id}/control/preview", operation_id="preview_control")
def preview_control(project_id: P, body: x.ControlText) -> x.ControlPreview:
    with db.session() as s:
        get_project(s, project_id)
    r = control.preview(body.text, body.file, list(body.columns) if body.columns else None, body.unit)
    return x.ControlPreview(
        separator=r.separator,
        decimal_comma=r.decimal_comma,
        columns=list(r.columns),
        header=list(r.header),
        usable=r.usable,
        points=[x.ControlPreviewPoint(name=p.name, enh=list(p.enh), remark=p.remark, role=p.role) for p in r.points[:500]],
        findings=[x.FindingOut(**f.as_dict()) for f in r.findings[:100]],
    )


@api.put("/projects/{project_id}/control", operation_id="take_control")
def take_control(project_id: P, body: x.ControlText) -> x.ControlOut:
    control.take_in(project_id, body.text, body.file, list(body.columns) if body.columns else None, body.unit, body.part)
    return get_control(project_id, body.part)


@api.get("/projects/{project_id}/control", operation_id="get_control")
def get_control(project_id: P, part: Part = None) -> x.ControlOut:
    with db.session() as s:
        return x.ControlOut(**residuals_of(s, project_id, part))


@api.post("/projects/{project_id}/control/match", operation_id="match_control")
def match_control(project_id: P, body: x.Placed) -> x.ControlOut:
    problem = control.match_again(project_id, body.part)
    out = get_control(project_id, body.part)
    return out.model_copy(update={"problem": problem or out.problem})


@api.patch("/projects/{project_id}/control/{control_id}", operation_id="change_control")
def change_control(project_id: P, control_id: P, body: x.ControlPatch) -> x.ControlOut:
    control.change_control(project_id, control_id, body.version, body.role, body.target)
    return get_control(project_id)


@api.post("/projects/{project_id}/control/apply", operation_id="apply_control")
def apply_control(project_id: P, body: x.Placed) -> x.ProjectOut:
    control.apply(project_id, body.part)
    return get_one_project(project_id)


@api.post("/projects/{project_id}/square", operation_id="square_to_wall")
def square_to_wall(project_id: P, body: x.SquareIn) -> x.SquareOut:
    return x.SquareOut(**control.square(project_id, body.wall, body.point, body.given, body.flip, body.name, body.part))


@api.patch("/projects/{project_id}/frames/{frame_id}", operation_id="change_frame")
def change_frame(project_id: P, frame_id: P, body: x.FramePatch) -> x.ProjectOut:
    control.change_frame(project_id, frame_id, body.version, body.name, body.unit, body.removed)
    return get_one_project(project_id)


@api.post("/projects/{project_id}/frames/{frame_id}/renew", operation_id="renew_frame")
def renew_frame(project_id: P, frame_id: P, body: x.Renew) -> x.SquareOut:
    """Make coordinates that are out of date anew, from the same control or the same picks."""
    return x.SquareOut(**control.renew(project_id, frame_id, body.version))
