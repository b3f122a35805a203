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
from ..core.kernels import fit, order, planes, rays, targets
from ..core.scan.grid import range_image
from ..core.scan.octree import arrange
from ..core.scan.scan import Scan
from ..core.targets.spheres import find_spheres
from ..formats import e57
from .scanner import Scanner
from .site import simulate

KEPT = Path(order.__file__).parent / "__pycache__" / "signatures"


def _loops() -> dict[str, Any]:
    modules = (fit, order, planes, rays, targets)
    return {f"{m.__name__}.{name}": x for m in modules for name, x in vars(m).items() if isinstance(x, Dispatcher)}


def _remember() -> None:
    """Keep which argument types the loops were compiled for in this process."""
    KEPT.write_bytes(pickle.dumps({name: loop.signatures for name, loop in _loops().items()}))


def load() -> int:
    """Load every loop that was compiled in set-up, and how many: the first call of each takes tens of milliseconds even
    when its code is kept on disk. Nothing to load is no error: they come when they are called."""
    try:
        kept: dict[str, list[Any]] = pickle.loads(KEPT.read_bytes())
    except (OSError, pickle.UnpicklingError, AttributeError, ImportError, EOFError):
        return 0
    loops, count = _loops(), 0
    for name, signatures in kept.items():
        for signature in signatures if name in loops else ():
            loops[name].compile(signature)
            count += 1
    return count


def warm_once() -> None:
    """Warm when a kernel or the compiler is not the one of the last time."""
    folder = Path(order.__file__).parent
    sources = [(p.name, p.stat().st_mtime_ns, p.stat().st_size) for p in sorted(folder.glob("*.py"))]  # as the cache itself looks
    mark, stamp = f"{numba.__version__} {sources}", folder / "__pycache__" / "warmed"
    if stamp.is_file() and stamp.read_text() == mark and KEPT.is_file():
        return
    warm()
    _remember()
    stamp.write_text(mark)


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
