"""DXF out (R2018, or R12 for old readers) and layer lists in."""

from __future__ import annotations

import io
import re
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from ezdxf import recover, units
from ezdxf.colors import aci2rgb, rgb2int
from ezdxf.document import Drawing as Document
from ezdxf.enums import TextEntityAlignment
from ezdxf.filemanagement import new
from ezdxf.lldxf.const import DXFError
from ezdxf.math import Matrix44, Vec3
from ezdxf.render.arrows import ARROWS
from ezdxf.render.forms import sphere
from ezdxf.render.mesh import MeshBuilder
from numpy.typing import NDArray

from ..core import frames
from ..core.draw.shapes import TEXT, Shape, linear_turn, plain, spline
from ..core.errors import BadInput
from ..core.frames import METRE_PER_UNIT
from . import sealed
from .bodies import Body, solid_of, tube
from .drawn import Drawing, Drawn, Entity, Underlay
from .part import whole

Array = NDArray[np.float64]
CODES = {"m": units.M, "mm": units.MM, "ft": units.FT, "us_ft": 21}
VERSIONS = {"R2018": "R2018", "R12": "R12"}
TYPES = {"continuous": "Continuous", "dashed": "DASHED", "dotted": "DOT", "dash-dot": "DASHDOT"}
OURS = {"section": 9, "notes": 2, "design": 4}  # layers that we add ourselves, by their colour number
SECONDS, MEMORY = 30.0, 1 << 30  # that a list of layers may take
BLOCKS = {"tick": ARROWS.oblique, "arrow": ARROWS.closed_filled, "dot": ARROWS.dot}  # at the ends of dimensions
SIDES = 24  # of a tube
PATTERN = 0.15  # metres that a pattern repeats in


def write(path: Path, drawing: Drawing, unit: str = "m", version: str = "R2018") -> None:
    """Write a drawing. unit: m | mm | ft | us_ft; coordinates are divided accordingly and $INSUNITS says so (21 for the US survey foot).
    version: R2018 | R12; what R12 does not know (splines, ellipses, hatches, pictures) goes out as its lines, pictures are left out."""
    if unit not in CODES or version not in VERSIONS:
        remedy = f"use one of {', '.join(CODES if unit not in CODES else VERSIONS)}"
        raise BadInput(
            f"unknown {'unit' if unit not in CODES else 'version'} {unit if unit not in CODES else version!r}",
            subject=drawing.title,
            remedy=remedy,
        )
    factor = 1 / METRE_PER_UNIT[unit]
    doc = new(VERSIONS[version], setup=True)
    doc.units = CODES[unit]
    doc.header["$MEASUREMENT"] = 0 if unit in ("ft", "us_ft") else 1
    doc.header["$LTSCALE"] = PATTERN * factor
    _layers(doc, drawing)
    if drawing.title:
        doc.ezdxf_metadata()["TITLE"] = drawing.title
    space = doc.modelspace()
    for e in drawing.space:
        p = [tuple(factor * c for c in q) for q in e.points]
        style = {"layer": layer_name(e.layer)}
        if e.dashed:
            style["linetype"] = "DASHED"
        if e.kind == "polyline":
            space.add_polyline3d(p, dxfattribs=style)
        elif e.kind == "point":
            space.add_point(p[0], dxfattribs=style)
        elif e.kind == "tube":
            _tube(space, e, factor, style)
        elif e.kind == "ball":
            sphere(24, 12, e.radius * factor).translate(*p[0]).render_polyface(space, dxfattribs=style)
        elif e.kind == "prism":
            _prism(e.points, factor).render_polyface(space, dxfattribs=style)
        else:
            space.add_text(e.text, height=TEXT * factor, dxfattribs={**style, "insert": p[0]})
    for d in drawing.drawn:
        _add(space, d, factor, version)
    for u in drawing.underlays if version != "R12" else []:
        _picture(doc, space, u, factor)
    with whole(path) as part:
        doc.saveas(part)


