"""Find what does not belong: things that moved between scans, doors that turned, images in mirrors, points that no surface has, and what lies
beyond limits that somebody sets. Found is not deleted: each is proposed."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.clean import movers, noise
from ...core.clean.doors import Leaf, doors
from ...core.clean.ghosts import ghosts
from ...core.errors import BadInput, NotEnough
from ...core.scan.grid import range_image
from ...core.scan.scan import Scan
from ...formats.trees import trees
from ...site.common import Array, Progress, clean_name, get_project, matrix, owned, settled, state_of, stations_of, still
from ...site.parts import stations_in, wanted
from ...site.placing import up_of
from ...store import journal
from ...store.db import session
from ...store.marks import deleted_mask, packed
from ...store.models import Edit, Job, Station
from ...store.queue import LIVE, enqueue
from ...store.tiles import read_station
from .edits import TOO_MUCH, made, take

Index = NDArray[np.int64]
COMPARED = {"mover": "things that moved", "door": "doors that turned", "ghost": "mirror images"}
OF_ONE = {
    "edge": "points between two surfaces",
    "lone": "points that stand alone",
    "dust": "rain and dust in the air",
    "far": "points beyond a range",
    "near": "points close to the scanner",
    "dim": "points that came back too weak",
}
KINDS = COMPARED | OF_ONE
LIMITS = {"far": (1.0, 1000.0), "near": (0.1, 5.0), "dim": (0.001, 1.0), "dust": (0.5, 50.0)}  # metres, but dim: intensity 0 to 1
LOOKED = 1_000_000  # pixels of a station's image that others are asked through; its own points are all asked about
WHOLE = 16_000_000  # pixels of the image that edges are told in


def start(project_id: str, kinds: list[str], strength: float, part_id: str | None = None, limits: dict[str, float] | None = None) -> str:
    """Look for what does not belong, in the background. strength 0 to 1, of what moved, of images and of edges; limits: of far, near, dim and dust."""
    if not kinds or (unknown := [k for k in kinds if k not in KINDS]):
        raise BadInput(f"unknown filter {', '.join(unknown) if kinds else ''}", subject="kinds", remedy=f"use {', '.join(KINDS)}")
    own = {k: float((limits or {}).get(k, np.nan)) for k in kinds if k in LIMITS}
    for kind, value in own.items():
        low, high = LIMITS[kind]
        if not low <= value <= high:
            raise BadInput(f"{KINDS[kind]} need a limit from {low:g} to {high:g}", subject=kind, remedy="give one")
    with session() as s:
        journal.locked_project(s, project_id)  # two who ask at once start it once
        part = wanted(s, get_project(s, project_id), part_id)
        params: dict[str, Any] = {"kinds": sorted(set(kinds)), "strength": strength, "part": part} | ({"limits": own} if own else {})
        q = select(Job).where(Job.project_id == project_id, Job.kind == "filter", Job.state.in_(LIVE))
        if (running := next((j for j in s.scalars(q) if j.params == params), None)) is not None:
            return running.id
        title = "Looking for " + " and ".join(KINDS[k] for k in params["kinds"])
        return enqueue(s, project_id, "filter", title, **params).id


@dataclass(frozen=True)
class Proposal:
    """points: by station, sorted numbers."""

    kind: str
    title: str
    points: dict[str, Index]
    detail: dict[str, Any]

    @property
    def count(self) -> int:
        return sum(len(v) for v in self.points.values())


def run(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """What was proposed before and nobody decided on gives way to what is found now."""
    kinds = params["kinds"]

    def compute(s: Session) -> tuple[int, list[Proposal]]:
        state = state_of(s, project_id)
        stations = stations_in(stations_of(s, project_id), params["part"])
        found: list[Proposal] = []
        if compared := [k for k in kinds if k in COMPARED]:
            if len(stations) < 2:
                raise NotEnough(
                    "what moved is seen by comparing stations, and this part has one", subject="stations", remedy="tie stations first"
                )
            found += _Compared(s, project_id, stations, params["part"], progress).look(compared, float(params["strength"]))
        if single := [k for k in kinds if k in OF_ONE]:
            found += _of_one(s, stations, single, params.get("limits") or {}, float(params["strength"]), progress)
        return state, found

    def commit(looked: tuple[int, list[Proposal]]) -> dict[str, Any]:
        state, found = looked
        with journal.change(project_id, "", topic="edits") as c:
            still(c.s, project_id, state)
            for old in c.s.scalars(select(Edit).where(Edit.project_id == project_id, Edit.proposed, Edit.kind.in_(kinds))):
                c.remove(old)
            for p in reversed(found):  # the largest stands first in the list
                made(c, p.title, p.count, packed(p.points), active=False, kind=p.kind, proposed=True, detail=p.detail)
            count = {kind: sum(p.kind == kind for p in found) for kind in kinds}
            c.title = "Found " + ", ".join(f"{n} {KINDS[kind]}" if kind in COMPARED else KINDS[kind] for kind, n in count.items())
            said = {"objects": sum(n for kind, n in count.items() if kind in COMPARED), "points": sum(p.count for p in found)}
            return progress.conclude(c.s, said)

    return settled(compute, commit, project_id)


class _Compared:
    """Stations that are asked what they say of each other's points, the living ones, upright."""

    def __init__(self, s: Session, project_id: str, stations: list[Station], part: str | None, progress: Progress) -> None:
        up = up_of(s, project_id, part)[0]
        self.stand = np.eye(4) if up is None else frames.upright(up)
        self.names = {x.id: x.name for x in stations}
        self.progress = progress
        self.alive: dict[str, Index] = {}
        self.seen: list[movers.Seen] = []
        for k, station in enumerate(stations):
            progress.report(f"reading {station.name}", k, len(stations))
            progress.check()
            self.alive[station.id] = np.nonzero(~deleted_mask(s, station))[0]
            scan = read_station(s, station).take(self.alive[station.id])
            if len(scan) >= 100:
                self.seen.append(movers.Seen(station.id, range_image(scan, LOOKED), scan.xyz, self.stand @ matrix(station.pose)))

    def look(self, kinds: list[str], strength: float) -> list[Proposal]:
        out: list[Proposal] = []
        if "mover" in kinds:
            out += [self._moved(m) for m in movers.movers(self.seen, strength, self._telling("asking every station what it saw through"))]
        if "door" in kinds:
            for door in doors(self.seen, self._telling("looking for doors that turned")):
                out += self._door(door.one, door.other, door.angle), self._door(door.other, door.one, door.angle)
        if "ghost" in kinds:
            for g in ghosts(self.seen, trees("mirrors"), strength, self._telling("looking for images in mirrors and wet floors")):
                where = "a wet floor" if g.level else "a mirror or a pane"
                detail = self._at(g.station, g.points) | {"station": g.station, "station_name": self.names[g.station], "share": g.share}
                out.append(
                    Proposal("ghost", f"Image in {where}, seen from {self.names[g.station]}", self._points(g.station, g.points), detail)
                )
        return out

    def _telling(self, stage: str) -> Callable[[int, int], None]:
        def report(done: int, total: int) -> None:
            self.progress.report(stage, done, total)
            self.progress.check()

        return report

    def _points(self, station: str, points: Index) -> dict[str, Index]:
        return {station: self.alive[station][points]}

    def _at(self, station: str, points: Index) -> dict[str, Any]:
        own = next(x for x in self.seen if x.name == station)
        p = frames.apply(own.T_part_station, own.xyz[points])
        return self._box(p.min(axis=0), p.max(axis=0))

    def _box(self, low: Array, high: Array) -> dict[str, Any]:
        middle = frames.apply(frames.inverse(self.stand), ((low + high) / 2)[None])[0]
        return {"at": [float(v) for v in middle], "size": [float(v) for v in high - low]}

    def _moved(self, m: movers.Moved) -> Proposal:
        what = _called(m.high - m.low)
        against = sorted(m.against.items(), key=lambda x: -x[1])
        detail = self._box(m.low, m.high) | {
            "station": m.station,
            "station_name": self.names[m.station],
            "share": m.share,
            "against": [{"station": self.names[x], "points": n} for x, n in against],
        }
        title = f"{what} seen from {self.names[m.station]}, which {self.names[against[0][0]]} looked through" if against else what
        return Proposal("mover", title, self._points(m.station, m.points), detail)

    def _door(self, own: tuple[Leaf, ...], other: tuple[Leaf, ...], angle: float) -> Proposal:
        here, there = (" and ".join(self.names[x.station] for x in leaves) for leaves in (own, other))
        points = {x.station: self.alive[x.station][x.points] for x in own}
        detail = self._box(own[0].low, own[0].high) | {
            "station": own[0].station,
            "station_name": self.names[own[0].station],
            "against": [{"station": self.names[x.station], "points": len(x.points)} for x in other],
        }
        title = f"A door as {here} saw it; {there} saw it turned by {np.degrees(angle):.0f}°"
        return Proposal("door", title, points, detail)


