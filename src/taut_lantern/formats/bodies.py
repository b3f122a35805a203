"""Things in space as solids and lines that other programs know: IFC 4 (ISO 16739-1) and glTF 2.0 (binary, Khronos Group).

Both are in metres and counted from an origin near what is handed over, so that five million metres keep their tenth of a millimetre. The IFC
says the origin as a map conversion (eastings, northings, height); the glTF, whose numbers are single floats and whose Y is up, as ``origin`` in
the extras of its scene.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .part import whole

Array = NDArray[np.float64]
Values = dict[str, str | int | float]
UPRIGHT = np.array([[1.0, 0, 0], [0, 0, 1], [0, -1, 0]])  # to axes whose Y is up
ROUND = 48  # sides of a tube


@dataclass(frozen=True)
class Body:
    """kind: tube (runs of one radius round the corners of an axis), line, area (a line that closes) or point. points (n, 3): metres in the
    coordinates that it is handed over in; values: what was measured of it, by name."""

    kind: str
    name: str
    points: Array
    radius: float
    values: Values


def origin(bodies: list[Body]) -> Array:
    """(3,): whole metres near all of it."""
    return np.asarray(np.floor(np.concatenate([b.points for b in bodies]).mean(axis=0)))


def ifc(path: Path, title: str, frame: str, bodies: list[Body]) -> None:
    """Tubes as pipe segments and bends, each pipe a system with what was measured of it; lines, areas and points as annotations. frame: what the
    coordinates are called."""
    import ifcopenshell.api.aggregate  # large: only who delivers one waits for it
    import ifcopenshell.api.context
    import ifcopenshell.api.georeference
    import ifcopenshell.api.project
    import ifcopenshell.api.pset
    import ifcopenshell.api.root
    import ifcopenshell.api.spatial
    import ifcopenshell.api.system
    import ifcopenshell.api.unit

    api, at = ifcopenshell.api, origin(bodies)
    f: Any = api.project.create_file("IFC4")

    def made(kind: str, name: str) -> Any:
        return api.root.create_entity(f, ifc_class=kind, name=name)

    project = made("IfcProject", title)
    api.unit.assign_unit(f, length={"is_metric": True, "raw": "METERS"})
    model = api.context.add_context(f, context_type="Model")
    solid = api.context.add_context(f, "Model", "Body", "MODEL_VIEW", parent=model)
    drawn = api.context.add_context(f, "Model", "Annotation", "MODEL_VIEW", parent=model)
    api.georeference.add_georeferencing(f)
    api.georeference.edit_georeferencing(
        f,
        coordinate_operation={"Eastings": at[0], "Northings": at[1], "OrthogonalHeight": at[2], "Scale": 1.0},
        projected_crs={"Name": frame},
    )
    site, building = made("IfcSite", title), made("IfcBuilding", title)
    api.aggregate.assign_object(f, products=[site], relating_object=project)
    api.aggregate.assign_object(f, products=[building], relating_object=site)

    def point(p: Array) -> Any:
        return f.createIfcCartesianPoint([float(v) for v in p])

    def placed(kind: str, name: str, p: Array, context: Any, what: tuple[str, str], item: Any, z: Array | None = None) -> Any:
        """An element with one shape; z: where the shape's own axis points."""
        it = made(kind, name)
        turn = [f.createIfcDirection([float(v) for v in way]) for way in ((z, _across(z)) if z is not None else ())]
        it.ObjectPlacement = f.createIfcLocalPlacement(None, f.createIfcAxis2Placement3D(point(p), *turn))
        shape = f.createIfcShapeRepresentation(context, *what, [item])
        it.Representation = f.createIfcProductDefinitionShape(None, None, [shape])
        return it

    def tube(b: Body) -> list[Any]:
        p, out = apart(b.points - at), []
        for k, (one, other) in enumerate(zip(p, p[1:], strict=False), start=1):
            long = float(np.linalg.norm(other - one))
            circle = f.createIfcCircleProfileDef("AREA", None, f.createIfcAxis2Placement2D(f.createIfcCartesianPoint([0.0, 0.0])), b.radius)
            item = f.createIfcExtrudedAreaSolid(circle, None, f.createIfcDirection([0.0, 0.0, 1.0]), long)
            out.append(placed("IfcPipeSegment", f"{b.name}, run {k}", one, solid, ("Body", "SweptSolid"), item, (other - one) / long))
            out[-1].PredefinedType = "RIGIDSEGMENT"
        for k, angle in enumerate(turns(p), start=1):
            ball = f.createIfcSphere(f.createIfcAxis2Placement3D(point(np.zeros(3))), b.radius)
            item = f.createIfcCsgSolid(ball)
            out.append(placed("IfcPipeFitting", f"{b.name}, bend {k} of {angle:.1f} degrees", p[k], solid, ("Body", "CSG"), item))
            out[-1].PredefinedType = "BEND"
        system = api.system.add_system(f, ifc_class="IfcDistributionSystem")
        system.Name = b.name
        api.system.assign_system(f, products=out, system=system)
        return out

    for b in bodies:
        if b.kind == "tube":
            parts = tube(b)
        else:
            p = b.points - at
            rest = [point(q - p[0]) for q in p]
            item = rest[0] if b.kind == "point" else f.createIfcPolyline([*rest, rest[0]] if b.kind == "area" else rest)
            parts = [placed("IfcAnnotation", b.name, p[0], drawn, ("Annotation", "Point" if b.kind == "point" else "Curve3D"), item)]
        for part in parts:
            if b.values:
                api.pset.edit_pset(f, pset=api.pset.add_pset(f, product=part, name="Measured"), properties=b.values)
        api.spatial.assign_container(f, products=parts, relating_structure=building)
    with whole(path) as out:
        f.write(str(out))


