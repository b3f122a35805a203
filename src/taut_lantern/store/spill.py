"""A scan that is too large for memory, put into its order on disk.

Its space is cut along the Morton curve into pieces of about CHUNK points, by a sample of its codes; the points are dealt out
to one file a piece, and each piece is put into its levels in memory (external distribution sort; Knuth, *The Art of Computer
Programming* 3, 5.4.9). A level is then the pieces' shares of it, one after the other: they lie in Morton order as they are. A cell
that a border between pieces goes through gives two points to a level in place of one.
"""

from __future__ import annotations

import shutil
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..core.errors import NotEnough
from ..core.kernels.order import DEPTH, bounds
from ..core.scan.octree import Cells, Tile, by_levels, cut
from ..core.scan.scan import Scan
from ..formats.columns import KINDS, OnDisk, size_of

CHUNK = 6_000_000  # points that are sorted at once; they take about 0.6 GB
BLOCK = 1_000_000  # points read at once
SAMPLE = 200  # codes looked at for each piece: its size is then right to about a tenth


@dataclass(frozen=True)
class _Share:
    """What a piece gives to a level: the points first .. first + count of the station, from record ``at`` of its file."""

    first: int
    count: int
    path: Path
    at: int


class Spilled:
    """The points of a file in their final order. Its files are in ``folder``, which is the caller's."""

    def __init__(self, source: OnDisk, folder: Path, report: Callable[[int, int], None], chunk: int = CHUNK, coarsest: float = 0.8) -> None:
        """NotEnough when the disk has no room for the points once more. report(done, total) is told points, each twice."""
        _check_room(source, folder)
        self.points, self.has_intensity, self.has_rgb = len(source), source.layout["intensity"] > 0, source.layout["rgb"] > 0
        self._kind = np.dtype([(name, kind, (wide,) if wide > 1 else ()) for name, (kind, wide) in KINDS.items() if source.layout[name]])
        ends, sample = _surveyed(source, max(1, chunk // SAMPLE))
        self.low, self.high = ends
        cells = Cells.over(ends, coarsest)
        pieces = self._dealt_out(source, cells, _borders(cells.codes(sample, DEPTH), len(source), chunk), folder, report)
        source.path.unlink()
        self.tiles, self._shares = self._sorted(pieces, cells, report)
        self._starts = [s.first for s in self._shares]

    def part(self, tile: Tile) -> Scan:
        """The points of a tile."""
        return _scan(self._records(tile.first, tile.count))

    def _records(self, first: int, count: int) -> NDArray[np.void]:
        found, k = [], int(np.searchsorted(self._starts, first, "right")) - 1
        while count > 0:
            share = self._shares[k]
            skip = first - share.first
            n = min(count, share.count - skip)
            found.append(np.fromfile(share.path, self._kind, n, offset=(share.at + skip) * self._kind.itemsize))
            first, count, k = first + n, count - n, k + 1
        return found[0] if len(found) == 1 else np.concatenate(found)

    def _dealt_out(
        self, source: OnDisk, cells: Cells, borders: NDArray[np.uint64], folder: Path, report: Callable[[int, int], None]
    ) -> list[Path]:
        """One file for each piece, with its points as they come."""
        paths = [folder / f"piece-{k}" for k in range(len(borders) + 1)]
        files = [p.open("wb") for p in paths]
        try:
            for first in range(0, len(source), BLOCK):
                part = source.part(first, BLOCK)
                piece = np.searchsorted(borders, cells.codes(part.xyz, DEPTH), "right").astype(np.uint16)
                order = np.argsort(piece, kind="stable")
                records = np.empty(len(part), self._kind)
                for name in self._kind.names or ():
                    records[name] = getattr(part, name)[order]
                ends = np.searchsorted(piece[order], np.arange(len(paths) + 1))
                for k, file in enumerate(files):
                    if ends[k + 1] > ends[k]:
                        records[ends[k] : ends[k + 1]].tofile(file)
                report(min(first + BLOCK, len(source)), 2 * len(source))
        finally:
            for file in files:
                file.close()
        return [p for p in paths if p.stat().st_size]

    def _sorted(self, paths: list[Path], cells: Cells, report: Callable[[int, int], None]) -> tuple[list[Tile], list[_Share]]:
        """Each piece put into levels where it lies; the tiles of the whole, and where their points are."""
        codes: list[list[NDArray[np.uint64]]] = [[] for _ in range(cells.levels)]  # of each level, piece by piece
        runs: list[list[tuple[int, int]]] = []  # the tiles of the finest level, whose codes are too many to keep
        inside: list[NDArray[np.int64]] = []  # where the levels begin in each piece
        done = self.points
        for path in paths:
            records = np.fromfile(path, self._kind)
            run = by_levels(np.ascontiguousarray(records["xyz"]), cells)
            records[run.order].tofile(path)
            shift = np.uint64(3 * (run.depth - cells.depth))  # a piece of more points than meant has longer codes
            parted = [run.codes[run.first[k] : run.first[k + 1]] >> shift for k in range(cells.levels)]
            runs.append(cut(parted.pop(), cells.depth))
            for level, own in enumerate(parted):
                codes[level].append(own)
            inside.append(run.first)
            done += len(records)
            report(done, 2 * self.points)
        tiles, shares, first = [], [], 0
        for level in range(cells.levels):
            begin = first
            for path, at in zip(paths, inside, strict=True):
                if n := int(at[level + 1] - at[level]):
                    shares.append(_Share(first, n, path, int(at[level])))
                first += n
            if level + 1 < cells.levels:
                slices = cut(np.concatenate(codes[level]), cells.depth)
            else:
                sizes = [int(at[level + 1] - at[level]) for at in inside]
                starts = np.cumsum([0, *sizes[:-1]])
                slices = [(int(s) + f, n) for s, own in zip(starts, runs, strict=True) for f, n in own]
            tiles += [Tile(level, begin + f, n, cells.spacing(level)) for f, n in slices]
        return tiles, shares


def _check_room(source: OnDisk, folder: Path) -> None:
    need, free = size_of(source.layout), shutil.disk_usage(folder).free
    if free < 1.1 * need:
        raise NotEnough(
            f"{len(source):,} points need {need / 1e9:.1f} GB of room to be sorted; {free / 1e9:.1f} GB are free",
            subject="disk",
            remedy="free some space where temporary files are kept (TMPDIR), or bring in a thinned scan",
        )


def _surveyed(source: OnDisk, step: int) -> tuple[NDArray[np.float64], NDArray[np.float32]]:
    """Lowest and highest (2, 3), and every ``step``-th point."""
    ends, sample = [], []
    for first in range(0, len(source), BLOCK):
        xyz = source.part(first, BLOCK).xyz
        ends.append(bounds(xyz))
        sample.append(xyz[(-first) % step :: step].copy())
    low, high = np.min([e[0] for e in ends], axis=0), np.max([e[1] for e in ends], axis=0)
    return np.stack([low, high]).astype(float), np.concatenate(sample)


def _borders(sample: NDArray[np.uint64], points: int, chunk: int) -> NDArray[np.uint64]:
    """Codes at which pieces of about ``chunk`` points begin, the first apart."""
    count = -(-points // chunk)
    at = (np.arange(1, count) * len(sample)) // count
    return np.unique(np.sort(sample)[at])


def _scan(records: NDArray[np.void]) -> Scan:
    return Scan(**{name: np.ascontiguousarray(records[name]) for name in records.dtype.names or ()})
