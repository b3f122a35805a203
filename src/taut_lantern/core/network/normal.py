"""Normal equations: solved in a band, inverted where it is asked for.

Stations that see each other stand near each other, so the unknowns can be put into an order in which everything that is not zero lies near
the diagonal (reverse Cuthill-McKee; George & Liu, Computer Solution of Large Sparse Positive Definite Systems, ch. 4). Where a
network holds something badly enough to lose positive definiteness in rounding, the general factorisation takes over.
"""

from __future__ import annotations

from functools import cached_property

import numpy as np
import scipy.sparse as sp
from numpy.typing import NDArray
from scipy.linalg import lapack, solve_triangular, solveh_banded
from scipy.sparse.csgraph import reverse_cuthill_mckee
from scipy.sparse.linalg import splu

Array = NDArray[np.float64]
LEAST = 48  # unknowns of a block: smaller ones cost more in calls than they spare


class Band:
    """Solves systems of one structure; the order is found at the first."""

    def __init__(self, border: NDArray[np.int_] = np.zeros(0, int)) -> None:
        """border: unknowns that all others meet, solved last."""
        self.order: NDArray[np.int32] | None = None
        self.border = border

    def solve(self, normal: sp.csc_matrix, right: Array) -> Array:
        """(n,) x with normal x = right; not finite where the matrix is singular."""
        if not 0 < len(self.border) < len(right):
            return self._banded(normal, right[:, None])[:, 0]
        inside = np.setdiff1d(np.arange(len(right)), self.border)
        beside = normal[inside][:, self.border].toarray()
        both = self._banded(normal[inside][:, inside].tocsc(), np.column_stack([right[inside], beside]))
        first, across = both[:, 0], both[:, 1:]
        x = np.empty(len(right))
        rest = normal[self.border][:, self.border].toarray() - beside.T @ across
        x[self.border] = np.linalg.lstsq(rest, right[self.border] - beside.T @ first, rcond=None)[0]
        x[inside] = first - across @ x[self.border]
        return x

    def _banded(self, normal: sp.csc_matrix, right: Array) -> Array:
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


class _Whole:
    """What is asked of all of an inverse. ``scale`` multiplies all that is given."""

    def __init__(self, normal: sp.csc_matrix) -> None:
        self.normal, self.scale = normal, 1.0

    def columns(self, at: NDArray[np.int_]) -> Array:
        """(n, k) whole columns of unknowns (k,)."""
        right = np.zeros((self.normal.shape[0], len(at)))
        right[at, np.arange(len(at))] = self.scale
        return np.asarray(splu(self.normal, permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True}).solve(right))

    @cached_property
    def _whole(self) -> Array:
        return inverse(self.normal)

    @property
    def whole(self) -> Array:
        """(n, n) all of it: for what asks how every station goes with every other."""
        return self._whole * self.scale


