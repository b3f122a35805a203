"""Place the project: control from a file, matched and solved; or squared to a wall. The points never move."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.errors import BadInput, NotEnough
from ...core.place.control import ControlReading, Placement, read_control, solve, square_to_wall
from ...core.targets.match import by_geometry
from ...store import journal
from ...store.db import session
from ...store.models import Control, PlacementRow, SolutionRow, Station
from ...store.tiles import read_tiles, tiles_of
from ..common import Array, clean_name, finite, get_project, matrix, numbers, owned, profile_of, stations_of


def preview(text: str, file: str, columns: list[str] | None, unit: str) -> ControlReading:
    if len(text) > 4_000_000:
        raise BadInput(f"{file} is too large for a control file", subject=file, remedy="keep only the control points", code="too_large")
    return read_control(text, clean_name(file, "control"), columns, unit)


def take_in(project_id: str, text: str, file: str, columns: list[str] | None, unit: str) -> dict[str, Any]:
    """Replace the project's control by the file's points and match them. Nothing is kept of a file with faults."""
    reading = preview(text, file, columns, unit)
    if not reading.usable:
        first = next(f for f in reading.findings if f.severity == "fault")
        raise BadInput(
            f"{clean_name(file, 'control')}: {first.message}",
            subject=first.subject,
            remedy="correct the file or the column order",
            code=first.code,
        )
    with journal.change(project_id, f"Read {len(reading.points)} control points from {clean_name(file, 'control')}", topic="control") as c:
        for old in c.s.scalars(select(Control).where(Control.project_id == project_id)):
            c.s.delete(old)
        c.s.flush()
        rows = [Control(project_id=project_id, name=p.name, enh=list(p.enh), role=p.role, remark=p.remark) for p in reading.points]
        c.s.add_all(rows)
        c.s.flush()
        problem = _match(c.s, project_id, rows)
    return {"points": len(reading.points), "problem": problem}


def _targets(s: Session, project_id: str) -> dict[str, Array]:
    """Positions of targets in the project frame, from the one solution."""
    row = s.get(SolutionRow, project_id)
    found = {} if row is None else row.data.get("targets", {})
    return {name: np.array(t["position"]) for name, t in found.items() if t["position"] is not None}


def _match(s: Session, project_id: str, rows: list[Control]) -> str | None:
    """By name where names agree, else by geometry; a target near a control point that breaks the constellation is
    matched too, so that a blunder shows. Returns why nothing was matched."""
    targets = _targets(s, project_id)
    same = [r for r in rows if r.name in targets]
    for r in rows:
        r.target = r.name if len(same) >= 3 and r.name in targets else None
    if len(same) >= 3:
        return None
    if len(targets) < 3 or len(rows) < 3:
        return f"matching needs 3 targets and 3 control points; there are {len(targets)} and {len(rows)}"
    names = list(targets)
    try:
        found = by_geometry(np.array([targets[n] for n in names]), np.array([r.enh for r in rows], dtype=float))
    except NotEnough as problem:
        return str(problem)
    for i, k in found.pairs:
        rows[k].target = names[i]
    free = [n for n in names if n not in {r.target for r in rows}]
    for r in rows:
        if r.target is None and free:
            at = frames.apply(found.T_target_source, np.array([targets[n] for n in free]))
            gap = np.linalg.norm(at - np.array(r.enh, dtype=float), axis=1)
            if gap.min() < 0.5:
                r.target = free.pop(int(np.argmin(gap)))
    return None


def match_again(project_id: str) -> str | None:
    with journal.change(project_id, "Matched control to targets", topic="control") as c:
        rows = list(c.s.scalars(select(Control).where(Control.project_id == project_id).order_by(Control.name)))
        return _match(c.s, project_id, rows)


def change_control(project_id: str, control_id: str, version: int | None, role: str | None, target: str | None) -> None:
    """role: control | check | off; target: a target's name, or "" to unmatch."""
    with journal.change(project_id, "Changed a control point", topic="control") as c:
        row = owned(c.s, Control, project_id, control_id, "control point")
        journal.checked_version(row, version, f"the control point {row.name}")
        if role is not None:
            if role not in ("control", "check", "off"):
                raise BadInput(f"unknown role {role!r}", subject=row.name, remedy="use control, check or off")
            row.role = role
            c.title = f"{row.name} is now {role}"
        if target is not None:
            row.target = target[:120] or None
            c.title = f"Matched {row.name} to {target}" if target else f"Unmatched {row.name}"


def solve_now(s: Session, project_id: str) -> tuple[Placement | None, str | None, list[Control]]:
    """The placement as control and targets stand now, or the reason why there is none."""
    project = get_project(s, project_id)
    rows = list(s.scalars(select(Control).where(Control.project_id == project_id).order_by(Control.name)))
    targets = _targets(s, project_id)
    used = [r for r in rows if r.target in targets and r.role != "off"]
    try:
        return (
            solve(
                [r.name for r in used],
                [r.role for r in used],
                np.array([targets[r.target or ""] for r in used]).reshape(-1, 3),
                np.array([r.enh for r in used], dtype=float).reshape(-1, 3),
                profile_of(project).control,
            ),
            None,
            rows,
        )
    except NotEnough as problem:
        return None, str(problem), rows