def glb(path: Path, title: str, frame: str, bodies: list[Body]) -> None:
    """Tubes as closed meshes, a ball at each bend; lines as lines. What was measured stands in the extras of each mesh."""
    import trimesh

    at = origin(bodies)
    scene: Any = trimesh.Scene()
    for b in bodies:
        p = (b.points - at) @ UPRIGHT.T
        name = b.name if b.name not in scene.geometry else f"{b.name} ({len(scene.geometry) + 1})"  # what shares a name would replace it
        if b.kind == "tube":
            p = apart(p)
            pieces = [trimesh.creation.cylinder(b.radius, segment=s, sections=ROUND) for s in zip(p, p[1:], strict=False)]
            pieces += [trimesh.creation.icosphere(3, b.radius).apply_translation(q) for q in p[1:-1]]
            it = trimesh.util.concatenate(pieces)
        elif b.kind == "point" or len(apart(p)) < 2:
            it = trimesh.creation.icosphere(1, 0.01).apply_translation(p[0])
        else:
            it = trimesh.load_path(np.vstack([p, p[:1]]) if b.kind == "area" else p)
        it.metadata = dict(b.values)
        scene.add_geometry(it, node_name=name, geom_name=name)
    scene.metadata = {"title": title, "coordinates": frame, "origin": at.tolist(), "unit": "m"}
    with whole(path) as out:
        out.write_bytes(scene.export(file_type="glb"))


def apart(points: Array) -> Array:
    """A line without places that repeat the one before."""
    keep = np.r_[True, np.linalg.norm(np.diff(points, axis=0), axis=1) > 1e-6]
    return np.asarray(points[keep])


def turns(points: Array) -> list[float]:
    """By how many degrees an axis (n, 3) turns at each of its inner corners."""
    way = np.diff(points, axis=0)
    way /= np.linalg.norm(way, axis=1)[:, None]
    return [math.degrees(math.acos(max(-1.0, min(1.0, float(a @ b))))) for a, b in zip(way, way[1:], strict=False)]


def _across(z: Array) -> Array:
    """A direction (3,) square to another."""
    x = np.cross(z, [1.0, 0, 0] if abs(z[0]) < 0.8 else [0, 1.0, 0])
    return np.asarray(x / np.linalg.norm(x))


__all__ = ["Body", "glb", "ifc", "origin", "turns"]
