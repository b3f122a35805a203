"""A scan becomes a station: filtered by safe limits, ordered, stored, in one transaction."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

from sqlalchemy import func, select

from ...core import frames
from ...core.errors import BadInput
from ...core.scan.scan import Scan
from ...formats import e57
from ...store import journal
from ...store.db import session, write_out
from ...store.models import Job, Original, Station
from ...store.queue import LIVE, enqueue
from ...store.tiles import write_station
from ..common import Progress, clean_name, get_project
from ..tie.network import refresh_solution


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
        get_project(s, project_id)
        for original_id in original_ids:
            row = s.get(Original, original_id)
            if row is None or row.project_id != project_id or row.state != "complete" or not row.reading:
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
    here = s.scalar(select(Station.id).where(Station.original_id == original_id, Station.scan_index == scan, ~Station.deleted).limit(1))
    q = select(Job.id).where(
        Job.project_id == project_id,
        Job.kind == "import",
        Job.state.in_(LIVE),
        Job.params["original_id"].astext == original_id,
        Job.params["scan"].as_integer() == scan,
    )
    return here is not None or s.scalar(q.limit(1)) is not None


def read_scan(
    path: Path, index: int, shown: str, min_range: float, max_range: float, factor: float, progress: Progress
) -> tuple[Scan, dict[str, int]]:
    """Points of one scan within the limits, and the import report's counts."""

    def report(done: int, total: int) -> None:
        progress.report("reading points", done, total)
        progress.check()

    scan, counts = e57.points(path, index, shown, min_range, max_range, factor, report)
    if counts["kept"] == 0:
        far = counts["too_far"] > counts["read"] / 2
        raise BadInput(
            f"{shown}: none of {counts['read']:,} points can be used ({counts['too_far']:,} beyond {max_range:g} m, {counts['invalid']:,} invalid, "
            f"{counts['not_finite']:,} not finite)",
            subject=shown,
            code="no_points",
            remedy="widen the range limits, or export the scan in the scanner's own frame" if far else "export the scan again",
        )
    return scan, counts


def import_scan(project_id: str, params: dict[str, Any], progress: Progress) -> dict[str, Any]:
    """The whole import of one scan; nothing stays when it fails. Done twice it changes nothing."""
    with session() as s:
        original = s.get_one(Original, params["original_id"])
        shown, original_id = original.name, original.id
        have = s.scalar(
            select(Station.id).where(Station.original_id == original_id, Station.scan_index == params["scan"], ~Station.deleted).limit(1)
        )
    if have is not None:
        return {"station": have}
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "in.e57"
        progress.report("fetching the file", 0, 0)
        write_out(original_id, path)
        factor = frames.METRE_PER_UNIT[params["unit"]]
        scan, counts = read_scan(path, params["scan"], shown, params["min_range"], params["max_range"], factor, progress)
    progress.check()
    with journal.change(project_id, "", network=True, topic="stations") as c:
        names = {n for (n,) in c.s.execute(select(Station.name).where(Station.project_id == project_id, ~Station.deleted))}
        name = base = clean_name(params["name"], "scan")
        for k in range(2, 10_000):
            if name not in names:
                break
            name = f"{base} ({k})"
        count = c.s.scalar(select(func.count(Station.id)).where(Station.project_id == project_id)) or 0
        station = Station(
            project_id=project_id,
            name=name,
            original_id=original_id,
            scan_index=params["scan"],
            hue=count % 12,
            place=_place(name, count),
            report={**counts, "renamed": name != base},
        )
        write_station(c.s, station, scan, lambda done, total: progress.report("storing points", done, total))
        c.title = f"Brought in {name}, {counts['kept']:,} points"
        c.s.flush()
        refresh_solution(c.s, c.project)
    return {"station": station.id, **counts}


def _place(name: str, count: int) -> int:
    """Order in the roster: by the number in the name when there is one."""
    digits = "".join(ch if ch.isdigit() else " " for ch in name).split()
    return int(digits[-1]) % 1_000_000 if digits else 1000 + count


def change_station(project_id: str, station_id: str, version: int | None, name: str | None, deleted: bool | None) -> None:
    """Rename, or take a station out (its points stay, undo brings it back)."""
    from ..common import get_station

    with journal.change(project_id, "", network=True, topic="stations") as c:
        station = get_station(c.s, project_id, station_id)
        journal.checked_version(station, version, f"station {station.name}")
        if name is not None:
            new = clean_name(name, station.name)
            if c.s.scalar(
                select(Station.id)
                .where(Station.project_id == project_id, Station.name == new, ~Station.deleted, Station.id != station_id)
                .limit(1)
            ):
                raise BadInput(f"there is a station {new} already", subject=new, remedy="choose another name")
            c.title = f"Renamed {station.name} to {new}"
            station.name = new
        if deleted:
            c.title = f"Took {station.name} out of the project"
            station.deleted = True
        c.s.flush()
        refresh_solution(c.s, c.project)
