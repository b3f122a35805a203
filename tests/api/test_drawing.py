"""Draw over HTTP on a small room: cuts, found and drawn lines, what is done with them, layers, sheets, and what is handed over of it."""

from __future__ import annotations

import csv
import io
import math
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import ezdxf
import ifcopenshell
import ifcopenshell.validate
import numpy as np
import pytest
import rasterio
import trimesh
from fastapi.testclient import TestClient
from PIL import Image

from taut_lantern.api.app import make_app
from taut_lantern.api.routes import draw
from taut_lantern.core import frames
from taut_lantern.core.scan.scan import Scan
from taut_lantern.formats import model
from taut_lantern.standins.scene import Ball, Scene
from taut_lantern.store.models import Job
from tests.api.test_api import made, problem, undo, work
from tests.api.test_steps import deliver, fitted
from tests.core.test_solids import bar, seen
from tests.support import bring_in, link_rows, room, write_scan
from tests.truth.test_pipes import gallery

SIZE = (6.0, 4.0, 3.0)


@pytest.fixture(scope="module")
def client(database: str) -> Iterator[TestClient]:
    with TestClient(make_app(), base_url="http://localhost") as c:
        yield c


def drawn_in(client: TestClient, folder: Path) -> str:
    """A project of two scans of one room, tied."""
    project = made(client, "A room to draw")
    scans = [room(60_000, SIZE, 1), room(60_000, SIZE, 2, (-1.0, 0.0, 0.0))]
    ids = bring_in(project, [write_scan(folder / f"ST-{k + 1}.e57", s) for k, s in enumerate(scans)])
    link_rows(project, (*ids, frames.pose(0.0, (1.0, 0.0, 0.0))))
    return project


@pytest.fixture
def p(client: TestClient, tmp_path: Path) -> str:
    return drawn_in(client, tmp_path)


class Hand:
    """Draws on one section of a project."""

    def __init__(self, client: TestClient, project: str, **cut: Any) -> None:
        self.client, self.url = client, f"/api/projects/{project}"
        body = {"kind": "plan", "height": 0.2, "behind": 0.1} | cut
        self.section: str = client.post(f"{self.url}/sections", json=body).json()["id"]

    def post(self, path: str, **body: Any) -> Any:
        answer = self.client.post(self.url + path, json=body)
        assert answer.status_code < 300, answer.text
        return answer.json()

    def draw(self, kind: str, *points: tuple[float, float], radius: float = 0.0, layer: str = "wall", **shape: Any) -> str:
        body = {"kind": kind, "points": points, "radius": radius, "layer": layer, "shape": shape}
        return str(self.post(f"/sections/{self.section}/traces", **body)["id"])

    def edit(self, do: str, *ids: str, at: Any = (), **more: Any) -> list[str]:
        return list(self.post("/traces/edit", do=do, ids=ids, at=at, **more)["ids"])

    @property
    def whole(self) -> dict[str, Any]:
        return next(s for s in self.client.get(f"{self.url}/sections").json() if s["id"] == self.section)

    def __getitem__(self, trace: str) -> dict[str, Any]:
        return next(t for t in self.whole["traces"] if t["id"] == trace)

    @property
    def drawn(self) -> list[dict[str, Any]]:
        return list(self.whole["traces"])


def test_what_is_done_with_lines_is_stored_and_taken_back_step_by_step(client: TestClient, p: str) -> None:
    hand = Hand(client, p)
    a, b = hand.draw("line", (0, 0), (2, 0)), hand.draw("line", (1, -1), (1, 1))
    assert hand.edit("trim", a, at=[[1.8, 0]]) == [] and hand[a]["points"] == [[0, 0], [1, 0]]
    c = hand.draw("line", (3, -1), (3, 1))
    hand.edit("extend", a, at=[[0.9, 0]])
    assert hand[a]["points"] == [[0, 0], [3, 0]]  # the first thing ahead of its end
    (copy,) = hand.edit("copy", a, at=[[0, 0], [0, 1]])
    assert hand[copy]["points"] == [[0, 1], [3, 1]]
    (new,) = hand.edit("offset", copy, at=[[1, 5]], value=0.25)
    assert hand[new]["points"][0][1] == pytest.approx(1.25)
    (arc,) = hand.edit("corner", a, c, value=0.2)
    assert hand[arc]["kind"] == "arc" and hand[arc]["radius"] == pytest.approx(0.2)
    hand.edit("turn", b, at=[[1, 0]], value=math.pi / 2)
    assert np.allclose(hand[b]["points"], [[2, 0], [0, 0]], atol=1e-9)
    six = len(hand.drawn)
    assert len(hand.edit("array", b, at=[[0, 0], [0, 0.5]], count=4)) == 3
    undo(client, p)
    assert len(hand.drawn) == six
    undo(client, p)
    assert hand[b]["points"] == [[1, -1], [1, 1]]
    hand.post("/traces/remove", ids=[a, b])
    assert len(hand.drawn) == six - 2
    undo(client, p)
    assert {a, b} <= {t["id"] for t in hand.drawn}
    problem(client.post(f"{hand.url}/traces/edit", json={"do": "trim", "ids": [new], "at": [[1, 1.25]]}), 422, "bad_input")


