"""The one solution of a project: recomputed from its rows inside every change that touches the network.

It is a pure function of the rows: links, sightings, bodies, parts with their datum. Every screen, report and delivery reads it.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import frames
from ..core.align.evidence import Evidence
from ..core.errors import Finding
from ..core.network.judge import Judgement, judge, sentence
from ..core.network.observations import (
    ControlObservation,
    DistanceObservation,
    LevelObservation,
    LinkObservation,
    PlumbObservation,
    SightingObservation,
    link_residual,
)
from ..core.network.parts import assemble
from ..core.network.predicted import form
from ..core.network.solution import Solution, TargetPoint
from ..core.network.upright import adjust_upright
from ..store.db import GONE, session
from ..store.models import Known, Link, Part, Project, Sighting, SolutionRow, Station, Target
from .beside import known_of, leaning_of, levels_of, placing_as_data, sightings_of
from .bound import bound_control
from .common import Array, matrix, numbers, profile_of, stations_of
from .groups import bodies_of
from .parts import hold, settle

SCHEMA = 4  # of the data kept in a solution's row; what an earlier version kept is computed anew at its first start


@dataclass(frozen=True)
class Observed:
    """All rows of a network, and those of them that take part as observations."""

    links: list[Link]
    sightings: list[Sighting]
    targets: dict[str, Target]
    measured: list[LinkObservation]
    seen: list[SightingObservation]
    bodies: list[dict[str, Any]]
    levels: list[LevelObservation]
    known: list[Known]
    control: list[ControlObservation]

    @property
    def tapes(self) -> list[DistanceObservation]:
        own = [k for k in self.known if k.used and k.kind == "tape"]
        return [DistanceObservation(k.id, k.target_a or "", k.target_b or "", k.value, k.sigma) for k in own]

    @property
    def walls(self) -> list[PlumbObservation]:
        own = [k for k in self.known if k.used and k.kind == "plumb"]
        return [PlumbObservation(k.id, k.station_id or "", (k.normal[0], k.normal[1], k.normal[2]), k.sigma) for k in own]

    def adjusted(
        self, stations: list[str], datum: Mapping[str, Array], control: Sequence[ControlObservation] | None = None
    ) -> tuple[Solution, dict[str, float]]:
        """Everything adjusted together: (solution, radians by which each station leans whose level was left out). control: other than
        what bends the network."""
        return adjust_upright(
            stations,
            self.measured,
            self.seen,
            datum,
            self.bodies,
            self.levels,
            control=self.control if control is None else control,
            tapes=self.tapes,
            walls=self.walls,
        )


LEVEL = 1e-4  # radians: what the compensator of a scanner leaves of its tilt, unless somebody says otherwise


def level_of(project: Project) -> float | None:
    """Radians: the deviation of the scanners' levels; None when they may lean."""
    kept = project.search or {}
    return float(kept.get("level_sigma", LEVEL)) if kept.get("level", True) else None


def observed(s: Session, project_id: str, stations: list[Station]) -> Observed:
    here = {x.id for x in stations}
    links = list(s.scalars(select(Link).where(Link.project_id == project_id).order_by(Link.id)))
    links = [k for k in links if k.a in here and k.b in here]
    sightings = list(s.scalars(select(Sighting).where(Sighting.project_id == project_id).order_by(Sighting.id)))
    sightings = [x for x in sightings if x.station_id in here]
    targets = {t.id: t for t in s.scalars(select(Target).where(Target.project_id == project_id))}
    project = s.get(Project, project_id, execution_options=GONE)
    level = level_of(project) if project is not None else None
    return Observed(
        links,
        sightings,
        targets,
        [LinkObservation(k.id, k.a, k.b, matrix(k.T_a_b), np.array(k.covariance).reshape(6, 6)) for k in links if k.used],
        [
            SightingObservation(x.station_id, x.target_id, np.array(x.centre), np.array(x.covariance).reshape(3, 3), key=x.id)
            for x in sightings
            if x.used and x.target_id in targets
        ],
        [{x: matrix(t) for x, t in b.members.items() if x in here} for b in bodies_of(s, project_id)],
        [] if level is None else [LevelObservation(x.id, level) for x in stations],
        list(s.scalars(select(Known).where(Known.project_id == project_id).order_by(Known.id))),
        bound_control(s, project_id, stations, sightings),
    )


