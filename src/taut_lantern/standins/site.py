"""Writes the demo site: E57 scans, a control file as a total station would write it, and the truth beside it."""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from pathlib import Path

import numpy as np

from ..core import frames
from ..formats import e57
from .scanner import Scanner, scan
from .scene import SPHERES, STATIONS, ottermere

# The invented control grid: site frame turned and moved to large coordinates.
T_CONTROL_SITE = frames.pose(math.radians(23.6), (437_215.482, 5_812_904.317, 46.250))
PEOPLE = (
    (6.0, 2.4, 0),
    (13.5, 8.5, 0),
    (19.5, 7.6, 0),
    (9.5, 2.2, 0),
    (27.5, 3.0, 0),
    (12.0, 8.2, -3.2),
    (9.0, -7.0, -0.15),
    (20.0, -12.0, -0.15),
)


def station_pose(name: str) -> tuple[tuple[float, float, float], float]:
    """Instrument position and zero direction of a demo station, site frame."""
    rng = np.random.default_rng(int(name[-2:]) + 700)
    x, y, floor = STATIONS[name]
    return (x, y, floor + float(rng.uniform(1.55, 1.75))), float(rng.uniform(-math.pi, math.pi))


def walkers_of(name: str, seed: int = 1) -> list[tuple[float, float, float]]:
    """Where people stand while a station is scanned, site frame: nobody beside the instrument."""
    rng = np.random.default_rng(1000 * seed + int(name[-2:]))
    where, _ = station_pose(name)
    some = [(float(x + rng.uniform(-1.5, 1.5)), float(y + rng.uniform(-0.6, 0.6)), float(z)) for x, y, z in PEOPLE]
    return [w for w in some if math.dist(w[:2], where[:2]) > 0.9]


def simulate(name: str, scanner: Scanner, seed: int = 1):  # type: ignore[no-untyped-def]
    """(Scan, true pose station -> site) of one demo station; people stand elsewhere each time."""
    where, yaw = station_pose(name)
    return scan(ottermere(seed, walkers_of(name, seed)), where, yaw, seed * 1000 + int(name[-2:]), scanner)


def control_rows(seed: int = 1) -> list[tuple[str, float, float, float, str]]:
    """(name, northing, easting, height, remark): six spheres by total station (1.0 mm), S6 blundered by 60 mm."""
    rng = np.random.default_rng(seed + 77)
    rows = []
    for name, centre in SPHERES.items():
        e, n, h = frames.apply(T_CONTROL_SITE, np.array([centre]))[0] + rng.normal(0, 0.0007, 3)
        if name == "S6":
            e += 0.060
        rows.append((name, n, e, h, "check" if name == "S4" else "sphere"))
    return rows


def write_control(path: Path, seed: int = 1) -> None:
    lines = ["# Ottermere Pumping Station, control by total station, metres", "point;northing;easting;height;remark"]
    lines += [f"{name};{n:.4f};{e:.4f};{h:.4f};{remark}" for name, n, e, h, remark in control_rows(seed)]
    path.write_text("\n".join(lines) + "\n")


def write_site(
    folder: Path,
    scanner: Scanner = Scanner(),
    seed: int = 1,
    names: list[str] | None = None,
    report: Callable[[int, int], None] = lambda done, total: None,
) -> None:
    """The demo's files into ``folder``: one E57 per station, control.csv, truth.json (read by tests only)."""
    folder.mkdir(parents=True, exist_ok=True)
    truth: dict[str, object] = {}
    chosen = names or list(STATIONS)
    for k, name in enumerate(chosen):
        report(k, len(chosen))
        cloud, pose = simulate(name, scanner, seed)
        e57.write(folder / f"{name}.e57", [e57.Outgoing(name, cloud, None)])
        truth[name] = pose.tolist()
    write_control(folder / "control.csv", seed)
    (folder / "truth.json").write_text(json.dumps({"stations": truth, "spheres": SPHERES, "control": T_CONTROL_SITE.tolist()}))
    report(len(chosen), len(chosen))
