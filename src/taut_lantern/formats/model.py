"""Design models in: IFC (ISO 16739-1), DXF, and meshes as OBJ, STL, PLY, glTF (binary). What has no faces is left out and counted."""

from __future__ import annotations

import io
import tempfile
from collections.abc import Callable, Iterator
from functools import cache
from pathlib import Path
from typing import Any

import numpy as np
from ezdxf.filemanagement import new
from ezdxf.render.forms import cube
from numpy.typing import NDArray

from ..core.draw.model import Mesh
from ..core.errors import BadInput, LanternError
from ..core.frames import METRE_PER_UNIT
from . import sealed
from .bodies import UPRIGHT, Body, ifc

Array = NDArray[np.float64]
Part = tuple[str, Array, NDArray[np.int64]]  # name, vertices (n, 3) and faces (m, 3) of an element
MESHES = (".obj", ".stl", ".ply", ".glb")
SUFFIXES = (".ifc", ".dxf", *MESHES)
MOST = 3_000_000  # faces
SECONDS, MEMORY = 300.0, 4 << 30  # that a file may take
WITH_FACES = ("3DFACE", "SOLID", "TRACE", "MESH", "POLYLINE", "LINE", "LWPOLYLINE", "CIRCLE", "ARC")  # with a thickness, the last ones
INSUNITS = {1: 0.0254, 2: 0.3048, 4: 0.001, 5: 0.01, 6: 1.0, 21: 1200 / 3937}


def read(path: Path, name: str, unit: str | None = None, report: Callable[[int, int], None] = lambda done, total: None) -> tuple[Mesh, str]:
    """(the model in metres, in the coordinates of its file; how long its lengths were taken to be), read in a sealed process. unit: of the
    file's lengths; None: as the file says, else metres. BadInput names what is wrong with it. report may raise to stop it."""
    suffix = Path(name).suffix.lower()
    if suffix not in SUFFIXES:
        kinds = ", ".join(x[1:].upper() for x in SUFFIXES)
        raise BadInput(f"{name} is no model that can be read", subject=name, remedy=f"bring it as {kinds}")
    _warm(suffix)
    told, block = sealed.run(lambda seal: _sealed(seal, path, name, unit), path, name, SECONDS, MEMORY, report)
    with np.load(io.BytesIO(block[:] if block is not None else b""), allow_pickle=False) as z:
        return Mesh(z["vertices"], z["faces"], z["element"], tuple(told["names"])), str(told["unit"])


def _sealed(seal: sealed.Seal, path: Path, name: str, unit: str | None) -> dict[str, Any]:
    mesh, found = _read(path, name, unit)
    out = io.BytesIO()
    np.savez(out, vertices=mesh.vertices, faces=mesh.faces, element=mesh.element)
    seal.block(len(out.getvalue()))[:] = out.getvalue()
    return {"names": list(mesh.names), "unit": found}


