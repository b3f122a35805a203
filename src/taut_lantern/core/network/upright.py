"""Levels of scanners in the network, without those that did not stand level.

A level that contradicts what links say is left out by its normalized residual, one after another (iterated data snooping, Baarda
1968); when so many contradict that it is not the exception, none of the part counts.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from .adjust import adjust
from .observations import Array, Body, LevelObservation, LinkObservation, SightingObservation
from .parts import assemble
from .solution import Solution

GROSS = 0.02  # radians from the middle of all that a station leans by, before anything is adjusted: no compensator leaves that
SUSPECT = 4.5  # deviations of a level's residual: with 40 stations one right level in 4,000 networks is beyond it
TOO_MANY = 0.3  # share of a part's levels, from which on they are wrong as a whole
FEW = 3  # levels that must stand beside one that is left out: of fewer nobody can say which is wrong


def adjust_upright(
    stations: Sequence[str],
    links: Sequence[LinkObservation],
    sightings: Sequence[SightingObservation],
    datum: Mapping[str, Array],
    bodies: Sequence[Body] = (),
    levels: Sequence[LevelObservation] = (),
    **more: Any,
) -> tuple[Solution, dict[str, float]]:
    """Adjust with the levels that agree. Returns (solution, radians by which each station leans whose level was left out). more: as
    :func:`adjust` takes it."""
    left: dict[str, float] = {}
    groups = [part.poses for part in assemble(stations, links, sightings, bodies, datum)[0]]
    current = list(levels)
    for poses in groups:
        own = {v.station: poses[v.station][:3, :3] @ np.array(v.up) for v in current if v.station in poses}
        if len(own) < FEW:
            continue
        up = np.median(np.array(list(own.values())), axis=0)
        lean = {s: float(np.arccos(np.clip(v @ up / np.linalg.norm(up), -1, 1))) for s, v in own.items()}
        left |= _beyond(own, {s: a for s, a in lean.items() if a > GROSS}, lean)
    while True:
        current = [v for v in current if v.station not in left]
        solution = adjust(stations, links, sightings, datum, bodies, current, **more)
        worst: dict[str, float] = {}
        for group in solution.parts:
            off = {v.station: solution.others["level", v.station] for v in current if v.station in group}
            suspect = max(off, key=lambda s: off[s].normalized, default=None)
            if suspect is None or off[suspect].normalized <= SUSPECT:
                continue
            gone = [s for s in group if s in left]
            if len(off) <= FEW or len(gone) + 1 > TOO_MANY * (len(off) + len(gone)):
                worst |= {s: c.off for s, c in off.items()}
            else:
                worst[suspect] = off[suspect].off
        if not worst:
            return solution, left
        left |= worst


def _beyond(own: Mapping[str, Array], leaning: Mapping[str, float], lean: Mapping[str, float]) -> Mapping[str, float]:
    return lean if len(leaning) > TOO_MANY * len(own) else leaning
