"""Who is looked for in whom, and what somebody knows of where stations stand before they are tied.

Terms: spot: where a station stands on a field sketch, metres in any plan frame; body: a held group, whose stations keep how they
stand to each other and are placed as one.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from .. import frames
from ..errors import BadInput

Array = NDArray[np.float64]
SKETCHED = (2.5, 0.15)  # metres, and share of a distance, that a sketch may be wrong by: paced, drawn by hand
NEXT = 3  # in order: a station is looked for in so many that came before it


@dataclass(frozen=True)
class Search:
    """names in the order of the roster; in_order: only neighbours in it are tried; reach: metres on the sketch beyond which two are
    not tried (0: any); level: the scanners stood level."""

    in_order: bool = False
    spots: Mapping[str, tuple[float, float]] = field(default_factory=dict)
    reach: float = 0.0
    bodies: Sequence[Mapping[str, Array]] = ()
    level: bool = True

    def straightened(self, upright: Mapping[str, Array]) -> Search:
        """The same for scans that were turned upright: members of bodies turn with them."""

        def turned(name: str, t: Array) -> Array:
            back = np.eye(4)
            back[:3, :3] = upright[name].T
            return np.asarray(t @ back)

        return replace(self, bodies=[{n: turned(n, t) for n, t in b.items() if n in upright} for b in self.bodies])

    def body_of(self, name: str) -> Mapping[str, Array]:
        """T_body_station of those held with a station, itself among them; of one that is free only its own."""
        return next((b for b in self.bodies if name in b), {name: np.eye(4)})

    def may(self, a: str, b: str, order: Mapping[str, int]) -> bool:
        """Whether one is looked for in the other."""
        if b in self.body_of(a):
            return False
        if self.in_order and abs(order[a] - order[b]) > NEXT:
            return False
        return not (self.reach and a in self.spots and b in self.spots and self._apart(a, b) > self.reach)

    def _apart(self, a: str, b: str) -> float:
        return float(np.hypot(*np.subtract(self.spots[a], self.spots[b])))

    def contradicts(self, name: str, pose: Array, placed: Mapping[str, Array]) -> bool:
        """Whether a placement is not where the sketch has it: as far from each placed station as drawn, and with three of them on the
        right side of the line that two of them make (a sketch is not mirrored)."""
        if name not in self.spots:
            return False
        near = [o for o in placed if o in self.spots and o != name]
        for o in near:
            drawn, found = self._apart(name, o), float(np.hypot(*(pose - placed[o])[:2, 3]))
            if abs(drawn - found) > SKETCHED[0] + SKETCHED[1] * drawn:
                return True
        return any(self._mirrored(name, pose, (a, placed[a]), (b, placed[b])) for a, b in combinations(near[:8], 2))

    def _mirrored(self, name: str, pose: Array, one: tuple[str, Array], other: tuple[str, Array]) -> bool:
        def off_line(p: Array, a: Array, b: Array) -> float:
            along = b - a
            return float((along[0] * (p - a)[1] - along[1] * (p - a)[0]) / max(np.hypot(*along), 1e-9))

        drawn = off_line(*(np.array(self.spots[n], float) for n in (name, one[0], other[0])))
        found = off_line(*(t[:2, 3] for t in (pose, one[1], other[1])))
        sure = SKETCHED[0] + SKETCHED[1] * self._apart(name, one[0])
        return drawn * found < 0 and min(abs(drawn), abs(found)) > sure


def read_spots(text: str) -> dict[str, tuple[float, float]]:
    """Spots of a field sketch from lines of name, x, y (metres; comma, semicolon, tab or blanks between; # begins a remark).

    Raises BadInput naming the line that cannot be read.
    """
    out: dict[str, tuple[float, float]] = {}
    for k, line in enumerate(text.splitlines(), 1):
        words = line.partition("#")[0]
        between = next((c for c in ";\t," if c in words), None)  # who puts semicolons may write a decimal comma
        parts = [w.strip() for w in (words.split(between) if between else words.rsplit(None, 2))]
        if not any(parts):
            continue
        try:
            x, y = (float(w if between == "," else w.replace(",", ".")) for w in parts[1:])
        except ValueError:
            x = y = np.nan
        if len(parts) != 3 or not parts[0] or not np.isfinite([x, y]).all():
            raise BadInput(
                f"line {k} of the sketch is no station with its place: {line.strip()[:60]!r}",
                subject="sketch",
                remedy="write name, x, y in metres, for example ST-01, 12.5, 3.0",
            )
        if parts[0] in out:
            raise BadInput(f"line {k} of the sketch names {parts[0]} again", subject="sketch", remedy="give each station one place")
        out[parts[0]] = (x, y)
    return out


def laid_on(spots: Mapping[str, tuple[float, float]], placed: Mapping[str, Array]) -> Array | None:
    """(2, 3) how a sketch lies on a plan: turned and moved, not scaled, so that its spots fall on the placed stations as well as they can
    (least squares). None with fewer than two of them, or when they lie on each other."""
    both = [n for n in placed if n in spots]
    if len(both) < 2:
        return None
    drawn = np.array([complex(*spots[n]) for n in both])
    found = np.array([complex(*placed[n][:2, 3]) for n in both])
    turn = np.vdot(drawn - drawn.mean(), found - found.mean())
    if abs(turn) < 1e-6:
        return None
    turn /= abs(turn)
    shift = found.mean() - turn * drawn.mean()
    return np.array([[turn.real, -turn.imag, shift.real], [turn.imag, turn.real, shift.imag]])


def in_body(body: Mapping[str, Array], name: str, pose: Array) -> dict[str, Array]:
    """Poses of all of a body whose member ``name`` stands at ``pose``."""
    T_out_body = pose @ frames.inverse(body[name])
    return {n: T_out_body @ t for n, t in body.items()}
