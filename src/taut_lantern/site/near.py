"""Points round a place that somebody picked."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from sqlalchemy.orm import Session

from ..core import frames
from ..core.scan.catch import Catch, catch
from ..store.marks import deleted_mask
from ..store.models import Station
from ..store.tiles import read_tiles, tiles_of
from .common import Array, matrix

CATCH = (0.1, 0.2)  # metres round a pick in which a shape is looked for: the second where too little was scanned
ENOUGH = 120  # points


@dataclass(frozen=True)
class Near:
    """points (n, 3) of a part's stations round a pick, part frame; stations that they come from; towards: (3,) where one
    stands who saw them."""

    points: Array
    stations: list[Station]
    towards: Array


def points_near(s: Session, stations: list[Station], pick: Array, radius: float) -> Near:
    """Points within ``radius`` metres of a pick that nobody deleted."""
    found = [(x, p) for x in stations if len(p := _near(s, x, pick, radius))]
    if not found:
        return Near(np.zeros((0, 3)), [], pick)
    stands = np.array([matrix(x.pose)[:3, 3] for x, _ in found])
    towards = np.average(stands, axis=0, weights=[len(p) for _, p in found])
    return Near(np.concatenate([p for _, p in found]), [x for x, _ in found], towards)


def caught_near(s: Session, station: Station, pick: Array) -> Catch:
    """The shape that the points of a station hold round a pick, part frame; a point when they hold none."""
    for radius in CATCH:
        near = points_near(s, [station], pick, radius)
        if len(near.points) >= ENOUGH:
            break
    return catch(near.points, pick, near.towards)


def bright_near(s: Session, station: Station, pick: Array, radius: float) -> tuple[Array, Array]:
    """(n, 3) points of a station within ``radius`` metres of a pick, part frame, and their intensity (n,), 0 to 1."""
    shade: list[Array] = []
    return _near(s, station, pick, radius, shade), np.concatenate(shade) if shade else np.zeros(0)


def _near(s: Session, station: Station, pick: Array, radius: float, shade: list[Array] | None = None) -> Array:
    """shade: gets the intensity of what is found."""
    t = matrix(station.pose)
    local = frames.apply(frames.inverse(t), pick[None])[0]
    ids = [r.id for r in tiles_of(s, [station.id]) if all(r.low[k] - radius <= local[k] <= r.high[k] + radius for k in range(3))]
    dead, found = deleted_mask(s, station) if ids else None, []
    for tile in read_tiles(ids, kinds=() if shade is None else ("intensity",)):
        inside = np.linalg.norm(tile.xyz - local, axis=1) < radius
        if dead is not None:
            inside &= ~dead[tile.first : tile.first + len(tile.xyz)]
        found.append(tile.xyz[inside])
        if shade is not None:
            shade.append(tile.intensity[inside].astype(float) / 65535)
    return frames.apply(t, np.concatenate(found)) if found else np.zeros((0, 3))
