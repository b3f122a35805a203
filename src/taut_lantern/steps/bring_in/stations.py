"""A scan becomes a station: filtered by safe limits, ordered, stored, in one transaction."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from ...core import frames
from ...core.errors import BadInput, Conflict, NotFound
from ...core.scan.doubts import remarks
from ...core.scan.hierarchy import packed
from ...core.scan.scan import Scan
from ...formats import e57
from ...formats.columns import OnDisk
from ...site.common import Progress, clean_name, get_project, get_station, matrix, numbers, stations_of
from ...site.frames import deviation_in, expected_in, in_use
from ...site.solution import refresh_solution, solution_of
from ...store import journal, scratch
from ...store.db import session, write_out
from ...store.models import Edit, Job, Original, PointSet, Station, new_id
from ...store.queue import LIVE, enqueue
from ...store.spill import CHUNK, Spilled
from ...store.tiles import InMemory, Source, revisions_of, roots_of, tree_of, write_points

IN_MEMORY = 2 * CHUNK  # points of a scan that is sorted in memory: about 0.8 GB


def start(project_id: str, original_ids: list[str], min_range: float = 0.4, max_range: float = 200.0, unit: str = "m") -> list[str]:
    """One background job per scan of the given files. Returns the jobs' ids."""
    if not 0 <= min_range < max_range <= 5000:
        raise BadInput(
            "the nearest range must be below the farthest, both in 0 to 5000 m", subject="range limits", remedy="check the two limits"
        )
    if unit not in frames.METRE_PER_UNIT:
        raise BadInput(f"unknown unit {unit!r}", subject="unit", remedy=f"use one of {', '.join(frames.METRE_PER_UNIT)}")
    jobs = []
    with session() as s:
        journal.locked_project(s, project_id)  # two who ask at once bring in once
        for original_id in dict.fromkeys(original_ids):
            row = s.get(Original, original_id)
            usable = (
                row is not None
                and row.project_id == project_id
                and row.state == "complete"
                and row.discarded_at is None
                and row.let_go is None
            )
            if row is None or not usable or not row.reading:
                raise BadInput(
                    "this file is not ready to be brought in",
                    subject=row.name if row else original_id,
                    remedy="wait until it is read, or drop it again",
                )
            for k, scan in enumerate(row.reading["scans"]):
                if scan["points"] == 0 or _busy_or_here(s, project_id, original_id, k):
                    continue
                jobs.append(
                    enqueue(
                        s,
                        project_id,
                        "import",
                        f"Bringing in {scan['name']}",
                        original_id=original_id,
                        scan=k,
                        name=scan["name"],
                        min_range=min_range,
                        max_range=max_range,
                        unit=unit,
                    ).id
                )
    return jobs


def _busy_or_here(s: Any, project_id: str, original_id: str, scan: int) -> bool:
    here = s.scalar(select(Station.id).where(Station.original_id == original_id, Station.scan_index == scan).limit(1))
    q = select(Job.id).where(
        Job.project_id == project_id,
        Job.kind == "import",
        Job.state.in_(LIVE),
        Job.params["original_id"].astext == original_id,
        Job.params["scan"].as_integer() == scan,
    )
    return here is not None or s.scalar(q.limit(1)) is not None


@dataclass(frozen=True)
class Wanted:
    """A scan of a file, and what of it is wanted: metres; factor: metres per unit of the file."""

    path: Path
    index: int
    shown: str
    min_range: float
    max_range: float
    factor: float = 1.0


def read_scan(wanted: Wanted, progress: Progress, into: Path | None = None) -> tuple[Scan | OnDisk, dict[str, Any]]:
    """Points of one scan within the limits, and the import report's counts; into: the file that takes them when they are too
    many for memory."""

    def report(done: int, total: int) -> None:
        progress.report("reading points", done, total)
        progress.check()

    w = wanted
    how = (w.shown, w.min_range, w.max_range, w.factor, report)
    scan: Scan | OnDisk
    if into is None:
        scan, counts = e57.points(w.path, w.index, *how)
    else:
        scan, counts = e57.points_on_disk(w.path, w.index, into, *how)
    if counts["kept"] == 0:
        far = counts["too_far"] > counts["read"] / 2
        raise BadInput(
            f"{w.shown}: none of {counts['read']:,} points can be used ({counts['too_far']:,} beyond {w.max_range:g} m, "
            f"{counts['invalid']:,} invalid, {counts['not_finite']:,} not finite)",
            subject=w.shown,
            code="no_points",
            remedy="widen the range limits, or export the scan in the scanner's own frame" if far else "export the scan again",
        )
    return scan, counts


def in_order(wanted: Wanted, points: int, folder: Path, progress: Progress) -> tuple[Source, dict[str, Any]]:
    """A scan of ``points`` points in its final order, in memory or, when they are too many, on disk in ``folder``."""

    def report(done: int, total: int) -> None:
        progress.report("sorting points", done, total)
        progress.check()

    scan, counts = read_scan(wanted, progress, folder / "points" if points > IN_MEMORY else None)
    if isinstance(scan, Scan) and (said := remarks(scan)):
        counts["remarks"] = [*counts.get("remarks", []), *said]
    return (Spilled(scan, folder, report) if isinstance(scan, OnDisk) else InMemory(scan)), counts


