"""What several tests need: small scans, small projects, a client."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from sqlalchemy import select

from taut_lantern.core import frames
from taut_lantern.core.scan.scan import Scan
from taut_lantern.formats import e57
from taut_lantern.site.common import Progress, numbers
from taut_lantern.site.solution import refresh_solution
from taut_lantern.steps import projects
from taut_lantern.steps.bring_in import stations, uploads
from taut_lantern.store import journal
from taut_lantern.store.models import Link, Sighting, Target, new_id


def room(
    n: int = 6000, size: tuple[float, float, float] = (6.0, 4.0, 3.0), seed: int = 0, origin: tuple[float, float, float] = (0, 0, 0)
) -> Scan:
    """Points on the walls, floor and ceiling of a box round the scanner, with intensity and colour."""
    rng = np.random.default_rng(seed)
    direction = rng.normal(size=(n, 3))
    scale = (np.array(size) / 2 / np.abs(direction)).min(axis=1)
    xyz = (direction * scale[:, None] + origin).astype(np.float32)
    return Scan(xyz, rng.random(n).astype(np.float32), rng.integers(0, 255, (n, 3)).astype(np.uint8), None, None)


def write_scan(path: Path, scan: Scan | None = None, name: str = "", pose: Any = None) -> Path:
    path.parent.mkdir(parents=True, exist_ok=True)
    e57.write(path, [e57.Outgoing(name or path.stem, room() if scan is None else scan, pose)])
    return path


def make_project(name: str = "Test") -> str:
    return projects.make_project(name)


def bring_in(project: str, files: list[Path], progress: Progress = Progress()) -> list[str]:
    """Through the same door as any files, worked on in this process. Returns the stations' ids."""
    out = []
    for path in files:
        original = uploads.put_file(project, path)
        reading = uploads.read_original(project, original, progress)
        assert reading["problem"] is None, reading
        for k, scan in enumerate(reading["scans"]):
            limits = {"original_id": original, "scan": k, "name": scan["name"], "min_range": 0.1, "max_range": 200.0, "unit": "m"}
            out.append(stations.import_scan(project, limits, progress)["station"])
    return out


EVIDENCE: dict[str, Any] = {
    **dict.fromkeys(("fit_median", "fit_rms", "fit_p90", "weak_sigma", "offset_sigma"), 0.001),
    **{"histogram": [1], "overlap": 0.5, "see_through": 0.0, "violated_m2": 0.0, "patch_share": 0.0, "patches": 40},
    **{"weak_direction": [1.0, 0.0, 0.0], "smallest": 0.01},
}


def link_rows(project: str, *links: tuple[str, str, Any], sigma: float = 0.001) -> list[str]:
    """Links (a, b, T_a_b) between stations, as a run would have made them. Returns their ids."""
    with journal.change(project, "Linked", network=True) as c:
        rows = [Link(project_id=project, a=a, b=b, T_a_b=numbers(t), by_hand=[], evidence=EVIDENCE) for a, b, t in links]
        for row in rows:
            row.covariance = numbers(sigma**2 * np.eye(6))
        c.s.add_all(rows)
        c.s.flush()
        refresh_solution(c.s, c.project)
        return [row.id for row in rows]


def sight_rows(project: str, stations: dict[str, Any], spots: dict[str, Any], sigma: float = 0.001) -> None:
    """Each spot seen as a target of its name from each station (T_site_station by station)."""
    with journal.change(project, "Saw targets", network=True) as c:
        for name, spot in spots.items():
            known = c.s.scalar(select(Target).where(Target.project_id == project, Target.name == name))
            target = known or Target(id=new_id(), project_id=project, name=name, radius=0.1)
            c.s.add(target)
            for x, pose in stations.items():
                row = Sighting(project_id=project, station_id=x, target_id=target.id, radius=0.1, rms=0.001, points=90, by_hand=[])
                row.centre = frames.apply(frames.inverse(pose), np.array([spot], float))[0].tolist()
                row.covariance = numbers(sigma**2 * np.eye(3))
                c.s.add(row)
        c.s.flush()
        refresh_solution(c.s, c.project)


def stopping_after(reports: int) -> Progress:
    """A progress whose user cancels after so many reports."""
    seen: list[str] = []
    report: Callable[[str, int, int], None] = lambda stage, done, total: seen.append(stage)  # noqa: E731
    return Progress(report, lambda: len(seen) >= reports)
