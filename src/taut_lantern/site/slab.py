"""The points of a slab: those that are seen, of the stations of a part, read from the tiles that the slab meets."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import select
from sqlalchemy.orm import Session

from ..core import frames
from ..core.clean.select import Clip
from ..core.draw.section import Cut, about, boxes_meet, slab
from ..core.errors import NotFound
from ..store.marks import deleted_mask, deletions_of, points_of_zones, with_deletions, with_nested, zones_of
from ..store.models import CropBox, Section, Station
from ..store.through import in_turn
from ..store.tiles import Reader, boxes_of, read_tiles
from .common import Array, Progress, matrix, stations_of
from .drawing import cut_of
from .parts import stations_in
from .visible import clip_of, to_box

TILES = 32  # read and cut at a time
AT_ONCE = 20_000_000  # points read for a picture in a request; a larger slab is shown from its coarser levels


@dataclass(frozen=True)
class Slab:
    """points (n, 3) section frame, metres; rgb (n, 3) and intensity (n,) uint8; which of ``stations`` saw each (n,); where those stood
    (m, 3) section frame; counts of points and tiles."""

    points: Array
    rgb: NDArray[np.uint8]
    intensity: NDArray[np.uint8]
    station: NDArray[np.int64]
    stations: list[Station]
    stands: Array
    counts: dict[str, int]


@dataclass(frozen=True)
class Piece:
    station: int
    points: Array
    rgb: NDArray[np.uint8]
    intensity: NDArray[np.uint8]


@dataclass(frozen=True)
class _Task:
    """Some tiles of a station, and which of its points (points,) are not looked at."""

    station: int
    tiles: list[int]
    T_part_station: Array
    dead: NDArray[np.bool_] | None


def cleaning_of(s: Session, project_id: str, section: Section) -> str:
    """What was deleted, and which points the zones and boxes hold that a cut is of, as a word that changes with any of them."""
    of = section.params.get("of") or {}
    word, chosen = deletions_of(s, project_id), of.get("zones")
    if of.get("boxes"):
        word = " ".join([word, *(f"{x.id[:8]}{x.version}" for x in _boxes(s, project_id, of["boxes"]))])
    if not chosen:
        return word
    rows = zones_of(s, project_id)
    own = with_nested(rows, set(chosen))
    return " ".join([word, *sorted(z.points for z in rows if z.id in own)])


def _boxes(s: Session, project_id: str, ids: list[str]) -> list[CropBox]:
    return list(s.scalars(select(CropBox).where(CropBox.project_id == project_id, CropBox.id.in_(ids)).order_by(CropBox.id)))


class Slicing:
    """What a cut meets of a part's stations. reads: points at most, coarse levels first; None: all."""

    def __init__(self, s: Session, project_id: str, section: Section, reads: int | None = None, cut: Cut | None = None) -> None:
        self.s, self.cut = s, cut or cut_of(section)
        self.box = clip_of(s, project_id, section.part_id)
        of = section.params.get("of") or {}
        rows = _boxes(s, project_id, of.get("boxes") or [])
        if len(rows) < len(of.get("boxes") or []):  # as zones do: of nothing is not of everything
            raise NotFound(
                "a box that was chosen does not exist any more", subject="boxes", remedy="choose another, or cut all that is seen"
            )
        self.within = Clip(tuple(to_box(x) for x in rows)) if rows else None
        self.zones = points_of_zones(s, project_id, of["zones"]) if of.get("zones") else None
        T_base_part = frames.inverse(matrix(section.T_part_base))
        self.stations = stations_in(stations_of(s, project_id), section.part_id)
        if of.get("stations"):
            self.stations = [x for x in self.stations if x.id in of["stations"]]
        if self.zones is not None:
            self.stations = [x for x in self.stations if x.id in self.zones]
        self.pose = [T_base_part @ matrix(x.pose) for x in self.stations]
        boxes = boxes_of(s, [x.id for x in self.stations])
        self.tiles = sum(len(x.id) for x in boxes.values())
        own = [boxes[x.id] for x in self.stations]
        met = [boxes_meet(self.cut, t, x.low, x.high) for x, t in zip(own, self.pose, strict=True)]
        held = np.zeros(64, np.int64)  # points by level
        for x, meets in zip(own, met, strict=True):
            np.add.at(held, x.level[meets], x.count[meets])
        if reads is not None:  # as many levels as hold no more, and at least the coarsest
            some = np.nonzero(held)[0]
            deep = some[max(1, int(np.count_nonzero(np.cumsum(held[some]) <= reads))) - 1] if len(some) else 0
            met = [meets & (x.level <= deep) for x, meets in zip(own, met, strict=True)]
        self.met = [x.id[meets].tolist() for x, meets in zip(own, met, strict=True)]
        self.read = sum(len(x) for x in self.met)

    @property
    def stands(self) -> Array:
        """Where the instruments stood (m, 3), section frame."""
        at = np.array([t[:3, 3] for t in self.pose]).reshape(-1, 3)
        at = frames.apply(self.cut.T_section_base, at)
        return at if self.cut.foot is None else self.cut.foot.unrolled(at)[0]

    def pieces(self, progress: Progress = Progress()) -> Iterator[Piece]:
        """Some tiles at a time the points within, without what is deleted or cropped."""
        for piece in in_turn(self._tasks(progress), self._within):
            if len(piece.points):
                yield piece

    def _tasks(self, progress: Progress) -> Iterator[_Task]:
        touched = with_deletions(self.s, [x.id for x in self.stations])
        for k, (station, ids) in enumerate(zip(self.stations, self.met, strict=True)):
            progress.report(f"cutting {station.name}", k, len(self.stations))
            progress.check()
            if not ids:
                continue
            dead = deleted_mask(self.s, station) if station.id in touched else None
            if self.zones is not None:
                apart = np.ones(station.points, bool)
                apart[self.zones[station.id]] = False
                dead = apart if dead is None else dead | apart
            for first in range(0, len(ids), TILES):
                yield _Task(k, ids[first : first + TILES], matrix(station.pose), dead)

    def _within(self, task: _Task, through: Reader) -> Piece:
        some = [(np.zeros((0, 3)), np.zeros((0, 3), np.uint8), np.zeros(0, np.uint8))]
        for tile in read_tiles(task.tiles, through=through):
            near = about(self.cut, self.pose[task.station], tile.xyz)
            if task.dead is not None:
                near = near[~task.dead[tile.first + near]]
            p, inside = slab(self.cut, frames.apply(self.pose[task.station], tile.xyz[near]))
            for clip in (self.box, self.within):
                if clip is not None and inside.any():
                    inside &= clip.inside(frames.apply(task.T_part_station, tile.xyz[near]))
            if inside.any():
                own = near[inside]
                some.append((p[inside], tile.rgb[own], (tile.intensity[own] >> 8).astype(np.uint8)))
        points, rgb, intensity = (np.concatenate(part) for part in zip(*some, strict=True))
        return Piece(task.station, points, rgb, intensity)


