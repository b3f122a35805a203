"""Marks on a surface that differ in brightness from it: painted crosses, discs, nail heads; near a pick."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..errors import NotEnough
from ..scan.surface import widest_plane

Array = NDArray[np.float64]
ROUND, ROUGH = 0.15, 0.008  # metres round the pick that are looked at; by which the surface is uneven
NEAR, WIDEST = 0.04, 0.08  # metres from the pick to the mark's middle, and of the mark
FEWEST = 8  # points on a mark
LONG = 3.0  # times the moment across a mark: what is longer is a stripe
CONTRAST = 5.0  # times the spread of the surface's own brightness
OFFSET = 0.0003  # metres that a surface may be off as a whole


@dataclass(frozen=True)
class Mark:
    """at : (3,) metres, the middle of the mark on its surface, with covariance (3, 3); points on it; rms of the surface, metres."""

    at: Array
    covariance: Array
    points: int
    rms: float


def mark_of(points: Array, brightness: Array, pick: Array) -> Mark:
    """The mark near ``pick`` (3,) among points (n, 3) round it and their brightness (n,). Its middle is the mean of its own points
    weighted by contrast; how well that is known follows from how densely they lie. NotEnough when nothing stands out."""
    p = np.asarray(points, float)
    plane = widest_plane(p, ROUGH, through=pick)
    on = np.abs(plane.off(p)) <= ROUGH
    p, shade = p[on], np.asarray(brightness, float)[on]
    away = np.linalg.norm(p - pick, axis=1)
    ground = shade[away > WIDEST]
    if len(ground) < 4 * FEWEST:
        raise NotEnough("too little of the surface round that mark was scanned", remedy="pick where more was scanned")
    usual = float(np.median(ground))
    spread = max(1.4826 * float(np.median(np.abs(ground - usual))), 1e-3)
    off = shade - usual
    inside = away <= NEAR
    sign = 1.0 if np.max(off[inside], initial=0.0) > -np.min(off[inside], initial=0.0) else -1.0
    strength = sign * off
    top = float(np.quantile(strength[inside], 0.95)) if inside.any() else 0.0
    if top < CONTRAST * spread:
        raise NotEnough("nothing stands out from the surface at that pick", remedy="pick on the mark, or take the place itself")
    middle = pick - (plane.normal @ pick + plane.offset) * plane.normal
    share = np.clip((strength - 0.25 * top) / (0.5 * top), 0, 1)  # half way up is the rim
    for _ in range(6):  # the mark and nothing beside it: what lies within its own width of the middle
        weight = np.where(np.linalg.norm(p - middle, axis=1) <= NEAR, share, 0.0)
        if weight.sum() < FEWEST:
            raise NotEnough("fewer than 8 points lie on that mark", remedy="scan it from nearer, or take the place itself")
        middle = (weight[:, None] * p).sum(axis=0) / weight.sum()
        middle = middle - (plane.normal @ middle + plane.offset) * plane.normal
    count = float(weight.sum())
    wide = float(np.sqrt(np.average(((p - middle) ** 2).sum(axis=1), weights=weight)))
    along, across = np.linalg.eigvalsh(np.cov((p - middle).T, aweights=weight))[:0:-1]
    if wide > 0.75 * NEAR or along > LONG * across:
        raise NotEnough("what stands out there is no mark but a stripe or the rim of a surface", remedy="take the place itself")
    spacing = float(np.sqrt(np.pi * WIDEST**2 / max(int((away <= WIDEST).sum()), 1)))
    across2 = RIM * spacing**2 / np.sqrt(count) + wide**2 * (spread / top) ** 2 / count
    n = plane.normal
    covariance = across2 * (np.eye(3) - np.outer(n, n)) + (plane.rms**2 / max(plane.points, 1) + OFFSET**2) * np.outer(n, n)
    return Mark(middle, covariance, int(round(count)), plane.rms)


RIM = 0.11  # of the spacing squared: variance of the middle that one ray more or less on the rim makes, set by simulated discs and crosses