def test_joined_lines_are_one_polyline_and_a_found_line_that_is_trimmed_keeps_its_proof(client: TestClient, p: str) -> None:
    hand = Hand(client, p)
    ids = [hand.draw("line", *x) for x in (((0, 0), (1, 0)), ((1, 1), (1, 0)), ((1, 1), (0, 1)), ((0, 1), (0, 0)))]
    hand.edit("join", *ids)
    (one,) = hand.drawn
    assert one["kind"] == "polyline" and one["shape"]["closed"] and len(one["points"]) == 4 and one["fit"]["length"] == 4
    fitted(client, p, hand.section)
    line = next(t for t in hand.drawn if t["state"] == "found")
    assert {"rms_mm", "seen", "bridged", "error_mm", "stations", "corners"} <= set(line["fit"])
    middle = np.mean(line["points"], axis=0).tolist()
    hand.edit("break", line["id"], at=[middle])
    kept = hand[line["id"]]
    assert kept["state"] == "accepted" and kept["fit"]["rms_mm"] == line["fit"]["rms_mm"]
    assert kept["fit"]["length"] == pytest.approx(line["fit"]["length"] / 2, abs=0.01)


def test_found_walls_are_joined_to_closed_polylines_with_what_was_measured_of_them(client: TestClient, p: str) -> None:
    hand = Hand(client, p)
    fitted(client, p, hand.section)
    hand.post(f"/sections/{hand.section}/accept")
    walls = [t for t in hand.drawn if t["layer"] == "wall" and t["kind"] == "line"]
    lone = hand.draw("line", (20, 0), (21, 0))
    hand.draw("line", (0, 0), (1, 0), layer="text")  # it meets none of its layer
    assert len(walls) == 4
    hand.edit("join", *(t["id"] for t in walls), lone)
    (room_,) = (t for t in hand.drawn if t["kind"] == "polyline")
    assert room_["shape"]["closed"] and len(room_["points"]) == 4 and room_["state"] == "accepted"
    at = np.array(room_["points"])
    assert np.abs(np.abs(at - at.mean(axis=0)) - np.array(SIZE[:2]) / 2).max() < 0.003
    fit = room_["fit"]
    assert fit["points"] == sum(t["fit"]["points"] for t in walls) and 0.05 < fit["rms_mm"] < 2
    assert fit["seen"] == pytest.approx(sum(t["fit"]["seen"] for t in walls)) and fit["length"] == pytest.approx(20, abs=0.01)
    assert hand[lone]["kind"] == "line" and not room_["why_old"]
    undo(client, p)
    assert sum(t["kind"] == "line" and t["layer"] == "wall" for t in hand.drawn) == 5
    assert client.post(f"{hand.url}/traces/edit", json={"do": "join", "ids": [lone, walls[0]["id"]]}).status_code == 422


