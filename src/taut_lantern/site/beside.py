"""What stands beside links and sightings in a solution: levels, tapes, plumb walls, and placings on control that bend the network."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from ..core.errors import Finding
from ..core.network.predicted import form
from ..core.network.solution import Placing, Solution
from ..store.models import Known, Sighting
from .common import numbers

OVER = 3.5  # deviations, from which on what is known contradicts the network


def known_of(solution: Solution, known: Sequence[Known]) -> tuple[dict[str, Any], list[Finding]]:
    """What is left at tapes and plumb walls, and what contradicts. One that stands between parts takes no part: no figures."""
    out: dict[str, Any] = {}
    said = []
    for k in known:
        own = solution.others.get((k.kind, k.id)) if k.used else None
        over = own is not None and own.normalized > OVER
        out[k.id] = {
            "off": own.off if own else None,
            "normalized": own.normalized if own else None,
            "redundancy": own.redundancy if own else None,
            "status": "loose" if own is None else "slack" if over else "taut",
        }
        if over and own is not None:
            by = f"{1000 * own.off:.1f} mm" if k.kind == "tape" else f"{1000 * own.off:.2f} mm a metre"
            what = f"the tape {k.name}" if k.kind == "tape" else f"{k.name}, known to be plumb,"
            message = f"{what} is off by {by} ({own.normalized:.0f} times its deviation): check it, or switch it off"
            said.append(Finding("known_contradicts", k.name, message, "doubt"))
    return out, said


SEEN_ALONE = 0.3  # of 3: redundancy that a sighting needs before it can be suspected


def sightings_of(
    solution: Solution, sightings: Sequence[Sighting], targets: dict[str, str], names: dict[str, str]
) -> tuple[dict[str, Any], list[Finding]]:
    """What the network leaves at each sighting in use, and of each target the one that contradicts most: what is off beside it may be
    off because of it (Baarda 1968)."""
    own = {g.id: solution.others[("sighting", g.id)] for g in sightings if ("sighting", g.id) in solution.others}
    common = max(float(np.median([c.normalized for c in own.values()] or [1.0])), 1.0)
    out = {k: {"off": c.off, "normalized": c.normalized} for k, c in own.items()}
    worst: dict[str, Sighting] = {}
    for g in sightings:
        c = own.get(g.id)
        if c is not None and c.normalized > OVER * common and c.redundancy > SEEN_ALONE:
            before = worst.get(g.target_id or "")
            if before is None or own[before.id].normalized < c.normalized:
                worst[g.target_id or ""] = g
    said = []
    for target, g in sorted(worst.items(), key=lambda x: -own[x[1].id].normalized):
        times = own[g.id].normalized
        message = (
            f"{targets.get(target, 'a target')} from {names[g.station_id]} is {times:.0f} times its deviation from where all others have it: "
            "it moved between the scans, or is another one; switch that sighting off"
        )
        said.append(Finding("sighting_contradicts", targets.get(target, ""), message, "doubt"))
    return out, said


def levels_of(solution: Solution, leaning: dict[str, float]) -> dict[str, Any]:
    """What is left at each scanner's level, radians; used: False when it contradicts and was left out."""
    own = {s: {"off": c.off, "normalized": c.normalized, "used": True} for (kind, s), c in solution.others.items() if kind == "level"}
    return own | {s: {"off": a, "normalized": None, "used": False} for s, a in leaning.items()}


def leaning_of(leaning: dict[str, float], names: dict[str, str], levels: int) -> list[Finding]:
    if len(leaning) > max(3, levels // 3):
        message = f"the levels of {len(leaning)} scanners contradict the links and are left out: say that scanners may lean"
        return [Finding("levels_contradict", "levels", message, "doubt")]
    return [
        Finding("leans", names[s], f"{names[s]} leaned by {np.degrees(a):.2f}° against all others: its level is left out", "doubt")
        for s, a in leaning.items()
    ]


def placing_as_data(p: Placing, solution: Solution) -> dict[str, Any]:
    """How a part lies on control that bends its network, with what each station is off by there."""
    at = {x: p.T_control_part @ solution.poses[x] for x in p.motions}
    return {
        "T": numbers(p.T_control_part),
        "residuals": {t: numbers(v) for t, v in p.residuals.items()},
        "stations": {x: [float(v) for v in np.sqrt(np.clip(np.diag(p.position(x, at[x])), 0, None))] for x in at},
        "expected": {x: [float(v) for v in 1e6 * form(p.motions[x], at[x], p.centre).ravel()] for x in at},
    }