def refresh_solution(s: Session, project: Project, move_stations: bool = True) -> None:
    """Adjust the network of the rows as they are now and store the solution with the revision it belongs to.

    move_stations: False after undo: poses and parts are rows, and stand as they were.
    """
    stations = stations_of(s, project.id)
    revision = project.network_revision + (1 if move_stations else 0)  # the change being made counts up at its end
    row = s.get(SolutionRow, project.id) or SolutionRow(project_id=project.id, network_revision=revision, data={})
    row.network_revision = revision
    s.add(row)
    if not stations:
        row.data = empty()
        return
    ids = [x.id for x in stations]
    o = observed(s, project.id, stations)
    groups, _ = assemble(ids, o.measured, o.seen, o.bodies)
    holding = hold(s, project.id, stations, groups)
    solution, leaning = o.adjusted(ids, holding.datum)
    settle(s, project.id, stations, holding, solution, move_stations)
    row.data = describe(solution, project, holding.rows, {x.id: x.name for x in stations}, o, leaning)


def renew_old() -> int:
    """Compute anew what an earlier version kept of the solutions. Returns of how many projects."""
    with session() as s:
        q = select(SolutionRow.project_id).where(SolutionRow.data["schema"].astext.is_distinct_from(str(SCHEMA)))
        old = list(s.scalars(q))
    for project_id in old:
        with session() as s:
            project = s.get(Project, project_id, execution_options=GONE)
            if project is not None:
                refresh_solution(s, project, move_stations=False)
    return len(old)


def empty() -> dict[str, Any]:
    return {
        "schema": SCHEMA,
        "sigma0": 1.0,
        "degrees_of_freedom": 0,
        "proving": 0,
        "global_test": {"statistic": 0.0, "limit": 0.0, "passed": True},
        "converged": True,
        "parts": [],
        "stations": {},
        "links": {},
        "targets": [],
        "levels": {},
        "known": {},
        "sightings": {},
        "placings": {},
        "findings": [],
        "sentence": "There is nothing to tie yet.",
    }


def solution_of(s: Session, project_id: str) -> dict[str, Any]:
    """The data of the one solution."""
    row = s.get(SolutionRow, project_id)
    return empty() if row is None else row.data


def pair_of(link: Link, names: dict[str, str]) -> tuple[str, str]:
    """The names of a link's stations as people say them: in alphabetical order, whichever way it was measured."""
    first, second = sorted((names[link.a], names[link.b]))
    return first, second


def describe(
    solution: Solution, project: Project, parts: list[Part], names: dict[str, str], o: Observed, leaning: dict[str, float]
) -> dict[str, Any]:
    """The solution as every screen, report and export reads it."""
    part_of = {x: parts[k].id for k, group in enumerate(solution.parts) for x in group}
    links, faults = _links(solution, project, part_of, names, o)
    used = [k for k in o.links if k.used]
    degree = {x: sum(x in (k.a, k.b) for k in used) for x in names}
    said = [_about_parts(f, names, o) for f in solution.findings]
    known, doubts = known_of(solution, o.known)
    sightings, strangers = sightings_of(solution, o.sightings, {x: t.name for x, t in o.targets.items()}, names)
    findings = [*said, *faults, *doubts, *strangers, *leaning_of(leaning, names, len(o.levels)), *_loose_ends(solution, names, degree)]
    return {
        "schema": SCHEMA,
        "sigma0": solution.sigma0,
        "degrees_of_freedom": solution.degrees_of_freedom,
        "proving": _proving(solution),
        "global_test": {"statistic": solution.test.statistic, "limit": solution.test.limit, "passed": solution.passed},
        "converged": solution.converged,
        "parts": [
            {
                "id": parts[k].id,
                "name": _part_name(parts[k], group, names),
                "stations": group,
                "datum": solution.datum[k],
                "up": numbers(solution.up[k]) if k in solution.up else None,
                "up_sigma": solution.up_deviation.get(k),
            }
            for k, group in enumerate(solution.parts)
        ],
        "stations": {
            x: {
                "part": part_of[x],
                "sigma_position_mm": [1000 * float(v) for v in solution.sigma_position[x]],
                "sigma_rotation_mdeg": [1000 * float(np.degrees(v)) for v in solution.sigma_rotation[x]],
                "expected": _expected(solution, x),
                "links": degree[x],
                "status": _station_status(x, o.links, links),
            }
            for x in names
        },
        "links": links,
        "targets": _targets(solution, parts, o),
        "levels": levels_of(solution, leaning),
        "known": known,
        "sightings": sightings,
        "placings": {parts[p.part].id: placing_as_data(p, solution) for p in solution.placings},
        "findings": [f.as_dict() for f in dict.fromkeys(findings)],
        "sentence": _sentence(solution, links, used, names),
    }


