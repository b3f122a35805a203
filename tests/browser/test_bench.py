"""What the bench draws, pixel by pixel, in a real browser: colours, holes, shading, what is hidden, and when nothing is drawn."""

from __future__ import annotations

import io
import json
import re
from collections.abc import Iterator
from typing import Any
from urllib.parse import unquote

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import expect

from taut_lantern.core.scan.scan import Scan
from tests.browser.driver import Screen, browser
from tests.served import Served
from tests.support import room, write_scan

GROUND = np.array([0x12, 0x16, 0x1D])
POINTS = 300_000


def with_column() -> Scan:
    """A room with a round column 1.2 m before the scanner: its wall is 3 m away there, and 2 m to the side."""
    whole = room(POINTS)
    azimuth, elevation = np.arctan2(whole.xyz[:, 1], whole.xyz[:, 0]), whole.xyz[:, 2] / np.linalg.norm(whole.xyz[:, :2], axis=1)
    across = 1.2 * np.sin(azimuth)
    hit = (np.abs(across) < 0.2) & (np.cos(azimuth) > 0)
    reach = 1.2 * np.cos(azimuth) - np.sqrt(np.clip(0.04 - across**2, 0, None))
    xyz = whole.xyz.copy()
    column = np.stack([reach * np.cos(azimuth), reach * np.sin(azimuth), reach * elevation], axis=1)
    xyz[hit & (np.abs(column[:, 2]) < 1.5)] = column[hit & (np.abs(column[:, 2]) < 1.5)]
    return Scan(xyz.astype(np.float32), np.clip(0.2 + 0.2 * np.abs(xyz[:, 2]), 0, 1).astype(np.float32), whole.rgb, None, None)


@pytest.fixture(scope="module")
def site(served: Served, tmp_path_factory: pytest.TempPathFactory) -> tuple[Served, str]:
    folder = tmp_path_factory.mktemp("bench")
    project = str(served.post("/projects", name="Bench")["id"])
    sent = [served.send(project, write_scan(folder / "ST-1.e57", with_column(), name="ST-1"))]
    served.wait(lambda: all(o["scans"] for o in served.get(f"/projects/{project}/originals")))
    served.post(f"/projects/{project}/bring-in", originals=sent)
    served.wait(lambda: len(served.get(f"/projects/{project}/stations")) == 1)
    return served, project


@pytest.fixture
def page(site: tuple[Served, str], request: pytest.FixtureRequest) -> Iterator[tuple[Screen, Served, str]]:
    """The panorama alone, at its full size."""
    served, project = site
    with browser(served.url, request.node.name[:60]) as screen:
        screen.page.goto(f"{served.url}/p/{project}/bring_in?budget=2000000")
        only(screen, "panorama")
        yield screen, served, project


def only(screen: Screen, pane: str) -> None:
    """Show this pane and no other."""
    for name in (pane, *({"space", "plan", "slice", "panorama"} - {pane})):
        screen.pane(name, on=name == pane)


def picture(screen: Screen) -> np.ndarray:
    """(h, w, 3) of the middle of the bench, where nothing stands over the points, once all is drawn."""
    screen.page.mouse.move(640, 790)
    screen.page.wait_for_timeout(500)
    quiet = "() => document.querySelector('section[aria-label=Bench]')?.dataset.busy === 'false'"
    screen.page.wait_for_function(quiet)
    screen.page.wait_for_timeout(300)
    box = screen.bench()
    clip = {"x": box["x"] + 40, "y": box["y"] + 60, "width": box["width"] - 80, "height": box["height"] - 150}
    return np.asarray(Image.open(io.BytesIO(screen.page.screenshot(clip=clip))).convert("RGB")).astype(int)


def holes(image: np.ndarray) -> float:
    """Share of pixels that show the ground."""
    return float((np.abs(image - GROUND).max(axis=2) <= 2).mean())


