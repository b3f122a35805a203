"""What is done with a pipe that was followed: cut in two, an end led on or back along its run, joined with another. Metres.

A pipe is its axis (n, 3), its radius and, at each inner corner, whatever is known of the bend there.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import BadInput

Array = NDArray[np.float64]
LEAST = 0.01  # metres of a run
SAME = (0.002, 0.03)  # metres, and share, by which the radii of one pipe differ at most
OFF = 0.02  # metres that two axes may pass each other by and still meet
BACK = 4.0  # radii that an end may be drawn back to a corner: farther, it is a branch
STRAIGHT = np.radians(2.0)  # two runs that turn less have no bend


@dataclass(frozen=True)
class Piped:
    """runs: what was measured of each straight run, bends: of each bend between two; None where nothing is known."""

    axis: Array
    radius: float
    runs: tuple[Any, ...]
    bends: tuple[Any, ...]


def cut(pipe: Piped, at: Array) -> tuple[Piped, Piped]:
    """Two pipes, parted where the axis is nearest to a place (3,). BadInput at an end, or in a bend."""
    k, foot, along = _nearest(pipe, at)
    long = float(np.linalg.norm(pipe.axis[k + 1] - pipe.axis[k]))
    if not LEAST < along < long - LEAST:
        raise BadInput("the pipe ends or bends where it was picked", subject="pipe", remedy="pick on a straight run of it")
    one = Piped(np.vstack([pipe.axis[: k + 1], foot]), pipe.radius, pipe.runs[: k + 1], pipe.bends[:k])
    other = Piped(np.vstack([foot, pipe.axis[k + 1 :]]), pipe.radius, pipe.runs[k:], pipe.bends[k:])
    return one, other


def extended(pipe: Piped, to: Array) -> Piped:
    """The end nearer to a place (3,) led along its run to where that is abreast; shorter when the place lies before it. BadInput when nothing
    of the run would be left."""
    last = float(np.linalg.norm(to - pipe.axis[-1])) <= float(np.linalg.norm(to - pipe.axis[0]))
    end, before = (pipe.axis[-1], pipe.axis[-2]) if last else (pipe.axis[0], pipe.axis[1])
    u = (end - before) / np.linalg.norm(end - before)
    along = float((to - before) @ u)
    if along < LEAST:
        raise BadInput("nothing of this run would be left", subject="pipe", remedy="pick beyond its last bend, or cut it instead")
    axis = pipe.axis.copy()
    axis[-1 if last else 0] = before + u * along
    return replace(pipe, axis=axis)


def joined(one: Piped, other: Piped) -> Piped:
    """One pipe of two whose nearest ends go on into each other: straight on, or by a bend where their axes meet. BadInput when they are not of
    one size, or their axes do not meet."""
    if abs(one.radius - other.radius) > max(SAME[0], SAME[1] * max(one.radius, other.radius)):
        raise BadInput(
            "these pipes are not of one diameter", subject="pipe", remedy="join those of one size; a reducer lies between others"
        )
    ends = [(float(np.linalg.norm(one.axis[i] - other.axis[j])), i, j) for i in (0, -1) for j in (0, -1)]
    _, i, j = min(ends)
    a, b = (one if i else _reversed(one)), (_reversed(other) if j else other)  # a ends where b begins
    p, q = a.axis[-1], b.axis[0]
    u, v = (p - a.axis[-2]) / np.linalg.norm(p - a.axis[-2]), (b.axis[1] - q) / np.linalg.norm(b.axis[1] - q)
    turn = float(np.arccos(np.clip(u @ v, -1, 1)))
    if turn < STRAIGHT:
        beside = (q - p) - u * float((q - p) @ u)
        if float(np.linalg.norm(beside)) > OFF or float((q - p) @ u) < -OFF:
            raise BadInput("these pipes run beside each other", subject="pipe", remedy="join those that go on into each other")
        return Piped(np.vstack([a.axis[:-1], b.axis[1:]]), a.radius, (*a.runs[:-1], a.runs[-1], *b.runs[1:]), (*a.bends, *b.bends))
    cross = np.cross(u, v)
    apart = abs(float((q - p) @ cross)) / float(np.linalg.norm(cross))
    s = float(np.cross(q - p, v) @ cross / (cross @ cross))  # how far on from p, and back from q, they are nearest
    t = float(np.cross(q - p, u) @ cross / (cross @ cross))
    long = [float(np.linalg.norm(x[1] - x[0])) for x in (a.axis[-2:], b.axis[:2])]
    back = [min(BACK * a.radius, x - LEAST) for x in long]
    if turn > np.pi - STRAIGHT or apart > OFF or s < -back[0] or t > back[1]:
        raise BadInput("the axes of these pipes do not meet", subject="pipe", remedy="lead their ends on, or join others")
    corner = (p + u * s + q + v * t) / 2
    return Piped(np.vstack([a.axis[:-1], corner, b.axis[1:]]), a.radius, (*a.runs, *b.runs), (*a.bends, None, *b.bends))


def _reversed(pipe: Piped) -> Piped:
    return Piped(pipe.axis[::-1], pipe.radius, pipe.runs[::-1], pipe.bends[::-1])


def _nearest(pipe: Piped, at: Array) -> tuple[int, Array, float]:
    """(number of the run, place on it, metres along it) that is nearest to a place."""
    best: tuple[float, int, Array, float] | None = None
    for k, (a, b) in enumerate(zip(pipe.axis[:-1], pipe.axis[1:], strict=True)):
        long = float(np.linalg.norm(b - a))
        u = (b - a) / max(long, 1e-12)
        along = float(np.clip((at - a) @ u, 0.0, long))
        away = float(np.linalg.norm(a + u * along - at))
        if best is None or away < best[0]:
            best = (away, k, a + u * along, along)
    assert best is not None
    return best[1:]
