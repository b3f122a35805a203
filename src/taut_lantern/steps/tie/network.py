"""The one solution of a project: recomputed from its rows inside every change that touches the network."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.align.evidence import Evidence
from ...core.network.adjust import LinkObservation, SightingObservation, Solution, adjust, link_residual
from ...core.network.judge import judge, sentence
from ...store.models import Link, Project, Sighting, SolutionRow
from ..common import matrix, numbers, profile_of, stations_of


def observations(s: Session, project_id: str) -> tuple[list[Link], list[LinkObservation], list[Sighting], list[SightingObservation]]:
    """All links and sightings, and those that take part as observations."""
    links = list(s.scalars(select(Link).where(Link.project_id == project_id)))
    sightings = list(s.scalars(select(Sighting).where(Sighting.project_id == project_id)))
    seen = [LinkObservation(k.id, k.a, k.b, matrix(k.T_a_b), np.array(k.covariance).reshape(6, 6)) for k in links if k.used]
    spots = [
        SightingObservation(x.station_id, x.target, np.array(x.centre), np.array(x.covariance).reshape(3, 3))
        for x in sightings
        if x.used and x.target
    ]
    return links, seen, sightings, spots


def refresh_solution(s: Session, project: Project, move_stations: bool = True) -> None:
    """Adjust the network of the rows as they are now and store the solution with the revision it belongs to."""
    stations = stations_of(s, project.id)
    revision = project.network_revision + (1 if move_stations else 0)  # the change being made counts up at its end
    row = s.get(SolutionRow, project.id) or SolutionRow(project_id=project.id, network_revision=revision, data={})
    row.network_revision = revision
    if not stations:
        row.data = empty()
        s.add(row)
        return
    links, seen, sightings, spots = observations(s, project.id)
    ids = [x.id for x in stations]
    here = set(ids)
    held = {x for k in seen if {k.a, k.b} <= here for x in (k.a, k.b)}  # a pose is of use only where a link holds it
    start = {x.id: matrix(x.pose) for x in stations if x.pose is not None and x.id in held}
    solution = adjust(ids, seen, spots, start)
    if move_stations:
        for part in solution.parts:
            for x in part:
                station = next(y for y in stations if y.id == x)
                pose = numbers(solution.poses[x]) if len(part) > 1 else None
                if pose is None or station.pose is None or not np.allclose(pose, station.pose, rtol=0, atol=1e-9):
                    station.pose = pose
    row.data = describe(solution, project, {x.id: x.name for x in stations}, links, sightings)
    s.add(row)


def empty() -> dict[str, Any]:
    return {
        "sigma0": 1.0,
        "degrees_of_freedom": 0,
        "global_test": {"statistic": 0.0, "limit": 0.0, "passed": True},
        "parts": [],
        "stations": {},
        "links": {},
        "targets": {},
        "findings": [],
        "sentence": "There is nothing to tie yet.",
    }


def pair_of(link: Link, names: dict[str, str]) -> tuple[str, str]:
    """The names of a link's stations as people say them: in alphabetical order, whichever way it was measured."""
    first, second = sorted((names[link.a], names[link.b]))
    return first, second


