"""A scan: the points of one station, in the station's own frame, as the scanner measured them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True)
class Scan:
    """xyz : (n, 3) float32, metres, station frame; intensity : (n,) float32 in 0..1 or None;
    rgb : (n, 3) uint8 or None; row, column : (n,) int32 of the scanner's grid, or None."""

    xyz: NDArray[np.float32]
    intensity: NDArray[np.float32] | None = None
    rgb: NDArray[np.uint8] | None = None
    row: NDArray[np.int32] | None = None
    column: NDArray[np.int32] | None = None

    def __len__(self) -> int:
        return len(self.xyz)

    def take(self, keep: NDArray[np.generic]) -> Scan:
        """The points of an index or mask array, in that order."""

        def cut(a: NDArray | None) -> NDArray | None:  # type: ignore[type-arg]
            return None if a is None else a[keep]

        return Scan(self.xyz[keep], cut(self.intensity), cut(self.rgb), cut(self.row), cut(self.column))
