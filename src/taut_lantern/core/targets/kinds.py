"""What targets are looked for: spheres of given radii and quadrant boards of given edges."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..errors import BadInput
from ..scan.grid import Grid
from .boards import find_boards, fit_board, intensities
from .spheres import find_spheres, fit_sphere, range_noise

Array = NDArray[np.float64]
MOST = 8  # sizes of one kind
RADII, EDGES = (0.01, 1.0), (0.05, 2.0)  # metres


@dataclass(frozen=True)
class Wanted:
    """radii of spheres, edges of boards; metres. BadInput for none at all, or for what no target has."""

    radii: tuple[float, ...] = ()
    edges: tuple[float, ...] = ()

    def __post_init__(self) -> None:
        if not self.radii and not self.edges:
            raise BadInput("no target is given", subject="targets", remedy="give the radius of spheres or the edge of boards")
        if len(self.radii) > MOST or not all(RADII[0] <= r <= RADII[1] for r in self.radii):
            raise BadInput(
                "sphere radii lie between 10 mm and 1 m", subject="radius", remedy="give the radius, not the diameter, in millimetres"
            )
        if len(self.edges) > MOST or not all(EDGES[0] <= e <= EDGES[1] for e in self.edges):
            raise BadInput("edges of boards lie between 50 mm and 2 m", subject="edge", remedy="give the edge of the whole pattern")


def read_wanted(words: str) -> Wanted:
    """Read "spheres:0.0725,0.1,boards:0.15": a kind, a colon, and its radii or edges in metres."""
    found: dict[str, list[float]] = {"spheres": [], "boards": []}
    kind = ""
    try:
        for piece in words.split(","):
            head, colon, number = piece.rpartition(":")
            kind = head.strip() if colon else kind
            found[kind].append(float(number))
    except (KeyError, ValueError):
        remedy = "write for example spheres:0.0725,boards:0.15 (radius and edge in metres)"
        raise BadInput(f"cannot read the targets {words!r}", subject="targets", remedy=remedy) from None
    return Wanted(tuple(found["spheres"]), tuple(found["boards"]))


@dataclass(frozen=True)
class Found:
    """A sighting of either kind. size: radius of a sphere, edge of a board, metres; centre (3,) and covariance (3, 3) in the
    station's frame, metres; sure: it takes part unless somebody says otherwise; remark: what speaks against it."""

    kind: str
    size: float
    centre: Array
    covariance: Array
    rms: float
    points: int
    remark: str
    sure: bool


def find(grid: Grid, intensity: NDArray[np.float32] | None, what: Wanted) -> list[Found]:
    """All targets of a scan, spheres first, the surest of each kind first."""
    out = [
        Found("sphere", x.radius, x.centre, x.covariance, x.rms, x.points, x.remark, x.confirmed)
        for x in find_spheres(grid, list(what.radii))
    ]
    boards = find_boards(grid, intensity, list(what.edges)) if what.edges else []
    return out + [Found("board", x.size, x.centre, x.covariance, x.rms, x.points, x.remark, x.confirmed) for x in boards]


def finish(grid: Grid, intensity: NDArray[np.float32] | None, kind: str, size: float, at: Array, on_it: bool) -> Found | None:
    """The target of this kind and size that somebody picked: ``at`` (3,) station frame, a place on it (on_it) or its centre. None when
    what is there is no such target."""
    noise = range_noise(grid)
    if kind == "sphere":
        start = at * (1 + size / max(float(np.linalg.norm(at)), 1e-6)) if on_it else at
        x = fit_sphere(grid, start, size, noise)
        return None if x is None else Found("sphere", size, x.centre, x.covariance, x.rms, x.points, x.remark, True)
    if intensity is None:
        return None
    b = fit_board(grid, intensities(grid, intensity), at, size, noise)
    return None if isinstance(b, str) else Found("board", size, b.centre, b.covariance, b.rms, b.points, b.remark, True)
