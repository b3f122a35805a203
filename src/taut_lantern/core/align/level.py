"""Scanners that did not stand level: the upright of a scan from its floors and walls, and results turned back into station frames.

A scan that leans is straightened before anything is looked for, so that all that follows meets level scans; what is left of the lean
(hundredths of a degree) the fine alignment solves with its six unknowns.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..scan.grid import range_image
from ..scan.scan import Scan
from .believe import Tie, TiedPair
from .prepared import sample
from .questions import Answer, Question, Reading

Array = NDArray[np.float64]
MOST = np.radians(20.0)  # lean that is looked for: tripods on slopes and instruments on brackets lean less
NEAR = np.radians(1.5)  # a normal so near an axis, or so near square to it, speaks for it
TRIED, HEARD = 400, 6000  # axes tried, and normals that judge them
FEWEST = 100  # normals that must speak for an upright


def upright_of(scan: Scan) -> Array:
    """(3, 3) rotation that stands a scan upright: level surfaces level, walls plumb. The identity where too little says so."""
    normals = sample(range_image(scan), 0.15, HEARD)[0].normals
    steep = normals[np.abs(normals[:, 2]) > np.cos(MOST)]
    if len(steep) < FEWEST:
        return np.eye(3)
    axes = steep[np.linspace(0, len(steep) - 1, min(TRIED, len(steep))).astype(int)]
    axes = axes * np.sign(axes[:, 2:])
    axes = np.vstack([axes, [0.0, 0.0, 1.0]])
    across = np.abs(axes @ normals.T)
    votes = (across > np.cos(NEAR)).sum(axis=1) + (across < np.sin(NEAR)).sum(axis=1)
    axis = axes[int(np.argmax(votes))]
    for near in (2 * NEAR, NEAR, NEAR):
        along = normals @ axis
        level, wall = normals[np.abs(along) > np.cos(near)], normals[np.abs(along) < np.sin(near)]
        if len(level) + len(wall) < FEWEST:
            return np.eye(3)
        _, vector = np.linalg.eigh(wall.T @ wall - level.T @ level)  # walls square to it, floors along it
        axis = vector[:, 0] * np.sign(vector[2, 0])
    turn = np.cross(axis, [0.0, 0.0, 1.0])
    size = np.linalg.norm(turn)
    return np.eye(3) if size < 1e-9 else np.asarray(frames.rotation(turn / size * np.arctan2(size, axis[2])))


def straightened(scan: Scan, upright: Array) -> Scan:
    """The scan turned upright. Its rows and columns are those of the instrument no more and are left out."""
    xyz = (scan.xyz.astype(float) @ upright.T).astype(np.float32)
    return Scan(xyz, scan.intensity, scan.rgb)


def _turn(upright: Array) -> Array:
    t = np.eye(4)
    t[:3, :3] = upright
    return t


def answers_upright(answers: list[Answer], upright: Mapping[str, Array]) -> list[Answer]:
    """What people said of stations as the instruments measured, between upright ones."""
    return [
        replace(x, T_other_station=_turn(upright[x.other]) @ x.T_other_station @ frames.inverse(_turn(upright[x.station]))) for x in answers
    ]


def leaned(found: Tie, upright: Mapping[str, Array]) -> Tie:
    """What was found between upright scans, between the scans as they were measured."""

    def back(a: str, b: str, t: Array) -> Array:
        return np.asarray(frames.inverse(_turn(upright[a])) @ t @ _turn(upright[b]))

    def pair(p: TiedPair) -> TiedPair:
        turn = np.kron(np.eye(2), upright[p.a].T)
        weak = upright[p.a].T @ p.result.weak_direction
        result = replace(
            p.result, T_a_b=back(p.a, p.b, p.result.T_a_b), covariance=turn @ p.result.covariance @ turn.T, weak_direction=weak
        )
        direction = upright[p.a].T @ np.array(p.evidence.weak_direction)
        return replace(p, result=result, evidence=replace(p.evidence, weak_direction=tuple(float(v) for v in direction)))

    def question(q: Question) -> Question:
        def reading(r: Reading) -> Reading:
            return r if r.T_partner_station is None else replace(r, T_partner_station=back(r.partner, q.station, r.T_partner_station))

        return replace(q, readings=tuple(reading(r) for r in q.readings), places=q.places @ upright[q.other])

    parts = [{n: t @ _turn(upright[n]) for n, t in part.items()} for part in found.parts]
    return Tie(parts, [pair(p) for p in found.pairs], found.findings, [question(q) for q in found.questions])
