"""Compiled loops: what set-up compiled is loaded before jobs are forked, so that no job begins with compiling."""

from __future__ import annotations

import pickle
from pathlib import Path
from typing import Any

import numba
from numba.core.dispatcher import Dispatcher

from ..core.kernels import fit, objects, order, outline, planes, rays, steps, targets

KEPT = Path(order.__file__).parent / "__pycache__" / "signatures"


def _mark() -> str:
    """Changes with every kernel and with the compiler, as the cache itself looks."""
    sources = [(p.name, p.stat().st_mtime_ns, p.stat().st_size) for p in sorted(Path(order.__file__).parent.glob("*.py"))]
    return f"{numba.__version__} {sources}"


def _loops() -> dict[str, Any]:
    modules = (fit, objects, order, outline, planes, rays, steps, targets)
    return {f"{m.__name__}.{name}": x for m in modules for name, x in vars(m).items() if isinstance(x, Dispatcher)}


def kept() -> dict[str, list[Any]] | None:
    """Argument types that the loops as they are now were compiled for in set-up; None when that is to be done (again)."""
    try:
        mark, signatures = pickle.loads(KEPT.read_bytes())
    except Exception:  # a file that is not there, or of another version of anything, is no error: set-up makes it anew
        return None
    return signatures if mark == _mark() else None


def load() -> int:
    """Load every loop that was compiled in set-up, and how many: the first call of each takes tens of milliseconds even
    when its code is kept on disk. Nothing to load is no error: they come when they are called."""
    loops, known = _loops(), kept() or {}
    for name, signatures in known.items():
        for signature in signatures:
            loops[name].compile(signature)
    return sum(len(x) for x in known.values())


def keep() -> None:
    """Remember what the loops have been compiled for, after all of them ran."""
    KEPT.parent.mkdir(exist_ok=True)
    KEPT.write_bytes(pickle.dumps((_mark(), {name: loop.signatures for name, loop in _loops().items()})))
