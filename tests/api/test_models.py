"""Design models over HTTP: brought in, moved, laid on the cloud, compared, coloured by, cut, and handed over."""

from __future__ import annotations

import csv
import io
import math
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import ezdxf
import numpy as np
import pypdfium2
import pytest
import trimesh
from ezdxf.filemanagement import new
from ezdxf.render.forms import cube
from fastapi.testclient import TestClient

from taut_lantern.api.app import make_app
from taut_lantern.core import frames
from taut_lantern.formats import bodies, model
from tests.api.test_api import made, problem, undo, work
from tests.api.test_steps import deliver
from tests.support import bring_in, room, write_scan

SIZE = (6.0, 4.0, 3.0)


@pytest.fixture(scope="module")
def client(database: str) -> Iterator[TestClient]:
    with TestClient(make_app(), base_url="http://localhost") as c:
        yield c


def obj(by: np.ndarray) -> bytes:
    """The room in millimetres, looking in, moved by a transform (4, 4), and a crate in it that was never put there."""
    walls = trimesh.creation.box(SIZE)
    walls.invert()
    crate = trimesh.creation.box((0.6, 0.6, 0.6)).apply_translation((1, 0.5, 0))
    lines, shift = [], 1
    for name, solid in (("walls", walls), ("crate", crate)):
        v = 1000 * frames.apply(by, np.asarray(solid.vertices))
        lines += [
            f"o {name}",
            *(f"v {x:.6f} {y:.6f} {z:.6f}" for x, y, z in v),
            *(f"f {a + shift} {b + shift} {c + shift}" for a, b, c in solid.faces),
        ]
        shift += len(v)
    return "\n".join(lines).encode()


class Beside:
    """A project with a room that was scanned, and one design model."""

    def __init__(self, client: TestClient, folder: Path, by: np.ndarray, **query: Any) -> None:
        self.client, self.folder = client, folder
        self.project = made(client, "A room as it was designed")
        self.station = bring_in(self.project, [write_scan(folder / "ST-1.e57", room(40_000, SIZE, 1))])[0]
        self.url = f"/api/projects/{self.project}"
        answer = client.post(f"{self.url}/models", params={"name": "Room.obj", "unit": "mm", **query}, content=obj(by))
        assert answer.status_code == 202, answer.text
        *_, job = work(self.project)
        assert job.state == "done", job.error

    @property
    def row(self) -> dict[str, Any]:
        return dict(self.client.get(f"{self.url}/models").json()[0])

    def change(self, **what: Any) -> None:
        row = self.row
        answer = self.client.patch(f"{self.url}/models/{row['id']}", json={"version": row["version"], **what})
        assert answer.status_code == 200, answer.text

    def do(self, what: str, **more: Any) -> dict[str, Any]:
        assert self.client.post(f"{self.url}/models/{self.row['id']}/{what}", json=more).status_code == 202
        *_, job = work(self.project)
        assert job.state == "done" and job.result, job.error
        return dict(job.result)

    def coloured(self) -> np.ndarray:
        tile = self.client.get(f"{self.url}/stations/{self.station}/models/0").content
        return np.frombuffer(tile, "<i2")


