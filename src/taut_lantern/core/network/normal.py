"""Normal equations: solved in a band, inverted whole.

Stations that see each other stand near each other, so the unknowns can be put into an order in which everything that is not zero lies near
the diagonal (reverse Cuthill-McKee; George & Liu, Computer Solution of Large Sparse Positive Definite Systems, ch. 4). Where a
network holds something badly enough to lose positive definiteness in rounding, the general factorisation takes over.
"""

from __future__ import annotations

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray
from scipy.linalg import lapack, solveh_banded
from scipy.sparse.csgraph import reverse_cuthill_mckee
from scipy.sparse.linalg import splu

Array = NDArray[np.float64]


class Band:
    """Solves systems of one structure; the order is found at the first."""

    def __init__(self) -> None:
        self.order: NDArray[np.int32] | None = None

    def solve(self, normal: sp.csc_matrix, right: Array) -> Array:
        """(n,) x with normal x = right; not finite where the matrix is singular."""
        if self.order is None:
            self.order = np.asarray(reverse_cuthill_mckee(normal.tocsr(), symmetric_mode=True))
            self.place = np.empty_like(self.order)
            self.place[self.order] = np.arange(len(self.order))
        entries = normal.tocoo()
        row, column = self.place[entries.row], self.place[entries.col]
        below = row >= column
        band = np.zeros((int((row - column).max(initial=0)) + 1, len(right)))
        np.add.at(band, ((row - column)[below], column[below]), entries.data[below])
        try:
            ordered = solveh_banded(band, right[self.order], lower=True, overwrite_ab=True, check_finite=False)
        except np.linalg.LinAlgError:
            return np.asarray(splu(normal, permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True}).solve(right))
        return np.asarray(ordered[self.place])


def inverse(normal: sp.csc_matrix) -> Array:
    """(n, n) inverse of a symmetric positive definite matrix, from its Cholesky factor."""
    dense = np.asfortranarray(normal.toarray())
    factor, bad = lapack.dpotrf(dense, lower=1, overwrite_a=1)
    if bad:
        return np.asarray(np.linalg.inv(normal.toarray()))
    lower, bad = lapack.dpotri(factor, lower=1, overwrite_c=1)
    if bad:
        return np.asarray(np.linalg.inv(normal.toarray()))
    whole = np.tril(lower)
    whole += np.tril(whole, -1).T
    return np.asarray(whole)
