"""What goes out as bodies: validated by the standard's own schema and rules, and measured in what other readers make of it."""

from __future__ import annotations

import json
from pathlib import Path

import ezdxf
import ifcopenshell
import ifcopenshell.geom
import ifcopenshell.util.element
import ifcopenshell.validate
import numpy as np
import pytest
import trimesh
from ezdxf.math import Vec3
from ezdxf.render.mesh import MeshBuilder

from taut_lantern.formats import bodies, dxf
from taut_lantern.formats.bodies import Body
from taut_lantern.formats.drawn import Drawing, Entity

FAR = np.array([5_000_123.4, 4_999_000.7, 82.1])
PIPE = np.array([[0, 0, 0], [3.0, 0, 0], [3.0, 2.0, 0], [4.0, 3.0, 1.0]])
MANY = [
    Body("tube", "Pipe 1", FAR + PIPE, 0.0501, {"diameter (mm)": 100.2, "points": 1200}),
    Body("line", "Kerb", FAR + [[0, 5, 0], [4, 5, 0.1], [6, 6, 0.1]], 0.0, {"length (m)": 6.24}),
    Body("point", "Corner / außen", FAR[None] + 1, 0.0, {}),
    Body("area", "Slab", FAR + [[0, 0, 1], [1, 0, 1], [1, 1, 1]], 0.0, {"area (m2)": 0.5}),
]


def off_tube(p: np.ndarray, corners: np.ndarray, radius: float) -> np.ndarray:
    """How far points (n, 3) lie outside a tube round a line of corners; negative within it."""
    away = []
    for a, b in zip(corners, corners[1:], strict=False):
        t = np.clip((p - a) @ (b - a) / ((b - a) @ (b - a)), 0, 1)
        away.append(np.linalg.norm(p - a - t[:, None] * (b - a), axis=1))
    return np.min(away, axis=0) - radius


def test_an_ifc_holds_to_its_schema_and_its_pipes_lie_where_they_belong(tmp_path: Path) -> None:
    path = tmp_path / "a.ifc"
    bodies.ifc(path, "Ottermere", "Site grid", MANY)
    model = ifcopenshell.open(str(path))
    log = ifcopenshell.validate.json_logger()
    ifcopenshell.validate.validate(model, log, express_rules=True)
    assert log.statements == []
    (moved,) = model.by_type("IfcMapConversion")
    origin = np.array([moved.Eastings, moved.Northings, moved.OrthogonalHeight])
    solid, settings = [], ifcopenshell.geom.settings()
    pipes = model.by_type("IfcPipeSegment") + model.by_type("IfcPipeFitting")
    assert [len(model.by_type(k)) for k in ("IfcPipeSegment", "IfcPipeFitting", "IfcAnnotation", "IfcDistributionSystem")] == [3, 2, 3, 1]
    for part in pipes:
        shape = ifcopenshell.geom.create_shape(settings, part)
        t = np.array(shape.transformation.matrix).reshape(4, 4).T
        solid.append(np.array(shape.geometry.verts).reshape(-1, 3) @ t[:3, :3].T + t[:3, 3])
        assert ifcopenshell.util.element.get_psets(part)["Measured"]["diameter (mm)"] == 100.2
    vertices = np.concatenate(solid) + (origin - FAR)
    skin = off_tube(vertices, PIPE, 0.0501)
    assert skin.max() < 1e-4  # nothing beyond the tube
    along = (vertices[:, 0] > 0.2) & (vertices[:, 0] < 2.8) & (vertices[:, 1] < 0.2)
    assert not along.any() or np.abs(skin[along]).max() < 1e-4
    ends = vertices[np.abs(vertices[:, 0]) < 1e-6]
    assert np.abs(off_tube(ends, PIPE[:2], 0.0501)).max() < 1e-4 and len(ends) > 8
    kerb = next(x for x in model.by_type("IfcAnnotation") if x.Name == "Kerb")
    line = np.array([p.Coordinates for p in kerb.Representation.Representations[0].Items[0].Points])
    start = np.array(kerb.ObjectPlacement.RelativePlacement.Location.Coordinates)
    np.testing.assert_allclose(line + start + (origin - FAR), MANY[1].points - FAR, atol=1e-4)


