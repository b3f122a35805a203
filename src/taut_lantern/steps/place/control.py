"""Place the project: control from a file, matched and solved; or squared to a wall. The points never move."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.errors import BadInput, NotEnough
from ...core.place.control import ControlReading, Placement, read_control, solve, square_to_wall
from ...core.targets.match import by_geometry
from ...store import journal
from ...store.db import within
from ...store.models import Control, PlacementRow, SolutionRow, Station
from ...store.tiles import read_tiles, tiles_of
from ..common import (
    Array,
    Moved,
    clean_name,
    finite,
    get_project,
    heavy,
    matrix,
    numbers,
    owned,
    profile_of,
    settled,
    state_of,
    stations_of,
    still,
)


def preview(text: str, file: str, columns: list[str] | None, unit: str) -> ControlReading:
    if len(text) > 4_000_000:
        raise BadInput(f"{file} is too large for a control file", subject=file, remedy="keep only the control points", code="too_large")
    return read_control(text, clean_name(file, "control"), columns, unit)


MOST = 10_000  # control points of a project; a file of more is cut to the site before it comes in


def take_in(project_id: str, text: str, file: str, columns: list[str] | None, unit: str) -> dict[str, Any]:
    """Replace the project's control by the file's points and match them. Nothing is kept of a file with faults.

    Points of a name that is here already keep what people decided on them: their role, and the target matched by hand.
    """
    reading = preview(text, file, columns, unit)
    shown = clean_name(file, "control")
    if not reading.usable:
        first = next(f for f in reading.findings if f.severity == "fault")
        raise BadInput(
            f"{shown}: {first.message}",
            subject=first.subject,
            remedy="correct the file or the column order",
            code=first.code,
        )
    if len(reading.points) > MOST:
        raise BadInput(
            f"{shown} holds {len(reading.points):,} points; at most {MOST:,} are kept",
            subject=shown,
            remedy="keep only the control near the site in the file",
            code="too_large",
        )
    enh: dict[str, tuple[float, ...]] = {p.name: p.enh for p in reading.points}

    def compute(s: Session) -> tuple[int, Matching]:
        here = {r.name: r for r in s.scalars(select(Control).where(Control.project_id == project_id))}
        held = {n: here[n].target for n in enh if n in here and "target" in here[n].by_hand}
        return state_of(s, project_id), _match(_targets(s, project_id), enh, held)

    def commit(made: tuple[int, Matching]) -> dict[str, Any]:
        state, matching = made
        with journal.change(project_id, f"Read {len(enh)} control points from {shown}", topic="control") as c:
            still(c.s, project_id, state)
            here = {r.name: r for r in c.s.scalars(select(Control).where(Control.project_id == project_id))}
            for name, row in here.items():
                if name not in enh:
                    c.remove(row)
            for p in reading.points:
                row = here.get(p.name) or Control(project_id=project_id, name=p.name, by_hand=[], role=p.role)
                row.enh, row.remark, row.target = list(p.enh), p.remark, matching.target_of.get(p.name)
                if "role" not in row.by_hand:
                    row.role = p.role
                c.s.add(row)
        return {"points": len(enh), "problem": matching.problem}

    return settled(compute, commit, project_id)


def _targets(s: Session, project_id: str) -> dict[str, Array]:
    """Positions of targets in the project frame, from the one solution."""
    row = s.get(SolutionRow, project_id)
    found = {} if row is None else row.data.get("targets", {})
    return {name: np.array(t["position"]) for name, t in found.items() if t["position"] is not None}


@dataclass(frozen=True)
class Matching:
    """target_of: the target of each matched control point by name; problem: why nothing was matched, or None."""

    target_of: dict[str, str | None]
    problem: str | None


def _match(targets: dict[str, Array], enh: dict[str, tuple[float, ...]], held: dict[str, str | None]) -> Matching:
    """By name where names agree, else by geometry; a target near a control point that breaks the constellation is
    matched too, so that a blunder shows. held: what people matched (or unmatched) by hand, which stays."""
    free = {n: t for n, t in targets.items() if n not in set(held.values())}
    points = {n: p for n, p in enh.items() if n not in held}
    same = [n for n in points if n in free]
    if len(same) >= 3:
        return Matching({**held, **{n: n for n in same}}, None)
    if len(targets) < 3 or len(enh) < 3:
        return Matching(dict(held), f"matching needs 3 targets and 3 control points; there are {len(targets)} and {len(enh)}")
    if not free or not points:
        return Matching(dict(held), None)
    names, rows = list(targets), list(enh)
    try:
        found = by_geometry(np.array([targets[n] for n in names]), np.array([enh[n] for n in rows], dtype=float))
    except NotEnough as problem:
        return Matching(dict(held), str(problem))
    out: dict[str, str | None] = {rows[k]: names[i] for i, k in found.pairs if rows[k] in points and names[i] in free}
    open_targets = [n for n in free if n not in out.values()]
    for n in points:
        if n not in out and open_targets:
            at = frames.apply(found.T_target_source, np.array([targets[x] for x in open_targets]))
            gap = np.linalg.norm(at - np.array(enh[n], dtype=float), axis=1)
            if gap.min() < 0.5:
                out[n] = open_targets.pop(int(np.argmin(gap)))
    return Matching({**out, **held}, None)


def match_again(project_id: str) -> str | None:
    """Match anew what nobody matched by hand. Returns why nothing was matched, or None."""

    def compute(s: Session) -> tuple[int, Matching]:
        rows = list(s.scalars(select(Control).where(Control.project_id == project_id).order_by(Control.name)))
        held = {r.name: r.target for r in rows if "target" in r.by_hand}
        return state_of(s, project_id), _match(_targets(s, project_id), {r.name: tuple(r.enh) for r in rows}, held)

    def commit(made: tuple[int, Matching]) -> str | None:
        state, matching = made
        with journal.change(project_id, "Matched control to targets", topic="control") as c:
            still(c.s, project_id, state)
            for r in c.s.scalars(select(Control).where(Control.project_id == project_id)):
                r.target = matching.target_of.get(r.name)
        return matching.problem

    return settled(compute, commit, project_id)


def change_control(project_id: str, control_id: str, version: int | None, role: str | None, target: str | None) -> None:
    """role: control | check | off; target: a target's name, or "" to unmatch."""
    with journal.change(project_id, "Changed a control point", topic="control") as c:
        row = owned(c.s, Control, project_id, control_id, "control point")
        journal.checked_version(row, version, f"the control point {row.name}")
        if role is not None:
            if role not in ("control", "check", "off"):
                raise BadInput(f"unknown role {role!r}", subject=row.name, remedy="use control, check or off")
            row.role = role
            row.decided("role")
            c.title = f"{row.name} is now {role}"
        if target is not None:
            row.target = target or None
            row.decided("target")
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
    stations = stations_of(s, project_id)
    parts = [_near(s, x, pick, radius) for x in stations if x.pose is not None or len(stations) == 1]
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
    shown = clean_name(name, "site")

    def compute(s: Session) -> tuple[int, Array, float, int]:
        t, rms, count = square_to_wall(points_near(s, project_id, w, 0.8), w, (0.0, 0.0, 0.0), flip)
        t[:3, 3] = g - t[:3, :3] @ p
        return get_project(s, project_id).network_revision, t, rms, count

    def commit(made: tuple[int, Array, float, int]) -> dict[str, Any]:
        revision, t, rms, count = made
        with journal.change(project_id, f"Squared the project to a wall: grid {shown}", topic="control") as c:
            if c.project.network_revision != revision:
                raise Moved
            row = PlacementRow(
                project_id=project_id,
                name=shown,
                kind="grid",
                T_frame_project=numbers(t),
                detail={"wall_rms_mm": 1000 * rms, "points": count},
                network_revision=revision,
            )
            c.s.add(row)
            c.s.flush()
            c.project.active_frame = row.id
            return {"id": row.id, "wall_rms_mm": 1000 * rms, "points": count}

    with heavy():
        return settled(compute, commit, project_id)


def residuals_of(project_id: str, s: Session | None = None) -> dict[str, Any]:
    """What the screen shows of control: points, residuals, and the state of the solution."""
    with within(s) as s:
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