def describe(solution: Solution, project: Project, names: dict[str, str], links: list[Link], sightings: list[Sighting]) -> dict[str, Any]:
    """The solution as every screen, report and export reads it."""
    profile = profile_of(project)
    part_of = {x: k for k, part in enumerate(solution.parts) for x in part}
    out_links: dict[str, Any] = {}
    findings: list[dict[str, str]] = []
    for link in links:
        if link.a not in names or link.b not in names:
            continue
        own = solution.links.get(link.id)
        metres = radians = None
        redundancy = 6.0
        if own is not None:
            metres, radians, redundancy = own.metres, own.radians, own.redundancy
        elif part_of[link.a] == part_of[link.b]:
            v = link_residual(solution.poses[link.a], solution.poses[link.b], matrix(link.T_a_b))
            metres, radians = float(np.linalg.norm(v[3:])), float(np.linalg.norm(v[:3]))
        e = Evidence(**link.evidence)
        first, second = pair_of(link, names)
        judged = judge(e, profile, metres, redundancy, f"{first} · {second}", own.normalized if own else None)
        said = sentence(first, second, judged.status, e, judged.reasons)
        if not link.used:
            said = "Switched off: it takes no part in the adjustment. " + said
        out_links[link.id] = {
            "status": judged.status,
            "sentence": said,
            "reasons": [r.as_dict() for r in judged.reasons],
            "residual_mm": None if metres is None else 1000 * metres,
            "residual_mdeg": None if radians is None else 1000 * float(np.degrees(radians)),
            "normalized": own.normalized if own else None,
            "redundancy": own.redundancy if own else None,
        }
        findings += [
            r.as_dict() | {"message": f"{first} · {second}: {r.message}"} for r in judged.reasons if r.severity == "fault" and link.used
        ]
    for part in solution.parts[1:]:
        findings.append(
            {
                "code": "not_connected",
                "subject": names[part[0]],
                "severity": "fault",
                "message": f"{', '.join(names[x] for x in part)}: not connected with the rest of the network",
            }
        )
    degree: dict[str, int] = dict.fromkeys(names, 0)
    for link in links:
        if link.used and link.a in names and link.b in names:
            degree[link.a] += 1
            degree[link.b] += 1
    for x, n in degree.items():
        if n == 1 and len(solution.parts[0]) > 2 and part_of[x] == 0:
            findings.append(
                {
                    "code": "one_link",
                    "subject": names[x],
                    "severity": "doubt",
                    "message": f"{names[x]} hangs on one link: nothing controls it",
                }
            )
    stations = {
        x: {
            "part": part_of[x],
            "sigma_position_mm": [1000 * float(v) for v in solution.sigma_position[x]],
            "sigma_rotation_mdeg": [1000 * float(np.degrees(v)) for v in solution.sigma_rotation[x]],
            "links": degree[x],
            "status": _station_status(x, links, out_links, len(solution.parts[part_of[x]])),
        }
        for x in names
    }
    targets = {}
    for name in sorted({s.target for s in sightings if s.target}):
        own_target = solution.targets.get(name)
        group = [s for s in sightings if s.target == name and s.station_id in names]
        placed = [
            frames.apply(solution.poses[s.station_id], np.array([s.centre]))[0]
            for s in group
            if len(solution.parts[part_of[s.station_id]]) > 1
        ]
        position = own_target[0] if own_target else np.mean(placed, axis=0) if placed else None
        spread = max((float(np.linalg.norm(p - position)) for p in placed), default=0.0) if position is not None else 0.0
        targets[name] = {
            "position": None if position is None else [float(v) for v in position],
            "sightings": len(group),
            "spread_mm": 1000 * spread,
            "sigma_mm": None if own_target is None else [1000 * float(v) for v in np.sqrt(np.diag(own_target[1]))],
        }
    return {
        "sigma0": solution.sigma0,
        "degrees_of_freedom": solution.degrees_of_freedom,
        "global_test": {"statistic": solution.statistic, "limit": solution.limit, "passed": solution.passed},
        "parts": [[names[x] for x in part] for part in solution.parts],
        "stations": stations,
        "links": out_links,
        "targets": targets,
        "findings": list({(f["code"], f["message"]): f for f in findings}.values()),
        "sentence": _sentence(solution, out_links, links, names),
    }


def _station_status(station: str, links: list[Link], judged: dict[str, Any], part_size: int) -> str:
    """taut when a taut link in use holds it; else the best there is."""
    if part_size < 2:
        return "loose"
    own = [judged[k.id]["status"] for k in links if k.used and station in (k.a, k.b) and k.id in judged]
    return next((w for w in ("taut", "slack", "parted") if w in own), "loose")


def _sentence(solution: Solution, judged: dict[str, Any], links: list[Link], names: dict[str, str]) -> str:
    """What a colleague would say of the whole network."""
    if not links:
        return f"{len(names)} {'station' if len(names) == 1 else 'stations'}, not tied yet."
    count = {w: sum(1 for k in links if k.used and judged.get(k.id, {}).get("status") == w) for w in ("taut", "slack", "parted")}
    worst = max((float(np.linalg.norm(v)) for v in solution.sigma_position.values()), default=0.0)
    who = max(solution.sigma_position, key=lambda x: float(np.linalg.norm(solution.sigma_position[x])))
    if len(solution.parts) > 1:
        return f"{len(names)} stations in {len(solution.parts)} parts that are not connected."
    text = f"All {len(names)} stations hang together: {count['taut']} links taut, {count['slack']} slack"
    text += f", {count['parted']} parted." if count["parted"] else "."
    return text + (
        f" The least certain, {names[who]}, is held to ±{1000 * worst:.1f} mm."
        if solution.degrees_of_freedom > 0
        else " Nothing controls them: no loop is closed."
    )