def read_glb(path: Path) -> tuple[dict, list[tuple[str, int, np.ndarray]]]:
    """(the document, name, mode and corners of each mesh), read by the letter of the standard."""
    data = path.read_bytes()
    assert data[:4] == b"glTF" and int.from_bytes(data[4:8], "little") == 2 and int.from_bytes(data[8:12], "little") == len(data)
    long = int.from_bytes(data[12:16], "little")
    doc, blob = json.loads(data[20 : 20 + long]), data[28 + long :]
    out = []
    for node in doc["nodes"]:
        if "mesh" not in node:
            continue
        assert not {"matrix", "translation", "rotation", "scale"} & node.keys() or node.get("matrix") == np.eye(4).ravel().tolist()
        for primitive in doc["meshes"][node["mesh"]]["primitives"]:
            a = doc["accessors"][primitive["attributes"]["POSITION"]]
            begin = doc["bufferViews"][a["bufferView"]].get("byteOffset", 0) + a.get("byteOffset", 0)
            assert a["componentType"] == 5126 and a["type"] == "VEC3"
            p = np.frombuffer(blob, np.float32, 3 * a["count"], begin).reshape(-1, 3)
            out.append((node["name"], primitive.get("mode", 4), p.astype(float)))
    return doc, out


def test_a_gltf_has_the_same_bodies_with_y_up(tmp_path: Path) -> None:
    path = tmp_path / "a.glb"
    bodies.glb(path, "Ottermere", "Site grid", MANY)
    doc, found = read_glb(path)
    extras = doc["scenes"][0]["extras"]
    assert extras["unit"] == "m" and extras["coordinates"] == "Site grid"
    by = {name: (mode, np.column_stack([p[:, 0], -p[:, 2], p[:, 1]]) + (np.array(extras["origin"]) - FAR)) for name, mode, p in found}
    assert by.keys() == {b.name for b in MANY}
    mode, tube = by["Pipe 1"]
    assert mode == 4 and off_tube(tube, PIPE, 0.0501).max() < 1e-4
    np.testing.assert_allclose([tube.min(axis=0)[0], tube.max(axis=0)[1]], [0, 3.0 + 0.0501 / np.sqrt(2)], atol=0.02)
    mode, kerb = by["Kerb"]
    assert mode in (1, 3)
    for p in MANY[1].points - FAR:
        assert np.linalg.norm(kerb - p, axis=1).min() < 1e-4
    assert any(m["extras"].get("diameter (mm)") == 100.2 for m in doc["meshes"] if m.get("extras"))


@pytest.mark.parametrize(("points", "angles"), [(PIPE, [90.0, 54.7356]), (PIPE[:2], [])])
def test_bends_turn_by_what_the_axis_turns(points: np.ndarray, angles: list[float]) -> None:
    np.testing.assert_allclose(bodies.turns(points), angles, atol=1e-3)


def test_things_of_one_name_and_corners_that_repeat_go_out_all_the_same(tmp_path: Path) -> None:
    line = [[0, 0, 0], [1.0, 0, 0], [1.0, 0, 0], [1.0, 1.0, 0]]
    both = [
        Body("tube", "N", FAR + line, 0.1, {}),
        Body("line", "N", FAR + line, 0.0, {}),
        Body("line", "N", FAR + np.zeros((2, 3)), 0.0, {}),
    ]
    bodies.glb(tmp_path / "a.glb", "t", "f", both)
    assert sorted(mode for _, mode, _ in read_glb(tmp_path / "a.glb")[1]) in ([1, 4, 4], [3, 4, 4])  # a line without length is a point
    bodies.ifc(tmp_path / "a.ifc", "t", "f", both)
    model = ifcopenshell.open(str(tmp_path / "a.ifc"))
    assert [len(model.by_type(k)) for k in ("IfcPipeSegment", "IfcPipeFitting", "IfcAnnotation")] == [2, 1, 2]


