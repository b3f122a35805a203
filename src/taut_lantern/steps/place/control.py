"""Place a part: on control from a file, matched and solved; or squared to a wall. The points never move."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.errors import BadInput, NotEnough
from ...core.place.control import ControlReading, read_control
from ...core.place.wall import square_to_wall
from ...core.targets.match import by_geometry
from ...site.common import (
    Array,
    Moved,
    clean_name,
    finite,
    get_project,
    heavy,
    matrix,
    numbers,
    owned,
    settled,
    state_of,
    stations_of,
    still,
)
from ...site.frames import inputs_of_control, inputs_of_grid
from ...site.near import points_near
from ...site.parts import stations_in, wanted
from ...site.placing import applied_control, control_of, deviations_of, part_with_most_targets, solve_now, targets_in
from ...site.solution import solution_of
from ...store import journal
from ...store.db import session
from ...store.models import Control, Frame, Station, Target


def preview(text: str, file: str, columns: list[str] | None, unit: str) -> ControlReading:
    if len(text) > 4_000_000:
        raise BadInput(f"{file} is too large for a control file", subject=file, remedy="keep only the control points", code="too_large")
    return read_control(text, clean_name(file, "control"), columns, unit)


MOST = 10_000  # control points of a project; a file of more is cut to the site before it comes in


def take_in(project_id: str, text: str, file: str, columns: list[str] | None, unit: str, part_id: str | None = None) -> dict[str, Any]:
    """Replace the project's control by the file's points and match them to the targets of one part (of which None means the
    one that sees most). Nothing is kept of a file with faults.

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
        held = {n: here[n].target_id for n in enh if n in here and "target" in here[n].by_hand}
        return state_of(s, project_id), _match(targets_in(s, project_id, part_with_most_targets(s, project_id, part_id)), enh, held)

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
                row.enh, row.unit, row.remark, row.target_id = list(p.enh), unit, p.remark, matching.target_of.get(p.name)
                if "role" not in row.by_hand:
                    row.role = p.role
                c.s.add(row)
        return {"points": len(enh), "problem": matching.problem}

    return settled(compute, commit, project_id)


@dataclass(frozen=True)
class Matching:
    """target_of: the target's id of each matched control point by name; problem: why nothing was matched, or None."""

    target_of: dict[str, str | None]
    problem: str | None


def _match(targets: dict[str, dict[str, Any]], enh: dict[str, tuple[float, ...]], held: dict[str, str | None]) -> Matching:
    """By name where names agree, else by geometry; a target near a control point that breaks the constellation is
    matched too, so that a blunder shows. held: what people matched (or unmatched) by hand, which stays."""
    taken = set(held.values())
    free = {i: t for i, t in targets.items() if i not in taken}
    points = {n: p for n, p in enh.items() if n not in held}
    named = {t["name"]: i for i, t in free.items()}
    same = {n: named[n] for n in points if n in named}
    if len(same) >= 3:
        return Matching({**held, **same}, None)
    if len(targets) < 3 or len(enh) < 3:
        return Matching(dict(held), f"matching needs 3 targets and 3 control points; there are {len(targets)} and {len(enh)}")
    if not free or not points:
        return Matching(dict(held), None)
    ids, rows = list(targets), list(enh)
    try:
        found = by_geometry(np.array([targets[i]["position"] for i in ids]), np.array([enh[n] for n in rows], dtype=float))
    except NotEnough as problem:
        return Matching(dict(held), str(problem))
    out: dict[str, str | None] = {rows[k]: ids[i] for i, k in found.pairs if rows[k] in points and ids[i] in free}
    still_free = [i for i in free if i not in out.values()]
    for n in points:
        if n not in out and still_free:
            at = frames.apply(found.T_target_source, np.array([targets[i]["position"] for i in still_free]))
            gap = np.linalg.norm(at - np.array(enh[n], dtype=float), axis=1)
            if gap.min() < 0.5:
                out[n] = still_free.pop(int(np.argmin(gap)))
    return Matching({**out, **held}, None)


def match_again(project_id: str, part_id: str | None = None) -> str | None:
    """Match anew what nobody matched by hand. Returns why nothing was matched, or None."""

    def compute(s: Session) -> tuple[int, Matching]:
        rows = control_of(s, project_id)
        held = {r.name: r.target_id for r in rows if "target" in r.by_hand}
        targets = targets_in(s, project_id, part_with_most_targets(s, project_id, part_id))
        return state_of(s, project_id), _match(targets, {r.name: tuple(r.enh) for r in rows}, held)

    def commit(made: tuple[int, Matching]) -> str | None:
        state, matching = made
        with journal.change(project_id, "Matched control to targets", topic="control") as c:
            still(c.s, project_id, state)
            for r in control_of(c.s, project_id):
                r.target_id = matching.target_of.get(r.name)
        return matching.problem

    return settled(compute, commit, project_id)


def change_control(project_id: str, control_id: str, version: int | None, role: str | None, target: str | None) -> None:
    """role: control | check | off; target: a target's id, or "" to unmatch."""
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
            known = owned(c.s, Target, project_id, target, "target") if target else None
            row.target_id = known.id if known else None
            row.decided("target")
            c.title = f"Matched {row.name} to {known.name}" if known else f"Unmatched {row.name}"


