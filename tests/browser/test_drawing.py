"""Drawing in the page by mouse and keyboard, held to what is stored, what is seen on the canvas and what is plotted."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import numpy as np
import pypdfium2
import pytest
from PIL import Image
from playwright.sync_api import expect

from taut_lantern.core.scan.scan import Scan
from taut_lantern.standins.scanner import Scanner, scan
from taut_lantern.standins.scene import Scene
from tests.api.test_papers import customers_block
from tests.browser.driver import Screen, browser
from tests.browser.test_cleaning import brought_in
from tests.served import Served
from tests.support import room, write_scan

STRIPE = 0.52  # metres from the middle of the room to the middle of a painted stripe 12 cm wide


def painted(seed: int) -> Scan:
    """A room whose floor has a bright stripe along it."""
    walls = room(250_000, (8.0, 6.0, 3.0), seed)
    rng = np.random.default_rng(seed)
    floor = np.column_stack([rng.uniform(-4, 4, 40_000), rng.uniform(-3, 3, 40_000), np.full(40_000, -1.5)]).astype(np.float32)
    xyz = np.concatenate([walls.xyz, floor])
    bright = np.where(np.abs(xyz[:, 1] - STRIPE) < 0.06, 0.8, 0.3) + rng.normal(0, 0.03, len(xyz))
    return Scan(xyz, bright.clip(0, 1).astype(np.float32), rng.integers(0, 255, (len(xyz), 3)).astype(np.uint8), None, None)


class Table:
    """The sheet: where places of it lie on the page, told by what the cursor says it is at."""

    where = "Sheet"

    def __init__(self, screen: Screen) -> None:
        self.screen = screen
        box = screen.page.get_by_label(self.where, exact=True).bounding_box()
        assert box is not None
        self.box = box
        corners = [(box["x"] + box["width"] * s, box["y"] + box["height"] * s) for s in (0.3, 0.7)]
        (x0, y0), (x1, y1) = (self._says(*c) for c in corners)
        self.scale = np.array([(x1 - x0) / (corners[1][0] - corners[0][0]), (y1 - y0) / (corners[1][1] - corners[0][1])])
        self.zero = np.array([x0, y0]) - self.scale * corners[0]

    def _says(self, x: float, y: float) -> tuple[float, float]:
        self.screen.page.mouse.move(x, y)
        text = self.screen.page.get_by_text(re.compile(r" E .* N .* H ")).inner_text().replace("−", "-")
        found = re.search(r"E (\S+) N (\S+) H", text)
        assert found is not None
        return float(found[1]), float(found[2])

    def at(self, x: float, y: float) -> tuple[float, float]:
        px, py = (np.array([x, y]) - self.zero) / self.scale
        return float(px), float(py)

    def colour(self, x: float, y: float) -> list[int]:
        """The darkest pixel of the paper within 2 pixels of a place."""
        data = self.paper(x, y, 2)
        return list(data[np.argmin(data.sum(axis=1))])

    def paper(self, x: float, y: float, reach: int) -> np.ndarray:
        px, py = self.at(x, y)
        js = """([x, y, n]) => [...document.querySelector('[aria-label=Sheet] canvas').getContext('2d')
            .getImageData(x - n, y - n, 2 * n + 1, 2 * n + 1).data]"""
        return np.array(self.screen.page.evaluate(js, [px - self.box["x"], py - self.box["y"], reach])).reshape(-1, 4)[:, :3]


def typed(screen: Screen, *words: str) -> None:
    for word in words:
        screen.page.keyboard.type(word)
        screen.page.keyboard.press("Enter")


def traces(served: Served, project: str) -> list[dict[str, Any]]:
    return [t for s in served.get(f"/projects/{project}/sections") for t in s["traces"]]


def seen_along(served: Served, project: str, section: dict[str, Any]) -> np.ndarray:
    """(n,) how far along a cut its points lie."""
    data = served.http.get(f"/projects/{project}/sections/{section['id']}/points").content
    return np.frombuffer(data, np.float32, len(data) // 12 * 2)[::2]


def count(screen: Screen, n: int) -> None:
    screen.page.wait_for_function(f"() => +document.querySelector('[aria-label=Sheet]').dataset.traces === {n}")


def test_walls_accepted_a_kerb_and_a_stripe_traced_trimmed_and_plotted(served: Served, tmp_path: Path) -> None:
    project = brought_in(served, "Painted", write_scan(tmp_path / "a.e57", painted(3)))
    with browser(served.url, "drawing") as screen:
        page = screen.page
        page.goto(f"{served.url}/p/{project}/draw?budget=200000")
        screen.drawn()
        screen.press("Cut the plan")
        screen.sheet("slab")
        screen.press("Find lines and circles")
        count(screen, 4)
        screen.press("Accept those")
        screen.card("4 lines stand")
        assert {(t["state"], t["layer"]) for t in traces(served, project)} == {("accepted", "wall")}
        table = Table(screen)
        assert max(table.colour(-2.0, 3.0)) < 90  # the wall is seen where it is

        cut = served.post(f"/projects/{project}/sections", kind="upright", a=[1.5, -2.0], b=[1.5, 2.0], behind=0.1)["id"]
        served.wait(lambda: max(table.colour(1.5, 0.5)) < 190)  # its line is seen in the plan
        page.mouse.move(*table.at(1.5, 0.5))
        page.mouse.down()
        page.mouse.move(*table.at(2.2, 0.9), steps=6)
        page.mouse.up()
        line = lambda: next(s["params"] for s in served.get(f"/projects/{project}/sections") if s["id"] == cut)  # noqa: E731
        served.wait(lambda: abs(line()["a"][0] - 2.2) < 0.03 and abs(line()["b"][1] - 2.0) < 1e-6)  # square to itself
        moved = line()["a"][0]
        served.wait(lambda: max(table.colour(moved, 0.5)) < 190 and min(table.colour(1.5, 0.5)) > 200)
        page.keyboard.press("Control+z")
        served.wait(lambda: line()["a"] == [1.5, -2.0])
        page.keyboard.press("Control+z")  # and the cut itself
        served.wait(lambda: len(served.get(f"/projects/{project}/sections")) == 1)

        page.mouse.move(*table.at(0, 0))
        page.keyboard.press("p")  # a kerb: straight, then a quarter circle that goes on smoothly
        typed(screen, "-2,1", "2<0")
        page.keyboard.press("b")
        typed(screen, "@1,1", "")
        count(screen, 5)
        kerb = next(t for t in traces(served, project) if t["kind"] == "polyline")
        assert np.allclose(kerb["points"], [[-2, 1], [0, 1], [1, 2]], atol=1e-9)
        assert kerb["shape"]["bulges"] == [0, pytest.approx(np.tan(np.pi / 8))]
        s = np.sqrt(0.5)
        assert max(table.colour(s, 2 - s)) < 140 and min(table.colour(0.5, 1.5)) > 150  # drawn along the bend, not along its chord

        page.keyboard.press("d")
        typed(screen, "-1,-1", "@0,2.5")
        count(screen, 6)
        page.keyboard.press("i")
        page.mouse.click(*table.at(-1, 1.3))
        stub = lambda: next(t for t in traces(served, project) if t["kind"] == "line" and t["state"] == "drawn")  # noqa: E731
        served.wait(lambda: np.allclose(stub()["points"], [[-1, -1], [-1, 1]], atol=1e-6))
        page.keyboard.press("Escape")
        page.keyboard.press("Control+z")
        served.wait(lambda: np.allclose(stub()["points"], [[-1, -1], [-1, 1.5]], atol=1e-6))
        page.keyboard.press("w")
        page.mouse.click(*table.at(-2, 1))
        page.mouse.click(*table.at(0, 1))
        page.mouse.click(*table.at(-1, 0.4))
        count(screen, 7)
        figure = next(t for t in traces(served, project) if t["kind"] == "dimension")
        assert [x["text"] for x in figure["letters"]] == ["2.000"]  # caught on both ends of the kerb
        page.keyboard.press("Escape")

        ticked = table.paper(0, 0.4, 5)  # where it ends
        figures = lambda: [x["text"] for t in traces(served, project) if t["kind"] == "dimension" for x in t["letters"]]  # noqa: E731
        page.get_by_text("Letters and dimensions").click()
        page.get_by_label("Dimensions end in").select_option("dots")
        page.get_by_label("Figures in").select_option("centimetres")
        screen.press("Use this in the project")
        served.wait(lambda: figures() == ["200.0"])
        served.wait(lambda: (table.paper(0, 0.4, 5) != ticked).any())
        page.keyboard.press("Control+z")
        served.wait(lambda: figures() == ["2.000"] and (table.paper(0, 0.4, 5) == ticked).all())

        screen.press("Back to the plan")
        page.get_by_label("Above the floor").fill("0.03")
        page.get_by_label("Depth below the cut").fill("0.1")
        screen.press("Cut the plan")
        screen.sheet("slab")
        page.get_by_label("Points on the sheet").select_option("intensity")
        table = Table(screen)
        page.keyboard.press("d")
        typed(screen, f"-3,{STRIPE + 0.05}", f"3,{STRIPE - 0.03}")
        count(screen, 1)
        page.keyboard.press("Escape")
        page.mouse.click(*table.at(0.0, STRIPE + 0.01))
        page.get_by_text("It is a painted stripe or a joint").click()
        screen.press("Lay it on the middle of the stripe")
        line = lambda: next(t for t in traces(served, project) if t["fit"].get("moved_mm"))  # noqa: E731
        served.wait(lambda: any(t["fit"].get("moved_mm") for t in traces(served, project)))
        assert all(abs(y - STRIPE) < 0.005 for _, y in line()["points"]) and line()["shape"]["towards"] == pytest.approx(
            [-0.03, -0.03], abs=0.01
        )

        screen.press("Lay out a sheet")
        page.get_by_label("Plan 1.20 m above floor").check()
        page.get_by_label("number").fill("OPS-7")
        screen.press("Lay it out")
        expect(page.get_by_role("img", name=re.compile("as it is laid out"))).to_be_visible()
        screen.press("Make the PDF")
        screen.card("1 deliveries")
        text = pypdfium2.PdfDocument(screen.download("pdf", tmp_path))[0].get_textpage().get_text_bounded()
        assert "OPS-7" in text and "2.000" in text and "Plan 1.20 m above floor" in text and "Plan 0.03 m above floor" in text


def piped() -> Scan:
    """An open court with a pipe of 219.1 mm a metre up, which turns down by an elbow, as the scanner in its middle has it."""
    s, grey = Scene(), (0.5, 0.5, 0.55)
    s.box((-4, -3, -0.2), (4, 3, 0), grey)
    for low, high in (((-4.2, -3, 0), (-4, 3, 2)), ((4, -3, 0), (4.2, 3, 2)), ((-4, -3.2, 0), (4, -3, 2)), ((-4, 3, 0), (4, 3.2, 2))):
        s.box(low, high, grey)
    s.tube((-2.5, 1.2, 1.0), (2.0, 1.2, 1.0), 0.10955, grey, 0.5, 64)
    s.tube((2.0, 1.2, 1.0), (2.0, 1.2, 0.0), 0.10955, grey, 0.5, 64)
    return scan(s, (0.0, 0.0, 1.6), 0.0, 5, Scanner(points=600_000))[0]


class Plan(Table):
    """The plan pane in the same way, over points that are seen there."""

    where = "Bench"


def test_a_pipe_is_followed_its_clearance_measured_and_a_cut_in_steps_goes_by_it(served: Served, tmp_path: Path) -> None:
    project = brought_in(served, "Piped", write_scan(tmp_path / "p.e57", piped()))
    with browser(served.url, "pipes") as screen:
        page = screen.page
        page.goto(f"{served.url}/p/{project}/draw?budget=300000")
        screen.drawn()
        for name in ("plan", "space"):
            screen.pane(name, name == "plan")
        screen.drawn()
        plan = Plan(screen)
        page.keyboard.press("m")
        page.get_by_role("combobox", name="Measure", exact=True).select_option("pipe")
        screen.card("Pick the skin of a pipe")
        page.mouse.click(*plan.at(-0.8, 1.2))
        screen.idle()
        (pipe,) = served.get(f"/projects/{project}/notes")
        axis = np.array(pipe["points"])
        assert abs(pipe["figures"]["diameter"] - 0.2191) < 0.001 and pipe["figures"]["standard_diameter"] == pytest.approx(0.2191)
        assert len(axis) == 3 and np.abs(axis[1] - [2.0, 1.2, -0.6]).max() < 0.005  # the elbow
        page.keyboard.press("m")
        page.get_by_role("combobox", name="Measure", exact=True).select_option("clearance")
        screen.card("the shortest way between both")
        page.mouse.click(*plan.at(-0.8, 1.2))
        screen.card("Pick 2 of 2")
        page.wait_for_timeout(400)
        page.mouse.click(*plan.at(-0.8, -3.0))
        screen.card(re.compile(r"Clearance \d: 4\.\d+ m clear"))
        clear = next(n for n in served.get(f"/projects/{project}/notes") if n["kind"] == "clearance")
        assert abs(clear["figures"]["clearance"] - (4.2 - 0.10955)) < 0.003  # from its skin to the wall
        page.get_by_role("button", name="Back to the step").click()

        page.get_by_role("combobox", name="Cut", exact=True).select_option("stepped")
        screen.press("Pick its legs in plan")
        for x, y in ((-3.0, 0.5), (-0.5, 0.5), (0.5, 2.0), (3.0, 2.0)):
            page.mouse.click(*plan.at(x, y))
            page.wait_for_timeout(400)
        screen.card("4 picked")
        screen.press("Cut it")
        screen.sheet("slab")
        (section,) = served.get(f"/projects/{project}/sections")
        (at, shift), *more = section["params"]["steps"]
        assert not more and abs(at - 3.0) < 0.2 and abs(shift - 1.5) < 0.2  # a pick takes a point within 6 pixels of 3 cm
        page.get_by_text("Move or deepen the cut").click()
        page.get_by_role("combobox", name="Of", exact=True).select_option("what p saw")
        screen.press("Cut it so")
        of = lambda: served.get(f"/projects/{project}/sections")[0]  # noqa: E731
        served.wait(lambda: of()["of"] == "what p saw")
        expect(page.locator("[data-row]")).to_contain_text("section in steps of what p saw")
        assert len(of()["params"]["of"]["stations"]) == 1 and of()["params"]["steps"] == section["params"]["steps"]


def test_a_wall_is_unrolled_a_photo_pinned_walls_joined_and_the_customers_block_filled_in(served: Served, tmp_path: Path) -> None:
    project = brought_in(served, "Court", write_scan(tmp_path / "c.e57", piped()))
    photo = tmp_path / "photo.png"
    Image.new("RGB", (60, 30), (210, 20, 20)).save(photo)
    sections = lambda: served.get(f"/projects/{project}/sections")  # noqa: E731
    with browser(served.url, "unrolled") as screen:
        page = screen.page
        page.goto(f"{served.url}/p/{project}/draw?budget=300000")
        screen.drawn()
        for name in ("plan", "space"):
            screen.pane(name, name == "plan")
        screen.drawn()
        plan = Plan(screen)
        page.get_by_role("combobox", name="Cut", exact=True).select_option("unrolled")
        page.get_by_label("Depth of the slab").fill("1")
        screen.press("Pick along the wall in plan")
        for x, y in ((-4.0, -2.5), (-4.0, 3.0), (3.0, 3.0)):
            page.mouse.click(*plan.at(x, y))
            page.wait_for_timeout(400)
        screen.card("3 picked")
        screen.press("Cut it")
        assert screen.sheet("slab") > 10_000
        (wall,) = sections()
        assert wall["kind"] == "unrolled" and abs(wall["foot"][-1][0] - 12.5) < 0.6  # picks take points within 7 pixels of 5 cm, so that
        assert seen_along(served, project, wall).min() < 1.0  # the cut is as deep as that to both sides: all of the wall is seen
        expect(page.get_by_role("button", name="Find lines and circles")).to_be_disabled()

        with page.expect_file_chooser() as chooser:
            page.get_by_role("button", name="Picture or PDF").click()
        chooser.value.set_files(photo)
        expect(page.get_by_role("status").filter(has_text="its lower left corner")).to_be_visible()
        page.mouse.move(*table_middle(screen))
        typed(screen, "1,-1.2", "2<0")
        count(screen, 1)
        (pinned,) = traces(served, project)
        assert pinned["kind"] == "picture" and np.allclose(pinned["points"], [[1, -1.2], [3, -1.2]]) and pinned["shape"]["tall"] == 0.5
        red = """() => { const c = document.querySelector('[aria-label=Sheet] canvas');
            const d = c.getContext('2d').getImageData(0, 0, c.width, c.height).data; let n = 0;
            for (let k = 0; k < d.length; k += 4) n += d[k] > 180 && d[k + 1] < 60 && d[k + 2] < 60; return n }"""
        served.wait(lambda: page.evaluate(red) > 300)
        page.keyboard.press("Escape")
        page.keyboard.press("Control+z")
        served.wait(lambda: page.evaluate(red) == 0)
        assert traces(served, project) == []

        screen.press("Back to the plan")
        page.get_by_role("combobox", name="Cut", exact=True).select_option("plan")
        page.get_by_label("Above the floor").fill("0.5")
        screen.press("Cut the plan")
        screen.sheet("slab")
        screen.press("Find lines and circles")
        served.wait(lambda: sum(t["layer"] == "wall" for t in traces(served, project)) >= 4)
        screen.press("Accept those")
        screen.card("lines stand")
        screen.press("Join all where they meet")
        served.wait(lambda: any(t["kind"] == "polyline" for t in traces(served, project)))
        court = next(t for t in traces(served, project) if t["kind"] == "polyline")
        at = np.array(court["points"])
        assert len(at) == 4 and abs(np.ptp(at[:, 0]) - 8.0) < 0.01 and court["fit"]["points"] > 500  # the fourth wall's ends are hidden
        assert sum(t["kind"] == "line" and t["layer"] == "wall" for t in traces(served, project)) == 1

        screen.press("Lay out a sheet")
        with page.expect_file_chooser() as chooser:
            page.get_by_role("button", name="Bring a block from a DXF").click()
        chooser.value.set_files(customers_block(tmp_path / "frame.dxf"))
        page.get_by_label("DRAWING_NO").fill("TL-9")
        screen.press("Lay it out")
        expect(page.get_by_role("img", name=re.compile("as it is laid out"))).to_be_visible()
        expect(page.get_by_label("PROJECT_NAME")).to_have_attribute("placeholder", "Court")
        screen.press("Make the PDF")
        screen.card("1 deliveries")
        text = pypdfium2.PdfDocument(screen.download("pdf", tmp_path))[0].get_textpage().get_text_range()
        assert all(x in text for x in ("TL-9", "Court", "Objekt", "survey"))


def table_middle(screen: Screen) -> tuple[float, float]:
    box = screen.page.get_by_label("Sheet", exact=True).bounding_box()
    assert box is not None
    return box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