@pytest.mark.parametrize("at", [(0.0, 0.0, 0.0), (0.11, -0.07, 0.04)])
def test_a_model_is_laid_on_the_room_and_the_cloud_compared_with_it(
    client: TestClient, tmp_path: Path, at: tuple[float, float, float]
) -> None:
    off = frames.small(np.array([0.0, 0.0, 0.006, 0.03, -0.02, 0.012])) @ frames.pose(0.0, at)
    b = Beside(client, tmp_path, off)
    assert b.row["unit"] == "mm" and b.row["elements"] == 2 and b.row["faces"] == 24
    assert np.allclose(b.row["size"], SIZE, atol=0.04) and np.allclose(b.row["at"], off[:3, 3], atol=0.02)
    b.do("compare", reach=0.2, tolerance=0.005)
    assert b.row["compared"]["within"] < 0.3 * b.row["compared"]["points"]
    told = b.do("lay", reach=0.3)
    assert told["rms"] < 0.0005
    assert "moved" in b.row["why_old"]
    b.do("compare", reach=0.2, tolerance=0.005)
    first = b.client.get(f"{b.url}/models/{b.row['id']}/compared").json()
    assert first["why_old"] == "" and first["points"] == 40_000 and first["within"] > 0.999 * 40_000 and abs(first["median"]) <= 0.0005
    assert [(e["name"], e["points"] > 0) for e in first["elements"]] == [("walls", True), ("crate", False)]
    box = {"name": "half", "centre": [1.5, 0, 0], "half": [1.6, 3, 3], "yaw": 0.0}
    assert b.client.post(f"{b.url}/boxes", json=box).status_code < 300
    assert b.row["why_old"] == "crop boxes were changed since"  # what a box takes away is not compared
    undo(b.client, b.project)
    assert b.row["why_old"] == ""
    counts = b.coloured()
    assert len(counts) > 100 and np.abs(counts).max() < 50  # 5 mm
    b.change(shift=[0.0, 0.0, 0.02])
    moved = b.coloured()  # floor and ceiling 20 mm off, walls where they were
    assert set(np.unique(np.round(moved / 100)).astype(int)) == {-2, 0, 2}
    b.change(turn=30.0)
    b.change(turn=-30.0)
    assert np.abs(b.coloured() - moved).max() <= 1
    for _ in range(3):
        undo(b.client, b.project)
    assert np.abs(b.coloured() - counts).max() <= 1
    b.change(shown=False)
    assert (b.coloured() == -32768).all()
    b.change(deleted=True)
    assert b.client.get(f"{b.url}/models").json() == []
    undo(b.client, b.project)
    assert b.row["compared"]["points"] == 40_000


def test_what_was_found_is_handed_over_and_sections_show_where_they_cut_the_model(client: TestClient, tmp_path: Path) -> None:
    b = Beside(client, tmp_path, frames.pose(0.0, (0.0, 0.0, 0.004)))
    b.do("compare", reach=0.1, tolerance=0.003)
    model_id = b.row["id"]
    rows = list(csv.DictReader(io.StringIO(deliver(client, b.project, "model-csv", tmp_path, model=model_id).read_text("utf-8-sig"))))
    assert [r["element"] for r in rows] == ["walls", "crate"] and rows[1]["points"] == "0" and rows[1]["mean_mm"] == ""
    share = float(rows[0]["share_within"])
    pdf = pypdfium2.PdfDocument(deliver(client, b.project, "model-pdf", tmp_path, model=model_id))
    words = " ".join(p.get_textpage().get_text_range() for p in pdf)
    assert f"{share:.1%}" in words and "1 of 2 elements were seen" in words and "crate" in words
    section = client.post(f"{b.url}/sections", json={"kind": "plan", "height": 0.2, "behind": 0.1}).json()["id"]
    lines = np.array(client.get(f"{b.url}/sections/{section}/design").json())
    long = np.linalg.norm(lines[:, 1] - lines[:, 0], axis=1).sum()
    assert long == pytest.approx(2 * (6 + 4) + 4 * 0.6, abs=1e-3)
    client.post(f"{b.url}/sections/{section}/traces", json={"kind": "line", "points": [[0, 0], [1, 0]], "layer": "wall"})
    doc = ezdxf.readfile(deliver(client, b.project, "dxf", tmp_path))
    design = [e for e in doc.modelspace().query("LINE") if e.dxf.layer == "design"]
    assert sum(math.dist(e.dxf.start, e.dxf.end) for e in design) == pytest.approx(long, abs=1e-6)
    assert {round(e.dxf.start.z, 6) for e in design} == {0.2}
    assert not doc.audit().errors
    edges = np.frombuffer(client.get(f"{b.url}/models/{model_id}/edges").content, "<f4").reshape(-1, 2, 3)
    assert len(edges) == 24