def apply(project_id: str, part_id: str | None = None) -> str:
    """Make the solved control placement the coordinates of the part. An earlier one of the part is replaced."""
    with journal.change(project_id, "Placed the project on control", topic="control") as c:
        solved = solve_now(c.s, project_id, part_id)
        placement = solved.placement
        if placement is None:
            raise NotEnough(solved.problem or "control cannot be solved", subject="control", remedy="match more points")
        claimed = deviations_of(c.s, project_id, solved)
        old = applied_control(c.s, project_id, solved.part)
        if old is not None:
            old.active = False
        row = Frame(
            project_id=project_id,
            part_id=solved.part,
            name="control",
            kind="control",
            unit=_unit(solved.rows),
            T_frame_part=numbers(placement.T_control_project),
            detail={
                "sigma_mm": 1000 * placement.sigma,
                "points": [p.name for p in placement.points if p.role == "control" and p.status != "parted"],
                "covariance": numbers(placement.covariance),
                "centre": numbers(placement.centre),
                "stations": claimed.stations,
                "expected": claimed.expected,
                "network_revision": c.project.network_revision,
            },
            made_from={"inputs": inputs_of_control(solved.rows, solution_of(c.s, project_id)["targets"], solved.part)},
            revision=old.revision + 1 if old is not None else 1,
        )
        c.s.add(row)
        c.s.flush()
        c.project.active_frame = row.id
        return row.id


def _unit(rows: list[Control]) -> str:
    """The unit that the surveyor wrote in; metres when the points came in several."""
    units = {r.unit for r in rows}
    return units.pop() if len(units) == 1 else "m"


ROUND = 0.8  # metres of the wall round the pick that are looked at


@dataclass(frozen=True)
class Picks:
    """wall, point: picks in the part's frame, metres; given: coordinates of the point."""

    wall: Array
    point: Array
    given: Array
    flip: bool


def square(
    project_id: str, wall: list[float], point: list[float], given: list[float], flip: bool, name: str, part_id: str | None = None
) -> dict[str, Any]:
    """Site grid of a part along the wall at ``wall``; ``point`` gets the ``given`` coordinates. Picks in the part's frame."""
    w, p, g = (np.array(finite(v, 3, what)) for v, what in ((wall, "the wall pick"), (point, "the point"), (given, "the coordinates")))
    return _grid(project_id, Picks(w, p, g, flip), clean_name(name, "site"), part_id, None)


def renew(project_id: str, frame_id: str, version: int) -> dict[str, Any]:
    """Make a frame that is out of date anew: control is solved again, a grid is laid along its wall again."""
    with session() as s:
        row = owned(s, Frame, project_id, frame_id, "frame")
        journal.checked_version(row, version, f"the coordinates {row.name}")
    if row.kind == "control":
        return {"id": apply(project_id, row.part_id), "wall_rms_mm": None, "points": None}
    kept = row.detail.get("picks")
    if kept is None:
        raise BadInput("an earlier version did not keep what was picked", subject=row.name, remedy="square the project to the wall again")
    motion = matrix(row.made_from.get("T_new_old"))
    w, p = (frames.apply(motion, np.array([kept[k]]))[0] for k in ("wall", "point"))
    return _grid(project_id, Picks(w, p, np.array(kept["given"]), kept["flip"]), row.name, row.part_id, row.id)


def _grid(project_id: str, picks: Picks, name: str, part_id: str | None, frame_id: str | None) -> dict[str, Any]:
    """Lay a grid; into the row of an earlier one when that is made anew."""

    def compute(s: Session) -> tuple[int, str | None, Array, float, int, list[Station]]:
        project = get_project(s, project_id)
        part = wanted(s, project, part_id)
        near = points_near(s, stations_in(stations_of(s, project_id), part), picks.wall, ROUND)
        t, rms, count = square_to_wall(near.points, picks.wall, (0.0, 0.0, 0.0), near.towards, picks.flip)
        t[:3, 3] = picks.given - t[:3, :3] @ picks.point
        return project.network_revision, part, t, rms, count, near.stations

    def commit(made: tuple[int, str | None, Array, float, int, list[Station]]) -> dict[str, Any]:
        revision, part, t, rms, count, stations = made
        with journal.change(project_id, f"Squared the project to a wall: grid {name}", topic="control") as c:
            if c.project.network_revision != revision:
                raise Moved
            if frame_id is None:
                row = Frame(project_id=project_id, name=name, kind="grid", unit=c.project.unit, revision=0)
            else:
                row = owned(c.s, Frame, project_id, frame_id, "frame")
            row.part_id, row.T_frame_part, row.revision = part, numbers(t), row.revision + 1
            kept = {"wall": numbers(picks.wall), "point": numbers(picks.point), "given": numbers(picks.given), "flip": picks.flip}
            row.detail = {"wall_rms_mm": 1000 * rms, "points": count, "picks": kept}
            row.made_from = {"inputs": inputs_of_grid(stations)}
            c.s.add(row)
            c.s.flush()
            c.project.active_frame = row.id
            return {"id": row.id, "wall_rms_mm": 1000 * rms, "points": count}

    with heavy():
        return settled(compute, commit, project_id)


def change_frame(project_id: str, frame_id: str, version: int, name: str | None, unit: str | None, removed: bool) -> None:
    """Rename a frame, set the unit of its coordinates, or take it away (the part's own coordinates follow)."""
    with journal.change(project_id, "", topic="control") as c:
        row = owned(c.s, Frame, project_id, frame_id, "frame")
        journal.checked_version(row, version, f"the coordinates {row.name}")
        if name is not None:
            c.title = f"Renamed the coordinates {row.name} to {clean_name(name, row.name)}"
            row.name = clean_name(name, row.name)
        if unit is not None:
            row.unit = unit
            c.title = f"The coordinates {row.name} are in {unit}"
        if removed:
            row.deleted = True
            c.title = f"Took the coordinates {row.name} away"
            if c.project.active_frame == row.id:
                c.project.active_frame = "project"