def import_scan(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """The whole import of one scan; nothing stays when it fails. Done twice it changes nothing.

    Points are written before the project is locked, in the transaction that then makes the station.
    """
    with session() as s:
        original = s.get_one(Original, params["original_id"])
        shown, original_id, size = original.name, original.id, original.size
        points = int((original.reading or {})["scans"][params["scan"]]["points"])
        have = s.scalar(_same_scan(original_id, params["scan"]))
    if have is not None:
        return {"station": have}
    station = Station(id=new_id(), project_id=project_id, original_id=original_id, scan_index=params["scan"])
    with scratch.folder() as folder:
        path = folder / "in.e57"
        progress.report("fetching the file", 0, 0)
        write_out(original_id, size, path)
        factor = frames.METRE_PER_UNIT[params["unit"]]
        wanted = Wanted(path, params["scan"], shown, params["min_range"], params["max_range"], factor)
        source, counts = in_order(wanted, points, folder, progress)
        path.unlink()
        progress.check()
        return _stored(project_id, params, station, source, counts, progress)


def _stored(
    project_id: str, params: dict[str, Any], station: Station, source: Source, counts: dict[str, Any], progress: Progress
) -> dict[str, Any]:
    """The points and the station, in one transaction."""
    original_id = str(station.original_id)
    with session() as s:
        shown = s.get_one(Original, original_id).name
        write_points(s, station, source, lambda done, total: progress.report("storing points", done, total))
        progress.check()
        with journal.change(project_id, "", network=True, topic="stations", s=s) as c:
            if s.scalar(_same_scan(original_id, params["scan"])):
                raise Conflict(
                    f"the scan {params['name']} is here already", subject=shown, remedy="nothing is to be done", code="here_already"
                )
            count = s.scalar(select(func.count(Station.id)).where(Station.project_id == project_id)) or 0
            base = clean_name(params["name"], "scan")[:280]
            station.name = _free_name(s, project_id, base)
            station.hue, station.place = count % 12, _place(station.name, count)
            station.report = {**counts, "renamed": station.name != clean_name(params["name"], "scan")}
            s.add(station)
            c.title = f"Brought in {station.name}, {counts['kept']:,} points"
            s.flush()
            refresh_solution(s, c.project)
        return progress.conclude(s, {"station": station.id, **counts})


def _same_scan(original_id: str, scan: int) -> Any:
    return select(Station.id).where(Station.original_id == original_id, Station.scan_index == scan).limit(1)


def _free_name(s: Session, project_id: str, base: str) -> str:
    names = {n for (n,) in s.execute(select(Station.name).where(Station.project_id == project_id))}
    return next(n for n in (base, *(f"{base} ({k})" for k in range(2, 100_000))) if n not in names)


def _place(name: str, count: int) -> int:
    """Order in the roster: by the number in the name when there is one."""
    digits = "".join(ch if ch.isdigit() else " " for ch in name).split()
    return int(digits[-1]) % 1_000_000 if digits else 1000 + count


def change_station(project_id: str, station_id: str, version: int | None, name: str | None, deleted: bool | None) -> None:
    """Rename, or take a station out (its points stay, undo brings it back)."""
    with journal.change(project_id, "", network=True, topic="stations") as c:
        station = get_station(c.s, project_id, station_id)
        journal.checked_version(station, version, f"station {station.name}")
        if name is not None:
            new = clean_name(name, station.name)
            if c.s.scalar(
                select(Station.id).where(Station.project_id == project_id, Station.name == new, Station.id != station_id).limit(1)
            ):
                raise BadInput(f"there is a station {new} already", subject=new, remedy="choose another name")
            c.title = f"Renamed {station.name} to {new}"
            station.name = new
        if deleted:
            c.title = f"Took {station.name} out of the project"
            station.deleted = True
        c.s.flush()
        refresh_solution(c.s, c.project)


def tiles(project_id: str, station_id: str) -> bytes:
    """The tree of a station's tiles as it is sent (see core/scan/hierarchy.py). NotFound when the station is out of sight."""
    with session() as s:
        if get_station(s, project_id, station_id).deleted:
            raise NotFound("this station was taken out", subject=station_id, remedy="bring it back with undo")
        return packed(tree_of(s, station_id))


def list_stations(s: Session, project_id: str) -> list[dict[str, Any]]:
    """Stations with what the one solution says of them; deviations in the coordinates of their part that are in use."""
    project = get_project(s, project_id)
    known = solution_of(s, project_id)["stations"]
    rows = stations_of(s, project_id)
    size = Counter(x.part_id for x in rows)
    frame = {part: in_use(s, project, part) for part in size if part is not None}
    q = select(PointSet.station_id, func.sum(PointSet.count)).join(Edit, Edit.points == PointSet.set_id)
    q = q.where(Edit.project_id == project_id, Edit.active, Edit.does == "delete").group_by(PointSet.station_id)
    marked = {k: int(n) for k, n in s.execute(q)}
    layers = revisions_of(s, [x.id for x in rows])
    roots = roots_of(s, [x.id for x in rows])
    nothing = {"status": "loose", "sigma_position_mm": None, "links": 0}
    out = []
    for x in rows:
        own, pose, tied = known.get(x.id, nothing), matrix(x.pose), size[x.part_id] > 1
        sigma = own["sigma_position_mm"]
        if tied and sigma is not None and x.part_id is not None:
            sigma = deviation_in(frame[x.part_id], x.id, pose, sigma)
        shown = {k: getattr(x, k) for k in ("id", "version", "name", "points", "has_rgb", "has_intensity", "low", "high", "hue", "report")}
        shown |= {"pose": numbers(pose), "part": x.part_id, "tied": tied, "marked": marked.get(x.id, 0), "layers": layers.get(x.id, 0)}
        count, spacing = roots.get(x.id, (0, 1.0))
        shown["root"] = {"count": count, "spacing": spacing}
        expected = own.get("expected") if tied else None
        if expected is not None and x.part_id is not None:
            expected = expected_in(frame[x.part_id], x.id, pose, expected)
        out.append(shown | {"status": own["status"], "links": own["links"], "sigma_position_mm": sigma, "expected_mm2": expected})
    return out
