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
Mesh = tuple[Array, NDArray[np.int64]]  # corners (n, 3), faces (m, 3)
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

    def pipe(b: Body) -> list[Any]:
        p, out = apart(b.points - at), []
        round_ = bends_of(p, b.bends)
        for k, (one, other) in enumerate(straight(p, round_), start=1):
            long = float(np.linalg.norm(other - one))
            circle = f.createIfcCircleProfileDef("AREA", None, f.createIfcAxis2Placement2D(f.createIfcCartesianPoint([0.0, 0.0])), b.radius)
            item = f.createIfcExtrudedAreaSolid(circle, None, f.createIfcDirection([0.0, 0.0, 1.0]), long)
            out.append(placed("IfcPipeSegment", f"{b.name}, run {k}", one, solid, ("Body", "SweptSolid"), item, (other - one) / long))
            out[-1].PredefinedType = "RIGIDSEGMENT"
        for k, (angle, big) in enumerate(zip(turns(p), round_, strict=True), start=1):
            words = f"{b.name}, bend {k} of {angle:.1f} degrees" + (f", radius {1000 * big:.0f} mm" if big else "")
            if big:
                z, after = (v / np.linalg.norm(v) for v in (p[k] - p[k - 1], p[k + 1] - p[k]))
                reach = big * math.tan(math.radians(angle) / 2)
                half = (after - z) / np.linalg.norm(after - z)  # from the corner towards the middle of the bend's circle
                middle = half * (math.hypot(reach, big) - big)
                arc = f.createIfcCartesianPointList3D([[float(v) for v in q] for q in (-z * reach, middle, after * reach)])
                item = f.createIfcSweptDiskSolid(f.createIfcIndexedPolyCurve(arc, [f.createIfcArcIndex([1, 2, 3])]), b.radius)
                out.append(placed("IfcPipeFitting", words, p[k], solid, ("Body", "AdvancedSweptSolid"), item))
            else:
                ball = f.createIfcSphere(f.createIfcAxis2Placement3D(point(np.zeros(3))), b.radius)
                out.append(placed("IfcPipeFitting", words, p[k], solid, ("Body", "CSG"), f.createIfcCsgSolid(ball)))
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
            parts = pipe(b)
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
    """Tubes as closed meshes, with round bends where their radius is known and balls where not; lines as lines. What was measured stands in
    the extras of each mesh."""
    import trimesh

    at = origin(bodies)
    scene: Any = trimesh.Scene()
    for b in bodies:
        p = (b.points - at) @ UPRIGHT.T
        name = b.name if b.name not in scene.geometry else f"{b.name} ({len(scene.geometry) + 1})"  # what shares a name would replace it
        if b.kind == "tube":
            pieces, corners = tube(p, b.radius, b.bends)
            meshes = [trimesh.Trimesh(*x, process=False) for x in pieces]
            meshes += [trimesh.creation.icosphere(3, b.radius).apply_translation(x) for x in corners]
            it = trimesh.util.concatenate(meshes)
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


def solid_of(b: Body) -> Mesh:
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


def bends_of(points: Array, bends: tuple[float | None, ...]) -> list[float | None]:
    """The radius of an axis (n, 3) at each of its inner corners, None where it is not known or does not fit between its neighbours."""
    out: list[float | None] = list(bends) if len(bends) == len(points) - 2 else [None] * max(len(points) - 2, 0)
    long = np.linalg.norm(np.diff(points, axis=0), axis=1)
    half = [math.tan(math.radians(a) / 2) for a in turns(points)]
    for k, big in enumerate(out):
        if big and (big * half[k] > 0.499 * long[k] or big * half[k] > 0.499 * long[k + 1]):
            near = [(out[j] or 0.0) * half[j] for j in (k - 1, k + 1) if 0 <= j < len(out)]
            if big * half[k] + max(near, default=0.0) > min(long[k], long[k + 1]) - 1e-6:
                out[k] = None
    return out


