"""Compile every kernel once, in set-up, so that no first request waits for it. The result is cached on disk."""

from __future__ import annotations

import pickle
import tempfile
from pathlib import Path
from typing import Any

import numba
import numpy as np
from numba.core.dispatcher import Dispatcher

from ..core.align.believe import tie
from ..core.align.prepared import prepare
from ..core.kernels import fit, order, outline, planes, rays, targets
from ..core.scan.grid import range_image
from ..core.scan.octree import arrange
from ..core.scan.scan import Scan
from ..core.targets.spheres import find_spheres
from ..formats import e57
from .scanner import Scanner
from .site import simulate

KEPT = Path(order.__file__).parent / "__pycache__" / "signatures"


def _mark() -> str:
    """Changes with every kernel and with the compiler, as the cache itself looks."""
    sources = [(p.name, p.stat().st_mtime_ns, p.stat().st_size) for p in sorted(Path(order.__file__).parent.glob("*.py"))]
    return f"{numba.__version__} {sources}"


def _loops() -> dict[str, Any]:
    modules = (fit, order, outline, planes, rays, targets)
    return {f"{m.__name__}.{name}": x for m in modules for name, x in vars(m).items() if isinstance(x, Dispatcher)}


def _kept() -> dict[str, list[Any]] | None:
    """Argument types that the loops as they are now were compiled for in set-up; None when that is to be done (again)."""
    try:
        mark, signatures = pickle.loads(KEPT.read_bytes())
    except Exception:  # a file that is not there, or of another version of anything, is no error: set-up makes it anew
        return None
    return signatures if mark == _mark() else None


def load() -> int:
    """Load every loop that was compiled in set-up, and how many: the first call of each takes tens of milliseconds even
    when its code is kept on disk. Nothing to load is no error: they come when they are called."""
    loops, kept = _loops(), _kept() or {}
    for name, signatures in kept.items():
        for signature in signatures:
            loops[name].compile(signature)
    return sum(len(x) for x in kept.values())


def warm_once() -> None:
    """Warm when a kernel or the compiler is not the one of the last time."""
    if _kept() is not None:
        return
    warm()
    KEPT.parent.mkdir(exist_ok=True)
    KEPT.write_bytes(pickle.dumps((_mark(), {name: loop.signatures for name, loop in _loops().items()})))


def _keep_and_read_back(scan: Scan) -> None:
    """As the store does with tiles."""
    order, tiles = arrange(scan.xyz)
    body, bits = np.zeros(17 * tiles[0].count, np.uint8), np.empty((tiles[0].count, 3), np.uint32)
    planes.split(scan.xyz, scan.intensity, scan.rgb, order[: tiles[0].count], body)
    planes.split_whole(scan.row, order, np.empty(2 * len(order), np.uint8))
    planes.join_whole(np.frombuffer(bytes(2 * len(order)), np.uint8), np.empty(len(order), np.int32))
    planes.join(np.frombuffer(body.tobytes(), np.uint8), bits)


def warm() -> None:
    scans = {name: simulate(name, Scanner(points=60_000))[0] for name in ("ST-01", "ST-02")}
    prepared = {name: prepare(s) for name, s in scans.items()}
    tie(prepared)
    _keep_and_read_back(scans["ST-01"])
    find_spheres(range_image(scans["ST-01"]), [0.1])
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "warm.e57"
        e57.write(path, [e57.Outgoing("warm", scans["ST-01"])])
        e57.points(path, 0)
