"""Put control right as it was found to be wrong, and go back to an earlier placement; each a change that can be undone."""

from __future__ import annotations

from ...core import frames
from ...core.errors import BadInput, NotEnough
from ...site.bound import NETWORK
from ...site.common import owned
from ...site.placing import applied_control, control_of
from ...site.solution import refresh_solution
from ...store import journal
from ...store.models import Control, Frame


def exchange_axes(project_id: str) -> None:
    """Easting and northing of all control the other way round, with their deviations."""
    with journal.change(project_id, "Exchanged easting and northing of control", topic="control") as c:
        rows = control_of(c.s, project_id)
        if not rows:
            raise NotEnough("there is no control", subject="control", remedy="read a control file")
        for r in rows:
            r.enh, sigma = [r.enh[1], r.enh[0], r.enh[2]], [*(r.sigma or ()), None, None, None][:3]
            r.sigma = [sigma[1], sigma[0], sigma[2]]


def reread_unit(project_id: str, unit: str) -> None:
    """Take all control as written in another unit: what was kept in metres is turned back and read again."""
    if unit not in frames.METRE_PER_UNIT:
        raise BadInput(f"unknown unit {unit!r}", subject="unit", remedy=f"use one of {', '.join(frames.METRE_PER_UNIT)}")
    with journal.change(project_id, f"Took control as written in {frames.UNIT_WORDS[unit]}", topic="control") as c:
        for r in control_of(c.s, project_id):
            factor = frames.METRE_PER_UNIT[unit] / frames.METRE_PER_UNIT[r.unit]
            r.enh = [None if v is None else v * factor for v in r.enh]
            r.sigma, r.unit = [None if v is None else v * factor for v in r.sigma or ()], unit


def swap(project_id: str, a: str, b: str) -> None:
    """Two control points exchange their targets."""
    with journal.change(project_id, "", topic="control") as c:
        one, other = (owned(c.s, Control, project_id, x, "control point") for x in (a, b))
        if one.id == other.id:
            raise BadInput("a point cannot be swapped with itself", subject=one.name, remedy="choose two points")
        one.target_id, other.target_id = other.target_id, one.target_id
        for r in (one, other):
            r.decided("target")
            r.matched_by = "hand" if r.target_id else ""
        c.title = f"Swapped {one.name} and {other.name}"


def restore(project_id: str, frame_id: str) -> str:
    """Make an earlier placement the one that counts; the one in use stays in the list."""
    with journal.change(project_id, "", topic="control") as c:
        row = owned(c.s, Frame, project_id, frame_id, "placement")
        if row.kind != "control":
            raise BadInput(f"{row.name} is no placement on control", subject=row.name, remedy="choose one from the list of placements")
        now = applied_control(c.s, project_id, row.part_id)
        if now is not None and now.id != row.id:
            now.active = False
        row.active = True
        c.title = f"Restored placement {row.revision}"
        c.s.flush()
        if NETWORK in (row.detail.get("mode"), now.detail.get("mode") if now is not None else None):
            c.network = True
            refresh_solution(c.s, c.project)
        c.project.active_frame = row.id
        return row.id