class Covariance(_Whole):
    """The inverse of a normal matrix (n, n), positive definite, where it is asked for.

    In the order of a narrow band the matrix is block tridiagonal: blocks as wide as the band meet their neighbours only. The
    inverse between unknowns of one observation then follows from the last block back to the first, without the rest of it (Takahashi
    et al. 1973, in blocks; Golub & Van Loan, Matrix Computations, 4.5). ``scale`` multiplies all that is given.
    """

    def __init__(self, normal: sp.csc_matrix, design: sp.csr_matrix) -> None:
        """design: what the matrix is the square of. Where that cancels to zero the unknowns still belong together."""
        super().__init__(normal)
        n = normal.shape[0]
        together = sp.csr_matrix((np.ones_like(design.data), design.indices, design.indptr), shape=design.shape)
        together = (together.T @ together).tocsr()
        order = np.asarray(reverse_cuthill_mckee(together, symmetric_mode=True))
        self.place = np.empty(n, np.int64)
        self.place[order] = np.arange(n)
        met = together.tocoo()
        self.wide = wide = max(int((self.place[met.row] - self.place[met.col]).max(initial=0)), LEAST)
        entries = normal.tocoo()
        row, column = self.place[entries.row], self.place[entries.col]
        count = -(-n // wide)
        self.own = np.zeros((count, wide, wide))  # [i] block (i, i), first of the matrix and at last of the inverse
        self.below = np.zeros((count, wide, wide))  # [i] block (i, i - 1)
        for held, apart in ((self.own, 0), (self.below, 1)):
            here = row // wide - column // wide == apart
            np.add.at(held, (row[here] // wide, row[here] % wide, column[here] % wide), entries.data[here])
        rest = np.arange(n, count * wide) % wide
        self.own[-1, rest, rest] = 1.0
        self._invert(count)

    def _invert(self, count: int) -> None:
        factors: list[Array] = []
        steps = [self.below[0]]
        for i in range(count):
            if i:
                across = solve_triangular(factors[-1], self.below[i].T, lower=True, check_finite=False)
                self.own[i] -= across.T @ across
                steps.append(solve_triangular(factors[-1], across, lower=True, trans="T", check_finite=False).T)
            factors.append(np.linalg.cholesky(self.own[i]))
        for i in range(count - 1, -1, -1):
            half = solve_triangular(factors[i], np.eye(self.wide), lower=True, check_finite=False)
            self.own[i] = half.T @ half
            if i + 1 < count:
                self.below[i + 1] = -self.own[i + 1] @ steps[i + 1]
                self.own[i] -= steps[i + 1].T @ self.below[i + 1]

    def among(self, at: NDArray[np.int_]) -> Array:
        """(m, p, p) between unknowns (m, p) that observations or the band bring together; those of number -1 are held: zero."""
        free = at >= 0
        to = np.where(free, self.place[at], 0)
        block, off = to // self.wide, to % self.wide
        i, j, r, c = np.broadcast_arrays(block[:, :, None], block[:, None, :], off[:, :, None], off[:, None, :])
        both = free[:, :, None] & free[:, None, :]
        if (both & (np.abs(i - j) > 1)).any():
            raise ValueError("no observation brings these unknowns together: ask for their columns")
        out = np.where(i == j, self.own[i, r, c], np.where(i > j, self.below[i, r, c], self.below[j, c, r]))
        return np.asarray(out * self.scale * both)

    def solve(self, right: Array) -> Array:
        """(n, k) matrix^-1 right (n, k)."""
        return np.asarray(splu(self.normal, permc_spec="MMD_AT_PLUS_A", options={"SymmetricMode": True}).solve(right))


class Bordered(_Whole):
    """The inverse of a matrix that is banded but for a few unknowns that all others meet (directions up, placings): those are
    eliminated last (Schur complement; Golub & Van Loan, 3.2.11). ``border``: their numbers."""

    def __init__(self, normal: sp.csc_matrix, design: sp.csr_matrix, border: NDArray[np.int_]) -> None:
        super().__init__(normal)
        n = normal.shape[0]
        inside = np.setdiff1d(np.arange(n), border)
        self.number = np.full(n, -1)
        self.number[inside] = np.arange(len(inside))
        self.last = np.full(n, -1)
        self.last[border] = np.arange(len(border))
        self.band = Covariance(normal[inside][:, inside].tocsc(), design[:, inside])
        self.across = self.band.solve(normal[inside][:, border].toarray())
        self.own = np.linalg.inv(normal[border][:, border].toarray() - normal[border][:, inside] @ self.across)

    def among(self, at: NDArray[np.int_]) -> Array:
        at = np.asarray(at)
        inside = np.where(at >= 0, self.number[at], -1)
        last = np.where(at >= 0, self.last[at], -1)
        # the row of each unknown in what couples all: -A^-1 B inside, the identity in the border, nothing for what is held
        reach = np.zeros((*at.shape, len(self.own)))
        reach[inside >= 0] = -self.across[inside[inside >= 0]]
        reach[last >= 0] = np.eye(len(self.own))[last[last >= 0]]
        return np.asarray((self.band.among(inside) + reach @ self.own @ reach.transpose(0, 2, 1)) * self.scale)


class Dense:
    """The same of a matrix that rounding has made indefinite: inverted whole."""

    def __init__(self, normal: sp.csc_matrix) -> None:
        self.inverse, self.scale = inverse(normal), 1.0

    def among(self, at: NDArray[np.int_]) -> Array:
        free = at >= 0
        return np.asarray(self.whole[at[:, :, None], at[:, None, :]] * (free[:, :, None] & free[:, None, :]))

    def columns(self, at: NDArray[np.int_]) -> Array:
        return np.asarray(self.whole[:, at])

    @property
    def whole(self) -> Array:
        return self.inverse * self.scale


Inverse = Covariance | Bordered | Dense


def covariance(normal: sp.csc_matrix, design: sp.csr_matrix, border: NDArray[np.int_]) -> Inverse:
    """The inverse of the normal matrix of a design, where it is asked for. border: unknowns that all others meet."""
    try:
        return Bordered(normal, design, border) if 0 < len(border) < normal.shape[0] else Covariance(normal, design)
    except np.linalg.LinAlgError:
        return Dense(normal)


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
