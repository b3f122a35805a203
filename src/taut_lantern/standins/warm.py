"""Run every compiled loop once, in set-up, so that no first request waits for it. The result is cached on disk."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np

from ..core.align.believe import tie
from ..core.align.prepared import prepare
from ..core.clean import noise
from ..core.clean.ghosts import ghosts
from ..core.clean.movers import Seen
from ..core.clean.select import Lasso
from ..core.kernels import planes
from ..core.scan.grid import range_image
from ..core.scan.octree import arrange
from ..core.scan.scan import Scan
from ..core.targets.kinds import Wanted, find
from ..formats import e57
from ..formats.trees import trees
from .scanner import Scanner
from .site import simulate


def _keep_and_read_back(scan: Scan) -> None:
    """As the store does with tiles."""
    order, tiles = arrange(scan.xyz)
    some = scan.take(order[: tiles[0].count])
    body, bits = np.zeros(17 * len(some), np.uint8), np.empty((len(some), 3), np.uint32)
    planes.split(some.xyz, some.intensity, some.rgb, body)
    planes.split_whole(some.row, np.empty(2 * len(some), np.uint8))
    planes.join_whole(np.frombuffer(bytes(2 * len(some)), np.uint8), np.empty(len(some), np.int32))
    planes.join(np.frombuffer(body.tobytes(), np.uint8), bits)


def warm() -> None:
    made = {name: simulate(name, Scanner(points=60_000)) for name in ("ST-01", "ST-02")}
    scans = {name: scan for name, (scan, _) in made.items()}
    prepared = {name: prepare(s) for name, s in scans.items()}
    tie(prepared)
    _keep_and_read_back(scans["ST-01"])
    Lasso(np.eye(4), np.array([[0.0, 0], [1, 0], [0, 1]])).inside(np.zeros((2, 3)))
    noise.stray(range_image(scans["ST-01"]), len(scans["ST-01"]), trees("beams"))
    ghosts([Seen(name, range_image(scan), scan.xyz, pose) for name, (scan, pose) in made.items()], trees("mirrors"))
    find(range_image(scans["ST-01"]), scans["ST-01"].intensity, Wanted((0.1,), (0.3,)))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "warm.e57"
        e57.write(path, [e57.Outgoing("warm", scans["ST-01"])])
        e57.points(path, 0)
