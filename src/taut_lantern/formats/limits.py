"""Between which values the intensity and the colours of a scan lie: what a file says, and what its points bear out."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray
from pye57 import libe57

HEADER, POINTS, DATA = "header", "description of the points", "data"
COLOURS = ("colorRed", "colorGreen", "colorBlue")
_GROUPS = (("intensity", "intensityLimits", ("intensity",)), ("colour", "colorLimits", COLOURS))
FEW = 1e-3  # share of points beyond the limits that are outliers, not a sign that the limits are wrong
NARROW = 0.02  # share of the limits' span: values that fill less lie in other units than the limits


@dataclass(frozen=True)
class Limits:
    """Between which values intensity and colour lie. said: who says so of intensity and of colour: header | points' own
    description | data; "" when nobody does (yet)."""

    low: float
    high: float
    top: float  # of the colours
    said: tuple[str, str]

    @property
    def scale(self) -> NDArray[np.float64]:
        """As the loop takes it: lowest intensity, its span, factor of the colours to 0..255."""
        span = self.high - self.low
        return np.array([self.low, span if span > 0 else 1.0, 255 / self.top if self.top > 0 else 1.0], float)

    @classmethod
    def of(cls, header: Any) -> Limits:
        """What the header says, else the bounds in the description of the points (E2807, 8.3.4: the prototype)."""
        given = {n: _in_header(header.node, group, names) for n, group, names in _GROUPS}
        described = {n: _in_prototype(libe57.StructureNode(header.points.prototype()), names) for n, _, names in _GROUPS}
        low, high, said = 0.0, 1.0, ""
        for source, found in ((HEADER, given["intensity"]), (POINTS, described["intensity"])):
            if not said and found is not None:
                (low, high), said = found, source
        top, said_colour = 255.0, ""
        for source, found in ((HEADER, given["colour"]), (POINTS, described["colour"])):
            if not said_colour and found is not None and found[1] > 0:
                top, said_colour = found[1], source
        return cls(low, high, top, (said, said_colour))


def _in_header(node: Any, group: str, names: tuple[str, ...]) -> tuple[float, float] | None:
    """Lowest and highest value as the header gives them; None when it does not, or they are none."""
    if not node.isDefined(group):
        return None
    ends = {end: [float(node[group][n + end].value()) for n in names if node[group].isDefined(n + end)] for end in ("Minimum", "Maximum")}
    return _span(ends["Minimum"], ends["Maximum"])


def _in_prototype(prototype: Any, names: tuple[str, ...]) -> tuple[float, float] | None:
    """Bounds of the fields in the description of the points; None where they are those of the number's type."""
    low, high = [], []
    for name in names:
        if not prototype.isDefined(name):
            return None
        field_ = prototype[name]
        scaled = isinstance(field_, libe57.ScaledIntegerNode)
        low.append(float(field_.scaledMinimum() if scaled else field_.minimum()))
        high.append(float(field_.scaledMaximum() if scaled else field_.maximum()))
    return _span(low, high) if max(map(abs, (*low, *high)), default=math.inf) < 2**32 else None


def _span(low: list[float], high: list[float]) -> tuple[float, float] | None:
    if not low or not high or not all(map(math.isfinite, (*low, *high))) or not max(high) > min(low):
        return None
    return min(low), max(high)


@dataclass(frozen=True)
class Seen:
    """What a reading found among ``kept`` points: lowest and highest intensity, highest colour, and how many of either lie
    beyond the limits it was read with; has: whether there is intensity, whether there are colours."""

    kept: int
    low: float
    high: float
    top: float
    beyond: int
    beyond_colour: int
    has: tuple[bool, bool]


def judged(used: Limits, seen: Seen) -> tuple[Limits, list[str], bool]:
    """Limits that the data bears out, what is to be said of those it does not, and whether to read again with them."""
    span, said = _intensity(used, seen)
    top, said_colour = _colour(used, seen)
    if span is None and top is None:
        return used, said + said_colour, False
    low, high = span or (used.low, used.high)
    sources = (DATA if span else used.said[0], DATA if top else used.said[1])
    return Limits(low, high, top or used.top, sources), said + said_colour, True


def _intensity(used: Limits, seen: Seen) -> tuple[tuple[float, float] | None, list[str]]:
    """Limits to use instead, if any, and what is to be said."""
    if not seen.has[0] or seen.high < seen.low or used.said[0] == DATA:
        return None, []
    many = seen.beyond > FEW * seen.kept
    wide = seen.kept >= 100 and seen.high - seen.low < NARROW * (used.high - used.low)
    if not used.said[0] or many or wide:
        # bounds of a number's type are no statement that could be wrong
        tell = used.said[0] == HEADER or (used.said[0] and many)
        said = [_wrong("intensity", used.said[0], used.low, used.high, seen.low, seen.high)] if tell else []
        return (seen.low, seen.high if seen.high > seen.low else seen.low + 1), said
    if seen.beyond:
        return None, [f"{seen.beyond:,} points are brighter or darker than the limits of the file; they stand at the limit"]
    return None, []


def _colour(used: Limits, seen: Seen) -> tuple[float | None, list[str]]:
    """The value of white to use instead, if any, and what is to be said."""
    if not seen.has[1] or used.said[1] == DATA:
        return None, []
    full = 255.0 if seen.top <= 255 else 65535.0  # one byte or two: what the data fills says nothing of white
    if (not used.said[1] and full != used.top) or seen.beyond_colour > FEW * seen.kept:
        return full, [_wrong("colour", used.said[1], 0, used.top, 0, seen.top)] if used.said[1] else []
    if seen.beyond_colour:
        return None, [f"{seen.beyond_colour:,} points have a colour beyond the limits of the file; it stands at the limit"]
    return None, []


def _wrong(what: str, source: str, low: float, high: float, found_low: float, found_high: float) -> str:
    return (
        f"the {source} of this scan gives limits of {what} from {low:g} to {high:g}, but its values go from {found_low:g} to "
        f"{found_high:g}: their own limits are used"
    )
