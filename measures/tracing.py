"""Drawing on a sheet with 5,000 lines and half a million points: from a move of the hand to the cursor on the screen."""

from __future__ import annotations

import json
import tempfile
import time
import uuid
from pathlib import Path
from typing import Any

import numpy as np
import psycopg

from .table import Row

LINES, MOVES = 5000, 200
# Before each move a callback is set: it runs first in the next frame, the sheet's own after it, and one more last.
HAND = """async (n) => {
  const canvas = document.querySelector('[aria-label=Sheet] canvas'), box = canvas.getBoundingClientRect(), out = [];
  const frame = () => new Promise((done) => requestAnimationFrame(() => done(performance.now())));
  for (let k = 0; k < n; k++) {
    const [x, y] = [box.x + 60 + ((k * 37) % (box.width - 120)), box.y + 60 + ((k * 23) % (box.height - 120))];
    const before = frame(), begin = performance.now();
    canvas.dispatchEvent(new PointerEvent('pointermove', { clientX: x, clientY: y, bubbles: true }));
    const handled = performance.now() - begin, after = frame();
    out.push(handled + (await after) - (await before));
  }
  return out;
}"""


def _strokes(page: Any, served: Any, project: str) -> tuple[float, int, float]:
    """Seconds from the second pick of a line until it is on the sheet, the median of ten; and how many of 60 lines, each of two picks one
    after the other without a pause, are stored where they were picked, with the seconds that the picking took."""
    box = page.locator("[aria-label=Sheet] canvas").first.bounding_box()
    rng = np.random.default_rng(2)

    def line() -> None:
        for _ in range(2):
            page.mouse.click(box["x"] + rng.uniform(80, box["width"] - 80), box["y"] + rng.uniform(80, box["height"] - 80))

    def shown() -> int:
        return int(page.evaluate("() => +document.querySelector('[aria-label=Sheet]').dataset.traces"))

    took, count = [], shown()
    for _ in range(10):
        line()
        begin = time.monotonic()
        count += 1
        page.wait_for_function(f"() => +document.querySelector('[aria-label=Sheet]').dataset.traces === {count}", polling="raf")
        took.append(time.monotonic() - begin)
    begin = time.monotonic()
    for _ in range(60):
        line()
    minute = time.monotonic() - begin
    page.wait_for_timeout(5000)
    stored = sum(len(x["traces"]) for x in served.get(f"/projects/{project}/sections"))
    return float(np.median(took)), stored - count, minute


def run() -> list[Row]:
    from taut_lantern.core.scan.scan import Scan
    from tests.browser.driver import browser
    from tests.databases import fresh_database
    from tests.served import Served
    from tests.support import write_scan

    rng = np.random.default_rng(1)
    flat = np.column_stack([rng.uniform(-30, 30, 700_000), rng.uniform(-20, 20, 700_000), rng.uniform(-0.5, -0.3, 700_000)])
    with tempfile.TemporaryDirectory() as name:
        database = fresh_database("lantern_tracing")
        served = Served(database, Path(name) / "log")
        served.start()
        try:
            path = write_scan(Path(name) / "a.e57", Scan(flat.astype(np.float32), np.full(700_000, 0.5, np.float32), None, None, None))
            project = str(served.post("/projects", name="Many lines")["id"])
            sent = served.send(project, path)
            served.wait(lambda: all(o["scans"] for o in served.get(f"/projects/{project}/originals")))
            served.post(f"/projects/{project}/bring-in", originals=[sent])
            served.wait(lambda: len(served.get(f"/projects/{project}/stations")) == 1)
            section = str(served.post(f"/projects/{project}/sections", kind="plan", height=-0.4, before=0.2, behind=0.2)["id"])
            with psycopg.connect(database) as c, c.cursor() as cursor:
                for _ in range(LINES):
                    a = rng.uniform((-30, -20), (30, 20))
                    points = json.dumps([a.tolist(), (a + rng.normal(0, 1.0, 2)).tolist()])
                    cursor.execute(
                        "INSERT INTO trace (id, project_id, section_id, kind, layer, points, radius, shape, state, fit, version, deleted) "
                        "VALUES (%s, %s, %s, 'line', 'wall', %s, 0, '{}', 'drawn', '{}', 1, false)",
                        (uuid.uuid4().hex, project, section, points),
                    )
            with browser(served.url, "tracing") as screen:
                page = screen.page
                page.goto(f"{served.url}/p/{project}/draw?budget=200000")
                page.get_by_role("tab", name="Sections").click()
                page.get_by_role("row").filter(has_text="Plan").first.click()
                points = screen.sheet("slab", 60)
                page.wait_for_function(f"() => +document.querySelector('[aria-label=Sheet]').dataset.traces === {LINES}")
                page.wait_for_timeout(3000)
                page.keyboard.press("d")
                page.evaluate(HAND, 10)
                took = np.array(page.evaluate(HAND, MOVES))
                stroke, kept, minute = _strokes(page, served, project)
        finally:
            served.stop()
    median, most = float(np.median(took)), float(np.percentile(took, 95))
    return [
        Row(
            f"On a sheet with {LINES:,} lines and {points:,} points: from a move to the cursor, caught and drawn, median and 95 %",
            f"{median:.1f} and {most:.1f} ms",
            "",
            "16 ms",
            median <= 16,
        ),
        Row(
            "On such a sheet: from the second pick of a line until it is stored and drawn, median of ten",
            f"{stroke:.2f} s",
            "",
            "0.5 s",
            stroke < 0.5,
        ),
        Row(
            "60 lines of two picks each without a pause: stored, and how long the picking took",
            f"{kept} in {minute:.1f} s",
            "",
            "60 in 60 s",
            kept == 60 and minute < 60,
        ),
    ]