@cache
def _warm(suffix: str) -> None:
    """Read a small model of the same kind: a sealed process loads no code any more."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / f"small{suffix}"
        if suffix == ".ifc":
            ifc(path, "small", "", [Body("tube", "small", np.array([[0.0, 0, 0], [1, 0, 0], [1, 1, 0]]), 0.1, {})])
            for schema in ("IFC2X3", "IFC4X3"):  # each has a reader of its own
                _small_ifc(Path(folder) / f"{schema}.ifc", schema)
                _read(Path(folder) / f"{schema}.ifc", f"{schema}.ifc", None)
        elif suffix == ".dxf":
            doc = new()
            cube().render_polyface(doc.modelspace())
            cube().render_mesh(doc.modelspace())
            cube().render_3dfaces(doc.blocks.new("small"))
            doc.modelspace().add_blockref("small", (3, 0))
            doc.modelspace().add_lwpolyline([(0, 0), (1, 0, 0.2, 0.2, 0.5), (1, 1)], dxfattribs={"thickness": 1})
            doc.modelspace().add_line((0, 0), (1, 1), dxfattribs={"thickness": 1})
            doc.modelspace().add_circle((0, 0), 1, dxfattribs={"thickness": 1})
            doc.saveas(path)
        else:
            import trimesh

            trimesh.creation.box().export(path)
        _read(path, path.name, None)


def _small_ifc(path: Path, schema: str) -> None:
    """A block of a schema, in millimetres."""
    import ifcopenshell
    import ifcopenshell.guid

    made: Any = ifcopenshell.file
    f = made(schema=schema)
    at = f.createIfcAxis2Placement3D(f.createIfcCartesianPoint([0.0, 0.0, 0.0]))
    context = f.createIfcGeometricRepresentationContext(None, "Model", 3, 1e-5, at, None)
    units = f.createIfcUnitAssignment([f.createIfcSIUnit(None, "LENGTHUNIT", "MILLI", "METRE")])
    f.create_entity("IfcProject", GlobalId=ifcopenshell.guid.new(), RepresentationContexts=[context], UnitsInContext=units)
    flat = f.createIfcAxis2Placement2D(f.createIfcCartesianPoint([0.0, 0.0]))
    solid = f.createIfcExtrudedAreaSolid(
        f.createIfcRectangleProfileDef("AREA", None, flat, 1000.0, 500.0), at, f.createIfcDirection([0.0, 0.0, 1.0]), 300.0
    )
    shape = f.createIfcProductDefinitionShape(None, None, [f.createIfcShapeRepresentation(context, "Body", "SweptSolid", [solid])])
    place = f.createIfcLocalPlacement(None, at)
    f.create_entity("IfcBuildingElementProxy", GlobalId=ifcopenshell.guid.new(), Name="block", ObjectPlacement=place, Representation=shape)
    f.write(str(path))


def _read(path: Path, name: str, unit: str | None) -> tuple[Mesh, str]:
    suffix = Path(name).suffix.lower()
    try:
        parts, own = {".ifc": _ifc, ".dxf": _dxf}.get(suffix, _mesh)(path, suffix)
    except LanternError:
        raise
    except Exception as problem:  # whatever a reader of somebody's file falls over
        word = str(problem).splitlines()[0][:120] if str(problem) else type(problem).__name__
        raise BadInput(
            f"{name} cannot be read: {word}", subject=name, remedy="save it anew, or as another kind", code="unreadable"
        ) from problem
    metre = METRE_PER_UNIT[unit] if unit else own or 1.0
    vertices, faces, element = [], [], []
    names: list[str] = []
    shift = 0
    for title, v, f in parts:
        if not len(f):
            continue
        if f.min() < 0 or f.max() >= len(v):
            raise BadInput(f"{name} has faces of corners that it does not hold", subject=name, remedy="save it anew", code="unreadable")
        vertices.append(v * metre)
        faces.append(f + shift)
        element.append(np.full(len(f), len(names)))
        names.append(title)
        shift += len(v)
        if sum(len(x) for x in faces) > MOST:
            raise BadInput(
                f"{name} has more than {MOST:,} faces", subject=name, remedy="split it, or save it more coarsely", code="too_large"
            )
    if not faces:
        remedy = "save solids as meshes (3DFACE, polyface or MESH)" if suffix == ".dxf" else "save it with its surfaces"
        raise BadInput(f"{name} has no faces", subject=name, remedy=remedy, code="no_faces")
    mesh = Mesh(np.concatenate(vertices), np.concatenate(faces), np.concatenate(element), tuple(_told(names)))
    return mesh.sound(), unit or {1.0: "m", 0.001: "mm", 0.3048: "ft"}.get(metre, f"{metre:g} m")


def _told(names: list[str]) -> Iterator[str]:
    """The same with numbers behind those that come more than once."""
    seen: dict[str, int] = {}
    for n in (" ".join(x.split())[:80] or "surface" for x in names):
        seen[n] = seen.get(n, 0) + 1
        yield n if seen[n] == 1 else f"{n} ({seen[n]})"


def _mesh(path: Path, suffix: str) -> tuple[list[Part], float | None]:
    import trimesh

    apart: Any = {"split_objects": True, "group_material": False} if suffix == ".obj" else {}
    scene: Any = trimesh.load_scene(path, file_type=suffix[1:], process=False, **apart)
    parts: list[Part] = []
    y_up = suffix == ".glb"  # glTF 2.0, 3.4
    at = np.array(scene.metadata.get("origin", (0, 0, 0)), float) if y_up else np.zeros(3)
    for node in scene.graph.nodes_geometry:
        there, key = scene.graph[node]
        it = scene.geometry[key]
        if not isinstance(it, trimesh.Trimesh):
            continue
        v = np.asarray(it.vertices, float) @ there[:3, :3].T + there[:3, 3]
        parts.append((str(node), v @ UPRIGHT + at if y_up else v, np.asarray(it.faces, np.int64)))
    return parts, 1.0 if y_up else None


def _ifc(path: Path, suffix: str) -> tuple[list[Part], float | None]:
    import ifcopenshell
    import ifcopenshell.geom

    f: Any = ifcopenshell.open(str(path))
    if isinstance(f, ifcopenshell.sqlite) or not f.by_type("IfcProduct"):
        raise BadInput("this IFC holds no elements", subject="model", remedy="save it anew", code="no_faces")
    kernel: Any = ifcopenshell.geom
    settings = kernel.settings()
    settings.set("use-world-coords", True)
    turned, at = _map(f)
    leave = [x for kind in ("IfcOpeningElement", "IfcSpace", "IfcAnnotation", "IfcGrid") for x in f.by_type(kind)]
    walk = kernel.iterator(settings, f, 2, exclude=leave) if leave else kernel.iterator(settings, f, 2)
    parts: list[Part] = []
    if walk.initialize():
        while True:
            shape = walk.get()
            v = np.array(shape.geometry.verts, float).reshape(-1, 3)
            product = f.by_id(shape.id)
            kind = product.is_a().removeprefix("Ifc")
            parts.append(
                (
                    f"{product.Name or kind}, {kind}" if product.Name else kind,
                    v @ turned.T + at,
                    np.array(shape.geometry.faces, np.int64).reshape(-1, 3),
                )
            )
            if not walk.next():
                break
    return parts, 1.0  # its geometry comes in metres, whatever its unit


def _map(f: Any) -> tuple[Array, Array]:
    """(turn (3, 3), origin (3,)) of the coordinates that an IFC says its own lie in; nothing when it says none."""
    found = f.by_type("IfcMapConversion") if f.schema != "IFC2X3" else []
    if not found:
        return np.eye(3), np.zeros(3)
    m = found[0]
    import ifcopenshell.util.unit

    metre = float(ifcopenshell.util.unit.calculate_unit_scale(f))
    crs = getattr(m, "TargetCRS", None)
    if crs is not None and getattr(crs, "MapUnit", None) is not None:
        metre = float(ifcopenshell.util.unit.convert(1.0, getattr(crs.MapUnit, "Prefix", None), crs.MapUnit.Name, None, "METRE"))
    x, y = float(m.XAxisAbscissa or 1.0), float(m.XAxisOrdinate or 0.0)
    long = float(np.hypot(x, y)) or 1.0
    turn = np.array([[x / long, -y / long, 0], [y / long, x / long, 0], [0, 0, 1.0]])
    return turn, metre * np.array([m.Eastings, m.Northings, m.OrthogonalHeight], float)


def _dxf(path: Path, suffix: str) -> tuple[list[Part], float | None]:
    from ezdxf import disassemble, recover

    doc, _ = recover.readfile(path)
    layers: dict[str, list[tuple[Array, NDArray[np.int64]]]] = {}
    own = (e for e in doc.modelspace() if e.dxftype() in (*WITH_FACES, "INSERT"))
    for p in disassemble.to_primitives(e for e in disassemble.recursive_decompose(own) if e.dxftype() in WITH_FACES):
        mesh: Any = p.mesh
        if mesh is not None and mesh.faces:
            corners, sides = [tuple(x) for x in mesh.vertices], [list(face) for face in mesh.faces]
        elif p.entity.dxftype() in ("3DFACE", "SOLID", "TRACE"):
            flat: Any = p.entity
            corners = [tuple(x) for x in flat.wcs_vertices()]
            sides = [list(range(len(corners)))]
        else:
            continue
        v = np.array(corners, float).reshape(-1, 3)
        f = np.array([(face[0], a, b) for face in sides for a, b in zip(face[1:], face[2:], strict=False)], np.int64).reshape(-1, 3)
        layers.setdefault(p.entity.dxf.get("layer", "0"), []).append((v, f))
    parts: list[Part] = []
    for name, pieces in layers.items():
        shifts = np.cumsum([0, *(len(v) for v, _ in pieces)])
        parts.append(
            (name, np.concatenate([v for v, _ in pieces]), np.concatenate([f + k for (_, f), k in zip(pieces, shifts, strict=False)]))
        )
    return parts, INSUNITS.get(int(doc.header.get("$INSUNITS", 0)))
