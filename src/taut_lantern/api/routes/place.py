"""Control and site grids."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import Path

from ...site.common import get_project
from ...site.frames import transforms
from ...site.placing import compared, residuals_of
from ...steps.place import control, grids, points, repair
from ...store import db
from .. import schemas as x
from .base import P, Part, V, router
from .project import get_one_project

api = router()
FrameId = Annotated[str, Path(pattern=r"^([0-9a-f]{32}|project)$", description="a frame, or the part's own coordinates")]


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
        points=[
            x.ControlPreviewPoint(name=p.name, enh=list(p.enh), sigma=list(p.sigma), remark=p.remark, role=p.role) for p in r.points[:500]
        ],
        findings=[x.FindingOut(**f.as_dict()) for f in r.findings[:100]],
    )


@api.put("/projects/{project_id}/control", operation_id="take_control")
def take_control(project_id: P, body: x.ControlText) -> x.ControlOut:
    control.take_in(project_id, body.text, body.file, list(body.columns) if body.columns else None, body.unit, body.part)
    return get_control(project_id, body.part)


@api.get("/projects/{project_id}/control", operation_id="get_control")
def get_control(project_id: P, part: Part = None, mode: Literal["rigid", "level", "scaled", "network"] | None = None) -> x.ControlOut:
    """Control as it fits a part. mode: 6 or 4 unknowns; left out: as the part is placed now, else rigid."""
    with db.snapshot() as s:
        return x.ControlOut(**residuals_of(s, project_id, part, mode))


@api.post("/projects/{project_id}/control/match", operation_id="match_control")
def match_control(project_id: P, body: x.Placed) -> x.ControlOut:
    problem = control.match_again(project_id, body.part)
    out = get_control(project_id, body.part)
    return out.model_copy(update={"problem": problem or out.problem})


@api.patch("/projects/{project_id}/control/{control_id}", operation_id="change_control")
def change_control(project_id: P, control_id: P, body: x.ControlPatch) -> x.ControlOut:
    control.change_control(project_id, control_id, body.version, body.role, body.target)
    return get_control(project_id)


@api.post("/projects/{project_id}/control/points", operation_id="add_control_point", status_code=201)
def add_control_point(project_id: P, body: x.ControlPointIn) -> x.ControlOut:
    """A control point by hand; of its coordinates at least one."""
    sigma = None if body.sigma_mm is None else body.sigma_mm / 1000
    points.add(project_id, body.name, (body.e, body.n, body.h), sigma, body.target)
    return get_control(project_id)


@api.post("/projects/{project_id}/control/pairs", operation_id="match_by_list")
def match_by_list(project_id: P, body: x.PairsText) -> x.ControlOut:
    """Match control to targets of other names by lines of target and control point; all of them or none."""
    points.match_by_list(project_id, body.text)
    return get_control(project_id)


@api.delete("/projects/{project_id}/control/{control_id}", operation_id="remove_control_point")
def remove_control_point(project_id: P, control_id: P, version: V) -> x.ControlOut:
    points.remove(project_id, control_id, version)
    return get_control(project_id)


@api.post("/projects/{project_id}/control/apply", operation_id="apply_control")
def apply_control(project_id: P, body: x.Placed) -> x.ProjectOut:
    control.apply(project_id, body.part, body.mode)
    return get_one_project(project_id)


@api.post("/projects/{project_id}/control/exchange", operation_id="exchange_axes")
def exchange_axes(project_id: P, body: x.Placed) -> x.ControlOut:
    """Easting and northing of all control the other way round."""
    repair.exchange_axes(project_id)
    return get_control(project_id, body.part, body.mode)


@api.post("/projects/{project_id}/control/unit", operation_id="reread_unit")
def reread_unit(project_id: P, body: x.UnitIn) -> x.ControlOut:
    """Take all control as written in another unit."""
    repair.reread_unit(project_id, body.unit)
    return get_control(project_id)


@api.post("/projects/{project_id}/control/swap", operation_id="swap_control")
def swap_control(project_id: P, body: x.SwapIn) -> x.ControlOut:
    """Two control points exchange their targets."""
    repair.swap(project_id, body.a, body.b)
    return get_control(project_id)


@api.get("/projects/{project_id}/placements", operation_id="list_placements")
def list_placements(project_id: P, part: Part = None) -> list[x.PlacementOut]:
    """Every placement on control of a part that was applied, the last one first."""
    with db.snapshot() as s:
        return [x.PlacementOut(**p) for p in compared(s, project_id, part)]


@api.post("/projects/{project_id}/placements/{frame_id}/restore", operation_id="restore_placement")
def restore_placement(project_id: P, frame_id: P) -> x.ProjectOut:
    repair.restore(project_id, frame_id)
    return get_one_project(project_id)


@api.post("/projects/{project_id}/square", operation_id="square_to_wall")
def square_to_wall(project_id: P, body: x.SquareIn) -> x.SquareOut:
    return x.SquareOut(**grids.square(project_id, _picks(body), body.name, body.part, body.frame, body.version))


@api.post("/projects/{project_id}/square/preview", operation_id="preview_grid")
def preview_grid(project_id: P, body: x.SquareIn) -> x.GridPreview:
    """The grid that the picks hold, as it would lie; nothing is kept."""
    return x.GridPreview(**grids.preview(project_id, _picks(body), body.part))


def _picks(body: x.SquareIn) -> grids.Picks:
    return grids.Picks.of(body.wall, body.point, body.given, body.flip, body.corner, body.by_points)


@api.post("/projects/{project_id}/frames/{frame_id}/flip", operation_id="flip_grid")
def flip_grid(project_id: P, frame_id: P, body: x.Renew) -> x.SquareOut:
    """E and N of a site grid the other way round, about the point that was given."""
    return x.SquareOut(**grids.flip(project_id, frame_id, body.version))


@api.post("/projects/{project_id}/frames/{frame_id}/transforms", operation_id="list_transforms")
def list_transforms(project_id: P, frame_id: FrameId, body: x.ConvertIn) -> list[x.TransformOut]:
    """How coordinates of a frame become those of every other of its part, and a place of it there."""
    with db.snapshot() as s:
        return [x.TransformOut(**t) for t in transforms(s, get_project(s, project_id), frame_id, body.at, body.part)]


@api.patch("/projects/{project_id}/frames/{frame_id}", operation_id="change_frame")
def change_frame(project_id: P, frame_id: P, body: x.FramePatch) -> x.ProjectOut:
    grids.change_frame(project_id, frame_id, body.version, body.name, body.unit, body.removed)
    return get_one_project(project_id)


@api.post("/projects/{project_id}/frames/{frame_id}/renew", operation_id="renew_frame")
def renew_frame(project_id: P, frame_id: P, body: x.Renew) -> x.SquareOut:
    """Make coordinates that are out of date anew, from the same control or the same picks."""
    return x.SquareOut(**grids.renew(project_id, frame_id, body.version))