def test_what_of_a_wall_was_not_seen_is_dashed_there_and_nowhere_else(client: TestClient, tmp_path: Path) -> None:
    """A shadow of 0.26 m on a wall of 4 m, x = 3; what the line is extended by later was not seen either."""
    project, scan = made(client, "A room with a shadow"), room(80_000, SIZE, 3)
    shadow = (scan.xyz[:, 0] > 2.9) & (np.abs(scan.xyz[:, 1] - 0.5) < 0.13)
    bring_in(project, [write_scan(tmp_path / "ST-1.e57", scan.take(np.nonzero(~shadow)[0]))])
    hand = Hand(client, project)
    fitted(client, project, hand.section)
    line = next(t for t in hand.drawn if min(x for x, _ in t["points"]) > 2.9)
    assert line["dashed"] and not line["dashes"]  # nobody has said yes to it

    def dashed() -> list[tuple[float, float]]:
        """(from, to) along y of what the file has dashed on the wall; all of it covers the wall without a gap."""
        doc = ezdxf.readfile(deliver(client, project, "dxf", tmp_path))
        on = [e for e in doc.modelspace().query("LINE") if abs(e.dxf.start.x - 3) < 0.01 and abs(e.dxf.end.x - 3) < 0.01]
        assert sum(abs(e.dxf.start.y - e.dxf.end.y) for e in on) == pytest.approx(hand[line["id"]]["fit"]["length"], abs=1e-6)
        return sorted((min(e.dxf.start.y, e.dxf.end.y), max(e.dxf.start.y, e.dxf.end.y)) for e in on if e.dxf.linetype == "DASHED")

    assert dashed() == [pytest.approx((-2, 2), abs=0.01)]
    hand.post(f"/sections/{hand.section}/accept")
    shown = hand[line["id"]]
    assert not shown["dashed"] and len(shown["solid"]) == 2 and len(shown["dashes"]) == 1
    assert dashed() == [pytest.approx((0.37, 0.63), abs=0.06)]
    hand.draw("line", (2, 3), (4, 3))
    hand.edit("extend", line["id"], at=[[3, 1.9]])
    assert dashed() == [pytest.approx((0.37, 0.63), abs=0.06), pytest.approx((2, 3), abs=0.06)]
    hand.client.patch(f"{hand.url}/traces/{line['id']}", json={"version": hand[line["id"]]["version"], "shape": {"dashed": False}})
    assert dashed() == []


def test_a_locked_layer_takes_and_gives_nothing(client: TestClient, p: str) -> None:
    hand = Hand(client, p)
    a = hand.draw("line", (0, 0), (1, 0), layer="pipe")
    rows = client.get(f"{hand.url}/layers").json()
    assert next(r for r in rows if r["name"] == "pipe")["traces"] == 1
    bare = [{k: v for k, v in r.items() if k != "traces"} | {"locked": r["name"] == "pipe"} for r in rows]
    client.put(f"{hand.url}/layers", json={"layers": bare})
    for path, body in (
        (f"/sections/{hand.section}/traces", {"kind": "line", "points": [[0, 0], [1, 1]], "layer": "pipe"}),
        ("/traces/edit", {"do": "move", "ids": [a], "at": [[0, 0], [1, 1]]}),
        ("/traces/remove", {"ids": [a]}),
    ):
        problem(client.post(hand.url + path, json=body), 409, "conflict")
    hand.draw("line", (0, -1), (3, -0.99))  # were it not locked, the other would be turned along this one
    assert hand.post(f"/sections/{hand.section}/regularise", limit_mm=20)["lines"] == 0
    assert hand[a]["points"] == [[0, 0], [1, 0]]
    client.put(f"{hand.url}/layers", json={"rename": ["pipe", "Rohr / außen"]})
    assert hand[a]["layer"] == "Rohr / außen"
    names = [r["name"] for r in client.put(f"{hand.url}/layers", json={"template": "plant"}).json()]
    assert "pipe axis" in names and "Rohr / außen" in names and "to check" in names  # what is drawn on stays
    doc = ezdxf.new()
    doc.layers.add("Tragwerk", color=1)
    text = io.StringIO()
    doc.write(text)
    assert "1 layers" in client.post(f"{hand.url}/layers/dxf", content=text.getvalue().encode()).json()["message"]
    assert next(r for r in client.get(f"{hand.url}/layers").json() if r["name"] == "Tragwerk")["colour"] == "#ff0000"
    problem(client.post(f"{hand.url}/layers/dxf", content=b"nothing"), 422, "bad_input")


def test_found_lines_are_accepted_by_rule_and_laid_square_within_a_limit(client: TestClient, p: str) -> None:
    hand = Hand(client, p)
    fitted(client, p, hand.section)
    rms = sorted(t["fit"]["rms_mm"] for t in hand.drawn)
    answer = hand.post(f"/sections/{hand.section}/accept", most_rms_mm=(rms[1] + rms[2]) / 2)
    assert "Accepted 2" in answer["message"] and [t["state"] for t in hand.drawn].count("accepted") == 2
    before = {t["id"]: np.array(t["points"]) for t in hand.drawn}
    told = hand.post(f"/sections/{hand.section}/regularise", limit_mm=5)
    moved = {t["id"]: np.linalg.norm(np.array(t["points"]) - before[t["id"]], axis=1).max() * 1000 for t in hand.drawn}
    assert told["most_mm"] <= 5 and max(moved.values()) == pytest.approx(told["most_mm"], abs=0.01)
    ways = [np.subtract(*t["points"]) for t in hand.drawn]
    assert all(min(abs(u @ v), abs(u[0] * v[1] - u[1] * v[0])) < 1e-6 * np.linalg.norm(u) * np.linalg.norm(v) for u in ways for v in ways)


