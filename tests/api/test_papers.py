"""What a drawing goes out on, over HTTP: sheets, title blocks, pinned pictures, unrolled walls, the usual set by itself."""

from __future__ import annotations

import io
import math
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import ezdxf
import numpy as np
import pypdfium2
import pytest
import rasterio
from fastapi.testclient import TestClient
from PIL import Image

from taut_lantern.api.app import make_app
from taut_lantern.core.scan.scan import Scan
from tests.api.test_api import made, problem, undo, work
from tests.api.test_drawing import Hand, drawn_in
from tests.api.test_steps import deliver, fitted
from tests.support import bring_in, write_scan


@pytest.fixture(scope="module")
def client(database: str) -> Iterator[TestClient]:
    with TestClient(make_app(), base_url="http://localhost") as c:
        yield c


@pytest.fixture
def p(client: TestClient, tmp_path: Path) -> str:
    return drawn_in(client, tmp_path)


def customers_block(path: Path, wide: float = 180.0, tall: float = 60.0) -> Path:
    """A DXF with a small block of no fields, and a title block of four, in millimetres."""
    doc = ezdxf.new("R2010", setup=True)
    doc.units = 4
    logo = doc.blocks.new("LOGO")
    logo.add_circle((5, 5), 5)
    own = doc.blocks.new("Plankopf für Büro 7")
    own.add_lwpolyline([(100, 50), (100 + wide, 50), (100 + wide, 50 + tall), (100, 50 + tall)], close=True)
    own.add_line((100, 70), (100 + wide, 70), dxfattribs={"lineweight": 50})
    own.add_blockref("LOGO", (105, 85))
    own.add_text("Objekt", height=2, dxfattribs={"insert": (120, 90)})
    own.add_mtext("Alle Maße\\Pin Metern", dxfattribs={"insert": (200, 100), "char_height": 2.0})
    for tag, y, default in (("PROJECT_NAME", 90, ""), ("SCALE", 80, "1:?"), ("DRAWING_NO", 60, "none"), ("PHASE", 54, "survey")):
        own.add_attdef(tag, (140, y), default, dxfattribs={"height": 3})
    doc.saveas(path)
    return path


def test_a_sheet_is_laid_out_plotted_and_says_what_does_not_fit(client: TestClient, p: str, tmp_path: Path) -> None:
    hand = Hand(client, p)
    fitted(client, p, hand.section)
    hand.draw("dimension", (-3, -2), (3, -2), (0, -1.5), layer="dimension", measure="aligned")
    body = {"sections": [hand.section], "paper": "A4", "block": {"number": "A-1"}, "revisions": [{"date": "2026-11-27", "words": "first"}]}
    sheet = hand.post("/sheets", name="Ground floor", **body)["id"]
    (row,) = client.get(f"{hand.url}/sheets").json()
    assert row["fits"] == 50 and row["views"][0]["wide"] == pytest.approx(6600 / 50, abs=3) and row["problem"] == ""
    path = deliver(client, p, "sheet", tmp_path, sheet=sheet)
    page = pypdfium2.PdfDocument(path)[0]
    words = page.get_textpage().get_text_bounded()
    assert "6.000" in words and "1:50" in words and "A-1" in words and "first" in words
    problem(client.patch(f"{hand.url}/sheets/{sheet}", json={"version": row["version"], "scale": 5}), 422, "bad_input")
    window = {"version": hand.whole["version"], "window": [-1, -1, 1, 1]}
    assert client.patch(f"{hand.url}/sections/{hand.section}", json=window).status_code == 200
    assert {t["why_old"] for t in hand.drawn} == {""}
    assert client.get(f"{hand.url}/sheets").json()[0]["views"][0]["wide"] == pytest.approx(
        1000 * 2 / client.get(f"{hand.url}/sheets").json()[0]["fits"]
    )
    client.delete(f"{hand.url}/sections/{hand.section}", params={"version": hand.whole["version"]})
    assert "needs a view" in client.get(f"{hand.url}/sheets").json()[0]["problem"]
    client.post(f"{hand.url}/deliveries", json={"kind": "sheet", "sheet": sheet})
    *_, job = work(p)
    assert job.state == "failed" and "view" in job.error["message"]


