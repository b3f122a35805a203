"""Two rooms that nothing tells apart, on the screen: one question in two pictures, answered by a key, tied, taken back."""

from __future__ import annotations

import io
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image
from playwright.sync_api import expect

from taut_lantern.core import frames
from taut_lantern.site.common import matrix
from taut_lantern.standins.scanner import Scanner
from tests.browser.driver import Screen, browser
from tests.served import Served
from tests.support import write_scan
from tests.truth.layouts import TWINS


@pytest.fixture(scope="module")
def site(served: Served, tmp_path_factory: pytest.TempPathFactory) -> tuple[Served, str, dict[str, np.ndarray]]:
    folder = tmp_path_factory.mktemp("twins")
    project = str(served.post("/projects", name="Twin rooms")["id"])
    scans = TWINS.scans(Scanner(points=150_000), 7)
    sent = [served.send(project, write_scan(folder / f"{n}.e57", cloud, name=n)) for n, (cloud, _) in scans.items()]
    served.wait(lambda: all(o["scans"] for o in served.get(f"/projects/{project}/originals")))
    served.post(f"/projects/{project}/bring-in", originals=sent)
    served.wait(lambda: len(served.get(f"/projects/{project}/stations")) == 4)
    return served, project, {n: pose for n, (_, pose) in scans.items()}


@pytest.fixture
def screen(site: Any, request: pytest.FixtureRequest) -> Iterator[Screen]:
    served, project, _ = site
    with browser(served.url, request.node.name[:60]) as s:
        s.page.goto(f"{served.url}/p/{project}/tie?budget=300000")
        yield s


def drawn(screen: Screen) -> None:
    """All pictures of the question are there and show something."""
    js = """() => { const all = [...document.querySelectorAll('[role=dialog] img')];
    return all.length >= 2 && all.every((i) => !i.hidden && i.complete && i.naturalWidth === 620) }"""
    screen.page.wait_for_function(js)


def test_a_question_is_answered_by_a_key_and_what_it_was_about_is_placed(screen: Screen, site: Any) -> None:
    served, project, truth = site
    screen.press("Tie all stations")
    served.wait(lambda: served.job(project, "tie", "done"))
    screen.card("R2 fits in")
    screen.press("Look at it and answer")
    dialog = screen.page.get_by_role("dialog")
    expect(dialog).to_contain_text("R2 fits in")
    drawn(screen)
    (q,) = served.get(f"/projects/{project}/questions")
    off = [
        frames.difference(np.reshape(r["T_partner_station"], (4, 4)), frames.inverse(truth[r["partner_name"]]) @ truth["R2"])[0]
        for r in q["readings"]
    ]
    screen.page.keyboard.press(str(1 + int(np.argmin(off))))
    expect(dialog).to_have_count(0)
    served.wait(lambda: len(served.get(f"/projects/{project}/network")["parts"]) == 1)
    screen.card("All 4 stations hang together")
    stands = {s["name"]: matrix(s["pose"]) for s in served.get(f"/projects/{project}/stations")}
    metres, _ = frames.difference(frames.inverse(stands["P1"]) @ stands["R2"], frames.inverse(truth["P1"]) @ truth["R2"])
    assert metres < 0.02
    screen.tab("Questions")
    row = screen.page.locator("[data-row]").first
    expect(row).to_contain_text("place")
    row.click()
    drawn(screen)
    screen.press("Open it again")
    expect(row).to_contain_text("open")
    served.wait(lambda: len(served.get(f"/projects/{project}/network")["parts"]) == 2)
    screen.card("One question is open")
    screen.page.keyboard.press("Escape")
    expect(dialog).to_have_count(0)


def test_the_same_places_are_picked_in_two_scans_side_by_side(screen: Screen) -> None:
    """Each pick is listed with what it lies on; what is missing is told; a match can be taken out."""
    stations = screen.page.get_by_label("Stations", exact=True)
    stations.get_by_text("P1").click()
    stations.get_by_text("P2").click(modifiers=["Control"])
    screen.press("Pick the same places")
    screen.drawn()
    box, rows = screen.bench(), screen.page.locator("[data-match]")
    for k, (left, right) in enumerate((((0.25, 0.93), (0.75, 0.93)), ((0.25, 0.3), (0.75, 0.3)))):
        for across, down in (left, right):
            screen.page.mouse.click(box["x"] + box["width"] * across, box["y"] + box["height"] * down)
            screen.page.wait_for_timeout(400)  # two clicks at one place are none
        expect(rows).to_have_count(k + 1)
    screen.card("1 more match is needed")
    expect(screen.page.get_by_role("button", name="Link these two")).to_have_attribute("aria-disabled", "true")
    screen.press("Take match 2 out")
    expect(rows).to_have_count(1)
    screen.press("Leave it")
    screen.card("P1 and P2 are linked")


