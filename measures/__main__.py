"""./lantern measure [PART]...: run, print, and keep the table in docs/benchmarks.md when all parts ran (see PARTS)."""

from __future__ import annotations

import os
import platform
import sys
from datetime import date
from pathlib import Path

from . import (
    beams,
    bench,
    chosen,
    cleaning,
    drawing,
    faults,
    ghosts,
    honest,
    joint,
    large,
    mirrors,
    network,
    pairs,
    points,
    targets,
    ties,
    tracing,
)
from .table import Row, markdown

PARTS = {
    "points": points.run,
    "large": large.run,
    "bench": bench.run,
    "pairs": pairs.run,
    "ties": ties.run,
    "honest": honest.run,
    "joint": joint.run,
    "network": network.run,
    "targets": targets.run,
    "chosen": chosen.run,
    "cleaning": cleaning.run,
    "ghosts": ghosts.run,
    "drawing": drawing.run,
    "tracing": tracing.run,
    "faults": faults.run,
}
ASKED_FOR = {"trees": lambda: beams.run() + mirrors.run()}  # written anew when named only
WORDS = """# Benchmarks

Made by `./lantern measure` on {day}: {cores} cores, Python {python}. Each row is one run of ours and one of the yardstick
on the same data in the same process tree; trust ratios, not seconds. The scans are simulated (1.2 mm range noise at
no distance, growing; mixed pixels; people who move), with exact truth; movers and noise are drawn anew, so that
these are not the scans that limits were set on. Where we lose, the last column says so.

"""


def main() -> None:
    chosen = sys.argv[1:] or list(PARTS)
    parts = PARTS | ASKED_FOR
    if unknown := set(chosen) - set(parts):
        sys.exit(f"no such part: {', '.join(unknown)}; there are {', '.join(parts)}")
    rows: list[Row] = []
    for name in chosen:
        print(f"· {name}", file=sys.stderr)
        rows += parts[name]()
    table = markdown(rows)
    print(table)
    if chosen == list(PARTS):
        head = WORDS.format(day=date.today().isoformat(), cores=os.cpu_count(), python=platform.python_version())
        Path("docs/benchmarks.md").write_text(head + table)


main()