def slab_of(
    s: Session,
    project_id: str,
    section: Section,
    most: int = 600_000,
    reads: int | None = AT_ONCE,
    progress: Progress = Progress(),
    cut: Cut | None = None,
) -> Slab:
    """The slab of a section, or of another cut in its coordinates; ``most`` points drawn from it evenly."""
    slicing = Slicing(s, project_id, section, reads, cut)
    found = list(slicing.pieces(progress))
    count = sum(len(x.points) for x in found)
    points = np.concatenate([x.points for x in found]) if found else np.zeros((0, 3))
    rgb = np.concatenate([x.rgb for x in found]) if found else np.zeros((0, 3), np.uint8)
    intensity = np.concatenate([x.intensity for x in found]) if found else np.zeros(0, np.uint8)
    station = np.concatenate([np.full(len(x.points), x.station) for x in found]) if found else np.zeros(0, np.int64)
    counts = {"points": count, "tiles_read": slicing.read, "tiles": slicing.tiles}
    if count > most:
        keep = np.random.default_rng(1).permutation(count)[:most]
        points, rgb, intensity, station = points[keep], rgb[keep], intensity[keep], station[keep]
    return Slab(points, rgb, intensity, station.astype(np.int64), slicing.stations, slicing.stands, counts)


def deeper(cut: Cut, before: float, behind: float) -> Cut:
    """The same cut with at least so much before and behind it."""
    return replace(cut, before=max(cut.before, before), behind=max(cut.behind, behind))