def test_stations_put_on_a_sketch_settle_it_and_the_network_is_accepted_and_reported(screen: Screen, site: Any, tmp_path: Path) -> None:
    """The sketch is clicked on a board of 40 m; what is accepted is withdrawn when a link changes and stands again after undo."""
    served, project, truth = site
    page = screen.page
    screen.press("Put stations on a sketch")
    board = page.get_by_role("application", name="field sketch")
    sketch = tmp_path / "sketch.png"
    Image.new("RGB", (600, 300), (230, 40, 160)).save(sketch)
    page.locator("input[type=file][accept*=pdf]").set_input_files(sketch)
    box = board.bounding_box()
    assert box is not None
    expect(page.get_by_role("dialog")).to_contain_text("(0 of 2)")
    for across in (0.25, 0.75):  # half of the board, which is 52 m wide round a picture of 40
        page.mouse.click(box["x"] + box["width"] * across, box["y"] + box["height"] / 2)
    page.get_by_label("Between them").fill("20")
    screen.press("Scale it")
    expect(page.get_by_role("dialog")).to_contain_text("The board is 40 m wide")
    for s in served.get(f"/projects/{project}/stations"):
        x, y = truth[s["name"]][:2, 3] + (8.0, 10.0)
        expect(page.get_by_role("dialog")).to_contain_text(f"Click where {s['name']} stood")
        page.mouse.click(box["x"] + box["width"] * x / 40, box["y"] + box["height"] - box["width"] * y / 40)
    screen.press("Use this sketch")
    screen.card("4 stations stand on a field sketch")
    screen.press("Tie all again")
    served.wait(lambda: len(served.get(f"/projects/{project}/network")["parts"]) == 1)
    screen.card("All 4 stations hang together")

    def green() -> int:  # as strokes of that red are drawn on the dark ground
        screen.drawn()
        shot = np.asarray(Image.open(io.BytesIO(page.screenshot())).convert("RGB")).astype(int)
        return int(((shot[..., 1] - shot[..., 0] > 30) & (shot[..., 1] - shot[..., 2] > 20)).sum())

    shown = green()
    page.get_by_label("Its picture under the plan").click()
    assert shown > 20_000 and green() < shown / 20
    stands = {s["name"]: matrix(s["pose"]) for s in served.get(f"/projects/{project}/stations")}
    off = frames.difference(frames.inverse(stands["P1"]) @ stands["R2"], frames.inverse(truth["P1"]) @ truth["R2"])
    assert off[0] < 0.02 and not [q for q in served.get(f"/projects/{project}/questions") if not q["answer"]]

    page.goto(f"{served.url}/p/{project}/prove?budget=300000")
    screen.card("Nobody has accepted the network yet")
    page.get_by_label("Name", exact=True).fill("I. Marsh")
    page.get_by_label("Remark").fill("all four looked at")
    screen.press("Accept the network")
    screen.card("Accepted: I. Marsh")
    link = served.get(f"/projects/{project}/network")["links"][0]
    served.http.patch(f"/projects/{project}/links/{link['id']}", json={"used": False, "version": link["version"]}).raise_for_status()
    screen.card("No longer accepted")
    page.keyboard.press("Control+z")
    screen.card("“all four looked at”")
    expect(page.get_by_role("button", name="Withdraw the acceptance")).to_be_visible()

    page.get_by_label("Coloured by").first.select_option("expected")
    expect(page.get_by_role("group", name="Scale of expected error against the datum")).to_be_visible()
    screen.drawn()
    page.get_by_label("Company").fill("Marsh & Daughter")
    page.keyboard.press("Enter")
    screen.press("Put what the bench shows into it")
    caption = page.get_by_label("Caption")
    expect(caption).to_have_count(1)
    caption.fill("Where the points are held worst")
    caption.press("Enter")
    (shown,) = served.get(f"/projects/{project}/pictures")
    seen = Image.open(io.BytesIO(served.http.get(f"/projects/{project}/pictures/{shown['id']}/file").content)).convert("RGB")
    colours = np.asarray(seen).reshape(-1, 3).astype(int)
    assert (np.ptp(colours, axis=1) > 60).sum() > 500  # points in colour, not an empty bench
    screen.press("As one web page")
    served.wait(lambda: any(d["kind"] == "html" for d in served.get(f"/projects/{project}/deliveries")))
    text = screen.download("html", tmp_path).read_text()
    for said in ("I. Marsh", "all four looked at", "Marsh &amp; Daughter", "Where the points are held worst"):
        assert said in text, said
