"""E57 (ASTM E2807) in and out, through pye57 / libE57Format.

Reading goes block by block in a sealed process (sealed.py), so that a scan of ten million points needs little more memory than
the points themselves, and a file made to do harm finds nothing to do it to. Everything that is wrong with a file is told as
:class:`BadInput` naming the file, the scan and the remedy.
"""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Callable, Iterable
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass, field
from functools import cache
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pye57
from numpy.typing import NDArray
from pye57 import libe57
from scipy.spatial.transform import Rotation

from ..core import frames
from ..core.errors import BadInput
from ..core.kernels.order import take
from ..core.scan.scan import Scan
from . import envelope, sealed
from .columns import KINDS, Columns, OnDisk, layout_of, size_of
from .limits import Limits, Seen, judged
from .part import whole

MEMORY = 8 << 30  # bytes a reader may take for one scan
MOST_PER_BYTE = 4  # points that a byte of a file can stand for: real files need two bytes a point and more
BLOCK = 100_000  # points; small enough for the processor's cache
FIELDS = (
    "cartesianX",
    "cartesianY",
    "cartesianZ",
    "sphericalRange",
    "sphericalAzimuth",
    "sphericalElevation",
    "intensity",
    "colorRed",
    "colorGreen",
    "colorBlue",
    "rowIndex",
    "columnIndex",
    "cartesianInvalidState",
    "sphericalInvalidState",
)


@dataclass(frozen=True)
class ScanHeader:
    """What a file says of one scan before its points are read. pose: (4, 4) or None when the file has none."""

    name: str
    points: int
    fields: tuple[str, ...]
    rows: int
    columns: int
    pose: NDArray[np.float64] | None
    problems: tuple[str, ...] = ()

    def as_json(self) -> dict[str, Any]:
        return {**vars(self), "pose": None if self.pose is None else self.pose.tolist()}

    @classmethod
    def of_json(cls, d: dict[str, Any]) -> ScanHeader:
        pose = None if d["pose"] is None else np.array(d["pose"], float)
        return cls(d["name"], d["points"], tuple(d["fields"]), d["rows"], d["columns"], pose, tuple(d["problems"]))


@dataclass(frozen=True)
class Outgoing:
    """A scan to write: pose (4, 4) station -> file frame, or None for identity."""

    name: str
    scan: Scan
    pose: NDArray[np.float64] | None = None
    extra: dict[str, str] = field(default_factory=dict)


def _open(path: Path, shown: str) -> Any:
    try:
        return pye57.E57(str(path))
    except Exception as problem:
        raise BadInput(
            f"{shown} cannot be opened: {str(problem).splitlines()[0][:160]}",
            subject=shown,
            remedy="copy it again, or export it anew",
            code="unreadable",
        ) from problem


def headers(path: Path, shown: str | None = None) -> list[ScanHeader]:
    """The scans of a file, without reading points; read in a sealed process. Raises BadInput."""
    shown = shown or path.name
    envelope.check(path, shown)
    seconds = 20 + path.stat().st_size / 20e6
    found, _ = sealed.run(lambda seal: {"scans": [h.as_json() for h in _headers(path, shown)]}, path, shown, seconds, MEMORY)
    return [ScanHeader.of_json(h) for h in found["scans"]]


def _headers(path: Path, shown: str) -> list[ScanHeader]:
    with _open(path, shown) as file:
        found = []
        for k in range(file.scan_count):
            h = file.get_header(k)
            node = h.node
            fields = tuple(str(f) for f in h.point_fields)
            name = str(node["name"].value()) if node.isDefined("name") else f"{Path(shown).stem}-{k + 1}"
            pose, problems = None, []
            if node.isDefined("pose"):
                pose = np.eye(4)
                pose[:3, :3], pose[:3, 3] = h.rotation_matrix, h.translation
                if not frames.is_rigid(pose):
                    pose = None
                    problems.append("the pose in the file is not a rotation and is ignored")
            if h.point_count == 0:
                problems.append("no points")
            if h.point_count > MOST_PER_BYTE * path.stat().st_size:
                raise BadInput(
                    f"{shown}: scan {k + 1} claims {h.point_count:,} points, more than the file can hold",
                    subject=shown,
                    remedy="copy it again, or export it anew",
                    code="unreadable",
                )
            if not ({"cartesianX", "sphericalRange"} & set(fields)):
                problems.append("neither cartesian nor spherical coordinates")
            rows = columns = 0
            if node.isDefined("indexBounds"):
                b = node["indexBounds"]
                if b.isDefined("rowMaximum"):
                    rows = int(b["rowMaximum"].value()) + 1
                if b.isDefined("columnMaximum"):
                    columns = int(b["columnMaximum"].value()) + 1
            found.append(ScanHeader(name, int(h.point_count), fields, rows, columns, pose, tuple(problems)))
    if not found:
        raise BadInput(f"{shown} holds no scan", subject=shown, remedy="export it with at least one scan", code="no_scans")
    return found


COUNTS = ("kept", "invalid", "not_finite", "too_near", "too_far")


