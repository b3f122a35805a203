"""Gradient boosted trees (Friedman, Ann. Stat. 29, 2001) that were grown on simulated scans, asked what something is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..kernels import beams


@dataclass(frozen=True)
class Trees:
    """first (t,): roots of the trees among all nodes; of each node (n,): asks: the number of a sight that it asks for, -1 in a leaf; limit: left,
    where that is at most this, else right; left, right: the nodes that follow; value: of a leaf, log odds that are summed over the trees."""

    first: NDArray[np.int32]
    asks: NDArray[np.int16]
    limit: NDArray[np.float32]
    left: NDArray[np.int32]
    right: NDArray[np.int32]
    value: NDArray[np.float32]

    def said(self, seen: NDArray[np.float32], hopeless: float = -np.inf) -> NDArray[np.float64]:
        """(n,) log odds of sights (n, k). hopeless: log odds by the first trees, below which the rest is not asked."""
        return np.asarray(beams.grown(seen, self.first, self.asks, self.limit, self.left, self.right, self.value, hopeless))