def differing(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    return np.abs(a - b).max(axis=2) > 12


def shade(screen: Screen, strength: str) -> None:
    screen.page.get_by_label("Strength of depth shading").fill(strength)


def turn(screen: Screen, pixels: float) -> None:
    """Turn the panorama's head by dragging."""
    box, mouse = screen.bench(), screen.page.mouse
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    mouse.move(x, y)
    mouse.down()
    mouse.move(x + pixels, y, steps=6)
    mouse.up()


def counts(screen: Screen) -> tuple[int, int]:
    """How often points were drawn, and what stands over them."""
    data = screen.page.evaluate("() => ({...document.querySelector('[role=application]').dataset})")
    return int(data["frames"]), int(data["sketches"])


def test_walls_are_closed_from_where_they_were_scanned_and_from_elsewhere(page: Any) -> None:
    screen, _, _ = page
    assert holes(picture(screen)) < 0.01
    only(screen, "space")
    box = screen.bench()
    screen.page.mouse.move(box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.55)
    for _ in range(14):  # towards the far wall
        screen.page.mouse.wheel(0, -120)
        screen.page.wait_for_timeout(60)
    image = picture(screen)
    assert holes(image[100:250, 150:450]) < 0.01


def test_each_colour_changes_the_picture_and_a_scale_says_its_ends(page: Any) -> None:
    screen, _, _ = page
    shown = {}
    for colour in ("station", "intensity", "height", "colour", "inclination", "range"):
        screen.page.get_by_label("Coloured by").first.select_option(colour)
        shown[colour] = picture(screen)
        scale = screen.page.get_by_role("group", name=re.compile("Scale of"))
        expect(scale).to_have_count(0 if colour in ("station", "colour") else 1)
    names = list(shown)
    for k, a in enumerate(names):
        for b in names[k + 1 :]:
            assert differing(shown[a], shown[b]).mean() > 0.5, (a, b)
    lowest = screen.page.get_by_label("Lowest distance of the scale")
    assert 0.5 < float(lowest.input_value()) < 1.6  # the column
    lowest.fill("2.5")
    lowest.press("Enter")
    expect(scale).to_contain_text("set by hand")
    assert differing(shown["range"], picture(screen)).mean() > 0.2
    screen.press("as the points have it")
    assert differing(shown["range"], picture(screen)).mean() < 0.01


def test_inclination_is_that_of_the_surface(page: Any) -> None:
    """Walls have the colour of 90 degrees, the floor that of none."""
    screen, _, _ = page
    shade(screen, "0")
    screen.page.get_by_label("Coloured by").first.select_option("inclination")
    turn(screen, 1500)  # a bare wall
    upright = np.median(picture(screen)[100:250].reshape(-1, 3), axis=0)
    assert np.abs(upright - [253, 231, 37]).max() < 25, upright
    box, mouse = screen.bench(), screen.page.mouse
    mouse.move(box["x"] + 300, box["y"] + 450)
    mouse.down()
    mouse.move(box["x"] + 300, box["y"] - 150, steps=6)  # down to the floor
    mouse.up()
    level = np.median(picture(screen)[100:250].reshape(-1, 3), axis=0)
    assert np.abs(level - [68, 1, 84]).max() < 40, level


def test_the_cursor_names_the_surface_and_a_pick_takes_the_edge(page: Any) -> None:
    """The corner of the room at (3, 2): seen 33.7 degrees to the left of where the panorama looks, which is 70 degrees high; three
    pixels beside it, on the wall that is seen less aslant."""
    screen, served, project = page
    screen.drawn()
    box = screen.bench()
    metre = box["height"] / (2 * np.tan(np.radians(35)))
    corner = (box["x"] + box["width"] / 2 - metre * 2 / 3 + 3, box["y"] + box["height"] / 2 - 20)
    named = screen.page.get_by_label("Surface under the cursor")
    screen.page.mouse.move(corner[0] - 90, corner[1])
    screen.page.mouse.move(corner[0] - 93, corner[1])
    expect(named).to_contain_text(re.compile(r"plane, RMS 0\.\d mm, ray at \d+°"))
    screen.page.mouse.move(corner[0] - 1, corner[1])
    screen.page.mouse.move(*corner)
    expect(named).to_contain_text("edge between planes, 90.0° open")
    screen.page.keyboard.press("c")
    screen.page.keyboard.press("m")
    screen.page.get_by_role("combobox", name="Measure").select_option("point")
    screen.page.mouse.click(*corner)
    screen.card(re.compile(r"Point \d"))
    (note,) = served.get(f"/projects/{project}/notes")
    x, y, _ = note["points"][0]
    assert abs(x - 3) < 1e-3 and abs(y - 2) < 1e-3
    served.post(f"/projects/{project}/undo", entry=served.get(f"/projects/{project}")["undo"]["entry"])
    screen.page.keyboard.press("c")


def test_a_walk_keeps_the_eye_above_the_floor_and_steps_ahead(page: Any) -> None:
    screen, _, _ = page
    only(screen, "space")
    screen.drawn()
    screen.page.get_by_role("application").focus()
    screen.page.keyboard.press("e")

    def eye() -> np.ndarray:
        screen.page.wait_for_timeout(700)
        hash_ = unquote(screen.page.evaluate("() => location.hash"))
        return np.array(json.loads(hash_.removeprefix("#v="))["cameras"]["space"]["middle"])

    screen.page.keyboard.press("ArrowDown")
    start = eye()
    assert start[2] == pytest.approx(-1.5 + 1.65, abs=0.05)
    for _ in range(3):
        screen.page.keyboard.press("ArrowUp")
    ahead = eye()
    assert np.linalg.norm(ahead - start) == pytest.approx(1.2, abs=0.05) and ahead[2] == pytest.approx(0.15, abs=0.05)
    assert holes(picture(screen)) < 0.02
    screen.page.keyboard.press("f")
    expect(screen.page.get_by_label("How the space is seen")).to_have_value("perspective")


def test_depth_shading_darkens_edges_and_nothing_else(page: Any) -> None:
    screen, _, _ = page
    screen.page.get_by_label("Coloured by").first.select_option("height")
    shade(screen, "0")
    plain = picture(screen)
    shade(screen, "1")
    shaded = picture(screen)
    changed = differing(plain, shaded)
    assert (shaded <= plain + 3).all()
    columns = changed[120:240].mean(axis=0)  # the two edges of the column stand upright
    assert (columns > 0.5).sum() >= 2
    turn(screen, 1500)  # a bare wall
    on = picture(screen)
    shade(screen, "0")
    assert differing(on, picture(screen)).mean() < 0.02


def test_what_is_hidden_cropped_or_deleted_vanishes_from_pane_and_cursor_alike(page: Any) -> None:
    screen, served, project = page
    box = screen.bench()
    middle = (box["x"] + box["width"] / 2, box["y"] + box["height"] / 2)
    readout = screen.page.get_by_text(re.compile("ST-1, .* away"))

    def caught() -> float | None:
        """Metres from the scanner of what the cursor has caught in the middle of the picture."""
        screen.page.mouse.move(middle[0] - 3, middle[1])
        screen.page.mouse.move(*middle)
        screen.page.wait_for_timeout(400)
        return float(re.search(r"ST-1, ([\d.]+) m", readout.inner_text())[1]) if readout.count() else None  # type: ignore[index]

    screen.drawn()
    screen.page.wait_for_timeout(500)
    assert 0.9 < (caught() or 0) < 1.1  # the column
    station = served.get(f"/projects/{project}/stations")[0]["id"]
    view = [0.8, 0, 0, -0.8, 0, 0, 0.5, 0, 0, 0.5, 0, 0, 0, 0, 0, 1]  # x and z across, y in depth: the column is round x = 1.2
    outline = [[-0.25, -0.9], [0.35, -0.9], [0.35, 0.9], [-0.25, 0.9]]
    before = served.get(f"/projects/{project}/stations")[0]["marked"]
    told = served.post(f"/projects/{project}/lasso", view=view, outline=outline, stations=[station])
    marked = served.get(f"/projects/{project}/stations")[0]["marked"] - before
    assert told["count"] == marked > 1000
    screen.page.wait_for_timeout(1500)
    assert 2.5 < (caught() or 0) < 3.5 or caught() is None  # the column is gone; the wall behind it was not seen
    served.post(f"/projects/{project}/undo", entry=served.get(f"/projects/{project}")["undo"]["entry"])
    screen.page.wait_for_timeout(1500)
    assert 0.9 < (caught() or 0) < 1.1
    served.post(f"/projects/{project}/boxes", centre=[-2, 0, 0], half=[1.5, 3, 3])
    screen.page.wait_for_timeout(1500)
    assert caught() is None and holes(picture(screen)) > 0.9
    served.post(f"/projects/{project}/undo", entry=served.get(f"/projects/{project}")["undo"]["entry"])
    screen.page.wait_for_timeout(1500)
    assert holes(picture(screen)) < 0.01
    screen.page.get_by_role("button", name="Hide ST-1").click()
    screen.page.wait_for_timeout(800)
    assert caught() is None and holes(picture(screen)) > 0.97
    screen.page.get_by_role("button", name="Show ST-1").click()
    assert holes(picture(screen)) < 0.01


def test_a_hover_draws_no_point_and_a_still_page_draws_nothing(page: Any) -> None:
    screen, _, _ = page
    picture(screen)
    screen.page.wait_for_timeout(1000)
    box = screen.bench()
    frames, sketches = counts(screen)
    for k in range(30):
        screen.page.mouse.move(box["x"] + 100 + 12 * k, box["y"] + 200)
        screen.page.wait_for_timeout(20)
    screen.page.wait_for_timeout(1500)  # and what the cursor rests on is named
    assert counts(screen)[0] == frames and counts(screen)[1] > sketches + 5
    still = counts(screen)
    screen.page.wait_for_timeout(4000)
    assert counts(screen) == still


def test_a_lost_graphics_card_comes_back_with_the_same_view(page: Any) -> None:
    screen, _, _ = page
    turn(screen, 120)
    before = picture(screen)
    screen.forgiven = "ontext"
    screen.page.evaluate(
        """() => { const gl = document.querySelector('[aria-label=Bench] canvas').getContext('webgl2');
        const lose = gl.getExtension('WEBGL_lose_context'); lose.loseContext(); setTimeout(() => lose.restoreContext(), 300) }"""
    )
    screen.page.wait_for_timeout(1500)
    assert differing(before, picture(screen)).mean() < 0.01


def test_a_slice_stands_square_to_the_wall_that_was_picked(page: Any) -> None:
    """Seen from the side the wall is one upright line: 300,000 points of a room, 20 cm of them, in a band of few pixels."""
    screen, _, _ = page
    turn(screen, 1500)
    screen.drawn()
    box = screen.bench()
    screen.page.keyboard.press("n")
    screen.page.mouse.click(box["x"] + box["width"] * 0.5, box["y"] + box["height"] * 0.45)
    expect(screen.page.get_by_label("Thickness of the slice")).to_be_visible()
    only(screen, "slice")
    image = picture(screen)
    lit = (np.abs(image - GROUND).max(axis=2) > 40).sum(axis=0)  # of each column of pixels
    assert lit.max() > 80 and (lit > lit.max() / 2).sum() <= 12  # two walls, each a few pixels wide


def test_one_key_gives_the_bench_the_whole_window_and_gives_it_back(page: Any) -> None:
    screen, _, _ = page
    before = screen.bench()
    screen.page.keyboard.press("w")
    expect(screen.page.get_by_label("Card", exact=True)).to_have_count(0)
    wide = screen.bench()
    assert wide["width"] == 1280 and wide["height"] > 700
    assert holes(picture(screen)) < 0.01  # drawn anew at its size
    screen.page.reload()
    expect(screen.page.get_by_label("Steps of the job")).to_be_visible()
    assert screen.bench()["width"] == 1280  # remembered
    screen.page.keyboard.press("w")
    expect(screen.page.get_by_label("Card", exact=True)).to_be_visible()
    assert abs(screen.bench()["width"] - before["width"]) < 2


def test_a_distance_is_picked_kept_copied_and_taken_back(page: Any) -> None:
    screen, served, project = page
    screen.drawn()
    box = screen.bench()
    screen.page.keyboard.press("m")
    screen.card("Pick the first point")
    for across in (0.2, 0.8):
        screen.page.mouse.click(box["x"] + box["width"] * across, box["y"] + box["height"] * 0.5)
        screen.page.wait_for_timeout(400)
    screen.card(re.compile(r"Distance \d: [\d.]+ m along the line"))
    (note,) = served.get(f"/projects/{project}/notes")
    a, b = (np.array(q) for q in note["points"])
    assert note["figures"]["slope"] == pytest.approx(np.linalg.norm(a - b)) and np.linalg.norm(a - b) > 1
    for q in (a, b):  # picked points were measured: they lie on the walls
        assert min(abs(abs(q[0]) - 3), abs(abs(q[1]) - 2), abs(abs(q[2]) - 1.5)) < 0.01
    screen.page.get_by_label("Remark").fill("door to door")
    screen.page.get_by_label("Remark").press("Enter")
    screen.tab("Notes")
    expect(screen.page.locator("[data-row]")).to_contain_text("door to door")
    for _ in range(2):
        screen.page.keyboard.press("Control+z")
    screen.rows(0)
    assert served.get(f"/projects/{project}/notes") == []


def test_a_kept_view_and_a_copied_address_show_the_same_picture(page: Any) -> None:
    screen, served, _ = page
    screen.page.get_by_label("Coloured by").first.select_option("height")
    turn(screen, 180)
    before = picture(screen)
    screen.page.keyboard.press("v")
    screen.page.get_by_label("Its name").fill("Column from the right")
    screen.press("Keep the view")
    kept = screen.page.get_by_role("button", name="Column from the right", exact=True)
    expect(kept).to_be_visible()
    address = screen.page.url
    assert "#v=" in address
    screen.page.get_by_label("Coloured by").first.select_option("station")
    only(screen, "space")
    assert differing(before, picture(screen)).mean() > 0.3
    kept.click()
    assert differing(before, picture(screen)).mean() < 0.01
    other = screen.page.context.new_page()
    other.goto(address)
    again = picture(Screen(other, served.url))  # some pixels higher or lower, as the ledger leaves room
    a, b = (image[(len(image) - 340) // 2 :][:340] for image in (before, again))
    assert differing(a, b).mean() < 0.08 < differing(a, b[:, ::-1]).mean()
    other.close()
