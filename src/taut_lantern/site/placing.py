"""Control against the targets of one part: what fits, what is left at each point, and what it does far from control."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import frames
from ..core.errors import NotEnough
from ..core.network.solution import Placing, Solution
from ..core.place.fit import RIGID, SCALED
from ..core.place.solve import Placement, solve
from ..store.models import Control, Frame, Station
from .beside import placing_as_data
from .bound import NETWORK, numbers_of, observation, weighed
from .common import Array, get_project, matrix, profile_of, stations_of
from .frames import Currency
from .parts import parts_of, stations_in, wanted
from .solution import observed, solution_of

DEFLECTION = 2e-5  # radians: of the plumb line from the height axis of a map's grid
AROUND = 25.0  # metres from a station that count as its place: what is drawn from a scan is rarely farther away


def control_of(s: Session, project_id: str) -> list[Control]:
    return list(s.scalars(select(Control).where(Control.project_id == project_id).order_by(Control.name)))


def targets_in(s: Session, project_id: str, part_id: str | None) -> dict[str, dict[str, Any]]:
    """Targets that a part sees, by id: name, position (part frame) and deviations, from the one solution."""
    return {t["id"]: t for t in solution_of(s, project_id)["targets"] if t["part"] == part_id}


def reach_of(stations: list[Station]) -> Array:
    """(n, 3) places of a part that will be placed: corners of what each station saw near it, part frame."""
    out = []
    for x in stations:
        low, high = (np.clip(np.array(v or [0.0] * 3, float), -AROUND, AROUND) for v in (x.low, x.high))
        corner = np.array([[(low, high)[i][0], (low, high)[j][1], (low, high)[k][2]] for i in (0, 1) for j in (0, 1) for k in (0, 1)])
        out.append(frames.apply(matrix(x.pose), corner))
    return np.concatenate(out) if out else np.zeros((0, 3))


@dataclass(frozen=True)
class Solved:
    """placement of a part as control and targets stand now, or the problem why there is none; rows: all control."""

    part: str | None
    placement: Placement | None
    problem: str | None
    rows: list[Control]


def deviations_given(rows: Sequence[Control], targets: dict[str, dict[str, Any]]) -> Array:
    """(n, 3) metres: what the surveyor gives, and what the network knows of the target; NaN where he gives none."""
    out = np.array([numbers_of(r.sigma or ()) for r in rows]).reshape(-1, 3)
    own = [targets[r.target_id or ""]["sigma_mm"] or (0.0, 0.0, 0.0) for r in rows]
    seen = np.sqrt(np.mean(np.square(np.array(own, float).reshape(-1, 3) / 1000), axis=1, keepdims=True))
    return np.asarray(np.hypot(out, seen))


def up_of(s: Session, project_id: str, part_id: str | None) -> tuple[Array | None, float | None]:
    """The direction up of a part and its deviation, radians, as its scanners' levels say; None, None when nothing says it."""
    own = next((p for p in solution_of(s, project_id)["parts"] if p["id"] == part_id), None)
    if own is None or own.get("up") is None:
        return None, None
    return np.array(own["up"]), float(np.hypot(own["up_sigma"] or 0.0, DEFLECTION))


def solve_now(s: Session, project_id: str, part_id: str | None = None, mode: str | None = None) -> Solved:
    """mode: rigid, level or network; None: as the part is placed now, else rigid."""
    project = get_project(s, project_id)
    part = wanted(s, project, part_id)
    rows = control_of(s, project_id)
    targets = targets_in(s, project_id, part)
    used = [r for r in rows if r.target_id in targets and r.role != "off"]
    if mode is None:
        applied = applied_control(s, project_id, part)
        mode = (applied.detail if applied is not None else {}).get("mode", RIGID)
    up, tilt = up_of(s, project_id, part)
    try:
        placement = solve(
            [r.name for r in used],
            [r.role for r in used],
            np.array([targets[r.target_id or ""]["position"] for r in used]).reshape(-1, 3),
            np.array([numbers_of(r.enh) for r in used]).reshape(-1, 3),
            profile_of(project).control,
            RIGID if mode == NETWORK else mode,
            sigma=deviations_given(used, targets),
            tilt=tilt,
            up=up,
            reach=reach_of(stations_in(stations_of(s, project_id), part)),
        )
        solved = Solved(part, placement, None, rows)
        return in_the_network(s, project_id, solved) if mode == NETWORK else solved
    except NotEnough as problem:
        return Solved(part, None, str(problem), rows)


@dataclass(frozen=True)
class InControl:
    """What each station is off by in control: deviations (3,) m of its position, and the form (16,) mm2 for any of its points."""

    stations: dict[str, list[float]]
    expected: dict[str, list[float]]


def deviations_of(s: Session, project_id: str, solved: Solved) -> InControl:
    """The network adjusted together with the points that place it."""
    if solved.placement is None:
        return InControl({}, {})
    found = None if solved.placement is None or solved.placement.mode == SCALED else jointly(s, project_id, solved)
    if found is None:
        return InControl({}, {})
    placed = placing_as_data(found[1], found[0])
    return InControl(placed["stations"], placed["expected"])


