"""What several tests need: small scans, small projects, a client."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from taut_lantern.core.scan.scan import Scan
from taut_lantern.formats import e57
from taut_lantern.steps import projects
from taut_lantern.steps.bring_in import stations, uploads
from taut_lantern.steps.common import Progress


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


def stopping_after(reports: int) -> Progress:
    """A progress whose user cancels after so many reports."""
    seen: list[str] = []
    report: Callable[[str, int, int], None] = lambda stage, done, total: seen.append(stage)  # noqa: E731
    return Progress(report, lambda: len(seen) >= reports)
