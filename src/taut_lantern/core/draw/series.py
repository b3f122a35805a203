"""Standard diameters of tubes, and when one may be named."""

from __future__ import annotations

import math

from .fit import Circle

# Outside diameters of steel tubes, millimetres (ISO 4200, series 1).
SERIES = (21.3, 26.9, 33.7, 42.4, 48.3, 60.3, 76.1, 88.9, 114.3, 139.7, 168.3, 219.1, 273.0, 323.9, 355.6, 406.4, 457.0, 508.0, 610.0)


def nominal(circle: Circle) -> float | None:
    """The diameter (metres) of the standard series that a circle has, when its fit allows one and only one; else None."""
    error = circle.rms / math.sqrt(max(circle.points, 1)) * (4.0 if circle.share < 0.5 else 2.0)
    own = 1000 * 2 * circle.radius
    near = [d for d in SERIES if abs(d - own) < max(3 * 1000 * 2 * error, 1.0, 0.01 * own)]
    return near[0] / 1000 if len(near) == 1 else None