def _expected(solution: Solution, station: str) -> list[float]:
    """(16,) the form (mm2 at [p, 1], p in metres of the station) that says what any point of a station is expected to be off by."""
    datum = next(d for d, part in zip(solution.datum, solution.parts, strict=True) if station in part)
    q = form(solution.covariance[station], solution.poses[station], solution.poses[datum][:3, 3])
    return [float(v) for v in 1e6 * q.ravel()]


def _part_name(part: Part, stations: list[str], names: dict[str, str]) -> str:
    return part.name if len(stations) > 1 else names[stations[0]]


def _about_parts(f: Finding, names: dict[str, str], o: Observed) -> Finding:
    return Finding(f.code, o.targets[f.subject].name, f.message, f.severity) if f.subject in o.targets else f


def _links(
    solution: Solution, project: Project, part_of: dict[str, str], names: dict[str, str], o: Observed
) -> tuple[dict[str, Any], list[Finding]]:
    """What is said of each link, and the faults of those in use."""
    profile, out, faults = profile_of(project), {}, []
    for link in o.links:
        own, e = solution.links.get(link.id), Evidence.of(link.evidence)
        metres = radians = None
        if own is not None:
            metres, radians = own.metres, own.radians
        elif part_of[link.a] == part_of[link.b]:
            v = link_residual(solution.poses[link.a], solution.poses[link.b], matrix(link.T_a_b))
            metres, radians = float(np.linalg.norm(v[3:])), float(np.linalg.norm(v[:3]))
        first, second = pair_of(link, names)
        subject, redundancy = f"{first} · {second}", own.redundancy if own else 6.0
        judged = judge(e, profile, metres, redundancy, subject, own.normalized if own else None, solution.converged)
        out[link.id] = {
            "status": judged.status,
            "sentence": _said(link, first, second, judged, e),
            "reasons": [r.as_dict() for r in judged.reasons],
            "residual_mm": None if metres is None else 1000 * metres,
            "residual_mdeg": None if radians is None else 1000 * float(np.degrees(radians)),
            "normalized": own.normalized if own else None,
            "redundancy": own.redundancy if own else None,
        }
        if link.used:
            faults += [Finding(r.code, r.subject, f"{subject}: {r.message}", r.severity) for r in judged.reasons if r.severity == "fault"]
    return out, faults


def _said(link: Link, first: str, second: str, judged: Judgement, e: Evidence) -> str:
    said = sentence(first, second, judged.status, e, judged.reasons)
    if link.region:
        said += " Compared only in a box of " + " × ".join(f"{2 * v:.1f}" for v in link.region["half"]) + " m."
    return said if link.used else "Switched off: it takes no part in the adjustment. " + said


def _loose_ends(solution: Solution, names: dict[str, str], degree: dict[str, int]) -> list[Finding]:
    """Parts beside the largest, and stations that nothing controls."""
    out = []
    for group in solution.parts[1:]:
        message = f"{', '.join(names[x] for x in group)}: not connected with the rest of the network"
        out.append(Finding("not_connected", names[group[0]], message, "fault"))
    for group in solution.parts:
        for x in group:
            if degree[x] == 1 and len(group) > 2:
                out.append(Finding("one_link", names[x], f"{names[x]} hangs on one link: nothing controls it", "doubt"))
    return out


