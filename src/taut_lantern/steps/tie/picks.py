"""Matches that somebody picks in two scans, looked at as they come in: what each pick lies on, and where the scans then stand."""

from __future__ import annotations

from typing import Any

import numpy as np
from sqlalchemy.orm import Session

from ...core import frames
from ...core.align.picks import Match, Pick, place
from ...core.errors import BadInput, NotEnough
from ...core.scan.catch import hangs_between
from ...core.scan.surface import widest_plane
from ...site.common import Array, get_station, heavy, matrix, numbers
from ...site.near import caught_near, points_near
from ...store.db import snapshot
from ...store.models import Station

LONE, FEWEST = 0.15, 5  # metres round a pick within which so many points lie, or it is on nothing
ROUND = 0.4  # metres round a pick on a far wall
LEVEL = 0.008  # metres by which the noise of a scan leaves a surface
HELD = 0.8  # share of the points there that a wall holds at least
KINDS = {"plane": "plane", "edge": "line", "pipe": "line"}  # what a shape holds; any other a point


def look_at(project_id: str, a: str, b: str, matches: list[tuple[list[float], list[float]]]) -> dict[str, Any]:
    """Where b stands as seen from a by these matches: picks (3,) metres, each in its station's frame. A pick with nothing round it is
    left out and says so."""
    if a == b:
        raise BadInput("a station cannot be matched with itself", subject="stations", remedy="choose two stations")
    rows: list[dict[str, Any]] = []
    good: list[Match] = []
    with heavy(), snapshot() as s:
        one, other = get_station(s, project_id, a), get_station(s, project_id, b)
        for pair in matches:
            try:
                match = Match(*(_pick(s, x, np.array(p, float)) for x, p in zip((one, other), pair, strict=True)))
            except NotEnough as problem:
                rows.append({"kind": "none", "residual_mm": None, "said": problem.message})
                continue
            good.append(match)
            same = match.a.kind == match.b.kind
            said = "" if same else f"a {match.a.kind} in {one.name}, a {match.b.kind} in {other.name}: taken as points"
            rows.append({"kind": match.kind, "residual_mm": None, "said": said})
    found = place(good)
    held = iter(found.residuals.tolist())
    for row in rows:
        if row["kind"] != "none" and np.isfinite(off := next(held)):
            row["residual_mm"] = 1000 * off
    return {
        "T_a_b": None if found.T_a_b is None else numbers(found.T_a_b),
        "matches": rows,
        "wide_mm": 1000 * found.wide if np.isfinite(found.wide) else None,
        "why": found.why,
    }


def _on_a_wall(s: Session, station: Station, at: Array) -> Pick | None:
    """A pick on a surface of which too little was scanned close by: the plane that most points farther round it lie on."""
    pose = matrix(station.pose)
    pick = frames.apply(pose, at[None])[0]
    near = points_near(s, [station], pick, ROUND)
    try:
        plane = widest_plane(near.points, LEVEL, through=pick).facing(near.towards)
    except NotEnough:
        return None
    if plane.points < HELD * len(near.points):
        return None
    return Pick("plane", at, frames.inverse(pose)[:3, :3] @ plane.normal)


def _pick(s: Session, station: Station, at: Array) -> Pick:
    pose = matrix(station.pose)
    pick = frames.apply(pose, at[None])[0]
    if len(points_near(s, [station], pick, LONE).points) < FEWEST:
        raise NotEnough("hardly a point lies round it: pick on a surface")
    caught = caught_near(s, station, pick)
    back = frames.inverse(pose)
    kind = KINDS.get(caught.kind, "point")
    direction = caught.normal if kind == "plane" else caught.axis
    if caught.kind == "point":
        if (wall := _on_a_wall(s, station, at)) is not None:
            return wall
        near = points_near(s, [station], pick, LONE)
        if hangs_between(near.points, pick, near.towards):
            raise NotEnough("it hangs between two surfaces, at the rim of the nearer one: pick on one of them")
        return Pick("point", at)
    if direction is None:
        return Pick("point", frames.apply(back, caught.at[None])[0])
    return Pick(kind, frames.apply(back, caught.at[None])[0], back[:3, :3] @ direction)