def test_what_is_drawn_roughly_is_fitted_to_the_points_beneath(client: TestClient, p: str) -> None:
    hand = Hand(client, p)
    wall = hand.draw("line", (-1.5, -1.988), (1.5, -2.011))
    told = hand.post(f"/traces/{wall}/fit", version=hand[wall]["version"])
    assert told["points"] > 20 and all(abs(y + 2.0) < 0.003 for _, y in hand[wall]["points"]) and 5 < told["moved_mm"] < 20
    problem(client.post(f"{hand.url}/traces/{wall}/fit", json={"version": 1}), 409, "conflict")
    away = hand.draw("line", (0, 0), (0.5, 0))
    problem(client.post(f"{hand.url}/traces/{away}/fit", json={"version": 1}), 422, "not_enough")
    problem(client.post(f"{hand.url}/traces/{wall}/fit", json={"version": hand[wall]["version"], "stripe": 0.1}), 422, "not_enough")


def test_cuts_are_made_in_rows_moved_named_and_used_elsewhere(client: TestClient, p: str, tmp_path: Path) -> None:
    hand = Hand(client, p)
    assert client.get(f"{hand.url}/floors").json() == [{"height": pytest.approx(-1.5, abs=0.05), "stations": ["ST-1", "ST-2"]}]
    ids = hand.post("/sections/series", line=[[-2, 0], [2, 0]], spacing=1.0, width=3.0)["ids"]
    rows = {s["id"]: s for s in client.get(f"{hand.url}/sections").json()}
    assert [rows[x]["name"] for x in ids] == [f"Section {c}" for c in "ABCDE"]
    round_ = hand.post("/sections/series", line=[[2, 0], [0, 2], [-2, 0]], spacing=2.0, width=1.0, arc=True)["ids"]
    arcs = {s["id"]: s for s in client.get(f"{hand.url}/sections").json()}
    assert len(round_) == 4 and all(
        abs(float(np.hypot(*np.add(arcs[x]["params"]["a"], arcs[x]["params"]["b"]))) - 4) < 1e-6 for x in round_
    )
    problem(
        client.post(f"{hand.url}/sections/series", json={"line": [[0, 0], [1, 0]], "spacing": 1, "width": 1, "arc": True}), 422, "bad_input"
    )
    undo(client, p)
    letters = [x["text"] for x in hand.whole["marks"]["letters"]]
    assert sorted(letters) == sorted(2 * list("ABCDE"))  # each at both ends, in the plan
    fitted(client, p, hand.section)
    assert {t["why_old"] for t in hand.drawn} == {""}
    body = {"version": hand.whole["version"], "height": 0.4, "name": "Upper plan"}
    assert client.patch(f"{hand.url}/sections/{hand.section}", json=body).status_code == 200
    assert hand.whole["name"] == "Upper plan" and {t["why_old"] for t in hand.drawn} == {"the cut was moved since"}
    problem(client.patch(f"{hand.url}/sections/{hand.section}", json=body), 409, "conflict")
    cuts = client.get(f"{hand.url}/cuts").json()
    other = made(client, "Another")
    bring_in(other, [write_scan(tmp_path / "X.e57", room(20_000, SIZE, 5))])
    assert len(client.post(f"/api/projects/{other}/cuts", json=cuts).json()["ids"]) == 6
    there = {s["name"]: s for s in client.get(f"/api/projects/{other}/sections").json()}
    assert there["Upper plan"]["params"]["height"] == pytest.approx(0.4, abs=0.05) and there["Section C"]["params"]["a"] == pytest.approx(
        [0, 1.5]
    )
    problem(client.post(f"/api/projects/{other}/cuts", json={"format": "x", "cuts": []}), 422, "bad_input")
    problem(client.post(f"/api/projects/{other}/cuts", json={**cuts, "cuts": [{"kind": "plan"}]}), 422, "bad_input")
    problem(client.post(f"{hand.url}/sections/series", json={"line": [[0, 0], [9, 0]], "spacing": 0.02, "width": 1}), 422, "bad_input")


