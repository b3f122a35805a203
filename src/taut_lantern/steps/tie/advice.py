"""Advice on the network: the next link that would hold it best, and where the field crew should set up once more.

What two stations saw in common is taken from coarse points at the adjusted poses; nothing is aligned and nothing is changed.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import lru_cache
from itertools import combinations, pairwise
from typing import Any

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.network.advice import Gain, Held
from ...core.network.observations import LinkObservation
from ...core.network.sight import Place, Sight
from ...core.network.solution import Solution
from ...site.common import Array, get_project, heavy, matrix, numbers, stations_of
from ...site.parts import stations_in, wanted
from ...site.solution import observed
from ...store.db import session
from ...store.models import Job, Part, Station
from ...store.tiles import read_tiles

LEVELS = 1  # of the tree of tiles: some tens of thousands of points a station
SHARED = 0.12  # of the cells that one saw, from which on a link is worth trying
BEST = 3  # of each kind
LOOKED = 24  # places from which is looked round, those first that stations in sight promise most of
STEPS_APART = 2.0  # metres between places from which is looked round
APART = 4.0  # metres between two places that are named
USUAL = (2e-5, 5e-4)  # radians and metres of a link where there is none to take them from


@dataclass(frozen=True)
class _Known:
    stations: list[Station]
    part: str
    solution: Solution
    links: list[LinkObservation]
    tried: set[frozenset[str]]  # pairs that have a link, on or off
    reasons: list[str]


def advise(project_id: str, part_id: str | None) -> dict[str, Any]:
    """For the part that is named, else for the one that is shown first."""
    with session() as s:
        project = get_project(s, project_id)
        part = wanted(s, project, part_id)
        revision = project.network_revision
    return {"part": part, **_advice(project_id, part, revision)}


@lru_cache(maxsize=16)
def _advice(project_id: str, part: str | None, revision: int) -> dict[str, Any]:
    with session() as s:
        known = _known(s, project_id, part)
    if known is None:
        return {"sentence": "There is nothing to advise on: fewer than two stations hang together.", "links": [], "places": [], "apart": []}
    with heavy():
        sight = Sight({x.id: _points(x) for x in known.stations}, {x.id: matrix(x.pose)[:3, 3] for x in known.stations})
        names = {x.id: x.name for x in known.stations}
        held = Held(list(names), known.solution.poses, _datum(known), known.solution.joint(list(names)))
        sigma = _usual(known)
        links, places = _links(known, held, sight, sigma), _places(held, sight, sigma, matrix(_datum_pose(known)))
        return {
            "sentence": _sentence(held, names, links, places),
            "links": [_told_link(g, share, names, known) for g, share in links],
            "places": [_told_place(g, p, names) for g, p in places],
            "apart": known.reasons,
        }


def _known(s: Session, project_id: str, part: str | None) -> _Known | None:
    everybody = stations_of(s, project_id)
    stations = stations_in(everybody, part)
    if part is None or len(stations) < 2:
        return None
    ids = [x.id for x in stations]
    o = observed(s, project_id, stations)
    row = s.get_one(Part, part)
    solution, _ = o.adjusted(ids, {row.datum_station: matrix(row.datum_pose)}, [])
    return _Known(stations, part, solution, o.measured, {frozenset((k.a, k.b)) for k in o.links}, _reasons(s, project_id, everybody, part))


def _reasons(s: Session, project_id: str, everybody: list[Station], part: str) -> list[str]:
    """Why stations are not in the part, as the last run on all of them said; what it did not speak of is named."""
    q = select(Job).where(Job.project_id == project_id, Job.kind == "tie", Job.state == "done").order_by(Job.ended_at.desc()).limit(1)
    job = s.scalar(q)
    said = {f["subject"]: f["message"] for f in (job.result or {}).get("undecided", [])} if job else {}
    reasons = [said.get(x.name, f"{x.name}: nothing ties it to the others") for x in everybody if x.part_id != part]
    return reasons + _between(everybody, part)


def _between(everybody: list[Station], part: str) -> list[str]:
    """Where to set up once more for those that share no coordinates with the part: beside who was scanned next to whom, which no
    computation can know better."""
    told, said = [], set()
    for one, other in pairwise(everybody):
        inside, outside = (one, other) if one.part_id == part else (other, one)
        if inside.part_id == part != outside.part_id and outside.part_id not in said:
            said.add(outside.part_id)
            who = f"{inside.name} and {outside.name}"
            told.append(
                f"{who} were scanned one after the other: a set-up that sees what both saw, as in the passage between them, ties them"
            )
    return told


def _points(x: Station) -> Array:
    found = [t.xyz for t in read_tiles(station_id=x.id, most_level=LEVELS, kinds=())]
    return frames.apply(matrix(x.pose), np.concatenate(found) if found else np.zeros((0, 3)))


def _datum(known: _Known) -> str:
    return next(d for d, part in zip(known.solution.datum, known.solution.parts, strict=True) if known.stations[0].id in part)


def _datum_pose(known: _Known) -> list[Any] | None:
    return next(x for x in known.stations if x.id == _datum(known)).pose


def _usual(known: _Known) -> tuple[float, float]:
    """(rad, m) deviations of a link as this network has them: the medians, of the shift in the middle between its stations."""
    if not known.links:
        return USUAL
    turns, shifts = [], []
    for k in known.links:
        middle = np.eye(6)
        middle[3:, :3] = -frames.skew(k.T_a_b[:3, 3] / 2)
        c = middle @ k.covariance @ middle.T
        turns.append(float(np.sqrt(np.trace(c[:3, :3]) / 3)))
        shifts.append(float(np.sqrt(np.trace(c[3:, 3:]) / 3)))
    return float(np.median(turns)), float(np.median(shifts))


def _links(known: _Known, held: Held, sight: Sight, sigma: tuple[float, float]) -> list[tuple[Gain, float]]:
    """Pairs without a link that see enough of the same, those first that would bring the whole network most."""
    found = []
    for a, b in combinations(held.stations, 2):
        if frozenset((a, b)) not in known.tried and (share := sight.shared(a, b)) >= SHARED and (gain := held.link(a, b, sigma)):
            found.append((gain, share))
    return sorted(found, key=lambda x: -x[0].total)[:BEST]


def _places(held: Held, sight: Sight, sigma: tuple[float, float], T_part_datum: Array) -> list[tuple[Gain, Place]]:
    origin = T_part_datum[:3, 3]
    promising = []
    for at, members in sight.places():
        if gain := held.set_up(at - origin, members, sigma):
            promising.append((gain.total, at))
    promising.sort(key=lambda x: -x[0])
    found = []
    for _, at in _spread(promising, STEPS_APART)[:LOOKED]:
        place = sight.look(at)
        members = [x for x, share in place.shares.items() if share >= SHARED]
        if len(members) > 1 and (gain := held.set_up(at - origin, members, sigma)):
            found.append((gain.total, at, gain, place))
    found.sort(key=lambda x: -x[0])
    chosen = _spread([(t, at) for t, at, _, _ in found], APART)[:BEST]
    return [(gain, place) for _, at in chosen for t, own, gain, place in found if own is at]


def _spread(ranked: list[tuple[float, Array]], apart: float) -> list[tuple[float, Array]]:
    out: list[tuple[float, Array]] = []
    for worth, at in ranked:
        if all(np.linalg.norm(at - other) >= apart for _, other in out):
            out.append((worth, at))
    return out


def _told_link(g: Gain, share: float, names: dict[str, str], known: _Known) -> dict[str, Any]:
    poses = {x.id: matrix(x.pose) for x in known.stations}
    first, second = sorted((g.a, g.b), key=lambda x: names[x])
    return {
        "a": first,
        "b": second,
        "T_a_b": numbers(frames.inverse(poses[first]) @ poses[second]),
        "shared": share,
        **_gain(g),
        "says": f"{names[first]} and {names[second]} saw {100 * share:.0f} % of the same and have no link. One as good as the others "
        f"would bring {names[g.station]} from {_deviation(g.before)} to {_deviation(g.after)} mm.",
    }


def _told_place(g: Gain, place: Place, names: dict[str, str]) -> dict[str, Any]:
    best = sorted(g.with_, key=lambda x: -place.shares[x])
    who = [names[x] for x in best[:3]]
    more = len(best) - len(who)
    text = ", ".join(who[:-1]) + f" and {who[-1]}" if not more else ", ".join(who) + f" and {more} more"
    return {
        "at": [float(v) for v in place.at],
        "stations": best,
        **_gain(g),
        "says": f"A set-up here would see what {text} saw, and bring {names[g.station]} from {_deviation(g.before)} to "
        f"{_deviation(g.after)} mm.",
    }


def _gain(g: Gain) -> dict[str, Any]:
    return {"gains": g.station, "before_mm": 1000 * g.before, "after_mm": 1000 * g.after}


def _deviation(metres: float) -> str:
    return f"±{1000 * metres:.{1 if metres >= 1e-3 else 2}f}"


def _sentence(held: Held, names: dict[str, str], links: list[Any], places: list[Any]) -> str:
    worst = int(np.argmax(held.variance))
    text = f"The least certain station is {names[held.stations[worst]]}, held to {_deviation(float(np.sqrt(held.variance[worst])))} mm."
    if not links and not places:
        return text + " No further link and no further set-up would hold anything noticeably better."
    return text
