"""Which points of a project's stations lie in a shape, are seen, and may be taken; how many were left alone, and why.

Terms: found: the points of a shape in one state of the project; among: whether living or deleted points are looked through.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray
from sqlalchemy.orm import Session

from ...core import frames
from ...core.clean.select import All, Away, Clip, Points, Solid
from ...core.errors import BadInput
from ...site.common import Progress, get_project, matrix, state_of, stations_of
from ...site.visible import clip_of
from ...store.marks import deleted_mask, hidden_mask, locked_mask, zones_of
from ...store.models import Station, Zone
from ...store.through import in_turn
from ...store.tiles import Reader, TilePoints, boxes_of, read_tiles
from .shapes import Chosen, Marked

Index = NDArray[np.int64]


@dataclass
class Found:
    """parts: by station sorted indices, None when it is too much to be looked through in a request; spared: by reason, how many."""

    state: int
    parts: dict[str, Index] | None
    spared: dict[str, int] = field(default_factory=dict)

    @property
    def count(self) -> int | None:
        return None if self.parts is None else sum(len(i) for i in self.parts.values())


@dataclass(frozen=True)
class _Masks:
    """Of a station, (points,) bool each: which points are looked through at all, and which of them are out of sight or locked."""

    among: NDArray[np.bool_]
    hidden: NDArray[np.bool_]
    locked: NDArray[np.bool_]


def _masks(s: Session, station: Station, among: str, zones: list[Zone]) -> _Masks:
    dead = deleted_mask(s, station)
    if among == "deleted":
        nothing = np.zeros(station.points, bool)
        return _Masks(dead, nothing, nothing)
    return _Masks(~dead, hidden_mask(s, station, False, zones), locked_mask(s, station, zones))


def of_one_part(stations: list[Station]) -> str | None:
    """The part that all are of. BadInput when they are of several, which share no coordinates."""
    if len({x.part_id for x in stations}) > 1:
        raise BadInput(
            "the stations are of several parts, which do not share coordinates",
            subject="stations",
            remedy="show one part of the network, and draw round its points",
            code="several_parts",
        )
    return stations[0].part_id if stations else None


def look(
    s: Session,
    project_id: str,
    shape: Chosen,
    station_ids: list[str],
    among: str = "living",
    most: float = np.inf,
    progress: Progress = Progress(),
) -> Found:
    """The points of a shape, of these stations: those that are seen, and may be taken."""
    get_project(s, project_id)
    wanted = set(station_ids)
    stations = [x for x in stations_of(s, project_id) if x.id in wanted]
    clip = clip_of(s, project_id, of_one_part(stations))
    found = Found(state_of(s, project_id), {})
    tiles = _tiles(s, stations, shape, clip)
    if sum(own.points for own in tiles) > most:
        return Found(found.state, None)
    kept: list[tuple[str, Index, NDArray[np.float64]]] = []
    work = [(x, own) for x, own in zip(stations, tiles, strict=True) if own.points]
    for k, (own, index, p, spared) in enumerate(_looked_through(s, work, shape, clip, among)):
        progress.report(f"looked through {own.name}", k, len(work))
        progress.check()
        for reason, number in spared.items():
            _count(found.spared, reason, number)
        if len(index):
            kept.append((own.id, index, p))
    if shape.choose is not None and kept:
        chosen = shape.choose(np.concatenate([p for _, _, p in kept]))
        ends = np.cumsum([len(index) for _, index, _ in kept])[:-1]
        kept = [(x, index[own], p[:0]) for (x, index, p), own in zip(kept, np.split(chosen, ends), strict=True)]
        _count(found.spared, "behind", int((~chosen).sum()))
    found.parts = {x: index for x, index, _ in kept if len(index)}
    return found


def _unread(shape: Chosen, clip: Clip | None) -> bool:
    """Whether it is known without looking at places which points are inside."""
    return clip is None and isinstance(shape.shape, All | Marked)


@dataclass(frozen=True)
class _Tiles:
    """Tiles of a station: ids of those to read, (first point, number) of those that are inside as a whole, and how many points they hold
    in all."""

    read: list[int]
    whole: list[tuple[int, int]]
    points: int


def _tiles(s: Session, stations: list[Station], shape: Chosen, clip: Clip | None) -> list[_Tiles]:
    """Of each station the tiles that may hold points of the shape."""
    if _unread(shape, clip):
        masks = shape.shape.masks if isinstance(shape.shape, Marked) else {x.id: np.ones(x.points, bool) for x in stations}
        return [_Tiles([], [], int(masks[x.id].sum()) if x.id in masks else 0) for x in stations]
    of = boxes_of(s, [x.id for x in stations])
    by_place = clip is None and shape.choose is None and isinstance(shape.shape, Solid)
    out = []
    for x in stations:
        own = of[x.id]
        covers = np.zeros(len(own.id), bool)
        if isinstance(shape.shape, Marked):
            mask = shape.shape.masks.get(x.id, np.zeros(x.points, bool))
            meets = np.array([mask[first : first + n].any() for first, n in zip(own.first, own.count, strict=True)], bool)
        else:
            corners = frames.apply(matrix(x.pose), frames.corners(own.low, own.high).reshape(-1, 3)).reshape(-1, 8, 3)
            meets = shape.shape.meets(corners)
            if by_place and isinstance(shape.shape, Solid):
                covers[meets] = shape.shape.covers(corners[meets])
        whole = list(zip(own.first[covers].tolist(), own.count[covers].tolist(), strict=True))
        out.append(_Tiles(own.id[meets & ~covers].tolist(), whole, int(own.count[meets].sum())))
    return out


@dataclass(frozen=True)
class _Own:
    """A station, as it is looked through beside the session it was read in."""

    id: str
    name: str
    has_intensity: bool
    T_part_station: NDArray[np.float64]
    tiles: _Tiles
    masks: _Masks


_Kept = tuple[_Own, Index, NDArray[np.float64], dict[str, int]]


def _looked_through(s: Session, work: list[tuple[Station, _Tiles]], shape: Chosen, clip: Clip | None, among: str) -> Iterator[_Kept]:
    """Of each station in turn the points that may be taken, their places where the shape chooses among them, and what was spared."""
    zones = zones_of(s, work[0][0].project_id) if work else []
    tasks = (_Own(x.id, x.name, x.has_intensity, matrix(x.pose), own, _masks(s, x, among, zones)) for x, own in work)
    return in_turn(tasks, lambda own, through: _of_station(own, shape, clip, through))


def _of_station(station: _Own, shape: Chosen, clip: Clip | None, through: Reader) -> _Kept:
    """Points of a station that are inside and may be taken, with their places where the shape chooses among them; and what was spared."""
    tiles, masks, spared = station.tiles, station.masks, dict[str, int]()
    inside = np.zeros(len(masks.among), bool)
    for first, count in tiles.whole:
        inside[first : first + count] = True
    if not tiles.read and not tiles.whole:
        inside = shape.shape.masks[station.id] if isinstance(shape.shape, Marked) else np.ones(len(masks.among), bool)
    some: list[tuple[Index, NDArray[np.float64]]] = [(np.zeros(0, np.int64), np.zeros((0, 3)))]
    inside &= masks.among
    for tile in read_tiles(tiles.read, kinds=shape.shape.reads, through=through) if tiles.read else ():
        _within(tile, station, shape, clip, inside, some, spared)
    for reason, mask in (("hidden", masks.hidden), ("locked", masks.locked)):
        if mask.any():
            _count(spared, reason, int(np.count_nonzero(inside & mask)))
            inside &= ~mask
    index = np.nonzero(inside)[0]
    at, places = (np.concatenate(part) for part in zip(*some, strict=True))
    order = np.argsort(at)
    return station, index, places[order[np.searchsorted(at, index, sorter=order)]] if len(at) else places, spared


def _within(
    tile: TilePoints,
    station: _Own,
    shape: Chosen,
    clip: Clip | None,
    inside: NDArray[np.bool_],
    some: list[tuple[Index, NDArray[np.float64]]],
    spared: dict[str, int],
) -> None:
    """Points of a tile that are looked through and inside are put into the mask of their station; what else is told goes to the others."""
    t, reads, own = station.T_part_station, shape.shape.reads, slice(tile.first, tile.first + len(tile.xyz))
    if isinstance(shape.shape, Marked):
        here = shape.shape.masks[station.id][own]
    elif isinstance(shape.shape, Solid):
        here = shape.shape.inside_from(t, tile.xyz)
    else:
        bright = tile.intensity.astype(float) / 65535 if "intensity" in reads and station.has_intensity else None
        away = np.linalg.norm(tile.xyz.astype(float), axis=1) if isinstance(shape.shape, Away) else None
        here = shape.shape.holds(Points(frames.apply(t, tile.xyz), away, bright))
    here = here & station.masks.among[own]
    if (clip is not None or shape.choose is not None) and here.any():
        p = frames.apply(t, tile.xyz[here])
        if clip is not None:
            within = clip.inside(p)
            _count(spared, "cropped", int((~within).sum()))
            here[here], p = within, p[within]
        if shape.choose is not None:
            some.append((tile.first + np.nonzero(here)[0], p))
    inside[own] = here


def _count(spared: dict[str, int], reason: str, number: int) -> None:
    if number:
        spared[reason] = spared.get(reason, 0) + number
