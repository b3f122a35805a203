"""How far the points of a station lie from the surfaces that another one saw: what colours by distance between two stations."""

from __future__ import annotations

import threading
from collections import OrderedDict

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from ..core import frames
from ..core.errors import BadInput, NotFound
from ..core.kernels.apart import apart as distances
from ..core.kernels.apart import settled
from ..core.scan.grid import Grid, range_image
from ..core.scan.scan import Scan
from ..store.marks import marks_of, mask_of
from ..store.models import Station
from ..store.tiles import read_station, read_tiles, tile_of, tiles_of, unpack
from .common import matrix, owned

STEP = 0.0001  # metres of a count in what is told
GATE = 0.06  # metres: what lies farther apart is another surface
NOISE = 0.006  # metres off its own surface up to which a point is taken as one of it: four deviations of a ray
NONE = -32768  # count of a point near which the other saw no surface
ENOUGH = 12_000_000  # points that a station's surfaces are taken from
_kept: OrderedDict[tuple[str, int], Grid] = OrderedDict()
_KEEP = 3  # range images kept at a time, 40 to 80 MB each
_lock = threading.Lock()


def apart(s: Session, project_id: str, station_id: str, first: int, other_id: str) -> bytes:
    """(count,) int16 of a tile's points: signed distance of the surfaces of the one from those of the other in steps of 0.1 mm,
    positive on the other's side; -32768 where it saw none within 60 mm. BadInput when the two share no coordinates."""
    station, other = (owned(s, Station, project_id, x, "station") for x in (station_id, other_id))
    if station.id == other.id or station.part_id != other.part_id:
        words = f"{station.name} and {other.name} share no coordinates"
        raise BadInput(words, subject=station.name, remedy="choose two stations of one part")
    row = tile_of(s, project_id, station_id, first)
    if row is None:
        raise NotFound("this tile does not exist", subject=str(first), remedy="reload the project")
    T_other_station = frames.inverse(matrix(other.pose)) @ matrix(station.pose)
    own, grid = _surfaces(s, station), _surfaces(s, other)
    xyz = unpack(*row).xyz
    found, out = np.empty((len(xyz), 3)), np.empty(len(xyz), np.float32)
    settled(own.image, own.geo, own.wrap, xyz, NOISE, found)
    distances(grid.image, grid.geo, grid.wrap, T_other_station, found, GATE, out)
    counts: NDArray[np.int16] = np.where(np.isnan(out), NONE, np.rint(np.nan_to_num(out) / STEP)).astype("<i2")
    return counts.tobytes()


def _surfaces(s: Session, station: Station) -> Grid:
    """The range image of a station without what is deleted, kept for the next tile."""
    marks = marks_of(s, station.id)
    key = (station.id, hash(tuple(marks)))
    with _lock:  # tiles come six at a time and want the same image
        if key not in _kept:
            _kept[key] = _image(s, station, mask_of(marks, station.points))
            while len(_kept) > _KEEP:
                _kept.popitem(last=False)
        _kept.move_to_end(key)
        return _kept[key]


def _image(s: Session, station: Station, dead: NDArray[np.bool_]) -> Grid:
    if station.points <= ENOUGH:
        return range_image(read_station(s, station).take(~dead))  # by the scanner's own grid, where it has one
    ids, count = [], 0
    for t in tiles_of(s, [station.id]):  # coarse first: an even choice when there are more than enough
        if count >= ENOUGH:
            break
        ids.append(t.id)
        count += t.count
    found = [t.xyz[~dead[t.first : t.first + len(t.xyz)]] for t in read_tiles(ids, kinds=())]
    return range_image(Scan(np.concatenate(found)))
