"""One spacing over all stations of a part: which points stay."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from ..core import frames
from ..core.clean.even import Even, quality
from ..core.scan.grid import range_image
from ..core.scan.scan import Scan
from .common import Array, Progress

WHOLE = 16_000_000  # pixels of the image that incidence is told in


def evened(clouds: Iterable[tuple[str, Scan, Array]], count: int, spacing: float, progress: Progress) -> Even:
    """The best point of each cell, of (name, scan, T_part_station) one after another. spacing: metres."""
    even = Even(spacing)
    for k, (name, scan, pose) in enumerate(clouds):
        progress.check()
        progress.report(f"evening out {name}", k, count)
        worth = quality(range_image(scan, WHOLE), len(scan)) if len(scan) >= 100 else np.zeros(len(scan), np.float32)
        even.add(frames.apply(pose, scan.xyz), worth)
    return even
