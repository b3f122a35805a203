"""./lantern shots: one current picture of each main view, from the demo project, into docs/screenshots/."""

from __future__ import annotations

import io
import os
import re
from pathlib import Path

import numpy as np
from PIL import Image, ImageDraw

from taut_lantern.core import frames
from taut_lantern.standins.scene import Scene, engine_hall
from taut_lantern.standins.site import T_CONTROL_SITE
from tests.browser.driver import Screen, browser
from tests.databases import fresh_database
from tests.served import Served

WIDE, HIGH, DOTS = 60, 37, 20  # metres of the sketch, and dots a metre
FOLDER = Path(__file__).resolve().parents[2] / "docs" / "screenshots"


def main() -> None:
    FOLDER.mkdir(parents=True, exist_ok=True)
    os.environ["LANTERN_DATABASE"] = fresh_database("lantern_shots")
    served = Served(os.environ["LANTERN_DATABASE"], FOLDER.parents[1] / ".lantern" / "shots.log", simulated=True)
    served.start()
    try:
        from taut_lantern.steps.demo import ensure
        from taut_lantern.store.queue import app

        with app.open():
            project = ensure()
        with browser(served.url, "shots", budget=700_000) as screen:
            walk(screen, f"{served.url}/p/{project}")
    finally:
        served.stop()


def paper(at: np.ndarray) -> bytes:
    """A sketch as a hand draws it: the hall round the stations, its rooms, a note."""
    image = Image.new("RGB", (WIDE * DOTS, HIGH * DOTS), (250, 247, 238))
    pen, rng = ImageDraw.Draw(image), np.random.default_rng(4)

    def line(*corners: tuple[float, float]) -> None:
        for _ in range(2):
            wobbly = [(DOTS * (x + rng.normal(0, 0.12)), DOTS * (HIGH - y + rng.normal(0, 0.12))) for x, y in corners]
            pen.line(wobbly, fill=(70, 72, 90), width=3)

    (x0, y0), (x1, y1) = at.min(axis=0) - 2.5, at.max(axis=0) + 2.5
    line((x0, y0), (x1, y0), (x1, y1), (x0, y1), (x0, y0))
    for share in (0.3, 0.72):
        x = x0 + share * (x1 - x0)
        line((x, y0), (x, y0 + 0.4 * (y1 - y0)))
        line((x, y0 + 0.55 * (y1 - y0)), (x, y1))
    pen.text((DOTS * (x0 + 1), DOTS * (HIGH - y1 - 2.2)), "Ottermere, engine hall - paced, not measured", fill=(70, 72, 90), font_size=26)
    out = io.BytesIO()
    image.save(out, "PNG")
    return out.getvalue()


def designed(off: float = 0.025) -> bytes:
    """The engine hall as it was designed, an OBJ in the coordinates of control. The second engine was set up so many metres beside its place."""
    scene = Scene()
    engine_hall(scene)
    lines, shift = [], 1
    for k, (vertices, faces, *_) in enumerate(scene._parts):
        at = np.asarray(vertices, float)
        if (at.min(axis=0)[:2] > [12.5, 3.5]).all() and (at.max(axis=0) < [19.5, 8.5, 4.5]).all():
            at = at - [off, 0.0, 0.0]
        lines += [f"o part {k + 1}", *(f"v {x:.5f} {y:.5f} {z:.5f}" for x, y, z in frames.apply(T_CONTROL_SITE, at))]
        lines += [f"f {a + shift} {b + shift} {c + shift}" for a, b, c in faces]
        shift += len(at)
    return "\n".join(lines).encode()


def beside(screen: Screen) -> None:
    """The engine hall as it was designed, in the coordinates of control, compared with the cloud."""
    page = screen.page
    with page.expect_file_chooser() as chooser:
        screen.press("Bring in a model")
    chooser.value.set_files({"name": "Engine hall.obj", "mimeType": "text/plain", "buffer": designed()})
    page.get_by_role("button", name=re.compile("^Engine hall")).click()
    screen.card("It was not compared")
    screen.press("Compare")
    screen.card("points near it lie within")
    screen.press("Colour the points by it")
    for name in ("space", "plan"):
        screen.pane(name, name == "space")
    screen.drawn(120)
    page.wait_for_timeout(8000)


