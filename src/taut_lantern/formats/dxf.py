"""DXF R2010 out: lines, polylines, circles, points and text on layers, in metres of the active grid."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from pathlib import Path

from ezdxf import units
from ezdxf.filemanagement import new
from ezdxf.math import OCS

from ..core.errors import BadInput
from ..core.frames import METRE_PER_UNIT
from .part import whole


@dataclass(frozen=True)
class Entity:
    """One drawn thing. points: (x, y, z) each, metres; circles carry radius and lie level, or upright when ``normal`` is given."""

    kind: str  # line | polyline | circle | point | text
    layer: str
    points: tuple[tuple[float, float, float], ...]
    radius: float = 0.0
    text: str = ""
    normal: tuple[float, float, float] = (0.0, 0.0, 1.0)
    attributes: dict[str, str] = field(default_factory=dict)


CODES = {"m": units.M, "mm": units.MM, "ft": units.FT, "us_ft": 21}
LAYER_COLOURS = {"wall": 7, "floor": 8, "pipe": 4, "steel": 5, "ground": 3, "to check": 6, "section": 9, "notes": 2}


def write(path: Path, entities: list[Entity], unit: str = "m", title: str = "") -> None:
    """Write entities. unit: m | mm | ft | us_ft; coordinates are divided accordingly and $INSUNITS says so (21 for the US
    survey foot)."""
    if unit not in CODES:
        raise BadInput(f"unknown unit {unit!r}", subject=title, remedy=f"use one of {', '.join(CODES)}")
    factor, code = 1 / METRE_PER_UNIT[unit], CODES[unit]
    doc = new("R2010", setup=True)
    doc.units = code
    doc.header["$MEASUREMENT"] = 0 if unit in ("ft", "us_ft") else 1
    space = doc.modelspace()
    for layer in sorted({layer_name(e.layer) for e in entities} | {"section"}):
        if layer not in doc.layers:
            doc.layers.add(layer, color=LAYER_COLOURS.get(layer, 7))
    if title:
        doc.ezdxf_metadata()["TITLE"] = title
    for e in entities:
        p = [tuple(factor * c for c in q) for q in e.points]
        style = {"layer": layer_name(e.layer)}
        if e.kind == "line":
            space.add_line(p[0], p[1], dxfattribs=style)
        elif e.kind == "polyline":
            space.add_polyline3d(p, dxfattribs=style)
        elif e.kind == "point":
            space.add_point(p[0], dxfattribs=style)
        elif e.kind == "text":
            space.add_text(e.text, height=0.15 * factor, dxfattribs={**style, "insert": p[0]})
        elif e.kind == "circle":
            if abs(e.normal[2]) > 0.999:
                space.add_circle(p[0], e.radius * factor, dxfattribs=style)
            else:  # an upright circle stands in its own coordinate system (arbitrary axis algorithm)
                ocs = OCS(e.normal)
                space.add_circle(ocs.from_wcs(p[0]), e.radius * factor, dxfattribs={**style, "extrusion": e.normal})
    with whole(path) as part:
        doc.saveas(part)


def layer_name(name: str) -> str:
    """A layer's name without the characters that DXF does not allow in names."""
    return re.sub(r'[<>/\\":;?*|=`,]', "-", name).strip() or "0"