def jointly(s: Session, project_id: str, solved: Solved, as_given: bool = False) -> tuple[Solution, Placing] | None:
    """The part adjusted with the control that places it, each point by its deviation, as given or as residuals say it is; None when
    that holds nothing."""
    if solved.placement is None:
        return None
    good = {p.name for p in solved.placement.points if p.role == "control" and p.status != "parted"}
    targets = targets_in(s, project_id, solved.part)
    rows = [r for r in solved.rows if r.name in good and r.target_id in targets]
    sigma = np.array([numbers_of(r.sigma or ()) for r in rows]).reshape(-1, 3) * max(solved.placement.factor, 1.0)
    sigma = np.where(np.isfinite(sigma), np.maximum(sigma, 1e-5), solved.placement.sigma)
    if as_given:
        sigma = np.array([weighed(r) for r in rows]).reshape(-1, 3)
    at = [targets[r.target_id or ""]["position"] for r in rows]
    there = frames.apply(solved.placement.T_control_project, np.array(at).reshape(-1, 3))
    given = [observation(r, own, place) for r, own, place in zip(rows, sigma, there, strict=True)]
    stations = stations_in(stations_of(s, project_id), solved.part)
    datum = {x.id: matrix(x.pose) for x in stations}
    solution, _ = observed(s, project_id, stations).adjusted(list(datum), datum, given)
    return (solution, solution.placings[0]) if solution.placings and solution.converged else None


def in_the_network(s: Session, project_id: str, solved: Solved) -> Solved:
    """The same points with control weighted in the network, which it bends: residuals are those of the joint adjustment."""
    found = jointly(s, project_id, solved, as_given=True)
    if found is None or solved.placement is None:
        return Solved(solved.part, None, "control cannot be weighted in the network: its points do not hold it", solved.rows)
    solution, placed = found
    at = {t.target: t.position for t in solution.targets}
    target = {r.name: r for r in solved.rows}
    tolerance, points = profile_of(get_project(s, project_id)).control, []
    for p in solved.placement.points:
        row = target[p.name]
        gap = numbers_of(row.enh) - frames.apply(placed.T_control_part, at[row.target_id or ""][None])[0]
        points.append(p.left_with(gap, tolerance))
    worst = {x: float(np.sqrt(np.trace(placed.position(x, placed.T_control_part @ solution.poses[x])))) for x in placed.motions}
    far = max(worst, key=lambda x: worst[x])
    distance = float(np.linalg.norm((placed.T_control_part @ solution.poses[far])[:3, 3] - placed.centre))
    placement = replace(
        solved.placement, T_control_project=placed.T_control_part, points=tuple(points), far=worst[far], far_from=distance, mode=NETWORK
    )
    return Solved(solved.part, placement, None, solved.rows)


def applied_control(s: Session, project_id: str, part_id: str | None) -> Frame | None:
    q = select(Frame).where(Frame.project_id == project_id, Frame.kind == "control", Frame.active, Frame.part_id == part_id)
    return s.scalar(q.order_by(Frame.id).limit(1))


def placements_of(s: Session, project_id: str, part_id: str | None) -> list[Frame]:
    """All placements on control of a part, the last one first; one of them at most is in use."""
    q = select(Frame).where(Frame.project_id == project_id, Frame.kind == "control", Frame.part_id == part_id)
    return list(s.scalars(q.order_by(Frame.revision.desc(), Frame.id)))


def compared(s: Session, project_id: str, part_id: str | None = None) -> list[dict[str, Any]]:
    """Placements of a part beside the one that is solved now: what each would move the site's middle by, and turn."""
    solved = solve_now(s, project_id, part_id)
    stations = stations_in(stations_of(s, project_id), solved.part)
    middle = np.mean([matrix(x.pose)[:3, 3] for x in stations] or [np.zeros(3)], axis=0)
    out = []
    for row in placements_of(s, project_id, solved.part):
        t = matrix(row.T_frame_part)
        now = solved.placement.T_control_project if solved.placement else None
        shift = None if now is None else frames.apply(now, middle[None])[0] - frames.apply(t, middle[None])[0]
        turn = (
            None
            if now is None
            else float(np.linalg.norm(frames.rotation_vector(frames.unstretched(now)[:3, :3] @ frames.unstretched(t)[:3, :3].T)))
        )
        out.append(
            {
                "id": row.id,
                "revision": row.revision,
                "in_use": row.active,
                "mode": row.detail.get("mode", RIGID),
                "points": row.detail.get("points", []),
                "sigma_mm": row.detail.get("sigma_mm"),
                "check_mm": row.detail.get("check_mm"),
                "moves_mm": None if shift is None else [1000 * float(v) for v in shift],
                "turns_mrad": None if turn is None else 1000 * turn,
            }
        )
    return out