def _called(size: Array) -> str:
    """What a thing of this size (3,) is, as one would say at first sight."""
    wide, high = float(size[:2].max()), float(size[2])
    if wide < 1.1 and 0.9 < high < 2.2:
        return "Somebody"
    if 2.0 < wide < 7.0 and 0.8 < high < 3.2:
        return "A vehicle"
    return f"A thing of {wide:.1f} m"


def _of_one(
    s: Session, stations: list[Station], kinds: list[str], limits: dict[str, float], strength: float, progress: Progress
) -> list[Proposal]:
    points: dict[str, dict[str, Index]] = {k: {} for k in kinds}
    most: dict[str, list[dict[str, Any]]] = {k: [] for k in kinds}
    doubt = dict.fromkeys(kinds, 0.0)
    for k, station in enumerate(stations):
        progress.report(f"looking for {KINDS[kinds[0]]} in {station.name}", k, len(stations))
        progress.check()
        alive = np.nonzero(~deleted_mask(s, station))[0]
        scan = read_station(s, station).take(alive)
        if len(scan) < 100:
            continue
        for kind, own, good in _found(scan, kinds, limits, strength):
            index = alive[np.nonzero(own)[0]]
            doubt[kind] += good
            if len(index):
                points[kind][station.id] = index
            if len(index) > TOO_MUCH * len(scan):
                most[kind].append({"station": station.name, "share": len(index) / len(scan)})
    words = {
        "edge": "Points between two surfaces, at edges",
        "lone": "Points that stand alone: insects, birds, drops",
        "dust": f"Rain and dust in the air, nearer than {limits.get('dust', 0):g} m to the scanner",
        "far": f"Points farther than {limits.get('far', 0):g} m from their scanner",
        "near": f"Points nearer than {limits.get('near', 0):g} m to their scanner",
        "dim": f"Points of an intensity below {limits.get('dim', 0):g}",
    }
    doubts = {k: f"; some {round(float(f'{v:.2g}')):,} of them may be good" for k, v in doubt.items() if v >= 0.5}
    return [Proposal(kind, words[kind] + doubts.get(kind, ""), points[kind], {"too_much": most[kind]}) for kind in kinds if points[kind]]