def _tube(space: Any, e: Entity, factor: float, style: dict[str, Any]) -> None:
    """A tube as closed faces: round at bends of known radius, by a ball at the other corners."""
    at = np.array(e.points[0])  # faces are made near it: far from the origin they lose their tenth of a millimetre
    pieces, corners = tube(np.array(e.points) - at, e.radius, e.bends, SIDES)
    for piece in pieces:
        _faces((piece[0] + at) * factor, piece[1]).render_polyface(space, dxfattribs=style)
    for q in corners:
        sphere(SIDES, SIDES // 2, e.radius * factor).translate(*((q + at) * factor)).render_polyface(space, dxfattribs=style)


def _faces(corners: Array, faces: NDArray[np.int64]) -> MeshBuilder:
    out = MeshBuilder()
    out.add_mesh(vertices=[Vec3(*v) for v in corners], faces=[[int(n) for n in f] for f in faces])
    return out


def _prism(points: tuple[tuple[float, float, float], ...], factor: float) -> MeshBuilder:
    """The faces of a prism from its outline at both ends."""
    both = np.array(points)
    k = len(both) // 2
    corners, faces = solid_of(Body("prism", "", both[:k], 0.0, {}, both[k] - both[0]))
    return _faces(corners * factor, faces)


def _layers(doc: Document, drawing: Drawing) -> None:
    known = {layer_name(str(x["name"])): x for x in drawing.layers}
    used = {layer_name(d.layer) for d in drawing.drawn} | {layer_name(e.layer) for e in drawing.space}
    for name in sorted(used | set(known) | {"section"}):
        row = known.get(name)
        layer = doc.layers.get(name) if name in doc.layers else doc.layers.add(name, color=OURS.get(name, 7))
        if row is None:
            continue
        rgb = _rgb(str(row["colour"]))
        layer.dxf.color = nearest_number(rgb)
        layer.dxf.linetype = TYPES[str(row["line_type"])]
        if doc.dxfversion > "AC1009":
            layer.dxf.true_color = rgb2int(rgb)
            layer.dxf.lineweight = int(round(100 * float(str(row["weight"]))))


def _rgb(colour: str) -> tuple[int, int, int]:
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)


def nearest_number(rgb: tuple[int, int, int]) -> int:
    """The colour number (1 to 255) that is nearest; 7, which is black on paper, for what is nearly black."""
    if max(rgb) < 60:
        return 7
    all_ = np.array([tuple(aci2rgb(k)) for k in range(1, 256)], float)
    return 1 + int(np.argmin(((all_ - rgb) ** 2).sum(axis=1)))


def _add(space: Any, d: Drawn, factor: float, version: str) -> None:
    """One shape: built in its own plane in the file's unit, then laid where it belongs. What a file of R12 does not know, and texts of
    measures, are plain lines."""
    stretch = frames.stretch(d.T_frame_section)
    f = factor * stretch
    m = np.array(d.T_frame_section, float)
    m[:3, :3] /= stretch
    m[:3, 3] *= factor
    lay = Matrix44(m.T.ravel())
    style: dict[str, Any] = {"layer": layer_name(d.layer)}
    if d.dashed:
        style["linetype"] = "DASHED"
    made = _made(space, d, f, style, version)
    if made is None:
        flat = plain(d.shape, words=d.words)
        lines = (
            [space.add_lwpolyline([(f * x, f * y) for x, y in line], dxfattribs=style) for line in flat.lines]
            if version != "R12"
            else [space.add_polyline2d([(f * x, f * y) for x, y in line], dxfattribs=style) for line in flat.lines]
        )
        made = [*lines, *(_letters(space, x, f, style) for x in flat.letters)]
    for e in made:
        e.transform(lay)


def _letters(space: Any, x: Any, f: float, style: dict[str, Any]) -> Any:
    text = space.add_text(x.text, height=x.height * f, rotation=float(np.degrees(x.turn)), dxfattribs=style)
    at = (f * x.at[0], f * x.at[1])
    if x.middle:
        text.set_placement(at, align=TextEntityAlignment.MIDDLE_CENTER)
    else:
        text.dxf.insert = at
    return text


def _made(space: Any, d: Drawn, f: float, style: dict[str, Any], version: str) -> list[Any] | None:
    """The file's own entity for a shape, in the shape's plane; None when it has none."""
    s = d.shape
    p = [(f * x, f * y) for x, y in s.points]
    if s.kind == "line":
        return [space.add_line(p[0], p[1], dxfattribs=style)]
    if s.kind == "point":
        return [space.add_point(p[0], dxfattribs=style)]
    if s.kind == "polyline":
        bulges = [*(s.more.get("bulges") or []), *[0.0] * len(p)]
        corners = [(x, y, k) for (x, y), k in zip(p, bulges, strict=False)]
        add = space.add_polyline2d if version == "R12" else space.add_lwpolyline
        return [add(corners, format="xyb", close=s.closed, dxfattribs=style)]
    if s.kind == "circle":
        return [space.add_circle(p[0], s.radius * f, dxfattribs=style)]
    if s.kind == "arc":
        start, end = (float(np.degrees(s.more[k])) for k in ("start", "end"))
        return [space.add_arc(p[0], s.radius * f, start, end, dxfattribs=style)]
    if s.kind == "dimension":
        return _dimension(space, d, f, style, p)
    if version == "R12" or s.kind in ("text", "picture"):
        return None
    if s.kind == "ellipse":
        return [space.add_ellipse(p[0], (p[1][0] - p[0][0], p[1][1] - p[0][1]), float(s.more["ratio"]), dxfattribs=style)]
    if s.kind == "spline":
        return [_spline(space, s, f, style)]
    hatch = space.add_hatch(dxfattribs=style)
    if s.more.get("pattern") != "solid":
        hatch.set_pattern_fill("ANSI31", scale=0.05 * f)
    hatch.paths.add_polyline_path(p, is_closed=True)
    return [hatch]