def residuals_of(s: Session, project_id: str, part_id: str | None = None, mode: str | None = None) -> dict[str, Any]:
    """What the screen shows of control: points, residuals, and the state of the placement."""
    solved = solve_now(s, project_id, part_id, mode)
    placement = solved.placement
    by_name = {p.name: p for p in placement.points} if placement else {}
    applied = applied_control(s, project_id, solved.part)
    same = applied is not None and not Currency(s, project_id).why_old(applied)
    same = same and (placement is None or applied is None or applied.detail.get("mode", RIGID) == placement.mode)
    targets = targets_in(s, project_id, solved.part)
    everywhere = {t["id"]: t for t in solution_of(s, project_id)["targets"]}
    part_names = {p["id"]: p["name"] for p in solution_of(s, project_id)["parts"]}
    points = []
    for r in solved.rows:
        p, t = by_name.get(r.name), everywhere.get(r.target_id or "")
        elsewhere = t is not None and r.target_id not in targets
        points.append(
            {
                "id": r.id,
                "version": r.version,
                "name": r.name,
                "role": r.role,
                "enh": r.enh,
                "sigma_mm": [None if v is None else 1000 * v for v in r.sigma or (None, None, None)],
                "matched_by": r.matched_by if r.target_id else "",
                "remark": r.remark,
                "target": r.target_id,
                "target_name": t["name"] if t else None,
                "residual_mm": None
                if p is None
                else {k: _mm(v) for k, v in zip(("e", "n", "h"), p.residual, strict=True)}
                | {"d3": 1000 * p.distance, "alone": _mm(p.alone)},
                "status": p.status if p else "loose",
                "reasons": [f.as_dict() for f in p.reasons] if p else [],
                "elsewhere": f"its target is seen in {part_names.get(t['part'], 'another part')}" if t and elsewhere else "",
            }
        )
    return {
        "part": solved.part,
        "points": points,
        "problem": solved.problem,
        "applied": applied is not None,
        "up_to_date": same,
        "sentence": _sentence(placement, solved.problem, len(solved.rows), same),
        "mode": placement.mode if placement else mode or RIGID,
        "scale_ppm": 1e6 * placement.scale[0] if placement and np.isfinite(placement.scale[1]) else None,
        "scale_sigma_ppm": 1e6 * placement.scale[1] if placement and np.isfinite(placement.scale[1]) else None,
        "check_mm": checks_of(placement),
        "sigma_mm": 1000 * placement.sigma if placement else None,
        "far_mm": 1000 * placement.far if placement else None,
        "far_from_m": placement.far_from if placement else None,
        "findings": [f.as_dict() for f in placement.findings] if placement else [],
        "targets": [{"id": t["id"], "name": t["name"]} for t in targets.values()],
        "tolerance_mm": 1000 * profile_of(get_project(s, project_id)).control,
    }


def _mm(metres: float) -> float | None:
    return 1000 * metres if np.isfinite(metres) else None


def checks_of(placement: Placement | None) -> float | None:
    """Root mean square in space of what check points are off by: an accuracy that took no part in the placement."""
    off = [p.distance for p in placement.points if p.role == "check"] if placement else []
    return 1000 * float(np.sqrt(np.mean(np.square(off)))) if off else None


def _sentence(placement: Placement | None, problem: str | None, count: int, same: bool) -> str:
    if count == 0:
        return "No control yet. Read a control file, or square the project to a wall."
    if placement is None:
        return f"{(problem or '')[:1].upper()}{(problem or '')[1:]}."
    if wrong := next((f for f in placement.findings if f.subject == "control" and f.severity == "fault"), None):
        return f"{wrong.message[:1].upper()}{wrong.message[1:]}."
    good = [p for p in placement.points if p.role == "control" and p.status != "parted"]
    text = f"{len(good)} control points agree within {1000 * max(p.distance for p in good):.1f} mm." if good else "No control point agrees."
    if weak := next((f for f in placement.findings if f.code == "weak_geometry"), None):
        text += f" But {weak.message}."
    else:
        text += f" At the far end of the site, {placement.far_from:.0f} m from their middle, that holds to ±{1000 * placement.far:.1f} mm."
    bad = [p.name for p in placement.points if p.status == "parted"]
    text += f" {', '.join(bad)} {'stands' if len(bad) == 1 else 'stand'} out: see why." if bad else ""
    checks = [p for p in placement.points if p.role == "check"]
    text += f" Check {checks[0].name} is off by {1000 * checks[0].distance:.1f} mm." if checks else ""
    return text + ("" if same else " Not applied yet.")


def part_with_most_targets(s: Session, project_id: str, part_id: str | None) -> str | None:
    """The part that control is matched in: the one that is named, else the one that sees most targets."""
    if part_id is not None:
        return wanted(s, get_project(s, project_id), part_id)
    known = parts_of(s, project_id)
    counts = {p.id: len(targets_in(s, project_id, p.id)) for p in known}
    return max((p.id for p in known), key=lambda x: counts[x], default=None)