def test_the_list_of_cuts_has_pictures_of_what_each_cuts(client: TestClient, p: str) -> None:
    hand = Hand(client, p)

    def shot() -> np.ndarray:
        answer = client.get(f"{hand.url}/sections/{hand.section}/picture")
        assert answer.status_code == 200 and answer.headers["content-type"] == "image/png"
        return np.array(Image.open(io.BytesIO(answer.content)).convert("RGB")).astype(int)

    before = shot()
    grey = np.argwhere((np.abs(before - [110, 116, 126]) < 4).all(axis=2))
    wide, tall = np.ptp(grey, axis=0)[::-1]
    assert wide / tall == pytest.approx(SIZE[0] / SIZE[1], rel=0.05)  # the room, to scale
    hand.draw("line", (-2, -1), (2, 1))
    blue = np.argwhere((np.abs(shot() - [35, 64, 122]) < 4).all(axis=2))
    assert len(blue) > 0.55 * wide and blue[np.argmin(blue[:, 1])][0] > blue[np.argmax(blue[:, 1])][0]  # up to the right


def test_a_cut_is_moved_by_its_line_in_a_turned_plan_and_taken_back(client: TestClient, p: str) -> None:
    plan = Hand(client, p, turn=0.4)
    cut = Hand(client, p, kind="upright", a=[0, -1.5], b=[0, 1.5], behind=0.2)
    (mark,) = plan.whole["marks"]["cuts"]
    assert (mark["id"], mark["name"]) == (cut.section, "Section A")
    url = f"{plan.url}/sections/{plan.section}/marks/{cut.section}"
    a, b = [mark["a"][0] + 0.7, mark["a"][1]], [mark["b"][0] + 0.2, mark["b"][1] - 0.1]
    assert client.put(url, json={"version": mark["version"], "a": a, "b": b}).status_code == 200
    back = np.linalg.inv(np.array(plan.whole["T_section_part"]).reshape(4, 4))
    there = [(back @ [*q, 0, 1])[:2] for q in (a, b)]
    np.testing.assert_allclose([cut.whole["params"]["a"], cut.whole["params"]["b"]], there, atol=1e-9)
    np.testing.assert_allclose([plan.whole["marks"]["cuts"][0]["a"], plan.whole["marks"]["cuts"][0]["b"]], [a, b], atol=1e-9)
    problem(client.put(url, json={"version": mark["version"], "a": a, "b": b}), 409, "conflict")
    problem(client.put(f"{plan.url}/sections/{cut.section}/marks/{plan.section}", json={"version": 1, "a": a, "b": b}), 422, "bad_input")
    problem(client.put(url, json={"version": mark["version"] + 1, "a": a, "b": a}), 422, "bad_input")
    undo(client, p)
    assert cut.whole["params"]["a"] == pytest.approx([0, -1.5])


def test_a_plan_along_turned_walls_goes_back_into_the_grid(client: TestClient, p: str, tmp_path: Path) -> None:
    """A line drawn on a plan that lies along the walls, and the picture below it, stand in the DXF where the walls are."""
    hand = Hand(client, p, turn=0.4)
    c, s = math.cos(-0.4), math.sin(-0.4)
    a = hand.draw("line", *((c * x + s * 2, s * x - c * 2) for x in (-3, 3)))
    names = deliver(client, p, "slab", tmp_path, sections=[hand.section], pixel=0.01)
    with zipfile.ZipFile(names) as file:
        file.extractall(tmp_path)
        tif, dxf = (next(n for n in file.namelist() if n.endswith(x)) for x in (".tif", ".dxf"))
    doc = ezdxf.readfile(tmp_path / dxf)
    (line,), (image,) = doc.modelspace().query("LINE"), doc.modelspace().query("IMAGE")
    t = np.linalg.inv(np.array(hand.whole["T_section_part"]).reshape(4, 4))
    ends = [t @ [x, y, 0, 1] for x, y in hand[a]["points"]]
    assert np.allclose([line.dxf.start, line.dxf.end], [e[:3] for e in ends], atol=1e-6)
    assert image.image_def.dxf.filename == tif and not doc.audit().errors
    with rasterio.open(tmp_path / tif) as raster:
        dark = np.argwhere(raster.read(1) < 255)
        at = np.array([raster.transform @ (c + 0.5, r + 0.5) for r, c in dark])
    off = np.abs((at - np.array(line.dxf.start)[:2]) @ [-(e := np.subtract(line.dxf.end, line.dxf.start)[:2] / 6.0)[1], e[0]])
    assert (off < 0.012).sum() > 100  # the wall lies beneath the line


