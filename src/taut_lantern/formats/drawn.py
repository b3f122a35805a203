"""What is handed over of a drawing: shapes of a section where they lie, and points and lines in space."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..core.draw.shapes import Shape

Array = NDArray[np.float64]


@dataclass(frozen=True)
class Drawn:
    """A shape on a layer. T_frame_section: 4x4, to the coordinates it is handed over in, metres (a frame may stretch). dashed: guessed,
    bridged, or nobody has said yes to it; words: the text of a dimension."""

    shape: Shape
    layer: str
    T_frame_section: Array
    dashed: bool = False
    words: str = ""


@dataclass(frozen=True)
class Entity:
    """A thing in space: polyline, point, text, a tube of a radius round an axis, a ball of one, or a prism: its outline at one end, then at the
    other. points: (x, y, z) each, metres; bends: of a tube, the radius of its axis at each inner corner where that is known; dashed: as of
    ``Drawn``."""

    kind: str
    layer: str
    points: tuple[tuple[float, float, float], ...]
    text: str = ""
    radius: float = 0.0
    bends: tuple[float | None, ...] = ()
    dashed: bool = False


@dataclass(frozen=True)
class Underlay:
    """A picture that lies below a drawing: file name, size in pixels, and from its lower left corner the steps of a pixel along and up, each
    (3,), metres in the drawing's coordinates."""

    name: str
    wide: int
    tall: int
    corner: Array
    along: Array
    up: Array


@dataclass(frozen=True)
class Drawing:
    """All of it. layers: see core.draw.layers; title: what it is called in the file."""

    drawn: list[Drawn] = field(default_factory=list)
    space: list[Entity] = field(default_factory=list)
    layers: list[dict[str, object]] = field(default_factory=list)
    underlays: list[Underlay] = field(default_factory=list)
    title: str = ""