def apply(project_id: str) -> str:
    """Make the solved control placement the project's coordinates."""
    with journal.change(project_id, "Placed the project on control", topic="control") as c:
        placement, problem, _ = solve_now(c.s, project_id)
        if placement is None:
            raise NotEnough(problem or "control cannot be solved", subject="control", remedy="match more points")
        for old in c.s.scalars(
            select(PlacementRow).where(PlacementRow.project_id == project_id, PlacementRow.kind == "control", PlacementRow.active)
        ):
            old.active = False
        row = PlacementRow(
            project_id=project_id,
            name="control",
            kind="control",
            T_frame_project=numbers(placement.T_control_project),
            detail={"sigma_mm": 1000 * placement.sigma, "points": [p.name for p in placement.points]},
            network_revision=c.project.network_revision,
        )
        c.s.add(row)
        c.s.flush()
        c.project.active_frame = row.id
        return row.id


def stands(placement: Placement | None, applied: PlacementRow | None) -> bool:
    """Whether what is applied is still what control and network say."""
    if placement is None or applied is None:
        return False
    return bool(np.allclose(placement.T_control_project.ravel(), applied.T_frame_project, rtol=0, atol=1e-7))


def points_near(s: Session, project_id: str, pick: Array, radius: float) -> Array:
    """Points of all placed stations within ``radius`` of a pick, project frame."""
    parts = []
    for station in stations_of(s, project_id):
        if station.pose is not None or len(stations_of(s, project_id)) == 1:
            parts.append(_near(s, station, pick, radius))
    return np.concatenate(parts) if parts else np.zeros((0, 3))


def _near(s: Session, station: Station, pick: Array, radius: float) -> Array:
    t = matrix(station.pose)
    local = frames.apply(frames.inverse(t), pick[None])[0]
    ids = [r.id for r in tiles_of(s, [station.id]) if all(r.low[k] - radius <= local[k] <= r.high[k] + radius for k in range(3))]
    found = [tile.xyz[np.linalg.norm(tile.xyz - local, axis=1) < radius] for tile in read_tiles(ids)]
    return frames.apply(t, np.concatenate(found)) if found else np.zeros((0, 3))


def square(project_id: str, wall: list[float], point: list[float], given: list[float], flip: bool, name: str) -> dict[str, Any]:
    """Site grid along the wall at ``wall``; ``point`` gets the ``given`` coordinates. Picks in the project frame."""
    w, p, g = (np.array(finite(v, 3, what)) for v, what in ((wall, "the wall pick"), (point, "the point"), (given, "the coordinates")))
    with journal.change(project_id, f"Squared the project to a wall: grid {clean_name(name, 'site')}", topic="control") as c:
        t, rms, count = square_to_wall(points_near(c.s, project_id, w, 0.8), w, (0.0, 0.0, 0.0), flip)
        t[:3, 3] = g - t[:3, :3] @ p
        row = PlacementRow(
            project_id=project_id,
            name=clean_name(name, "site"),
            kind="grid",
            T_frame_project=numbers(t),
            detail={"wall_rms_mm": 1000 * rms, "points": count},
            network_revision=c.project.network_revision,
        )
        c.s.add(row)
        c.s.flush()
        c.project.active_frame = row.id
        return {"id": row.id, "wall_rms_mm": 1000 * rms, "points": count}


def residuals_of(project_id: str) -> dict[str, Any]:
    """What the screen shows of control: points, residuals, and the state of the solution."""
    with session() as s:
        project = get_project(s, project_id)
        placement, problem, rows = solve_now(s, project_id)
        by_name = {p.name: p for p in placement.points} if placement else {}
        applied = s.scalar(
            select(PlacementRow).where(PlacementRow.project_id == project_id, PlacementRow.kind == "control", PlacementRow.active)
        )
        same = stands(placement, applied)
        points = []
        for r in rows:
            p = by_name.get(r.name)
            points.append(
                {
                    "id": r.id,
                    "version": r.version,
                    "name": r.name,
                    "role": r.role,
                    "enh": r.enh,
                    "remark": r.remark,
                    "target": r.target,
                    "residual_mm": None
                    if p is None
                    else {"e": 1000 * p.residual[0], "n": 1000 * p.residual[1], "h": 1000 * p.residual[2], "d3": 1000 * p.distance},
                    "status": p.status if p else "loose",
                    "reasons": [f.as_dict() for f in p.reasons] if p else [],
                }
            )
        return {
            "points": points,
            "problem": problem,
            "applied": applied is not None,
            "up_to_date": same,
            "sentence": _sentence(placement, problem, len(rows), same),
            "sigma_mm": 1000 * placement.sigma if placement else None,
            "findings": [f.as_dict() for f in placement.findings] if placement else [],
            "targets": sorted(_targets(s, project_id)),
            "tolerance_mm": 1000 * profile_of(project).control,
        }


def _sentence(placement: Placement | None, problem: str | None, count: int, same: bool) -> str:
    if count == 0:
        return "No control yet. Read a control file, or square the project to a wall."
    if placement is None:
        return f"{(problem or '')[:1].upper()}{(problem or '')[1:]}."
    good = [p for p in placement.points if p.role == "control" and p.status != "parted"]
    text = f"{len(good)} control points agree within {1000 * max(p.distance for p in good):.1f} mm." if good else "No control point agrees."
    bad = [p.name for p in placement.points if p.status == "parted"]
    text += f" {', '.join(bad)} {'stands' if len(bad) == 1 else 'stand'} out: see why." if bad else ""
    checks = [p for p in placement.points if p.role == "check"]
    text += f" Check {checks[0].name} is off by {1000 * checks[0].distance:.1f} mm." if checks else ""
    return text + ("" if same else " Not applied yet.")
