"""The points of a scan as columns of one block of memory, or of one file when they are too many for memory."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..core.scan.scan import Scan

KINDS: dict[str, tuple[type, int]] = {  # the widest first: each column begins where its kind may
    "xyz": (np.float32, 3),
    "intensity": (np.float32, 1),
    "row": (np.int32, 1),
    "column": (np.int32, 1),
    "rgb": (np.uint8, 3),
}
_NEEDS = {"xyz": "", "intensity": "intensity", "rgb": "colorRed", "row": "rowIndex", "column": "columnIndex"}


def layout_of(total: int, fields: set[str]) -> dict[str, int]:
    """Rows of each column for ``total`` points of a file that has these fields."""
    return {name: total if not need or need in fields else 0 for name, need in _NEEDS.items()}


def size_of(layout: dict[str, int]) -> int:
    """Bytes of a block with this layout."""
    return sum(layout[name] * wide * np.dtype(kind).itemsize for name, (kind, wide) in KINDS.items())


@dataclass(frozen=True)
class Columns:
    """A column that the file lacks is empty."""

    xyz: NDArray[np.float32]
    intensity: NDArray[np.float32]
    rgb: NDArray[np.uint8]
    row: NDArray[np.int32]
    column: NDArray[np.int32]

    @classmethod
    def over(cls, block: Any, layout: dict[str, int]) -> Columns:
        """Raises ValueError when the block does not hold the layout."""
        at, columns = 0, []
        for name, (kind, wide) in KINDS.items():
            rows = int(layout[name])
            column: NDArray[Any] = np.frombuffer(block, kind, rows * wide, at) if rows else np.empty(0, kind)
            at += rows * wide * np.dtype(kind).itemsize
            columns.append((name, column.reshape(-1, wide) if wide > 1 else column))
        return cls(**dict(columns))  # type: ignore[arg-type]

    def scan(self, n: int) -> Scan:
        rest = (self.intensity, self.rgb, self.row, self.column)
        return Scan(self.xyz[:n], *(column[:n] if len(column) else None for column in rest))  # type: ignore[arg-type]


@dataclass(frozen=True)
class OnDisk:
    """The first ``points`` points of columns in a file."""

    path: Path
    layout: dict[str, int]
    points: int

    def __len__(self) -> int:
        return self.points

    def part(self, first: int, count: int) -> Scan:
        """Points first .. first + count, read into memory. OSError when the file is shorter than its layout."""
        at, found = 0, {}
        count = max(0, min(count, self.points - first))
        with self.path.open("rb") as file:
            for name, (kind, wide) in KINDS.items():
                each = wide * np.dtype(kind).itemsize
                if self.layout[name]:
                    file.seek(at + first * each)
                    column: NDArray[Any] = np.fromfile(file, kind, count * wide)
                    if len(column) != count * wide:
                        raise OSError(f"{self.path.name} ends too early")
                    found[name] = column.reshape(-1, wide) if wide > 1 else column
                at += self.layout[name] * each
        return Scan(**found)
