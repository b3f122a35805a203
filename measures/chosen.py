"""Selections, a plan and even density over stored points by the million, and what five hundred deletions cost when a project is opened."""

from __future__ import annotations

import os
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np

from .points import answer, child_of
from .table import Row

EDITS = 500


def _view(low: np.ndarray, high: np.ndarray) -> list[float]:
    """The site from above, all of it between -1 and 1."""
    middle, half = (low + high) / 2, (high - low) / 2 + 1
    view = np.diag([1 / half[0], 1 / half[1], 0.001, 1.0])
    view[:2, 3] = -middle[:2] / half[:2]
    return [float(v) for v in view.reshape(-1)]


def _outline(x: float, y: float, size: float) -> list[list[float]]:
    """An outline of 40 corners round a place of the view."""
    turn = np.linspace(0, 2 * np.pi, 40, endpoint=False)
    reach = size * (1 + 0.15 * np.sin(7 * turn))
    return [[float(x + a), float(y + b)] for a, b in np.stack([reach * np.cos(turn), reach * np.sin(turn)], axis=1)]


def _select(project: str, stations: list[str], view: list[float], outline: list[list[float]]) -> tuple[float, int]:
    """Seconds until the points of an outline are selected and counted, as the background does it, and how many they are."""
    from taut_lantern.site.common import Progress
    from taut_lantern.steps.clean import selecting

    begin = time.monotonic()
    params: dict[str, Any] = {"spec": {"kind": "lasso", "view": view, "outline": outline, "front": None}, "stations": stations}
    done = selecting.job(project, params | {"op": "replace", "among": "living", "seen": None}, Progress())
    return time.monotonic() - begin, int(done["count"])


def _edited(project: str, stations: list[str], at: np.ndarray, view: list[float]) -> None:
    """Deletions of some points each, all over the site. at (n, 3): where the stations stand."""
    from taut_lantern.steps.clean import acting, selecting

    rng = np.random.default_rng(5)
    flat = at[:, :2] * [view[0], view[5]] + [view[3], view[7]]
    made = 0
    while made < EDITS:
        k = int(rng.integers(len(stations)))
        x, y = flat[k] + rng.uniform(-3, 3, 2) * [view[0], view[5]]
        spec = {"kind": "lasso", "view": view, "outline": _outline(x, y, 0.004), "front": None}
        told = selecting.choose(project, spec, [stations[k]])
        if told["count"]:
            acting.act(project, "delete", told["revision"], {})
            made += 1


def even(project: str) -> None:
    """The whole job in a process of its own: read, told, written."""
    from taut_lantern.site.common import Progress, stations_of
    from taut_lantern.steps.clean import density
    from taut_lantern.store.db import session

    with session() as s:
        part = stations_of(s, project)[0].part_id
    begin = time.monotonic()
    done = density.run(project, {"spacing": 0.005, "part": part}, Progress())
    answer(seconds=time.monotonic() - begin, kept=done["kept"])


def _plan(project: str) -> tuple[float, dict[str, int]]:
    """Seconds to the slab of a plan, the second time, and what it read."""
    from taut_lantern.steps.draw.cuts import make_section, slab_bytes

    section = make_section(project, "plan", {"height": 0.5, "before": 0.0, "behind": 0.05})
    slab_bytes(project, section)
    begin = time.monotonic()
    counts = slab_bytes(project, section)[1]
    return time.monotonic() - begin, counts


def run() -> list[Row]:
    from tests.databases import fresh_database

    os.environ["LANTERN_DATABASE"] = fresh_database("lantern_measure")  # before anything of ours is imported, which remembers it
    return _run()


def _run() -> list[Row]:
    from playwright.sync_api import sync_playwright

    from taut_lantern.site.common import matrix, stations_of
    from taut_lantern.steps.clean import selecting
    from taut_lantern.store.db import session
    from tests.browser.driver import ARGS
    from tests.served import Served

    from .bench import EACH, STATIONS, site

    with tempfile.TemporaryDirectory() as folder, sync_playwright() as p:
        served = Served(os.environ["LANTERN_DATABASE"], Path(folder) / "log")
        served.start()
        chromium = p.chromium.launch(executable_path="/usr/bin/chromium", headless=True, chromium_sandbox=False, args=ARGS)

        def first(project: str) -> float:
            """Seconds to the first picture on a cold browser cache, the median of five."""
            out = []
            for _ in range(5):
                page = chromium.new_context(viewport={"width": 1280, "height": 800}).new_page()
                page.goto(f"{served.url}/p/{project}/clean", wait_until="commit")
                page.wait_for_function("() => document.querySelector('[aria-label=Bench]')?.dataset.drawn > 0", polling=20, timeout=120_000)
                out.append(float(page.evaluate("() => performance.now() / 1000")))
                page.context.close()
            return float(np.median(out))

        try:
            project = site(STATIONS)
            with session() as s:
                rows = stations_of(s, project)
                ids = [x.id for x in rows]
                at = np.array([matrix(x.pose)[:3, 3] for x in rows])
            view = _view(at.min(axis=0) - 6, at.max(axis=0) + 6)
            _select(project, ids, view, _outline(0.3, 0.2, 0.02))  # compiled and connected before the clock
            small, few = _select(project, ids, view, _outline(-0.1, 0.1, 0.04))
            large, many = _select(project, ids, view, _outline(0.05, 0.0, 0.55))
            selecting.clear(project)
            seconds, counts = _plan(project)
            before = first(project)
            _edited(project, ids, at, view)
            after = first(project)
        finally:
            chromium.close()
            served.stop()
    evened = child_of("measures.chosen", "even", site(10))
    words = f"of {STATIONS * EACH / 1e6:.0f} million points in {STATIONS} stations"
    return [
        Row(f"Outline round {few:,} {words}, to the count", f"{small:.2f} s", "none needed", "2 s", small < 2),
        Row(f"Outline round {many:,} {words}, to the count", f"{large:.1f} s", f"{many / large / 1e6:.1f} M points/s", "2 s", large < 2),
        Row(
            f"First picture with {EDITS} deletions, 100 stations, 100 million points",
            f"{after:.2f} s",
            f"the same before them: {before:.2f} s ({after / before:.2f}x)",
            "at most 1.1x",
            after <= 1.1 * before,
        ),
        Row(f"Plan of 5 cm {words}", f"{seconds:.2f} s", f"{counts['tiles_read']:,} of {counts['tiles']:,} tiles read", "1 s", seconds < 1),
        Row(
            "Even density of 10 million points to 5 mm, read and written",
            f"{evened['seconds']:.1f} s, {evened['peak_gb']:.2f} GB",
            "none needed",
            "10 s, 1 GB",
            evened["seconds"] < 10 and evened["peak_gb"] < 1,
        ),
    ]


if __name__ == "__main__":
    even(*sys.argv[2:])