def points(
    path: Path,
    index: int,
    shown: str | None = None,
    nearest: float = 0.0,
    farthest: float = math.inf,
    factor: float = 1.0,
    report: Callable[[int, int], None] = lambda done, total: None,
) -> tuple[Scan, dict[str, Any]]:
    """The usable points of scan ``index`` in its own frame, metres, and how many were read, kept and left out why; with
    remarks on limits of intensity or colour that the data does not bear out.

    nearest, farthest: metres; factor: metres per unit of the file. While a block is decoded, the one before is taken over
    by a second thread. Raises BadInput naming where it broke.
    """
    found, block = _sealed(path, index, shown or path.name, (factor, nearest, farthest), report)
    return Columns.over(block, found["layout"]).scan(found["counts"]["kept"]), _counts(found)


def points_on_disk(
    path: Path,
    index: int,
    into: Path,
    shown: str | None = None,
    nearest: float = 0.0,
    farthest: float = math.inf,
    factor: float = 1.0,
    report: Callable[[int, int], None] = lambda done, total: None,
) -> tuple[OnDisk, dict[str, Any]]:
    """As :func:`points`, for a scan that is too large for memory: its points go into the file ``into``."""
    found, _ = _sealed(path, index, shown or path.name, (factor, nearest, farthest), report, into)
    return OnDisk(into, found["layout"], found["counts"]["kept"]), _counts(found)


def _sealed(
    path: Path, index: int, shown: str, ranges: tuple[float, float, float], report: Callable[[int, int], None], into: Path | None = None
) -> tuple[dict[str, Any], Any]:
    envelope.check(path, shown)
    _load()
    seconds = 60 + path.stat().st_size / 1e6
    return sealed.run(lambda seal: _read(seal, path, index, shown, ranges), path, shown, seconds, MEMORY, report, into)


def _counts(found: dict[str, Any]) -> dict[str, Any]:
    return found["counts"] | ({"remarks": found["remarks"]} if found["remarks"] else {})  # type: ignore[no-any-return]


@cache
def _load() -> None:
    """Load the compiled loop before the reader is sealed: then it can read no code any more."""
    none = Columns.over(b"", dict.fromkeys(KINDS, 0))
    taken = _Taken(none, Limits(0, 1, 255, ("", "")), (1.0, 0.0, math.inf))
    taken.take({f"cartesian{a}": np.empty(0) for a in "XYZ"})


def _read(seal: sealed.Seal, path: Path, index: int, shown: str, ranges: tuple[float, float, float]) -> dict[str, Any]:
    with _open(path, shown) as file, ThreadPoolExecutor(1) as pool:
        header = file.get_header(index)
        total = int(header.point_count)
        wanted = _whole_groups([str(f) for f in header.point_fields if str(f) in FIELDS])
        if not {"cartesianX", "sphericalRange"} & set(wanted):
            raise BadInput(
                f"{shown}: scan {index + 1} has no whole set of coordinates",
                subject=shown,
                remedy="export it with x, y and z",
                code="no_points",
            )
        if total > MOST_PER_BYTE * path.stat().st_size:
            raise BadInput(
                f"{shown}: scan {index + 1} claims {total:,} points, more than the file can hold",
                subject=shown,
                remedy="copy it again, or export it anew",
                code="unreadable",
            )
        layout = layout_of(total, set(wanted))
        columns = Columns.over(seal.block(size_of(layout)), layout)
        limits, remarks = Limits.of(header), []
        for _ in range(2):  # again when the data says that the limits are others
            out = _Taken(columns, limits, ranges)
            done = _pass_over(seal, file, header, wanted, out, pool, shown, index)
            limits, said, again = judged(limits, out.seen)
            remarks += said
            if not again:
                break
    return {"layout": layout, "counts": {"read": done, **out.counts}, "remarks": remarks}


def _pass_over(
    seal: sealed.Seal, file: Any, header: Any, wanted: list[str], out: _Taken, pool: ThreadPoolExecutor, shown: str, index: int
) -> int:
    """Read all points of a scan into ``out``. Returns how many; BadInput naming where it breaks off."""
    total = int(header.point_count)
    data, buffers = _buffers(file, wanted, min(BLOCK, max(total, 1)))
    done, pending = 0, deque[Future[None]]()
    try:
        reader = header.points.reader(buffers)
        while count := reader.read():
            if len(pending) == 2:
                pending.popleft().result()
            pending.append(pool.submit(out.take, {name: column[:count].copy() for name, column in data.items()}))
            done += count
            seal.report(done, total)
            seal.relieve(done)
        reader.close()
    except (libe57.E57Exception, RuntimeError) as problem:
        raise BadInput(
            f"{shown} breaks off in scan {index + 1} after {done:,} of {total:,} points",
            subject=shown,
            remedy="copy it again, or export that scan anew",
            code="truncated",
        ) from problem
    for last in pending:
        last.result()
    return done