def _spline(space: Any, s: Shape, f: float, style: dict[str, Any]) -> Any:
    curve = spline(s)
    made = space.add_spline(degree=curve.k, dxfattribs=style)
    made.control_points = [(f * float(x), f * float(y), 0.0) for x, y in np.asarray(curve.c).reshape(-1, 2)]
    made.knots = [float(t) for t in curve.t]
    return made


def _dimension(space: Any, d: Drawn, f: float, style: dict[str, Any], p: list[tuple[float, float]]) -> list[Any] | None:
    """A dimension as such, with its text as we say it; level marks and leaders are lines and a text."""
    s, measure = d.shape, d.shape.more["measure"]
    high, round_ = float(s.more.get("height") or TEXT) * f, "dot" if s.more.get("ends") == "dot" else "arrow"
    look = {
        "dimtxt": high,
        "dimasz": high * 0.8,
        "dimexo": high * 0.3,
        "dimexe": high * 0.3,
        "dimgap": high * 0.25,
        "dimscale": 1.0,
        "dimlfac": 1.0,
        "dimtsz": 0.0,
        "dimblk": BLOCKS[s.more.get("ends") or "tick"] if measure in ("aligned", "linear") else BLOCKS[round_],
    }
    common: dict[str, Any] = {"text": d.words or "<>", "override": look, "dxfattribs": style}
    if measure in ("level", "leader"):
        return None
    if measure == "aligned":
        a, b, at = (np.array(q) for q in p)
        along = (b - a) / max(float(np.linalg.norm(b - a)), 1e-12)
        off = float((at - a) @ np.array([-along[1], along[0]]))
        made = space.add_aligned_dim(p1=p[0], p2=p[1], distance=off, **common)
    elif measure == "linear":
        made = space.add_linear_dim(base=p[2], p1=p[0], p2=p[1], angle=float(np.degrees(linear_turn(s))), **common)
    elif measure == "radius":
        made = space.add_radius_dim(center=p[0], mpoint=p[1], **common)
    else:
        made = space.add_angular_dim_3p(base=p[3], center=p[0], p1=p[1], p2=p[2], **common)
    made.render()
    return [made.dimension]


def _picture(doc: Document, space: Any, u: Underlay, factor: float) -> None:
    known = doc.add_image_def(filename=u.name, size_in_pixel=(u.wide, u.tall))
    image = space.add_image(known, insert=tuple(factor * u.corner), size_in_units=(1, 1), dxfattribs={"layer": "section"})
    image.dxf.u_pixel, image.dxf.v_pixel = Vec3(factor * u.along), Vec3(factor * u.up)


def layer_name(name: str) -> str:
    """A layer's name without the characters that DXF does not allow in names."""
    return re.sub(r'[<>/\\":;?*|=`,]', "-", name).strip() or "0"


def layers_of(path: Path) -> list[dict[str, Any]]:
    """The layers of a DXF file, as a list that can be drawn with, read in a sealed process. BadInput when it is none, or has none of its own."""
    _warm()
    told, _ = sealed.run(lambda seal: {"layers": layers_in(path.read_bytes())}, path, "layers", SECONDS, MEMORY)
    return list(told["layers"])


@cache
def _warm() -> None:
    """Read a small drawing: a sealed process loads no code any more."""
    doc = new("R2018", setup=True)
    doc.layers.add("small")
    out = io.StringIO()
    doc.write(out)
    layers_in(out.getvalue().encode())


def layers_in(data: bytes) -> list[dict[str, Any]]:
    """The same, read here."""
    try:
        doc, _ = recover.read(io.BytesIO(data))
    except (DXFError, OSError, ValueError, KeyError, IndexError, UnicodeError):
        raise BadInput("this is no DXF file that can be read", subject="layers", remedy="save it anew as DXF, ASCII or binary") from None
    back = {v.casefold(): k for k, v in TYPES.items()}
    out = []
    for layer in doc.layers:
        if layer.dxf.name.casefold() in ("defpoints", "0"):
            continue
        rgb = layer.rgb or tuple(aci2rgb(abs(layer.color) if 1 <= abs(layer.color) <= 255 else 7))
        colour = "#1e2530" if min(rgb) > 235 else "#{:02x}{:02x}{:02x}".format(*rgb)
        weight = layer.dxf.get("lineweight", -3)
        out.append(
            {
                "name": layer.dxf.name,
                "colour": colour,
                "line_type": back.get(str(layer.dxf.linetype).casefold(), "continuous"),
                "weight": weight / 100 if weight > 0 else 0.25,
                "locked": layer.is_locked(),
                "shown": not (layer.is_off() or layer.is_frozen()),
            }
        )
    if not out:
        raise BadInput("this drawing has no layers of its own", subject="layers", remedy="choose another one")
    return out
