"""The whole job as a technician does it, on eight stations of the demo site, through the interface alone."""

from __future__ import annotations

import io
import re
import subprocess
from pathlib import Path

import ezdxf
import laspy
import numpy as np
from PIL import Image
from playwright.sync_api import expect
from scipy.ndimage import uniform_filter

from taut_lantern.formats import e57
from tests.browser.driver import Screen, browser
from tests.served import Served

STATIONS = [f"ST-{k:02d}" for k in (1, 2, 4, 5, 6, 7, 8, 9)]


def test_from_raw_scans_to_a_section(served: Served, site: Path, tmp_path: Path) -> None:
    with browser(served.url, "story") as screen:
        bring_in(screen, site, tmp_path)
        tie(screen)
        place(screen, site)
        clean(screen)
        draw(screen)
        hand_over(screen, tmp_path)


def bring_in(screen: Screen, site: Path, tmp_path: Path) -> None:
    page = screen.page
    expect(page.get_by_text(re.compile("No project yet|stations")).first).to_be_visible()  # the list has been read
    screen.press("New project")
    page.get_by_label("Name of the site").fill("Ottermere by hand")
    screen.press("Make the project")
    screen.card("Drop a folder of E57 files")
    broken = tmp_path / "ST-99.e57"
    broken.write_bytes((site / "ST-03.e57").read_bytes()[:700_000])
    page.get_by_test_id("files").set_input_files([*(site / f"{n}.e57" for n in STATIONS), broken])
    screen.card("8 files with 8 scans")
    screen.rows(9)
    expect(page.locator("[data-row]").filter(has_text="ST-99.e57")).to_contain_text(re.compile("truncated.*copy it from the scanner"))
    assert page.locator("[data-station]").count() == 0  # nothing is stored before one says so
    page.get_by_label("Nearer than").fill("60")
    screen.press("Bring in 8 scans")
    expect(page.locator("[data-station]").first).to_be_visible()
    screen.drawn()  # the first can be looked at while the others come
    expect(page.locator("[data-station]")).to_have_count(8)
    screen.idle()
    screen.knot("bring_in", "done")
    page.locator("[data-station=ST-02]").click()
    screen.card(re.compile("ST-02 kept .* points"))
    screen.tab("Import report")
    screen.rows(8)
    for colour in ("intensity", "height", "colour"):
        page.get_by_label("Coloured by").first.select_option(colour)
        assert screen.drawn() > 10_000


def tie(screen: Screen) -> None:
    page = screen.page
    page.keyboard.press("2")
    screen.press("Tie all stations")
    screen.card("All 8 stations hang together")
    screen.idle()
    assert screen.drawn() > 10_000
    page.wait_for_timeout(600)
    assert len(screen.labels()) >= 6, screen.labels()  # none over another
    count = page.locator("[data-row]").count()
    assert count >= 10
    row = page.locator("[data-row]").filter(has_text="ST-01 · ST-07")
    row.click()
    screen.card("ST-01 and ST-07 agree within")
    screen.press("Switch this link off")
    expect(row).to_contain_text("off")
    page.keyboard.press("Control+z")
    expect(row).not_to_contain_text("off")
    screen.press("Back to the whole")
    # a pair put by hand: carried off its place in plan, then linked
    page.locator("[data-station=ST-01]").click()
    page.locator("[data-station=ST-02]").click(modifiers=["Control"])
    screen.press("Put ST-02 by hand")
    screen.card("Carry ST-02 over ST-01")
    box = screen.bench()
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 8, y - 6, steps=4)
    page.mouse.up()
    screen.press("+1°")
    screen.press("Pane slice")
    height = page.get_by_label("Height", exact=True)
    before = float(height.input_value().replace("\u2212", "-"))
    page.mouse.move(x, y + box["height"] / 4)
    page.mouse.down()
    page.mouse.move(x, y + box["height"] / 4 - 10, steps=4)  # lifted in the slice
    page.mouse.up()
    assert before < float(height.input_value().replace("\u2212", "-")) < before + 1
    screen.press("Pane slice")
    page.get_by_label("Look within").fill("2.5")
    page.keyboard.press("Enter")
    screen.press("Link these two")
    screen.tab("Jobs")  # the link that the run made is replaced when this work ends, so it is not looked at before
    linking = page.locator("[data-row]").filter(has_text="Linking ST-01 and ST-02")
    expect(linking).to_contain_text("done")
    screen.tab("Links")
    page.wait_for_timeout(1000)
    screen.press("Show the link")
    screen.card("ST-01 and ST-02 agree within")
    # compared in a rectangle of the plan alone, and everywhere again by undo
    screen.press("Compare only in a rectangle of the plan")
    screen.card("Click one corner of it in plan")
    page.mouse.click(x - 150, y - 120)
    screen.card("Now click the corner opposite")
    page.mouse.click(x + 150, y + 130)
    screen.card("All 8 stations hang together")  # the link that was looked at is replaced
    screen.idle()
    row = page.locator("[data-row]").filter(has_text="ST-01 · ST-02")
    row.click()
    screen.card(re.compile(r"Only in a box of [0-9.]+ × [0-9.]+ × 100"))
    page.keyboard.press("Control+z")
    screen.card("All 8 stations hang together")
    row.click()
    screen.card("In all that both saw")
    screen.press("Back to the whole")
    screen.press("Find targets")
    screen.idle()
    screen.card(re.compile(r"[4-6] spheres, seen"))
    screen.knot("tie", "done")
    screen.step("prove")
    screen.card("All 8 stations hang together")
    screen.rows(8)
    page.get_by_label("Direction of the slice").fill("90")
    assert screen.drawn() > 1000


