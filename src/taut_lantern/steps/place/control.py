"""Place a part: on control from a file, matched and solved; or squared to a wall. The points never move."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.errors import BadInput, NotEnough
from ...core.place.control import ControlReading, read_control
from ...core.place.fit import RIGID
from ...core.place.suspects import UNITS
from ...core.targets.match import Ambiguous, Constellation, by_geometry
from ...site.bound import NETWORK
from ...site.common import (
    Array,
    clean_name,
    numbers,
    owned,
    settled,
    state_of,
    still,
)
from ...site.frames import inputs_of_control
from ...site.parts import wanted
from ...site.placing import (
    InControl,
    applied_control,
    checks_of,
    control_of,
    deviations_of,
    part_with_most_targets,
    placements_of,
    solve_now,
    targets_in,
)
from ...site.solution import refresh_solution, solution_of
from ...store import journal
from ...store.models import Control, Frame, Target
from .points import take_names


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
    enh: dict[str, Sequence[float | None]] = {p.name: p.enh for p in reading.points}

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
                row.enh, row.sigma, row.unit, row.remark = list(p.enh), list(p.sigma), unit, p.remark
                matching.write(row)
                if "role" not in row.by_hand:
                    row.role = p.role
                c.s.add(row)
            c.s.flush()
            take_names(c)
        return {"points": len(enh), "problem": matching.problem}

    return settled(compute, commit, project_id)


@dataclass(frozen=True)
class Matching:
    """target_of: the target's id of each matched control point by name; by: what matched it, name or geometry, of those that were
    matched now; problem: why nothing was matched, or None."""

    target_of: dict[str, str | None]
    by: dict[str, str]
    problem: str | None

    def write(self, row: Control) -> None:
        before, row.target_id = row.target_id, self.target_of.get(row.name)
        if "target" not in (row.by_hand or ()) and not (before == row.target_id and row.matched_by):
            row.matched_by = self.by.get(row.name, "") if row.target_id else ""


def _match(targets: dict[str, dict[str, Any]], enh: dict[str, Sequence[float | None]], held: dict[str, str | None]) -> Matching:
    """By name where names agree, else by geometry; a target near a control point that breaks the constellation is
    matched too, so that a blunder shows. held: what people matched (or unmatched) by hand, which stays."""
    taken = set(held.values())
    free = {i: t for i, t in targets.items() if i not in taken}
    points = {n: p for n, p in enh.items() if n not in held}
    named = {t["name"]: i for i, t in free.items()}
    same: dict[str, str | None] = {n: named[n] for n in points if n in named}
    by = dict.fromkeys(same, "name")
    if len(same) >= 3:
        return Matching({**held, **same}, by, None)
    if len(targets) < 3 or len(enh) < 3:
        problem = f"matching needs 3 targets and 3 control points; there are {len(targets)} and {len(enh)}"
        return Matching({**held, **same}, by, problem)
    if not free or not points:
        return Matching(dict(held), {}, None)
    ids, rows = list(targets), [n for n in enh if None not in enh[n]]  # geometry needs all three coordinates
    given = np.array([enh[n] for n in rows], float).reshape(-1, 3)
    try:
        found = _constellation(np.array([targets[i]["position"] for i in ids]), given)
    except Ambiguous as problem:
        names = [[targets[i]["name"] for i in ids], rows]
        readings = " or ".join(_reading(c, *names) for c in problem.readings)
        return Matching({**held, **same}, by, f"{problem.message}, {readings}: {problem.remedy}")
    except NotEnough as problem:
        return Matching({**held, **same}, by, str(problem))
    out: dict[str, str | None] = {rows[k]: ids[i] for i, k in found.pairs if rows[k] in points and ids[i] in free}
    still_free = [i for i in free if i not in out.values()]
    for n in points:
        if n not in out and still_free:
            at = frames.apply(found.T_target_source, np.array([targets[i]["position"] for i in still_free]))
            off = np.nan_to_num(at - np.array([np.nan if v is None else v for v in enh[n]], float))
            gap = np.linalg.norm(off, axis=1)
            if gap.min() < 0.5 and enh[n][0] is not None and enh[n][1] is not None:
                out[n] = still_free.pop(int(np.argmin(gap)))
    return Matching({**out, **held}, dict.fromkeys(out, "geometry"), None)


READ = 4  # pairs of a reading that are named


def _reading(c: Constellation, targets: list[str], control: list[str]) -> str:
    """An assignment in words, with what it leaves."""
    pairs = [f"{control[k]} = {targets[i]}" for i, k in c.pairs]
    more = f" and {len(pairs) - READ} more" if len(pairs) > READ else ""
    return f"{', '.join(pairs[:READ])}{more} within {1000 * c.worst:.0f} mm"


def _constellation(seen: Array, given: Array) -> Constellation:
    """Targets in control as it is; else as it would be with its axes exchanged or in another unit, when four points agree with that:
    solving then says what is wrong with it (see ``core/place/suspects``)."""
    try:
        return by_geometry(seen, given)
    except Ambiguous:  # it fits as it is
        raise
    except NotEnough:
        for other in (given[:, [1, 0, 2]], *(given * factor for factor in UNITS)):
            with suppress(NotEnough):
                found = by_geometry(seen, other)
                if len(found.pairs) >= 4:
                    return found
        raise


def match_again(project_id: str, part_id: str | None = None) -> str | None:
    """Match anew what nobody matched by hand. Returns why nothing was matched, or None."""

    def compute(s: Session) -> tuple[int, Matching]:
        rows = control_of(s, project_id)
        held = {r.name: r.target_id for r in rows if "target" in r.by_hand}
        targets = targets_in(s, project_id, part_with_most_targets(s, project_id, part_id))
        return state_of(s, project_id), _match(targets, {r.name: r.enh for r in rows}, held)

    def commit(made: tuple[int, Matching]) -> str | None:
        state, matching = made
        with journal.change(project_id, "Matched control to targets", topic="control") as c:
            still(c.s, project_id, state)
            for r in control_of(c.s, project_id):
                matching.write(r)
            c.s.flush()
            take_names(c)
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
            row.matched_by = "hand" if known else ""
            c.title = f"Matched {row.name} to {known.name}" if known else f"Unmatched {row.name}"
            c.s.flush()
            take_names(c)


def apply(project_id: str, part_id: str | None = None, mode: str | None = None) -> str:
    """Make the solved control placement the coordinates of the part. The one before stays in the list of placements."""
    with journal.change(project_id, "Placed the project on control", topic="control") as c:
        part = wanted(c.s, c.project, part_id)
        old = applied_control(c.s, project_id, part)
        mode = mode or (old.detail.get("mode") if old is not None else None)
        if old is not None and old.detail.get("mode") == NETWORK and mode != NETWORK:  # the network is its own again before it is placed
            old.active, c.network = False, True
            c.s.flush()
            refresh_solution(c.s, c.project)
        solved = solve_now(c.s, project_id, part, mode or RIGID)
        placement = solved.placement
        if placement is None:
            raise NotEnough(solved.problem or "control cannot be solved", subject="control", remedy="match more points")
        wrong = next((f for f in placement.findings if f.subject == "control" and f.severity == "fault"), None)
        if wrong is not None:
            raise BadInput(wrong.message, subject="control", remedy="put that right first", code=wrong.code)
        bends = placement.mode == NETWORK
        claimed = InControl({}, {}) if bends else deviations_of(c.s, project_id, solved)
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
                "mode": placement.mode,
                "sigma_mm": 1000 * placement.sigma,
                "check_mm": checks_of(placement),
                "far_mm": 1000 * placement.far,
                "points": [p.name for p in placement.points if p.role == "control" and p.status != "parted"],
                "covariance": numbers(placement.covariance),
                "centre": numbers(placement.centre),
                "stations": claimed.stations,
                "expected": claimed.expected,
                "network_revision": c.project.network_revision + (1 if c.network else 0),
            },
            made_from={},
            revision=1 + max((x.revision for x in placements_of(c.s, project_id, solved.part)), default=0),
        )
        c.s.add(row)
        c.s.flush()
        if bends:  # the network is another one with control
            c.network = True
            refresh_solution(c.s, c.project)
        data = solution_of(c.s, project_id)
        if bends:
            placed = data["placings"][solved.part]
            row.T_frame_part = placed["T"]
            row.detail = (
                row.detail | {k: placed[k] for k in ("stations", "expected")} | {"network_revision": c.project.network_revision + 1}
            )
        row.made_from = {"inputs": inputs_of_control(solved.rows, data["targets"], solved.part)}
        c.project.active_frame = row.id
        return row.id


def _unit(rows: list[Control]) -> str:
    """The unit that the surveyor wrote in; metres when the points came in several."""
    units = {r.unit for r in rows}
    return units.pop() if len(units) == 1 else "m"
