"""Whether a scan that fits nowhere is the mirror image of what stood there: written in left-handed axes, or with one axis turned round."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from ..scan.scan import Scan
from .guess import Hypothesis, propose
from .placements import Weighing
from .prepared import Prepared, prepare

FITS = 0.35  # overlap of a mirror image that is believed: what is alike by chance shares less
BETTER = 2.0  # times the overlap of the scan as it is: a room may be its own mirror image


def mirrored(scan: Scan) -> Scan:
    """The mirror image; its rows and columns are none of an instrument's and are left out."""
    return Scan(scan.xyz * np.array([1, -1, 1], np.float32), scan.intensity, scan.rgb)


def fits_mirrored(
    scan: Scan, own: Prepared, partners: Sequence[tuple[str, Prepared]], should_stop: Callable[[], bool] = lambda: False
) -> str | None:
    """The partner that the mirror image of a scan fits without contradiction where the scan itself does not; None when there is none."""
    turned = prepare(mirrored(scan))
    with ThreadPoolExecutor(2) as pool:
        for name, partner in partners:
            if should_stop():
                return None
            image = _best(Weighing({"": turned, name: partner}, pool), propose(partner, turned, name, ""))
            if image >= FITS and image > BETTER * _best(Weighing({"": own, name: partner}, pool), propose(partner, own, name, "")):
                return name
    return None


def _best(weighing: Weighing, found: list[Hypothesis]) -> float:
    """The largest overlap of a proposal that contradicts no objects."""
    return max((h.seen.overlap for h in found if weighing.calm(h)), default=0.0)
