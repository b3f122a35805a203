"""Targets: who is found in rooms that no limit was set on, how well, and how fast."""

from __future__ import annotations

import math
import time
from collections import Counter

import numpy as np
from scipy import ndimage

from taut_lantern.core.errors import NotEnough
from taut_lantern.core.scan.grid import range_image
from taut_lantern.core.targets.boards import find_boards
from taut_lantern.core.targets.match import by_geometry
from taut_lantern.core.targets.spheres import find_spheres
from tests.core.constellations import drawn
from tests.truth.targeted import RADIUS, SIZES, Expected, target_room

from .table import Row

ROOMS = range(700, 724)
DRAWS = 20_000


def _bin(rows: list[tuple[Expected, np.ndarray | None, float]], least: int, most: float) -> tuple[int, int, list[float], list[float]]:
    """(found, expected, errors in mm, errors by the gap between rays) of targets with so many points."""
    own = [(e, c) for e, c, _ in rows if least <= e.points < most]
    errors = [(float(np.linalg.norm(c - e.centre)), e) for e, c in own if c is not None]
    return len(errors), len(own), [1000 * d for d, _ in errors], [d / (e.spacing / math.sqrt(e.side)) for d, e in errors]


def _constellations() -> list[Row]:
    told: Counter[str] = Counter()
    longest = 0.0
    for seed in range(DRAWS):
        d = drawn(seed)
        begin = time.perf_counter()
        try:
            found = by_geometry(d.targets, d.control)
            told["right" if d.can and all(d.true[i] == k for i, k in found.pairs) else "wrong"] += 1
        except NotEnough:
            told["undecided"] += 1
        if len(d.control) >= 55 and len(d.targets) >= 18:
            longest = max(longest, time.perf_counter() - begin)
    words = f"{told['right']} right, {told['undecided']} undecided, {told['wrong']} wrong; {longest:.2f} s for 20 targets and 60 points"
    what = "Matching control to targets by geometry: lattices, symmetries, mirror images, lines"
    return [Row(what, words, f"truth, {DRAWS:,} draws", "none wrong; 1 s", told["wrong"] == 0 and longest <= 1.0)]


def run() -> list[Row]:
    spheres: list[tuple[Expected, np.ndarray | None, float]] = []
    boards: list[tuple[Expected, np.ndarray | None, float]] = []
    false = {"sphere": 0, "board": 0}
    decoys = [0, 0]
    seconds: dict[str, list[float]] = {"sphere": [], "board": [], "yardstick": []}
    for seed in ROOMS:
        room = target_room(seed)
        grid = range_image(room.scan)
        for kind, rows, look in (
            ("sphere", spheres, lambda g=grid: find_spheres(g, [RADIUS])),
            ("board", boards, lambda g=grid, i=room.scan.intensity: find_boards(g, i, list(SIZES))),
        ):
            found = look()
            false[kind] += sum(all(np.linalg.norm(f.centre - e.centre) > 0.06 for e in room.expected) for f in found)
            for e in room.expected:
                if e.kind != kind:
                    continue
                f = next((f for f in found if np.linalg.norm(f.centre - e.centre) < 0.06), None)
                if e.decoy:
                    if e.points >= 100:
                        decoys[0] += f is not None
                        decoys[1] += 1
                    continue
                if e.share < (0.5 if kind == "sphere" else 0.8):
                    continue
                off = None if f is None else f.centre - e.centre
                sure = f is not None and f.confirmed
                rows.append((e, None if f is None else f.centre, float(off @ np.linalg.solve(f.covariance, off)) / 3 if sure else np.nan))
        begin = time.perf_counter()
        find_spheres(grid, [RADIUS])
        seconds["sphere"].append(time.perf_counter() - begin)
        begin = time.perf_counter()
        find_boards(grid, room.scan.intensity, [0.15])
        seconds["board"].append(time.perf_counter() - begin)
        begin = time.perf_counter()
        ndimage.median_filter(grid.image[..., 0], 5)
        seconds["yardstick"].append(time.perf_counter() - begin)
    out = []
    for least, most, goal in ((12, 25, 0.95), (25, 1e9, 0.99)):
        hit, count, _, _ = _bin(spheres, least, most)
        what = f"Spheres of {least} to {most:.0f} points found" if most < 1e9 else f"Spheres of {least} and more points found"
        out.append(Row(what, f"{hit} of {count}", f"truth, {len(ROOMS)} unseen rooms", f"{goal:.0%}", hit >= goal * count))
    _, _, some, _ = _bin(spheres, 25, 50)
    _, _, many, _ = _bin(spheres, 100, 1e9)
    out.append(
        Row(
            "Centres of spheres, median: 25 to 50 points, and over 100",
            f"{np.median(some):.2f} mm, {np.median(many):.2f} mm",
            "truth; ranges with 1.0 to 1.6 mm of noise",
            "0.5 mm, 0.15 mm",
            bool(np.median(some) <= 0.5 and np.median(many) <= 0.15),
        )
    )
    out.append(
        Row(
            "False spheres; decoys 4 mm off in radius taken at 100 points",
            f"{false['sphere']} in {len(ROOMS)} scans; {decoys[0]} of {decoys[1]}",
            "truth",
            "1 in 100 scans; none",
            false["sphere"] <= len(ROOMS) / 100 and decoys[0] == 0,
        )
    )
    for least, goal in ((36, 0.97), (100, 1.0)):
        hit, count, _, gap = _bin(boards, least, 1e9)
        what = f"Boards of {least} and more points found; centre, median, of the gap between rays"
        met = hit >= goal * count and float(np.median(gap)) <= 0.15
        out.append(Row(what, f"{hit} of {count}; {np.median(gap):.3f}", "truth, three sizes looked for", f"{goal:.0%}; 0.15", met))
    out.append(Row("False boards", f"{false['board']} in {len(ROOMS)} scans", "truth"))
    ratio = [math.sqrt(np.nanmean([r for _, _, r in rows])) for rows in (spheres, boards)]
    out.append(
        Row(
            "Error of centres over the deviation that is claimed, RMS: spheres, boards",
            f"{ratio[0]:.2f}, {ratio[1]:.2f}",
            "truth",
            "0.8 to 1.25",
            all(0.8 <= r <= 1.25 for r in ratio),
        )
    )
    mean = {k: float(np.median(v)) for k, v in seconds.items()}
    out.append(
        Row(
            "Spheres of one radius, boards of one edge in a scan of 2 million points",
            f"{mean['sphere']:.2f} s, {mean['board']:.2f} s",
            f"scipy median filter of 5 x 5 over one coordinate of it: {mean['yardstick']:.2f} s",
            "0.4 s, 0.8 s",
            mean["sphere"] <= 0.4 and mean["board"] <= 0.8,
        )
    )
    return out + _constellations()