def on_a_sketch(screen: Screen, url: str) -> None:
    """The stations clicked roughly where they stood, ten of them."""
    page = screen.page
    root, project = url.split("/p/")
    stations = page.request.get(f"{root}/api/projects/{project}/stations").json()
    at = np.array([[38 + s["pose"][3], 20 + s["pose"][7]] for s in stations[:10]])
    search = f"{root}/api/projects/{project}/search"
    laid = page.request.post(f"{search}/picture", data=paper(at), headers={"Content-Type": "application/octet-stream"}).json()
    page.request.patch(search, data={"version": laid["version"], "picture": {"x": 0, "y": 0, "size": 1 / DOTS}})
    screen.press("Put stations on a sketch")
    box = page.get_by_role("application", name="field sketch").bounding_box()
    assert box is not None
    for k, s in enumerate(stations[:10]):
        x, y = at[k] + (0.4 * (k % 3), -0.3 * (k % 2))
        wide, low = 1.3 * max(WIDE, HIGH * 760 / 470), np.array([WIDE, HIGH]) / 2  # as the board is laid round the picture
        across, up = (x - low[0]) / wide + 0.5, (y - low[1]) / wide
        page.mouse.click(box["x"] + box["width"] * across, box["y"] + box["height"] / 2 - box["width"] * up)


def place(screen: Screen, across: float, down: float) -> tuple[float, float]:
    box = screen.bench()
    return box["x"] + box["width"] * across, box["y"] + box["height"] * down