def test_measured_values_and_a_drawing_for_old_readers_are_handed_over(client: TestClient, p: str, tmp_path: Path) -> None:
    hand = Hand(client, p)
    fitted(client, p, hand.section)
    hand.draw("arc", (0, 0), radius=0.5, start=0.0, end=1.0, layer="pipe")
    rows = list(csv.DictReader(io.StringIO(deliver(client, p, "csv", tmp_path).read_text("utf-8-sig"))))
    assert len(rows) == 5 and sum(r["kind"] == "line" and float(r["fit_mm"]) < 3 for r in rows) == 4
    old = ezdxf.readfile(deliver(client, p, "dxf", tmp_path, version="R12"))
    assert old.dxfversion == "AC1009" and not old.audit().errors and len(old.modelspace().query("ARC")) == 1
    assert b"<svg" in deliver(client, p, "svg", tmp_path, sections=[hand.section]).read_bytes()
    client.post(f"{hand.url}/deliveries", json={"kind": "svg"})
    *_, job = work(p)
    assert job.state == "failed" and "one section" in job.error["message"]


def followed(client: TestClient, p: str, at: list[float]) -> Job:
    """The job that has followed a pipe, or could not."""
    assert client.post(f"/api/projects/{p}/pipes", json={"at": at}).status_code == 202
    *_, job = work(p)
    return job


def test_a_long_pipe_is_followed_beyond_what_was_read_first_and_is_taken_back(client: TestClient, tmp_path: Path) -> None:
    rng = np.random.default_rng(3)
    x, angle, radius = rng.uniform(0, 40, 120_000), rng.uniform(0, 2 * np.pi, 120_000), 0.1 + rng.normal(0, 0.001, 120_000)
    skin = np.column_stack([x, radius * np.cos(angle), 2.0 + radius * np.sin(angle)])
    project = made(client, "A long pipe")
    bring_in(project, [write_scan(tmp_path / "L.e57", Scan(skin.astype(np.float32), np.full(len(x), 0.5, np.float32), None, None, None))])
    job = followed(client, project, [3.0, 0.1, 2.0])
    assert job.state == "done", job.error
    (note,) = client.get(f"/api/projects/{project}/notes").json()
    np.testing.assert_allclose(sorted(np.array(note["points"])[:, 0]), [0, 40], atol=0.15)
    assert note["figures"]["diameter"] == pytest.approx(0.2, abs=0.0005)
    undo(client, project)
    assert client.get(f"/api/projects/{project}/notes").json() == []