def _found(scan: Scan, kinds: list[str], limits: dict[str, float], strength: float) -> Iterable[tuple[str, NDArray[np.bool_], float]]:
    """By kind, which points, and how many of them are expected to be good."""
    if {"edge", "lone", "dust"} & set(kinds):
        grid = range_image(scan, WHOLE)
        if {"edge", "lone"} & set(kinds):
            told = noise.stray(grid, len(scan), trees("beams"), strength)
            yield from ((k, own, float(told.good[own].sum())) for k, own in (("edge", told.between), ("lone", told.alone)) if k in kinds)
        if "dust" in kinds:
            yield "dust", noise.afloat(grid, len(scan), limits["dust"], scan.intensity), 0.0
    ranges = np.linalg.norm(scan.xyz, axis=1)
    if "far" in kinds:
        yield "far", ranges > limits["far"], 0.0
    if "near" in kinds:
        yield "near", ranges < limits["near"], 0.0
    if "dim" in kinds and scan.intensity is not None:
        yield "dim", scan.intensity < limits["dim"], 0.0


def decide(project_id: str, edit_id: str, version: int | None, delete: bool, code: int | None = None) -> None:
    """Say yes to what was found (its points are deleted, or given a class), or no (it goes from the list). All can be taken back."""
    with journal.change(project_id, "", topic="edits") as c:
        row = owned(c.s, Edit, project_id, edit_id, "find")
        journal.checked_version(row, version, row.title)
        if not row.proposed:
            raise BadInput("that was decided already", subject=row.title, remedy="reload the project")
        if delete or code is not None:
            take(c, row, code)
        else:
            row.proposed = False
            c.remove(row)
            c.title = f"Kept: {row.title}"


def decide_all(project_id: str, kind: str, delete: bool, code: int | None = None) -> int:
    """The same of all of a kind. Returns how many."""
    with journal.change(project_id, "", topic="edits") as c:
        rows = list(c.s.scalars(select(Edit).where(Edit.project_id == project_id, Edit.kind == kind, Edit.proposed)))
        points = 0
        for row in rows:
            if delete or code is not None:
                points += take(c, row, code)
            else:
                row.proposed = False
                c.remove(row)
        words = KINDS.get(kind, kind)
        gone = f"Gave {points:,} points a class: {words}" if code is not None else f"Deleted {points:,} points: {words}"
        c.title = gone if delete or code is not None else f"Kept all: {words}"
        return len(rows)


def keep_recipe(project_id: str, name: str, kinds: list[str], strength: float, limits: dict[str, float]) -> None:
    """Keep filters with their settings under a name, instead of those that had it."""
    name = clean_name(name, "recipe")[:60]
    with journal.change(project_id, f"Kept the filters {name}", topic="project") as c:
        others = [r for r in c.project.recipes if r["name"] != name]
        c.project.recipes = [*others, {"name": name, "kinds": sorted(set(kinds)), "strength": strength, "limits": limits}]


def drop_recipe(project_id: str, name: str) -> None:
    with journal.change(project_id, f"Gave up the filters {name}", topic="project") as c:
        c.project.recipes = [r for r in c.project.recipes if r["name"] != name]


def recipes(project_id: str) -> list[dict[str, Any]]:
    with session() as s:
        return list(get_project(s, project_id).recipes)
