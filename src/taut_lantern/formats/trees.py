"""The trees that tell beams on two surfaces, grown by `measures/beams.py` and kept beside this file."""

from __future__ import annotations

from functools import cache
from pathlib import Path

import numpy as np

from ..core.clean.noise import Trees

KEPT = Path(__file__).with_name("beams.npz")


@cache
def trees() -> Trees:
    """Those that ship with the application."""
    with np.load(KEPT) as f:
        return Trees(**f)


def keep(grown: Trees) -> None:
    np.savez_compressed(KEPT, **vars(grown))