def test_a_pipe_is_followed_from_a_pick_and_goes_out_as_a_body_in_space(client: TestClient, tmp_path: Path) -> None:
    points, true = gallery(31)
    near = points[np.linalg.norm(points - [6.0, 1.25, 1.5], axis=1) < 6.0]
    project = made(client, "Pipes")
    scan = Scan(near.astype(np.float32), np.full(len(near), 0.5, np.float32), None, None, None)
    bring_in(project, [write_scan(tmp_path / "P.e57", scan)])
    d, corners = true[1]
    off = np.linalg.norm(near[:, 1:] - corners[0, 1:], axis=1) - d / 2
    pick = near[(np.abs(off) < 0.003) & (np.abs(near[:, 0] - 5.0) < 0.5)][0]
    url = f"/api/projects/{project}/notes"
    pipe = followed(client, project, pick.tolist())
    assert pipe.state == "done", pipe.error
    (note,) = client.get(url).json()
    assert note["figures"]["standard_diameter"] == pytest.approx(d) and note["figures"]["diameter"] == pytest.approx(d, abs=0.0012)
    assert len(note["points"]) == 3 and np.linalg.norm(np.array(note["points"]) - corners[1], axis=1).min() < 0.005
    none = followed(client, project, [6.0, 3.9, 0.5])
    assert (none.state, none.error["code"]) == ("failed", "not_enough") and len(client.get(url).json()) == 1
    doc = ezdxf.readfile(deliver(client, project, "dxf", tmp_path))
    axis = [np.array([v.dxf.location for v in e.vertices]) for e in doc.modelspace().query("POLYLINE") if e.dxf.layer == "pipe axis"]
    bodies = [e for e in doc.modelspace().query("POLYLINE") if e.dxf.layer == "pipe"]
    assert np.allclose(axis[0], note["points"], atol=1e-6) and len(bodies) == 1 and not doc.audit().errors
    skin = np.array([v.dxf.location for v in bodies[0].vertices if any(v.dxf.location)])
    along = axis[0][1] - axis[0][0]
    away = np.linalg.norm(np.cross(skin - axis[0][0], along), axis=1) / np.linalg.norm(along)
    along = (skin - axis[0][0]) @ along / (along @ along)
    assert np.abs(away[(along < 0.7) & (away > 1e-3)] - note["radius"]).max() < 1e-4  # but for the middle of its end
    (bend,) = note["bends"]
    assert bend and along.max() < 1 + 2 * note["radius"] / np.linalg.norm(axis[0][1] - axis[0][0])  # round, and no farther than its skin
    assert "Pipe" in client.get(f"{url}.csv").text
    model = ifcopenshell.open(str(deliver(client, project, "ifc", tmp_path)))
    assert [c.SweptArea.Radius for c in model.by_type("IfcExtrudedAreaSolid")] == pytest.approx([note["radius"]] * 2, abs=1e-6)
    assert deliver(client, project, "glb", tmp_path).read_bytes()[:4] == b"glTF"

    def edit(note_id: str, **body: Any) -> list[str]:
        version = next(n["version"] for n in client.get(url).json() if n["id"] == note_id)
        answer = client.post(f"{url}/{note_id}/pipe", json={"version": version, **body})
        assert answer.status_code == 200, answer.text
        return list(answer.json()["ids"])

    axis = np.array(note["points"])
    middle = (axis[0] + axis[1]) / 2
    first, second = edit(note["id"], do="cut", at=(middle + [0, 0.05, 0]).tolist())
    two = {n["id"]: np.array(n["points"]) for n in client.get(url).json()}
    assert [len(two[x]) for x in (first, second)] == [2, 3] and np.abs(two[first][1] - middle).max() < 0.01
    doc = ezdxf.readfile(deliver(client, project, "dxf", tmp_path))
    assert sum(e.dxf.layer == "pipe" for e in doc.modelspace().query("POLYLINE")) == 2
    u = (axis[0] - axis[1]) / np.linalg.norm(axis[0] - axis[1])
    edit(first, do="extend", at=(axis[0] + 0.5 * u + [0, 0, 0.1]).tolist())
    assert edit(first, do="join", other=second) == [first]
    (whole,) = client.get(url).json()
    both = np.array(whole["points"]) if np.linalg.norm(whole["points"][0] - axis[0]) < 1 else np.array(whole["points"])[::-1]
    assert np.abs(both[0] - axis[0] - 0.5 * u).max() < 0.11 and np.abs(both[1:] - axis[1:]).max() < 1e-6
    assert [b is None for b in whole["bends"]] == [b is None for b in note["bends"]]
    for _ in range(3):
        undo(client, project)
    (back,) = client.get(url).json()
    assert back["points"] == note["points"] and back["bends"] == note["bends"]


