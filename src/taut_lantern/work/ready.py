"""Imported by the process that all jobs are forked from: a job begins with everything imported and compiled loops loaded."""

from __future__ import annotations

from ..standins.warm import load
from . import jobs

__all__ = ["jobs"]
load()
