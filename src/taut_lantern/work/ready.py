"""Imported by the process that all jobs are forked from: a job begins with everything imported and compiled loops loaded."""

from __future__ import annotations

from . import jobs
from .loops import load

__all__ = ["jobs"]
load()