def test_a_steel_member_a_box_and_a_sphere_are_bodies_in_every_file(client: TestClient, tmp_path: Path) -> None:
    """A column HE 200 A, a chest and a ball of 20 cm, from picks on them, out again as DXF, IFC and glTF of the same volume."""
    scene = Scene()
    scene.box((-4, -4, -0.2), (4, 4, 0), (0.5, 0.5, 0.5))
    there = frames.pose(0.4, (0.5, 2.0, 0.0))
    bar(scene, "HE 200 A", there, 2.4)
    scene.box((1.5, 0.6, 0.0), (2.3, 1.2, 0.7), (0.4, 0.4, 0.4))
    scene.spheres["S1"] = Ball((-1.2, 1.6, 1.2))
    points, stands = seen(scene, 2, 600_000)
    project = made(client, "Bodies")
    own = frames.apply(frames.pose(0.0, tuple(-stands[0])), points).astype(np.float32)
    bring_in(project, [write_scan(tmp_path / "ST-1.e57", Scan(own, None, None, None, None))])
    url = f"/api/projects/{project}"

    def near(*at: float) -> list[float]:
        d = np.array(at) - stands[0]
        return list(map(float, own[np.argmin(np.linalg.norm(own - d, axis=1))]))

    assert client.post(f"{url}/members", json={"at": near(*frames.apply(there, np.array([[0.03, -0.095, 1.2]]))[0])}).status_code == 202
    *_, job = work(project)
    assert job.state == "done" and job.result and job.result["section"] == "HE 200 A", job.error
    for kind, picks in (("box", [near(1.9, 0.9, 0.7), near(1.5, 0.9, 0.4)]), ("sphere", [near(-1.1, 1.53, 1.2)])):
        assert client.post(f"{url}/notes", json={"kind": kind, "points": picks}).status_code == 201
    notes = {n["kind"]: n for n in client.get(f"{url}/notes").json()}
    steel, box, ball = (notes[k]["figures"] for k in ("profile", "box", "sphere"))
    assert notes["profile"]["section"] == "HE 200 A" and steel["section_height"] == 0.19 and abs(steel["height"] - 2.4) < 0.02
    assert abs(box["long"] - 0.8) < 0.02 and abs(box["wide"] - 0.6) < 0.02 and abs(box["high"] - 0.7) < 0.02
    assert abs(ball["diameter"] - 0.2) < 0.003
    problem(client.post(f"{url}/notes", json={"kind": "box", "points": [near(1.9, 0.9, 0.7)] * 2}), 422, "not_enough")
    problem(client.post(f"{url}/notes", json={"kind": "sphere", "points": [near(1.9, 0.9, 0.7)]}), 422, "not_enough")
    volumes = {
        "steel": (2 * 0.2 * 0.01 + 0.17 * 0.0065) * steel["slope"],
        "box": box["long"] * box["wide"] * box["high"],
        "ball": math.pi * ball["diameter"] ** 3 / 6,
    }
    total = sum(volumes.values())
    solids = trimesh.load_scene(deliver(client, project, "glb", tmp_path))
    assert sum(g.volume for g in solids.geometry.values()) == pytest.approx(total, rel=0.01)
    file = deliver(client, project, "ifc", tmp_path)
    checked: Any = ifcopenshell.validate.json_logger()
    ifcopenshell.validate.validate(str(file), checked)
    assert not checked.statements
    mesh, _ = model.read(file, "a.ifc")
    assert trimesh.Trimesh(mesh.vertices, mesh.faces).volume == pytest.approx(total, rel=0.01)
    doc = ifcopenshell.open(str(file))
    assert [x.Name for x in doc.by_type("IfcMember")] == [notes["profile"]["name"]]
    drawn, _ = model.read(deliver(client, project, "dxf", tmp_path), "a.dxf")
    assert "solids" in drawn.names
    some = drawn.element == drawn.names.index("solids")
    assert trimesh.Trimesh(drawn.vertices, drawn.faces[some]).volume == pytest.approx(total, rel=0.04)  # the ball in 24 sides
    undo(client, project)
    assert {n["kind"] for n in client.get(f"{url}/notes").json()} == {"profile", "box"}
    hand = Hand(client, project, height=0.0, behind=0.9)
    fitted(client, project, hand.section)
    (column,) = (t for t in hand.drawn if t["kind"] == "polyline")  # in a plan it is its section, no two faces of a wall
    assert column["layer"] == "column" and column["fit"]["section"] == "HE 200 A" and column["shape"]["closed"]
    middle = (np.min(column["points"], axis=0) + np.max(column["points"], axis=0)) / 2
    assert np.linalg.norm(middle - (there[:2, 3] - stands[0][:2])) < 0.003


def test_what_was_told_of_lines_before_is_told_as_if_anew_after_each_change(client: TestClient, p: str) -> None:
    hand = Hand(client, p)
    line = hand.draw("line", (0, 0), (2, 0))
    rise = hand.draw("dimension", (0, 0), (2, 0), (1, 0.5), measure="aligned")
    hand.draw("text", (1, 1), text="Sump", height=0.2)
    before: set[str] = set()

    def told() -> str:
        """As it is told with what is kept, which is what is told when nothing is."""
        kept = client.get(f"{hand.url}/sections").text
        draw._told.clear()
        assert client.get(f"{hand.url}/sections").text == kept
        assert kept not in before
        before.add(kept)
        return kept

    assert "2.000" in told()
    hand.post("/traces/edit", do="move", ids=[line], at=[[0, 0], [0, 0.5]])
    told()
    undo(client, p)
    told()
    version = client.get(f"/api/projects/{p}").json()["version"]
    assert client.patch(f"/api/projects/{p}", json={"version": version, "unit": "mm"}).status_code == 200
    assert '"2000"' in told()
    hand.post("/traces/remove", ids=[rise])
    assert rise not in told()
    fitted(client, p, hand.section)
    told()
    assert client.patch(f"{hand.url}/sections/{hand.section}", json={"version": 1, "height": 0.3}).status_code == 200
    assert "the cut was moved since" in told()