def place(screen: Screen, site: Path) -> None:
    page = screen.page
    screen.step("place")
    page.get_by_test_id("control").set_input_files(site / "control.csv")
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("separated by semicolons")
    expect(dialog).to_contain_text("5812909.7")
    screen.press("Keep 6 points")
    screen.card(re.compile(r"\d control points agree within"))
    screen.rows(6)
    screen.press("Place the project on control")
    screen.knot("place", "done")
    expect(page.get_by_role("button", name="Coordinates and unit")).to_contain_text("control")
    square(screen)


def square(screen: Screen) -> None:
    """Along a wall that is picked in the cloud; what is no wall is refused in words. Undo gives control back."""
    page = screen.page
    screen.press("Square to a wall")
    screen.card("Pick a bare part of the wall")
    screen.drawn()
    box, frame = screen.bench(), page.get_by_role("button", name="Coordinates and unit")
    notice = page.locator("[data-notice]").last

    def click(across: float, down: float) -> None:
        page.mouse.click(box["x"] + box["width"] * across, box["y"] + box["height"] * down)

    screen.forgiven = "422.*/square"
    click(0.3, 0.95)
    expect(notice).to_contain_text("No point lies there")
    page.get_by_label("Dismiss").last.click()
    for across, down in ((0.3, 0.56), *bricks(screen)):  # a floor, then where one sees bricks
        click(across, down)
        page.wait_for_timeout(400)  # a pick waits for a moment, lest it is the first half of a double-click
        if page.get_by_text("No point lies there").count():  # between two points that are drawn
            page.get_by_label("Dismiss").last.click()
            continue
        screen.card("Now pick the point whose coordinates you know")
        screen.card(re.compile("its top leans away by|not an upright wall|points lie on the wall"))  # before anything is kept
        if page.get_by_text("its top leans away by").count():
            break
        screen.press("Pick again")
    else:
        raise AssertionError("no wall was found")
    assert (across, down) != (0.3, 0.56), "a floor is no wall"
    before = axes(screen)
    page.keyboard.press("g")
    expect(page.get_by_role("checkbox", name="E runs the other way")).to_be_checked()
    page.wait_for_timeout(800)
    assert before > 100 and axes(screen) > 100  # the axes are drawn, on either side
    click(0.24, 0.6)
    screen.card("Give the coordinates of that point")
    for axis, value in (("E", "1000"), ("N", "2000 m"), ("H", "3..5")):
        page.get_by_label(axis, exact=True).fill(value)
    expect(page.get_by_role("button", name="Square to this wall")).to_be_disabled()
    page.get_by_label("H", exact=True).fill("3,5")
    page.get_by_label("Name of the grid").fill("along the wall")
    screen.press("Square to this wall")
    expect(notice).to_contain_text("The grid along the wall lies along the wall")
    expect(frame).to_contain_text("along the wall")
    page.keyboard.press("Control+z")
    expect(frame).to_contain_text("control")


def axes(screen: Screen) -> int:
    """Pixels of the space pane in the colour of what is selected."""
    box = screen.bench()
    clip = {"x": box["x"], "y": box["y"] + 60, "width": box["width"] / 2 - 10, "height": box["height"] - 120}
    image = np.asarray(Image.open(io.BytesIO(screen.page.screenshot(clip=clip))).convert("RGB")).astype(int)
    return int((np.abs(image - (232, 167, 0)).max(axis=2) < 12).sum())


def bricks(screen: Screen) -> list[tuple[float, float]]:
    """Places of the space pane (shares of the bench) in the midst of bricks, which only walls are made of, in true colour."""
    box = screen.bench()
    clip = {"x": box["x"], "y": box["y"] + 60, "width": box["width"] / 2 - 10, "height": box["height"] - 120}
    image = np.asarray(Image.open(io.BytesIO(screen.page.screenshot(clip=clip))).convert("RGB")).astype(int)
    r, g, b = np.moveaxis(image, 2, 0)
    brick = (r > 90) & (r > 1.5 * g) & (np.abs(g - b) < 40)
    bare = uniform_filter(brick.astype(float), 13) > 0.9
    found = np.argwhere(bare)
    assert len(found) > 50, "no bricks are seen"
    some = found[np.linspace(0, len(found) - 1, 12).astype(int)]
    return [(x / box["width"], (y + 60) / box["height"]) for y, x in some.tolist()]