def test_what_cannot_be_read_is_said_and_leaves_nothing(client: TestClient) -> None:
    project = made(client, "Bad models")
    url = f"/api/projects/{project}/models"
    problem(client.post(url, params={"name": "Room.dwg"}, content=b"x"), 422, "bad_input")
    problem(client.post(url, params={"name": "Room.ifc"}, content=b""), 422, "empty_file")
    for name, data in (
        ("a.ifc", b"ISO-10303-21;\nHEADER;\n"),
        ("b.glb", b"glTF"),
        ("c.ply", b"ply\n"),
        ("d.obj", b"v 0 0 0\nf 1 2 9\n"),
        ("e.dxf", b"hello"),
    ):
        assert client.post(url, params={"name": name}, content=data).status_code == 202
        *_, job = work(project)
        assert job.state == "failed" and job.error and job.error["subject"] == name, job.error
        assert job.error["code"] in ("unreadable", "no_faces")
    assert client.get(url).json() == []


def test_what_we_hand_over_ourselves_comes_back_where_it_was_at_large_coordinates(tmp_path: Path) -> None:
    pipe = np.array([[500_000.0, 5e6, 10], [500_002.0, 5e6, 10], [500_002.0, 5e6 + 1, 10]])
    own = [bodies.Body("tube", "Pipe 1", pipe, 0.1, {"fit": 1.0})]
    bodies.ifc(tmp_path / "a.ifc", "t", "grid", own)
    bodies.glb(tmp_path / "a.glb", "t", "grid", own)
    for name in ("a.ifc", "a.glb"):
        found, unit = model.read(tmp_path / name, name)
        low, high = found.box
        assert (
            unit == "m"
            and np.allclose(low, [500_000.0, 5e6 - 0.1, 9.9], atol=1e-3)
            and np.allclose(high, [500_002.1, 5e6 + 1, 10.1], atol=1e-3)
        )
        assert found.names[0].startswith("Pipe 1")
    doc = new()
    doc.header["$INSUNITS"] = 4
    for k, how in enumerate(("render_mesh", "render_polyface", "render_3dfaces")):
        c = cube()
        c.scale(1000, 1000, 1000)
        c.translate(5000 * k, 0, 0)
        getattr(c, how)(doc.modelspace(), dxfattribs={"layer": f"Träger {k}"})
    doc.modelspace().add_text("1.2 m", dxfattribs={"layer": "words"})  # what has no faces is left out, and needs none of its readers
    doc.modelspace().add_linear_dim((0, 2), (0, 0), (3, 0)).render()
    doc.modelspace().add_mtext("two\nlines")
    doc.saveas(tmp_path / "b.dxf")
    found, unit = model.read(tmp_path / "b.dxf", "b.dxf")
    assert unit == "mm" and found.names == ("Träger 0", "Träger 1", "Träger 2") and len(found.faces) == 36
    assert np.allclose(found.box, [[-0.5] * 3, [10.5, 0.5, 0.5]])


@pytest.mark.parametrize("schema", ["IFC2X3", "IFC4", "IFC4X3"])
def test_every_schema_of_ifc_is_read_sealed(tmp_path: Path, schema: str) -> None:
    """In a process that has read none before, as a worker's is: a block of 1 x 0.5 x 0.3 m, in millimetres."""
    model._small_ifc(tmp_path / "a.ifc", schema)
    code = (
        "import sys; from pathlib import Path; from taut_lantern.formats.model import read;"
        "m, u = read(Path(sys.argv[1]), 'a.ifc'); print(m.names[0], [round(float(v), 4) for v in m.box[1] - m.box[0]], u)"
    )
    told = subprocess.run([sys.executable, "-c", code, str(tmp_path / "a.ifc")], capture_output=True, text=True, check=False)
    assert told.stdout.strip() == "block, BuildingElementProxy [1.0, 0.5, 0.3] m", told.stderr