def _whole_groups(names: list[str]) -> list[str]:
    """Fields that are of use: a row without a column, or one colour of three, is left in the file."""
    groups = [{f"cartesian{a}" for a in "XYZ"}, {f"spherical{a}" for a in ("Range", "Azimuth", "Elevation")}]
    groups += [{f"color{c}" for c in ("Red", "Green", "Blue")}, {"rowIndex", "columnIndex"}]
    torn = {name for group in groups if not group <= set(names) for name in group}
    return [name for name in names if name not in torn]


def _buffers(file: Any, names: list[str], capacity: int) -> tuple[dict[str, NDArray[Any]], Any]:
    """Arrays for a reader to fill; wide enough for 16-bit colour and for more than 65,535 columns."""
    wide = dict.fromkeys(("colorRed", "colorGreen", "colorBlue"), "H") | dict.fromkeys(("rowIndex", "columnIndex"), "q")
    data, buffers = {}, libe57.VectorSourceDestBuffer()
    for name in names:
        data[name] = np.empty(capacity, wide.get(name, pye57.e57.SUPPORTED_POINT_FIELDS[name]))
        buffers.append(libe57.SourceDestBuffer(file.image_file, name, data[name], capacity, True, True))
    return data, buffers


class _Taken:
    """Gathers the usable points of a file into columns."""

    def __init__(self, columns: Columns, values: Limits, ranges: tuple[float, float, float]) -> None:
        """ranges: metres per unit, nearest and farthest that are kept, metres."""
        self.to, self._scale, self._ranges = columns, values.scale, ranges
        self._found = np.zeros(len(COUNTS), np.int64)
        self._seen = np.array([math.inf, -math.inf, 0.0, 0.0, 0.0])

    def take(self, data: dict[str, NDArray[Any]]) -> None:
        """Take over the usable points of a block."""

        def part(name: str, kind: type) -> NDArray[Any]:
            return data.get(name, np.empty(0, kind))

        if "cartesianX" in data:
            x, y, z = (part(f"cartesian{a}", np.float64) for a in "XYZ")
            invalid = part("cartesianInvalidState", np.int8)
        else:
            r, az, el = (part(f"spherical{a}", np.float64) for a in ("Range", "Azimuth", "Elevation"))
            x, y, z = r * np.cos(el) * np.cos(az), r * np.cos(el) * np.sin(az), r * np.sin(el)
            invalid = part("sphericalInvalidState", np.int8)
        colour = tuple(part(f"color{c}", np.uint16) for c in ("Red", "Green", "Blue"))
        grid = tuple(part(f"{a}Index", np.int64) for a in ("row", "column"))
        rest = (self.to.xyz, self.to.intensity, self.to.rgb, self.to.row, self.to.column)
        self._found += take(
            (x, y, z),
            invalid,
            part("intensity", np.float32),
            self._scale,
            colour,
            grid,
            *self._ranges,
            int(self._found[0]),
            self._seen,
            *rest,
        )

    @property
    def seen(self) -> Seen:
        low, high, top, beyond, beyond_colour = (float(v) for v in self._seen)
        has = (len(self.to.intensity) > 0, len(self.to.rgb) > 0)
        return Seen(max(int(self._found[0]), 1), low, high, top, int(beyond), int(beyond_colour), has)

    @property
    def counts(self) -> dict[str, int]:
        return dict(zip(COUNTS, self._found.tolist(), strict=True))


def write(path: Path, scans: Iterable[Outgoing]) -> None:
    """Write scans, each in its own frame with its pose. The file appears only when it is whole."""
    with whole(path) as part, pye57.E57(str(part), mode="w") as file:
        for item in scans:
            s = item.scan
            data: dict[str, NDArray[Any]] = {f"cartesian{a}": s.xyz[:, k].astype(float) for k, a in enumerate("XYZ")}
            if s.intensity is not None:
                data["intensity"] = s.intensity.astype(np.float32)
            if s.rgb is not None:
                for k, c in enumerate(("Red", "Green", "Blue")):
                    data[f"color{c}"] = s.rgb[:, k]
            if s.row is not None and s.column is not None:
                data["rowIndex"], data["columnIndex"] = s.row.astype(np.int64), s.column.astype(np.int64)
            pose = np.eye(4) if item.pose is None else item.pose
            header = _limits_of(s)
            file.write_scan_raw(
                data,
                name=item.name,
                rotation=Rotation.from_matrix(pose[:3, :3]).as_quat(scalar_first=True),
                translation=pose[:3, 3],
                scan_header=header,
            )


def _limits_of(s: Scan) -> SimpleNamespace:
    """Bounds in the scan's own frame (E2807, 8.4.4) and the full scale of intensity, for the header."""
    low, high = (s.xyz.min(axis=0), s.xyz.max(axis=0)) if len(s) else (np.zeros(3), np.zeros(3))
    bounds = {f"{a}{end}": float(v[k]) for end, v in (("Minimum", low), ("Maximum", high)) for k, a in enumerate("xyz")}
    return SimpleNamespace(intensityMinimum=0.0, intensityMaximum=1.0, **bounds)