def test_a_customers_title_block_stands_on_the_sheet_with_its_fields_filled_in(client: TestClient, p: str, tmp_path: Path) -> None:
    hand = Hand(client, p)
    hand.draw("line", (0, 0), (4, 0))
    data = customers_block(tmp_path / "frame.dxf").read_bytes()
    url = f"/api/projects/{p}/title-blocks"
    wrong = client.post(url, params={"name": "frame.dxf", "block": "A3-Rahmen"}, content=data)
    assert wrong.json()["code"] == "no_block" and "LOGO, Plankopf für Büro 7" in wrong.json()["remedy"]
    for broken, code in ((data[: len(data) // 2], "truncated"), (b"%PDF-1.4", "unreadable")):
        assert client.post(url, params={"name": "frame.dxf"}, content=broken).json()["code"] == code
    block = client.post(url, params={"name": "frame.dxf"}, content=data).json()["id"]
    (told,) = client.get(url).json()
    assert told["name"] == "Plankopf für Büro 7" and (told["wide"], told["tall"]) == (180.0, 60.0)
    assert told["tags"] == ["PROJECT_NAME", "SCALE", "DRAWING_NO", "PHASE"]
    sheet = hand.post("/sheets", name="Ground floor", sections=[hand.section], paper="A3", scale=50, title=block)["id"]
    row = client.get(f"{hand.url}/sheets").json()[0]
    says = {"PROJECT_NAME": "A room to draw", "SCALE": "1:50", "DRAWING_NO": "", "PHASE": "survey"}
    assert {x["tag"]: x["text"] for x in row["says"]} == says and row["views"][0]["y"] > 10 + 60
    body = {"version": row["version"], "fields": {"DRAWING_NO": "TL-07"}}
    assert client.patch(f"{hand.url}/sheets/{sheet}", json=body).status_code == 200
    page = pypdfium2.PdfDocument(deliver(client, p, "sheet", tmp_path, sheet=sheet).read_bytes())[0]
    text = page.get_textpage()
    words = text.get_text_range()
    assert all(x in words for x in ("A room to draw", "TL-07", "survey", "Objekt", "Alle Maße", "in Metern")) and "none" not in words
    found = text.search("TL-07")
    box = text.get_charbox(found.get_next()[0])
    mm = 72 / 25.4  # 40 mm right of the block's corner, which stands in the paper's margin
    assert abs(box[0] / mm - (420 - 10 - 180 + 40)) < 0.6 and abs(box[1] / mm - (10 + 10)) < 0.6
    scale = 4
    ink = np.asarray(page.render(scale=scale).to_pil().convert("L"))
    line = ink[ink.shape[0] - int((10 + 20) * mm * scale) - 6 : ink.shape[0] - int((10 + 20) * mm * scale) + 6, int(300 * mm * scale)]
    assert (line < 128).sum() >= 4  # its line of half a millimetre
    # without it ours is back, and undo brings it back
    version = client.get(url).json()[0]["version"]
    assert client.delete(f"{url}/{block}", params={"version": version}).status_code == 200
    words = pypdfium2.PdfDocument(deliver(client, p, "sheet", tmp_path, sheet=sheet).read_bytes())[0].get_textpage().get_text_range()
    assert "Objekt" not in words and "Ground floor" in words
    row = client.get(f"{hand.url}/sheets").json()[0]
    assert row["title"] is None
    assert client.patch(f"{hand.url}/sheets/{sheet}", json={"version": row["version"], "paper": "A2"}).status_code == 200
    undo(client, p)
    undo(client, p)
    assert [x["id"] for x in client.get(url).json()] == [block]
    # a frame of the whole paper takes the place of ours
    data = customers_block(tmp_path / "whole.dxf", 400.0, 277.0).read_bytes()
    whole = client.post(url, params={"name": "whole.dxf", "block": "plankopf für büro 7"}, content=data).json()["id"]
    row = client.get(f"{hand.url}/sheets").json()[0]
    assert client.patch(f"{hand.url}/sheets/{sheet}", json={"version": row["version"], "title": whole}).status_code == 200
    assert client.get(f"{hand.url}/sheets").json()[0]["problem"] == ""
    small = client.patch(f"{hand.url}/sheets/{sheet}", json={"version": row["version"] + 1, "paper": "A4"})
    assert "title block does not fit" in small.json()["detail"]


def test_a_picture_and_a_page_of_a_pdf_are_pinned_moved_and_go_out(client: TestClient, p: str, tmp_path: Path) -> None:
    hand = Hand(client, p)
    hand.draw("line", (-2.5, -1.5), (2.5, -1.5))
    photo = Image.new("RGB", (80, 40), (200, 30, 30))
    photo.paste((30, 30, 200), (0, 0, 40, 40))  # its left half is blue
    body = io.BytesIO()
    photo.save(body, "PNG")
    photo.save(tmp_path / "page.pdf")
    pinned = client.post(f"/api/projects/{p}/pinned", content=body.getvalue()).json()
    page = client.post(f"/api/projects/{p}/pinned", content=(tmp_path / "page.pdf").read_bytes()).json()
    assert pinned["tall"] == 0.5 and abs(page["tall"] - 0.5) < 0.02
    assert client.post(f"/api/projects/{p}/pinned", content=b"no picture").json()["code"] == "unreadable"
    assert "no page 7" in client.post(f"/api/projects/{p}/pinned?page=7", content=(tmp_path / "page.pdf").read_bytes()).json()["detail"]
    assert client.get(f"/api/projects/{p}/pictures").json() == []  # none of the report's
    own = hand.draw("picture", (-1, 0), (1, 0), picture=pinned["id"])
    hand.draw("picture", (1.5, 0), (2.0, 0), picture=page["id"])
    body_ = {"kind": "picture", "points": [[0, 0], [1, 0]], "shape": {"picture": "0" * 32}}
    assert client.post(f"{hand.url}/sections/{hand.section}/traces", json=body_).status_code == 404
    hand.post("/traces/edit", do="turn", ids=[own], at=[[-1, 0]], value=math.pi / 2)
    hand.post("/traces/edit", do="move", ids=[own], at=[[0, 0], [0.5, -1.0]])
    trace = next(t for x in client.get(f"{hand.url}/sections").json() for t in x["traces"] if t["id"] == own)
    np.testing.assert_allclose(trace["points"], [[-0.5, -1.0], [-0.5, 1.0]], atol=1e-9)
    np.testing.assert_allclose(trace["lines"][0], [[-0.5, -1], [-0.5, 1], [-1.5, 1], [-1.5, -1], [-0.5, -1]], atol=1e-5)
    sheet = hand.post("/sheets", name="With a photo", sections=[hand.section], paper="A3", scale=20, picture="")["id"]
    view = client.get(f"{hand.url}/sheets").json()[0]["views"][0]
    page_ = pypdfium2.PdfDocument(deliver(client, p, "sheet", tmp_path, sheet=sheet).read_bytes())[0]
    ink, mm = np.asarray(page_.render(scale=2).to_pil().convert("RGB")).astype(int), 2 * 72 / 25.4
    red, blue = ((ink[..., a] > ink[..., b] + 80) for a, b in ((0, 2), (2, 0)))
    low = (-2.5 - 0.3, -1.5 - 0.3)  # of the view

    def at(x: float, y: float) -> tuple[int, int]:
        return int(ink.shape[0] - (view["y"] + (y - low[1]) * 50) * mm), int((view["x"] + (x - low[0]) * 50) * mm)

    assert blue[at(-1.0, -0.5)] and red[at(-1.0, 0.5)] and not red[at(-1.0, 1.1)] and not blue[at(-0.4, -0.5)]
    tall = np.nonzero(red[:, at(-1.0, 0)[1]] | blue[:, at(-1.0, 0)[1]])[0]
    assert abs(np.ptp(tall) - 2.0 * 50 * mm) < 3
    svg = deliver(client, p, "svg", tmp_path, sections=[hand.section]).read_text()
    assert svg.count("<image") == 2 and "rotate(-90.0000" in svg
    files = zipfile.ZipFile(deliver(client, p, "slab", tmp_path, sections=[hand.section], pixel=0.01, coordinates="section"))
    (name,) = (x for x in files.namelist() if x.endswith(".dxf"))
    drawing = ezdxf.read(io.StringIO(files.read(name).decode()))
    images = {e.image_def.dxf.filename: e for e in drawing.modelspace().query("IMAGE")}
    assert not drawing.audit().errors and len(images) == 3
    sizes = {x: Image.open(io.BytesIO(files.read(x))).size for x in images if x.startswith("picture-")}
    turned = images[next(x for x, size in sizes.items() if size == (80, 40))]
    np.testing.assert_allclose(turned.dxf.insert.xyz, (-0.5, -1.0, 0.0), atol=1e-9)
    np.testing.assert_allclose((turned.dxf.u_pixel * 80).xyz, (0.0, 2.0, 0.0), atol=1e-9)
    for _ in range(3):  # the sheet, the move and the turn
        undo(client, p)
    trace = next(t for x in client.get(f"{hand.url}/sections").json() for t in x["traces"] if t["id"] == own)
    assert trace["points"] == [[-1, 0], [1, 0]]


def test_the_usual_set_is_drawn_laid_out_and_not_drawn_twice(client: TestClient, p: str, tmp_path: Path) -> None:
    url = f"/api/projects/{p}"
    empty = made(client, "Empty")
    assert client.post(f"/api/projects/{empty}/draft").json()["code"] == "bad_input"
    for _ in range(2):  # again, as after a restart in the middle
        first, second = (client.post(f"{url}/draft").json()["jobs"][0] for _ in range(2))
        assert first == second
        *_, job = work(p)
        assert job.state == "done" and job.result["sections"] == 3, (job.error, job.result)
        assert job.result["left_out"] == [f"Elevation {x} shows no openings" for x in "ABCD"]  # a closed room has none
        rows = client.get(f"{url}/sections").json()
        assert sorted(x["kind"] for x in rows).count("upright") == 2 and sum(x["kind"] == "plan" for x in rows) == 1
        assert len(rows) == job.result["sections"]
        plan = next(x for x in rows if x["kind"] == "plan")
        assert sum(t["state"] == "accepted" and t["layer"] == "wall" for t in plan["traces"]) == 4
        (sheet,) = client.get(f"{url}/sheets").json()
        assert sheet["id"] == job.result["sheet"] and len(sheet["views"]) == len(rows) and sheet["problem"] == ""
    text = pypdfium2.PdfDocument(deliver(client, p, "sheet", tmp_path, sheet=sheet["id"]).read_bytes())[0].get_textpage().get_text_range()
    assert "Plan 1.20 m above floor" in text and "Section A" in text


def test_a_curved_wall_is_unrolled_traced_and_goes_out_where_it_stands(client: TestClient, tmp_path: Path) -> None:
    """A round tank of 5 m radius, its shell in view from within, with a weld at every metre along it that is bright."""
    rng, project, radius = np.random.default_rng(8), made(client, "A tank"), 5.0
    angle, up = rng.uniform(-math.pi, math.pi, 300_000), rng.uniform(-1.5, 2.0, 300_000)
    xyz = np.column_stack([radius * np.cos(angle), radius * np.sin(angle), up]) * (1 + rng.normal(0, 2e-4, (300_000, 1)))
    weld = np.abs((angle * radius + 0.5) % 1.0 - 0.5) < 0.01
    scan = Scan(xyz.astype(np.float32), np.where(weld, 0.9, 0.2).astype(np.float32), None, None, None)
    bring_in(project, [write_scan(tmp_path / "T-1.e57", scan)])
    picks = [[radius * math.cos(a), radius * math.sin(a)] for a in (-1.0, 0.2, 1.4)]
    hand = Hand(client, project, kind="unrolled", line=picks, bent=True, before=0.05, behind=0.05, height=None)
    (row,) = client.get(f"{hand.url}/sections").json()
    assert row["name"] == "Unrolled A" and abs(row["foot"][-1][0] - 12.0) < 1e-3
    body = client.get(f"{hand.url}/sections/{hand.section}/points").content
    count = len(body) // 12
    flat, bright = np.frombuffer(body, np.float32, 2 * count).reshape(-1, 2), np.frombuffer(body, np.uint8, offset=8 * count).reshape(-1, 4)
    assert count == int((np.abs(angle - 0.2) < 1.2).sum()) and abs(np.ptp(flat[:, 0]) - 12.0) < 0.01
    metre = np.abs((flat[:, 0] - radius + 0.5) % 1.0 - 0.5)  # welds lie at whole metres, the first pick 5 m round from one
    assert (metre[bright[:, 3] > 150] < 0.012).all() and (bright[metre < 0.008, 3] > 150).all()
    hand.draw("polyline", (2.0, -1.0), (6.0, -1.0), (6.0, 1.0), (2.0, 1.0), closed=True)
    hand.draw("text", (4.0, 0.0), text="Nozzle", height=0.2)
    assert client.post(f"{hand.url}/sections/{hand.section}/fit").json()["code"] == "bad_input"
    drawing = ezdxf.readfile(deliver(client, project, "dxf", tmp_path))
    assert not drawing.audit().errors
    (line,) = (e for e in drawing.modelspace().query("POLYLINE") if e.dxf.layer == "wall")
    places = np.array([v.dxf.location for v in line.vertices])
    assert np.abs(np.hypot(places[:, 0], places[:, 1]) - radius).max() < 1e-6 and len(places) > 300
    turn = np.unwrap(np.arctan2(places[:, 1], places[:, 0])) + 1.0
    assert abs(turn.min() * radius - 2.0) < 1e-6 and abs(turn.max() * radius - 6.0) < 1e-6
    assert sorted(places[:, 2].round(6)[[0, -1]].tolist()) == [-1.0, -1.0]
    names = zipfile.ZipFile(deliver(client, project, "slab", tmp_path, sections=[hand.section], pixel=0.01, picture="intensity"))
    with rasterio.open(io.BytesIO(names.read("Unrolled-A.tif"))) as picture:
        seen = picture.read(1)
        left = picture.bounds.left
    column = seen[seen.shape[0] // 4 : -seen.shape[0] // 4].astype(float).mean(axis=0)
    at = left + (np.arange(len(column)) + 0.5) * 0.01
    on = np.abs((at - radius + 0.5) % 1.0 - 0.5)
    inner = (at > 0.2) & (at < 11.8)
    assert abs(column[(on < 0.006) & inner].mean() - column[(on > 0.05) & inner].mean()) > 40
    sheet = hand.post("/sheets", name="Shell", sections=[hand.section], paper="A3")["id"]
    text = pypdfium2.PdfDocument(deliver(client, project, "sheet", tmp_path, sheet=sheet).read_bytes())[0].get_textpage().get_text_range()
    assert "Nozzle" in text and "Unrolled A" in text
    plan = hand.post("/sections", kind="plan", height=0.2, behind=0.1)["id"]
    marks = next(x["marks"] for x in client.get(f"{hand.url}/sections").json() if x["id"] == plan)
    assert np.abs(np.linalg.norm(marks["lines"][0], axis=1) - radius).max() < 0.002 and [x["text"] for x in marks["letters"]] == ["A", "A"]
    cuts = client.get(f"{hand.url}/cuts").json()
    assert len(hand.post("/cuts", **cuts)["ids"]) == 2


def test_words_with_an_arrow_and_letters_as_high_as_the_project_has_them(client: TestClient, p: str, tmp_path: Path) -> None:
    hand = Hand(client, p)
    hand.draw("text", (0, 1), text="before")
    version = client.get(f"/api/projects/{p}").json()["version"]
    assert client.patch(f"/api/projects/{p}", json={"version": version, "letters": 0.3}).json()["letters"] == 0.3
    hand.draw("text", (0, 0), text="after")
    right = hand.draw("dimension", (1, 1), (2, 1.5), measure="leader", text="crack, 2 mm")
    left = hand.draw("dimension", (-1, 1), (-2, 1.5), measure="leader", text="crack, 2 mm")
    body = {"kind": "dimension", "points": [[0, 0], [1, 1]], "shape": {"measure": "leader"}}
    assert "words" in client.post(f"{hand.url}/sections/{hand.section}/traces", json=body).json()["detail"]
    heights = {t["letters"][0]["text"]: t["letters"][0]["height"] for t in hand.drawn if t["letters"]}
    assert heights == {"before": 0.15, "after": 0.3, "crack, 2 mm": 0.3}
    for own, side in ((right, 1), (left, -1)):
        line, arrow = hand[own]["lines"]
        assert line[0] == [side * 1.0, 1.0] and line[1] == [side * 2.0, 1.5] and line[2] == [side * 2.3, 1.5]
        assert arrow[1] == line[0] and all(
            np.hypot(*np.subtract(x, arrow[1])) == pytest.approx(0.24, abs=1e-4) for x in (arrow[0], arrow[2])
        )
        (words,) = hand[own]["letters"]
        assert words["text"] == "crack, 2 mm" and (words["at"][0] > 2.3 if side > 0 else words["at"][0] < -3.0)
    drawing = ezdxf.readfile(deliver(client, p, "dxf", tmp_path, coordinates="section"))
    assert not drawing.audit().errors
    assert sorted(t.dxf.text for t in drawing.modelspace().query("TEXT") if "crack" in t.dxf.text) == ["crack, 2 mm"] * 2
    undo(client, p)
    undo(client, p)
    undo(client, p)
    undo(client, p)
    assert client.get(f"/api/projects/{p}").json()["letters"] == 0.15


def test_dimensions_look_as_the_project_has_them_on_the_screen_and_in_what_goes_out(client: TestClient, p: str, tmp_path: Path) -> None:
    hand = Hand(client, p)
    long = hand.draw("dimension", (0, 0), (1.2344, 0), (0, 0.5), measure="aligned")
    round_ = hand.draw("dimension", (0, 0), (0, 0.75), measure="radius")

    def said() -> list[str]:
        return [hand[x]["letters"][0]["text"] for x in (long, round_)]

    def change(**dimensions: Any) -> Any:
        version = client.get(f"/api/projects/{p}").json()["version"]
        return client.patch(f"/api/projects/{p}", json={"version": version, "dimensions": dimensions})

    assert said() == ["1.234", "R 0.750"]
    corners = {"tick": 2, "arrow": 4, "dot": 13}
    blocks = {"tick": "OBLIQUE", "arrow": "", "dot": "DOT"}
    for ends, unit, places, words in (
        ("arrow", "cm", None, ["123.4", "R 75.0"]),
        ("dot", "mm", 1, ["1234.4", "R 750.0"]),
        ("tick", "ft", 2, ["4.05", "R 2.46"]),
    ):
        told = change(ends=ends, unit=unit, places=places).json()
        assert told["dimensions"] == {"ends": ends, "unit": unit, "places": places} and said() == words
        assert [len(line) for line in hand[long]["lines"]] == [2, 2, corners[ends], 2, corners[ends]]
        doc = ezdxf.readfile(deliver(client, p, "dxf", tmp_path))
        own = doc.modelspace().query("DIMENSION")
        assert sorted(d.dxf.text for d in own) == sorted(words) and not doc.audit().errors
        (aligned,) = (d for d in own if d.dimtype != 4)  # radius is 4
        assert aligned.override().get_arrow_names()[:2] == (blocks[ends], blocks[ends])
    problem(change(ends="star"), 422, "bad_request")
    for _ in range(3):
        undo(client, p)
    assert said() == ["1.234", "R 0.750"] and [len(line) for line in hand[long]["lines"]] == [2, 2, 2, 2, 2]