def test_a_bend_of_known_radius_is_round_in_all_files(tmp_path: Path) -> None:
    """And one whose radius is not known, or would not fit between its neighbours, is a ball at the corner."""
    axis = np.array([[0, 0, 0], [3.0, 0, 0], [3.0, 2.0, 0], [3.0, 2.0, 1.5], [3.2, 2.0, 1.5]])
    body = Body("tube", "Pipe 1", FAR + axis, 0.08, {"points": 9}, bends=(0.6, None, 0.3))
    assert bodies.bends_of(axis, body.bends) == [0.6, None, None]
    a, b = np.array([2.4, 0, 0]), np.array([3.0, 0.6, 0])
    runs = [np.array([axis[0], a]), np.array([b, *axis[2:]])]

    def off(p: np.ndarray) -> np.ndarray:
        round_ = np.hypot(np.hypot(p[:, 0] - 2.4, p[:, 1] - 0.6) - 0.6, p[:, 2]) - 0.08
        within = (p[:, 0] >= 2.4 - 1e-6) & (p[:, 1] <= 0.6 + 1e-6)
        return np.where(within, round_, np.minimum(*(off_tube(p, r, 0.08) for r in runs)))

    bodies.glb(tmp_path / "a.glb", "t", "f", [body])
    scene = trimesh.load_scene(tmp_path / "a.glb")
    (mesh,) = scene.geometry.values()
    p = np.column_stack([mesh.vertices[:, 0], -mesh.vertices[:, 2], mesh.vertices[:, 1]]) + scene.metadata["origin"] - FAR
    bent = (p[:, 0] > 2.45) & (p[:, 1] < 0.55)
    assert np.abs(off(p)[bent]).max() < 1e-4 and bent.sum() > 300 and off(p).max() < 1e-4
    assert mesh.is_watertight and mesh.is_winding_consistent
    first, *_ = sorted(mesh.split(), key=lambda x: -x.volume)
    assert first.volume == pytest.approx(np.pi * 0.08**2 * (2.4 + 0.6 * np.pi / 2 + 1.4), rel=0.005)
    for version in dxf.VERSIONS:
        pipe = Entity("tube", "pipe", tuple(map(tuple, body.points)), radius=body.radius, bends=body.bends)
        dxf.write(tmp_path / "a.dxf", Drawing(space=[pipe]), version=version)
        doc = ezdxf.readfile(tmp_path / "a.dxf")
        assert not doc.audit().errors
        faces = [MeshBuilder.from_polyface(e).mesh_tessellation(3) for e in doc.modelspace().query("POLYLINE")]
        closed = [trimesh.Trimesh([list(v - Vec3(FAR)) for v in m.vertices], list(m.open_faces())) for m in faces]
        bent = np.concatenate([m.vertices for m in closed])
        bent = bent[(bent[:, 0] > 2.45) & (bent[:, 1] < 0.55)]
        assert np.abs(off(bent)).max() < 1e-4 and len(bent) > 100 and len(closed) == 5  # three pieces, a ball at each other corner
        first, *_ = sorted(closed, key=lambda x: -x.volume)
        assert first.is_watertight and first.volume == pytest.approx(np.pi * 0.08**2 * (2.4 + 0.6 * np.pi / 2 + 1.4), rel=0.015)
    bodies.ifc(tmp_path / "a.ifc", "t", "f", [body])
    model, log = ifcopenshell.open(str(tmp_path / "a.ifc")), ifcopenshell.validate.json_logger()
    ifcopenshell.validate.validate(model, log, express_rules=True)
    assert log.statements == []
    (moved,) = model.by_type("IfcMapConversion")
    shift = np.array([moved.Eastings, moved.Northings, moved.OrthogonalHeight]) - FAR
    round_ = next(x for x in model.by_type("IfcPipeFitting") if "radius 600 mm" in x.Name)
    shape = ifcopenshell.geom.create_shape(ifcopenshell.geom.settings(), round_)
    t = np.array(shape.transformation.matrix).reshape(4, 4).T
    p = np.array(shape.geometry.verts).reshape(-1, 3) @ t[:3, :3].T + t[:3, 3] + shift
    assert np.abs(off(p)).max() < 0.002 and np.abs(p.min(axis=0) - [2.4, -0.08, -0.08]).max() < 2e-3 and abs(p[:, 1].max() - 0.6) < 1e-4