def clean(screen: Screen) -> None:
    page = screen.page
    screen.step("clean")
    screen.drawn()
    screen.press("Set a box round the site")
    screen.card("A crop box is on")
    screen.press("Lasso")
    screen.draw_round(0.25, 0.5)
    screen.card(re.compile(r"[\d,]+ points of .* selected"))
    page.keyboard.press("Delete")
    screen.card(re.compile(r"[\d,]+ points are deleted"))
    screen.rows(1)
    page.keyboard.press("Control+z")
    screen.card("nothing is deleted")
    page.keyboard.press("Control+Shift+Z")
    screen.card(re.compile(r"[\d,]+ points are deleted"))
    page.keyboard.press("Escape")
    screen.press("Look for them")
    screen.idle()
    moved = page.get_by_text(re.compile(r"^\d+ things moved"))
    expect(moved).to_be_visible()
    count = int(moved.inner_text().split()[0])
    for word in ("delete it", "keep it"):  # thing by thing
        page.get_by_role("button", name=word, exact=True).first.click()
        count -= 1
        expect(page.get_by_text(re.compile(rf"^{count} things moved"))).to_be_visible()


def draw(screen: Screen) -> None:
    page = screen.page
    screen.step("draw")
    screen.press("Cut the plan")
    assert screen.sheet("slab") > 1000
    screen.press("Find lines and circles")
    assert screen.sheet("traces") > 10
    screen.press(re.compile("^Accept all"))
    screen.card(re.compile("lines stand[.]"))
    page.keyboard.press("d")
    box = page.get_by_label("Sheet", exact=True).bounding_box()
    assert box is not None
    before = screen.sheet("traces")
    page.mouse.click(box["x"] + 200, box["y"] + 200)
    page.mouse.click(box["x"] + 400, box["y"] + 260)
    page.wait_for_function(f"() => +document.querySelector('[aria-label=Sheet]').dataset.traces === {before + 1}")
    page.keyboard.press("Escape")
    screen.press("Back to the plan")
    screen.drawn()
    page.get_by_role("combobox", name="Cut", exact=True).select_option("upright")
    screen.press("Pick two points in plan")
    box = screen.bench()
    page.mouse.click(box["x"] + box["width"] * 0.35, box["y"] + box["height"] * 0.55)
    screen.card("pick where it ends")
    page.mouse.click(box["x"] + box["width"] * 0.65, box["y"] + box["height"] * 0.45)
    assert screen.sheet("slab") > 200
    screen.knot("draw", "done")


def hand_over(screen: Screen, tmp_path: Path) -> None:
    page = screen.page
    screen.step("hand_over")
    for kind in ("E57", "LAZ", "DXF", "PDF"):
        screen.press(f"Make the {kind}")
    screen.card("4 deliveries, all of the project as it stands")
    screen.knot("hand_over", "done")
    heads = e57.headers(screen.download("e57", tmp_path))
    assert [h.name for h in heads] == STATIONS
    assert all(h.pose is not None and h.pose[1, 3] > 5_812_000 for h in heads)
    with laspy.open(screen.download("laz", tmp_path)) as f:
        assert f.header.point_count == sum(h.points for h in heads)
    lines = ezdxf.readfile(screen.download("dxf", tmp_path)).modelspace().query("LINE")
    assert len(lines) > 10 and all(abs(x.dxf.start[1] - 5_812_900) < 100 for x in lines)
    assert all(np.isfinite([*x.dxf.start, *x.dxf.end]).all() for x in lines)
    text = subprocess.run(["pdftotext", screen.download("pdf", tmp_path), "-"], capture_output=True, text=True, check=True).stdout
    assert "Ottermere by hand" in text and "hang together" in text
    page.reload()
    screen.card("4 deliveries, all of the project as it stands")


def test_keys_palette_empty_states_and_a_project_that_is_gone(served: Served) -> None:
    project = served.post("/projects", name="Empty")["id"]
    with browser(served.url, "empty") as screen:
        page = screen.page
        page.goto(f"{served.url}/p/{project}/bring_in")
        for key, words in zip(
            "12345678",
            (
                "Drop a folder",
                "at least two",
                "nothing to tie",
                "No control yet",
                "Nothing is deleted",
                "no stations yet",
                "Cut a plan",
                "Nothing was handed over",
            ),
            strict=True,
        ):
            page.keyboard.press(key)
            screen.card(words)
        page.keyboard.press("?")
        expect(page.get_by_role("dialog")).to_contain_text("Look at the selection")
        page.keyboard.press("Escape")
        page.keyboard.press("Control+k")
        page.get_by_placeholder("What do you want to do?").fill("go to tie")
        page.keyboard.press("Enter")
        screen.card("at least two stations")
        served.http.patch(
            f"/projects/{project}", json={"name": "Renamed elsewhere", "version": served.get(f"/projects/{project}")["version"]}
        ).raise_for_status()
        expect(page.get_by_text("Renamed elsewhere")).to_be_visible()  # told by the server, without a reload
        screen.forgiven = "404|422.*/floors"  # of an empty project nothing can be told
        served.http.delete(f"/projects/{project}").raise_for_status()
        page.reload()
        expect(page.get_by_text("This project does not exist")).to_be_visible()