def straight(points: Array, bends: list[float | None]) -> list[tuple[Array, Array]]:
    """The straight runs of an axis (n, 3) between its bends; to the corner where a bend's radius is not known."""
    reach = [0.0, *((big or 0.0) * math.tan(math.radians(a) / 2) for big, a in zip(bends, turns(points), strict=True)), 0.0]
    out = []
    for k, (one, other) in enumerate(zip(points, points[1:], strict=False)):
        u = (other - one) / np.linalg.norm(other - one)
        out.append((one + u * reach[k], other - u * reach[k + 1]))
    return out


def tube(points: Array, radius: float, bends: tuple[float | None, ...], sides: int = ROUND) -> tuple[list[Mesh], list[Array]]:
    """A tube round an axis (n, 3): closed pieces that are round at bends of known radius, and the corners (3,) where two of them meet, each to
    be covered by a ball."""
    p = apart(points)
    round_ = bends_of(p, bends)
    whole_ = [0, *(k for k, big in enumerate(round_, start=1) if not big), len(p) - 1]
    pieces = [swept(p[i : j + 1], radius, round_[i : j - 1], sides) for i, j in zip(whole_, whole_[1:], strict=False)]
    return pieces, [p[k] for k in whole_[1:-1]]


def swept(points: Array, radius: float, bends: list[float | None], sides: int = ROUND) -> Mesh:
    """A tube round an axis (n, 3) with a round bend at each inner corner, as corners and faces that look outwards, closed at both ends."""
    runs = straight(points, bends)
    ways = [(b - a) / np.linalg.norm(b - a) for a, b in runs]
    side = _across(ways[0])
    angle = np.linspace(0, 2 * np.pi, sides, endpoint=False)

    def ring(at: Array, way: Array) -> Array:
        return np.asarray(at + radius * (np.cos(angle)[:, None] * side + np.sin(angle)[:, None] * np.cross(way, side)))

    rings = [ring(runs[0][0], ways[0])]
    for k, big in enumerate(bends):
        axis = np.cross(ways[k], ways[k + 1])
        axis /= np.linalg.norm(axis)
        turn, begin, first = math.acos(max(-1.0, min(1.0, float(ways[k] @ ways[k + 1])))), runs[k][1], side
        centre = begin + np.cross(axis, ways[k]) * float(big or 0.0)
        for t in np.linspace(0, turn, max(2, math.ceil(math.degrees(turn) / 6) + 1)):
            side = _about(axis, t, first)
            rings.append(ring(centre + _about(axis, t, begin - centre), _about(axis, t, ways[k])))
    rings.append(ring(runs[-1][1], ways[-1]))
    corners = np.concatenate([*rings, runs[0][0][None], runs[-1][1][None]])
    j, last = np.arange(sides), (len(rings) - 1) * sides
    following = (j + 1) % sides
    faces = [np.column_stack([np.full(sides, last + sides), following, j])]
    for a in range(0, last, sides):
        b = a + sides
        faces += [np.column_stack([a + j, a + following, b + following]), np.column_stack([a + j, b + following, b + j])]
    faces.append(np.column_stack([np.full(sides, last + sides + 1), last + j, last + following]))
    return corners, np.concatenate(faces).astype(np.int64)


def _about(axis: Array, angle: float, v: Array) -> Array:
    """A direction (3,) turned about a unit axis, radians (Rodrigues)."""
    c, s = math.cos(angle), math.sin(angle)
    return np.asarray(v * c + np.cross(axis, v) * s + axis * float(axis @ v) * (1 - c))


def _across(z: Array) -> Array:
    """A direction (3,) square to another."""
    x = np.cross(z, [1.0, 0, 0] if abs(z[0]) < 0.8 else [0, 1.0, 0])
    return np.asarray(x / np.linalg.norm(x))


__all__ = ["Body", "glb", "ifc", "origin", "turns"]