def walk(screen: Screen, url: str) -> None:
    page = screen.page

    def keep(name: str) -> None:
        screen.drawn(120) if page.get_by_label("Bench", exact=True).count() else None
        page.mouse.move(640, 790)
        page.wait_for_timeout(700)
        page.screenshot(path=FOLDER / f"{name}.png")

    page.goto(f"{url}/bring_in?budget=700000")
    page.wait_for_selector("[data-station=ST-12]")
    screen.idle()
    page.get_by_role("button", name="Instruments", exact=True).click()
    page.get_by_alt_text("what is seen through the scanner").wait_for()
    for _ in range(2):
        screen.press("right")
    page.wait_for_timeout(1500)
    view = page.get_by_role("button", name=re.compile("^Live view"))
    box = view.bounding_box()
    assert box is not None
    page.mouse.click(box["x"] + 0.74 * box["width"], box["y"] + 0.84 * box["height"])
    page.wait_for_timeout(2000)
    keep("instruments")
    screen.press("Close the drawer")
    screen.tab("Import report")
    page.get_by_label("Coloured by").select_option("colour")
    page.locator("[data-station=ST-02] button").first.click()  # what is chosen is seen: it shares no coordinates yet
    keep("bring_in")
    page.reload()
    screen.step("tie")
    page.get_by_label("Coloured by").select_option("station")
    screen.press("Tie all stations")
    screen.card("All 12 stations hang together")
    screen.idle()
    page.get_by_label("Edges of boards").fill("300")
    screen.press("Find targets")
    screen.idle()
    keep("tie")
    page.locator("[data-row]").filter(has_text="ST-01 · ST-12").click()
    keep("link")
    screen.press("Back to the whole")
    on_a_sketch(screen, url)
    keep("sketch")
    screen.press("Leave it as it was")
    screen.step("prove")
    page.get_by_label("Coloured by").first.select_option("intensity")
    page.get_by_label("Company").fill("Ottermere Surveys")
    page.keyboard.press("Enter")
    screen.press("Put what the bench shows into it")
    page.get_by_label("Caption").wait_for()
    page.get_by_label("Name", exact=True).fill("I. Marsh")
    page.get_by_label("Remark").fill("slices looked at, hall to yard")
    screen.press("Accept the network")
    screen.card("Accepted: I. Marsh")
    keep("prove")
    page.get_by_label("Coloured by").first.select_option("expected")
    keep("expected")
    page.get_by_label("Coloured by").first.select_option("intensity")
    page.locator("[data-station=ST-01] button").first.click()
    page.locator("[data-station=ST-02] button").first.click(modifiers=["Control"])
    page.keyboard.press("f")
    page.get_by_label("Coloured by").first.select_option("apart")
    screen.pane("space", on=True)
    screen.pane("plan", on=False)
    screen.drawn()
    page.wait_for_timeout(2500)  # distances come tile by tile
    keep("compare")
    page.get_by_label("Coloured by").first.select_option("intensity")
    page.keyboard.press("f")
    screen.step("place")
    screen.press("Read the demo's survey")
    screen.press("Keep 6 points")
    screen.card(re.compile("control points agree"))
    screen.press("Place the project on control")
    screen.knot("place", "done")
    page.get_by_label("Coloured by").first.select_option("station")
    keep("place")
    screen.step("clean")
    screen.drawn()
    screen.press("Set a box round the site")
    screen.card("A crop box is on")
    screen.press("Look for them")
    screen.card("points that do not belong are found")
    screen.press("Lasso")
    page.get_by_label("only what stands in front").check()
    screen.draw_round(0.25, 0.5)
    screen.card(re.compile(r"[\d,]+ points of .* selected"))
    keep("clean")
    screen.press("Let go")
    page.keyboard.press("m")
    screen.card("Pick the first point")
    for across, down in ((0.21, 0.55), (0.27, 0.62)):
        page.mouse.click(*place(screen, across, down))
        page.wait_for_timeout(500)
    screen.card("along the line")
    screen.tab("Notes")
    keep("measure")
    screen.press("Back to the step")
    for pane in ("panorama", "space", "plan"):
        screen.pane(pane)
    page.get_by_label("Station to look round from").select_option(label="ST-02")
    page.get_by_label("Coloured by").select_option("intensity")
    page.keyboard.press("w")
    keep("panorama")
    page.keyboard.press("w")
    screen.step("colour")
    screen.press("true colour")
    keep("colour")
    page.keyboard.press("f")
    screen.step("draw")
    beside(screen)
    keep("model")
    page.get_by_role("combobox", name="Coloured by").select_option("station")
    screen.press("Back to the cuts")
    page.get_by_label("Show Engine hall").click()
    for name in ("space", "plan"):
        screen.pane(name, name == "plan")
    page.get_by_role("combobox", name="Cut", exact=True).select_option("upright")
    screen.press("Pick two points in plan")
    screen.drawn()
    box = screen.bench()
    page.mouse.click(box["x"] + box["width"] * 0.49, box["y"] + box["height"] * 0.46)
    page.mouse.click(box["x"] + box["width"] * 0.60, box["y"] + box["height"] * 0.84)
    screen.sheet("slab")
    screen.press("Find lines and circles")
    screen.sheet("traces", 150)
    keep("section")
    screen.press(re.compile("^Accept all"))
    screen.press("Back to the plan")
    page.get_by_role("combobox", name="Cut", exact=True).select_option("plan")
    screen.press("Cut the plan")
    screen.sheet("slab")
    screen.press("Find lines and circles")
    screen.sheet("traces", 150)
    screen.press(re.compile("^Accept all"))
    screen.tab("Lines")
    page.get_by_role("button", name="length m").click()
    page.get_by_role("button", name="length m").click()
    page.locator("[data-row]").nth(0).click()
    page.wait_for_timeout(6500)  # until the last notice has gone
    keep("draw")
    page.keyboard.press("Escape")
    screen.press("Lay out a sheet")
    for box in page.get_by_label(re.compile("^(Section|Plan)")).all():
        box.check()
    page.get_by_label("number").fill("OPS-101")
    screen.press("Lay it out")
    page.get_by_role("img", name=re.compile("as it is laid out")).wait_for()
    keep("sheet")
    screen.press("Back to drawing")
    screen.step("hand_over")
    for kind in ("E57", "LAZ", "DXF", "PDF"):
        screen.press(f"Make the {kind}")
    screen.card("4 deliveries, all of the project as it stands")
    keep("hand_over")
    page.get_by_title("All projects").click()
    page.wait_for_selector("text=12 stations")
    page.screenshot(path=FOLDER / "projects.png")


if __name__ == "__main__":
    main()