def _targets(solution: Solution, parts: list[Part], o: Observed) -> list[dict[str, Any]]:
    """Each target as each part sees it, by name: adjusted from the sightings in use; one that has only doubtful sightings
    stands in the middle of them, so that control can be compared with it."""
    part_of = {x: k for k, group in enumerate(solution.parts) for x in group}
    sure = {(t.target, t.part) for t in solution.targets}
    doubtful: dict[tuple[str, int], list[Sighting]] = {}
    for g in o.sightings:
        if g.target_id in o.targets and (g.target_id, part_of[g.station_id]) not in sure:
            doubtful.setdefault((g.target_id, part_of[g.station_id]), []).append(g)
    points = [*solution.targets, *(_in_the_middle(solution, *key, seen) for key, seen in doubtful.items())]
    out = [
        {
            "id": t.target,
            "name": o.targets[t.target].name,
            "part": parts[t.part].id,
            "position": t.position.tolist(),
            "covariance": t.covariance.ravel().tolist(),
            "sightings": t.sightings,
            "spread_mm": 1000 * t.spread,
            "sigma_mm": [1000 * float(v) for v in np.sqrt(np.clip(np.diag(t.covariance), 0, None))],
            "doubtful": (t.target, t.part) not in sure,
        }
        for t in points
    ]
    return sorted(out, key=lambda t: (len(t["name"]), t["name"], t["part"]))


def _in_the_middle(solution: Solution, target: str, part: int, seen: list[Sighting]) -> TargetPoint:
    at = np.array([frames.apply(solution.poses[g.station_id], np.array([g.centre]))[0] for g in seen])
    middle = at.mean(axis=0)
    turned = [
        (t := solution.poses[g.station_id][:3, :3]) @ np.array(g.covariance).reshape(3, 3) @ t.T
        + np.diag(solution.sigma_position[g.station_id] ** 2)
        for g in seen
    ]
    spread = float(np.linalg.norm(at - middle, axis=1).max())
    return TargetPoint(target, part, middle, np.mean(turned, axis=0), len(seen), spread)


def _station_status(station: str, links: list[Link], judged: dict[str, Any]) -> str:
    """taut when a taut link in use holds it; else the best there is."""
    own = [judged[k.id]["status"] for k in links if k.used and station in (k.a, k.b)]
    return next((w for w in ("taut", "slack", "parted") if w in own), "loose")


def _proving(solution: Solution) -> int:
    """Degrees of freedom that prove where stations stand: levels prove nothing but the tilt."""
    levels = sum(kind == "level" for kind, _ in solution.others)
    return solution.degrees_of_freedom - 2 * max(levels - len(solution.up), 0)


def _sentence(solution: Solution, judged: dict[str, Any], used: list[Link], names: dict[str, str]) -> str:
    """What a colleague would say of the whole network."""
    if not solution.converged:
        return "The adjustment did not converge: switch off what contradicts before you rely on any figure here."
    if len(solution.parts) == len(names):
        return f"{len(names)} {'station' if len(names) == 1 else 'stations'}, not tied yet."
    if len(solution.parts) > 1:
        return f"{len(names)} stations in {len(solution.parts)} parts that are not connected."
    count = {w: sum(1 for k in used if judged[k.id]["status"] == w) for w in ("taut", "slack", "parted")}
    who = max(solution.sigma_position, key=lambda x: float(np.linalg.norm(solution.sigma_position[x])))
    worst = 1000 * float(np.linalg.norm(solution.sigma_position[who]))
    text = f"All {len(names)} stations hang together: {count['taut']} links taut, {count['slack']} slack"
    text += f", {count['parted']} parted." if count["parted"] else "."
    return text + (
        f" The least certain, {names[who]}, is held to ±{worst:.1f} mm."
        if _proving(solution) > 0
        else " Nothing controls them: no loop is closed."
    )
