"""What the observations of a network say of each other: residuals, redundancy, the global test, blunders.

Sources: Baarda, *A testing procedure for use in geodetic networks* (1968); Teunissen, *Network Quality Control*, ch. 2 to 4.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np
from scipy.special import chdtri

from .observations import Array, LinkObservation, SightingObservation
from .parts import connected_parts

if TYPE_CHECKING:
    from .solution import Solution

SUSPECT = 3.5  # times the common normalized residual, from which on a link is left out
CONTROLLED = 1.0  # of 6: redundancy that a link needs before it can be suspected at all
REAL = 1e-3  # share of a residual's direction that others must control for it to be tested


@dataclass(frozen=True)
class LinkResidual:
    """metres, radians: what is left after adjustment; normalized: root of v' Qv^+ v / rank, in units of the a priori
    deviation; redundancy: 0..6, how far the others control the link."""

    metres: float
    radians: float
    normalized: float
    redundancy: float


@dataclass(frozen=True)
class GlobalTest:
    """statistic: weighted square sum of the residuals, against its limit at the confidence asked for."""

    sigma0: float
    degrees_of_freedom: int
    statistic: float
    limit: float
    passed: bool


def global_test(total: float, degrees_of_freedom: int, confidence: float) -> GlobalTest:
    """The overall model test (Teunissen, eq. 3.34). Without redundancy there is nothing to test."""
    if degrees_of_freedom <= 0:
        return GlobalTest(1.0, degrees_of_freedom, total, 0.0, True)
    limit = float(chdtri(degrees_of_freedom, 1 - confidence))
    return GlobalTest(float(np.sqrt(total / degrees_of_freedom)), degrees_of_freedom, total, limit, total <= limit)


def link_residuals(
    links: Sequence[LinkObservation],
    v: Array,
    j: Array,
    covariance: Array,
    root: Array,
    of_ends: Array,
) -> dict[str, LinkResidual]:
    """Residuals with redundancy and normalized size.

    v (n, 6) residuals, j (n, 6, 6) their derivative by the motion of b, covariance and its root (n, 6, 6) of the links,
    of_ends (n, 12, 12) covariance of the motions of both stations of each.
    """
    if not links:
        return {}
    design = np.concatenate([-j, j], axis=2)
    of_residuals = covariance - design @ of_ends @ design.transpose(0, 2, 1)
    white = root @ of_residuals @ root.transpose(0, 2, 1)
    redundancy = np.trace(white, axis1=1, axis2=2)
    value, vector = np.linalg.eigh((white + white.transpose(0, 2, 1)) / 2)
    real = value > REAL
    u = np.einsum("nij,ni->nj", vector, np.einsum("nij,nj->ni", root, v))
    square = np.where(real, u**2 / np.where(real, value, 1.0), 0.0).sum(axis=1)
    normalized = np.sqrt(square / np.maximum(real.sum(axis=1), 1))
    metres, radians = np.linalg.norm(v[:, 3:], axis=1), np.linalg.norm(v[:, :3], axis=1)
    rows = zip(links, metres, radians, normalized, redundancy, strict=True)
    return {k.key: LinkResidual(float(m), float(r), float(n), float(f)) for k, m, r, n, f in rows}


@dataclass(frozen=True)
class Checked:
    """One observation that is no link: off, its residual in its own unit (metres, radians); normalized as of links; redundancy of
    its numbers together."""

    off: float
    normalized: float
    redundancy: float


def checked(v: Array, design: Array, of_unknowns: Array, sigma: float) -> Checked:
    """v (k,) weighted residuals of an observation, design (k, u) by its own unknowns, whose covariance is of_unknowns (u, u)."""
    white = np.eye(len(v)) - design @ of_unknowns @ design.T
    value, vector = np.linalg.eigh((white + white.T) / 2)
    real = value > REAL
    u = vector.T @ v
    square = float((u[real] ** 2 / value[real]).sum())
    return Checked(sigma * float(np.linalg.norm(v)), float(np.sqrt(square / max(int(real.sum()), 1))), float(np.trace(white)))


def snoop(
    stations: Sequence[str], links: Sequence[LinkObservation], sightings: Sequence[SightingObservation] | None = None
) -> tuple[Solution, list[str]]:
    """Adjust, then leave out one link after another whose normalized residual is suspect and that the others control
    (iterated data snooping, Baarda 1968). Never parts the network. Returns (solution, keys left out)."""
    from .adjust import adjust

    left_out: list[str] = []
    current = list(links)
    while True:
        solution = adjust(stations, current, sightings)
        common = max(float(np.median([r.normalized for r in solution.links.values()] or [1.0])), 1.0)
        suspects = [k for k, r in solution.links.items() if r.normalized > SUSPECT * common and r.redundancy > CONTROLLED]
        if not suspects:
            return solution, left_out
        worst = max(suspects, key=lambda k: solution.links[k].normalized)
        rest = [k for k in current if k.key != worst]
        if len(connected_parts(stations, [(k.a, k.b) for k in rest])) > len(solution.parts):
            return solution, left_out
        left_out.append(worst)
        current = rest
