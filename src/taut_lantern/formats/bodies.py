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
    """kind: tube (runs of one radius round the corners of an axis), prism (an outline that goes ``along``), ball, line, area (a line that closes)
    or point. points (n, 3): metres in the coordinates that it is handed over in; values: what was measured of it, by name. use: member, of
    steel, or nothing; bends: of a tube, the radius of its axis at each corner where that is known."""

    kind: str
    name: str
    points: Array
    radius: float
    values: Values
    along: Array | None = None
    use: str = ""
    bends: tuple[float | None, ...] = ()


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

    def placed(
        kind: str, name: str, p: Array, context: Any, what: tuple[str, str], item: Any, z: Array | None = None, x: Array | None = None
    ) -> Any:
        """An element with one shape; z: where the shape's own axis points, x: where its first one does."""
        it = made(kind, name)
        turn = [f.createIfcDirection([float(v) for v in way]) for way in ((z, _across(z) if x is None else x) if z is not None else ())]
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
            round_ = b.bends[k - 1] if len(b.bends) == len(p) - 2 else None
            words = f"{b.name}, bend {k} of {angle:.1f} degrees" + (f", radius {1000 * round_:.0f} mm" if round_ else "")
            out.append(placed("IfcPipeFitting", words, p[k], solid, ("Body", "CSG"), item))
            out[-1].PredefinedType = "BEND"
        system = api.system.add_system(f, ifc_class="IfcDistributionSystem")
        system.Name = b.name
        api.system.assign_system(f, products=out, system=system)
        return out

    def prism(b: Body) -> Any:
        assert b.along is not None
        p, x, z = b.points - at, *_sides(b)
        y = np.cross(z, x)
        flat = [f.createIfcCartesianPoint([float((q - p[0]) @ x), float((q - p[0]) @ y)]) for q in [*p, p[0]]]
        outline = f.createIfcArbitraryClosedProfileDef("AREA", str(b.values.get("section", "")) or None, f.createIfcPolyline(flat))
        item = f.createIfcExtrudedAreaSolid(outline, None, f.createIfcDirection([0.0, 0.0, 1.0]), float(np.linalg.norm(b.along)))
        kind = "IfcMember" if b.use == "member" else "IfcBuildingElementProxy"
        return placed(kind, b.name, p[0], solid, ("Body", "SweptSolid"), item, z, x)

    for b in bodies:
        if b.kind == "tube":
            parts = tube(b)
        elif b.kind == "prism":
            parts = [prism(b)]
        elif b.kind == "ball":
            item = f.createIfcCsgSolid(f.createIfcSphere(f.createIfcAxis2Placement3D(point(np.zeros(3))), b.radius))
            parts = [placed("IfcBuildingElementProxy", b.name, b.points[0] - at, solid, ("Body", "CSG"), item)]
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
        elif b.kind == "prism":
            v, faces = solid_of(b)
            it = trimesh.Trimesh((v - at) @ UPRIGHT.T, faces)
        elif b.kind == "ball":
            it = trimesh.creation.icosphere(4, b.radius).apply_translation(p[0])
        elif b.kind == "point" or len(apart(p)) < 2:
            it = trimesh.creation.icosphere(1, 0.01).apply_translation(p[0])
        else:
            it = trimesh.load_path(np.vstack([p, p[:1]]) if b.kind == "area" else p)
        it.metadata = dict(b.values)
        scene.add_geometry(it, node_name=name, geom_name=name)
    scene.metadata = {"title": title, "coordinates": frame, "origin": at.tolist(), "unit": "m"}
    with whole(path) as out:
        out.write_bytes(scene.export(file_type="glb"))


def _sides(b: Body) -> tuple[Array, Array]:
    """(unit x along the first side of a prism's outline, unit z along it)."""
    assert b.along is not None
    x, z = b.points[1] - b.points[0], b.along / np.linalg.norm(b.along)
    x = x - z * float(x @ z)
    return x / np.linalg.norm(x), z


def solid_of(b: Body) -> tuple[Array, NDArray[np.int64]]:
    """A prism as corners (2 k, 3) and faces (m, 3) that look outwards."""
    from ezdxf.math.triangulation import mapbox_earcut_2d

    assert b.along is not None
    x, z = _sides(b)
    y = np.cross(z, x)
    flat = [(float((q - b.points[0]) @ x), float((q - b.points[0]) @ y)) for q in b.points]
    k = len(flat)
    turn = sum(p[0] * q[1] - q[0] * p[1] for p, q in zip(flat, [*flat[1:], flat[0]], strict=True)) > 0
    number = {p: n for n, p in enumerate(flat)}
    caps = []
    for tri in mapbox_earcut_2d(flat):
        a, b_, c = (number[float(v.x), float(v.y)] for v in tri)
        up = (flat[b_][0] - flat[a][0]) * (flat[c][1] - flat[a][1]) - (flat[c][0] - flat[a][0]) * (flat[b_][1] - flat[a][1]) > 0
        one = (a, b_, c) if up else (a, c, b_)
        caps += [tuple(n + k for n in one), one[::-1]]
    sides = [f for n in range(k) for m in ((n + 1) % k,) for f in ((n, m, m + k), (n, m + k, n + k))]
    faces = np.array([*caps, *(sides if turn else [f[::-1] for f in sides])], np.int64)
    return np.concatenate([b.points, b.points + b.along]), faces


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
