"""The trees that ship with the application, kept beside this file: they tell beams on two surfaces, grown by `measures/beams.py`, and mirrors,
grown by `measures/mirrors.py`."""

from __future__ import annotations

from functools import cache
from pathlib import Path
from typing import Literal

import numpy as np

from ..core.clean.trees import Trees

What = Literal["beams", "mirrors"]


def _path(what: What) -> Path:
    return Path(__file__).with_name(f"{what}.npz")


@cache
def trees(what: What) -> Trees:
    with np.load(_path(what)) as f:
        return Trees(**f)


def keep(what: What, grown: Trees) -> None:
    np.savez_compressed(_path(what), **vars(grown))
