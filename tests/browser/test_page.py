"""The page tells the truth: loading, failed and empty; a lost line; one click, one change; and no barrier (axe)."""

from __future__ import annotations

import re
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Route, expect

from tests.browser.driver import Screen, browser
from tests.databases import fresh_database
from tests.served import Served
from tests.support import room, write_scan

AXE = Path(__file__).parents[2] / "web" / "node_modules" / "axe-core" / "axe.min.js"
STEPS = ("bring_in", "tie", "prove", "place", "clean", "colour", "draw", "hand_over")


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Iterator[tuple[Served, str]]:
    """A server of its own with a project of one placed room: two stations, control, a crop box, a deletion, a section."""
    folder = tmp_path_factory.mktemp("page")
    served = Served(fresh_database("lantern_page"), folder / "log", simulated=True)
    served.start()
    project = str(served.post("/projects", name="Room")["id"])
    uploads = [served.send(project, write_scan(folder / f"ST-{k}.e57", room(30_000, seed=k), name=f"ST-{k}")) for k in (1, 2)]
    served.wait(lambda: all(o["scans"] for o in served.get(f"/projects/{project}/originals")))
    served.post(f"/projects/{project}/bring-in", originals=uploads)
    served.wait(lambda: len(served.get(f"/projects/{project}/stations")) == 2)
    served.post(f"/projects/{project}/tie")
    served.wait(lambda: served.job(project, "tie", "done"))
    text = "name;n;e;h\na;5812001.2;437002;3\nb;5812004;437005.5;6\nc;5812007;437008;1\n"
    served.http.put(f"/projects/{project}/control", json={"text": text, "file": "c.csv"}).raise_for_status()
    served.post(f"/projects/{project}/boxes", centre=[0, 0, 0], half=[2.123456, 2, 2])
    section = served.post(f"/projects/{project}/sections", kind="plan", height=0.2, behind=0.1)["id"]
    served.post(f"/projects/{project}/sections/{section}/traces", kind="line", points=[[0, 0], [1, 1]])
    yield served, project
    served.stop()


@pytest.fixture
def page(site: tuple[Served, str], request: pytest.FixtureRequest) -> Iterator[tuple[Screen, Served, str]]:
    served, project = site
    with browser(served.url, request.node.name[:60]) as screen:
        screen.page.goto(f"{served.url}/p/{project}/bring_in?budget=50000")
        yield screen, served, project


def barriers(screen: Screen) -> list[str]:
    """What axe finds on the page as it is."""
    screen.page.evaluate(AXE.read_text())
    found = screen.page.evaluate("() => axe.run(document, { resultTypes: ['violations'] })")
    return [f"{v['id']}: {n['html'][:200]}" for v in found["violations"] for n in v["nodes"]]


def test_no_view_holds_a_barrier(page: Any) -> None:
    screen, served, _ = page
    found: dict[str, list[str]] = {}

    def look(name: str) -> None:
        screen.page.wait_for_timeout(250)
        if barriers_ := barriers(screen):
            found[name] = barriers_

    for step in STEPS:
        screen.step(step)
        screen.page.wait_for_load_state("networkidle") if step == "bring_in" else None
        for tab in screen.page.get_by_role("tab").all():
            tab.click()
            look(f"{step}, {tab.inner_text()}")
    screen.step("draw")
    screen.page.locator("[data-row]").first.click()
    look("a section")
    screen.step("tie")
    screen.page.locator("[data-station=ST-1] button").first.click()
    look("a station")
    for step, opened, left in (
        ("tie", "Say that a wall is plumb", "Leave it"),
        ("place", "Give points by hand", "That is all"),
        ("place", "Square to a wall", "Leave it"),
    ):
        screen.page.keyboard.press("Escape")
        screen.step("prove")
        screen.step(step)
        screen.press(opened)
        look(opened)
        screen.press(left)
    screen.step("bring_in")
    screen.page.get_by_role("button", name="Instruments", exact=True).click()
    for name in ("Field scanner", "Total station"):
        screen.page.get_by_role("radio", name=re.compile(name)).click()
        look(name)
    screen.press("Close the drawer")
    for key, name in (("?", "keys"), ("Control+k", "palette")):
        screen.page.keyboard.press(key)
        look(name)
        screen.page.keyboard.press("Escape")
    screen.page.get_by_role("button", name="Coordinates and unit").click()
    look("coordinates")
    screen.page.goto(f"{served.url}/")
    expect(screen.page.get_by_text("Room")).to_be_visible()
    look("projects")
    assert not found, "\n".join(sorted({text for texts in found.values() for text in texts}))


def test_coming_back_shows_what_was_changed_meanwhile(page: Any) -> None:
    screen, served, project = page
    expect(screen.page.locator("[data-station=ST-2]")).to_be_visible()
    screen.page.get_by_title("All projects").click()
    expect(screen.page.get_by_role("button", name="New project")).to_be_visible()
    station = served.get(f"/projects/{project}/stations")[1]
    url = f"/projects/{project}/stations/{station['id']}"
    served.http.patch(url, json={"name": "Renamed meanwhile", "version": station["version"]}).raise_for_status()
    screen.page.get_by_role("button", name=re.compile("^Room")).click()
    expect(screen.page.locator("[data-station='Renamed meanwhile']")).to_be_visible()
    served.http.patch(url, json={"name": "ST-2", "version": station["version"] + 1}).raise_for_status()
    expect(screen.page.locator("[data-station=ST-2]")).to_be_visible()


def test_what_is_being_read_or_could_not_be_is_never_good_news(page: Any) -> None:
    screen, served, project = page
    held: list[Route] = []
    screen.forgiven = "500.*/network"
    screen.page.route(re.compile("/network$"), lambda route: held.append(route))
    screen.page.goto(f"{served.url}/p/{project}/prove")
    screen.tab("Findings")
    expect(screen.page.get_by_text("Reading findings")).to_be_visible()
    screen.card("Reading the network")
    assert screen.page.get_by_text("Nothing speaks against").count() == 0
    broken = {"status": 500, "content_type": "application/problem+json", "body": '{"code": "x", "detail": "it broke", "remedy": ""}'}
    broken_now = lambda route: route.fulfill(**broken)  # noqa: E731
    screen.page.route(re.compile("/network$"), broken_now)  # the newer rule comes first
    for route in held:
        route.fulfill(**broken)
    expect(screen.page.get_by_text("Findings could not be read.")).to_be_visible()
    screen.card(re.compile(r"The network could not be read\.\s*it broke"))
    screen.page.unroute_all()
    screen.page.get_by_role("button", name="Try again").first.click()
    screen.card("2 stations")


def test_tiles_that_fail_are_asked_for_ever_more_rarely_and_said(page: Any) -> None:
    screen, served, project = page
    asked: list[float] = []

    def fail(route: Route) -> None:
        asked.append(time.monotonic())
        route.fulfill(status=503, body="{}")

    screen.forgiven = "503.*/tiles"  # some are told when the page reads again
    screen.page.route(re.compile("/tiles"), fail)
    screen.page.goto(f"{served.url}/p/{project}/bring_in?budget=50000")
    expect(screen.page.get_by_text(re.compile("of the cloud could not be read"))).to_be_visible()
    screen.page.wait_for_timeout(4000)
    names = 2 * len(served.get(f"/projects/{project}/stations"))  # of each its first tile, and the tree of its tiles
    assert len(asked) <= 5 * names
    screen.page.unroute(re.compile("/tiles"))
    screen.page.get_by_role("button", name="Ask now").click()
    expect(screen.page.get_by_text(re.compile("of the cloud could not be read"))).to_have_count(0)
    assert screen.drawn() > 1000


def test_set_the_box_sends_once_and_keeps_what_was_typed_and_what_was_not(page: Any) -> None:
    screen, served, project = page
    sent: list[Any] = []
    screen.page.on("request", lambda r: sent.append(r.post_data_json) if r.method == "PUT" else None)
    screen.step("clean")
    width = screen.page.get_by_label("Width")
    width.fill("3,5")
    expect(width).to_have_value("3,5")
    screen.press("Set the box")
    expect(width).to_have_value("3.5")
    screen.page.wait_for_timeout(500)
    assert len(sent) == 1 and screen.page.locator("[data-notice=bad]").count() == 0
    (box,) = served.get(f"/projects/{project}/boxes")
    assert box["half"] == [2.123456, 1.75, 2] and box["centre"] == [0, 0, 0]  # what was not touched is not rounded
    width.fill("4 furlongs")
    expect(screen.page.get_by_text("a length, as 1.25 or 35 mm")).to_be_visible()
    expect(screen.page.get_by_role("button", name="Set the box")).to_be_disabled()
    width.press("Enter")
    screen.page.wait_for_timeout(300)
    assert len(sent) == 1


def test_delete_asks_before_a_station_goes_and_undo_stands_in_the_notice(page: Any) -> None:
    screen, served, project = page
    count = lambda: len(served.get(f"/projects/{project}/stations"))  # noqa: E731
    screen.page.locator("[data-station=ST-2] button").first.click()
    screen.page.keyboard.press("Delete")
    dialog = screen.page.get_by_role("alertdialog")
    expect(dialog).to_contain_text("Take ST-2 out of the project?")
    screen.page.keyboard.press("2")  # a key goes nowhere behind a dialog
    expect(screen.page.locator("[data-step=bring_in]")).to_have_attribute("aria-current", "step")
    dialog.get_by_role("button", name="Keep it").click()
    assert count() == 2
    screen.page.locator("[data-station=ST-2] button").first.click()
    screen.page.keyboard.press("Delete")
    dialog.get_by_role("button", name="Take ST-2 out").click()
    notice = screen.page.locator("[data-notice=good]").filter(has_text="Took ST-2 out")
    expect(notice).to_be_visible()
    assert count() == 1
    notice.get_by_role("button", name="Undo").click()
    expect(screen.page.locator("[data-station=ST-2]")).to_be_visible()
    assert count() == 2


def test_arrows_in_a_rows_field_are_the_fields_and_a_double_click_picks_nothing(page: Any) -> None:
    screen, _, _ = page
    screen.step("place")
    role = screen.page.get_by_label("Role of b")
    role.focus()
    screen.page.keyboard.press("ArrowDown")
    expect(role).to_have_value("check")
    screen.press("Square to a wall")
    screen.drawn()
    box = screen.bench()
    x, y = box["x"] + box["width"] * 0.25, box["y"] + box["height"] * 0.5
    screen.page.mouse.dblclick(x, y)
    screen.page.wait_for_timeout(600)
    screen.card("Pick a bare part of the wall")


def test_a_lost_line_is_said_and_heals_with_what_was_missed(page: Any) -> None:
    screen, served, project = page
    screen.card("stations are here")
    screen.forgiven = "Failed to load resource|ERR_"  # whatever is asked while nobody answers
    served.kill()
    expect(screen.page.locator("[data-standing]")).to_contain_text("connection to the server is lost")
    served.start()
    version = served.get(f"/projects/{project}")["version"]
    served.http.patch(f"/projects/{project}", json={"name": "Room again", "version": version}).raise_for_status()
    expect(screen.page.locator("[data-standing]")).to_have_count(0)
    expect(screen.page.get_by_text("Room again")).to_be_visible()
    served.http.patch(f"/projects/{project}", json={"name": "Room", "version": version + 1}).raise_for_status()


def test_a_project_goes_into_the_bin_and_comes_back_or_goes_for_good(page: Any) -> None:
    screen, served, _ = page
    made = served.post("/projects", name="Spare")["id"]
    screen.page.goto(f"{served.url}/")
    for _ in range(2):
        screen.page.get_by_role("button", name="Delete Spare", exact=True).click()
        screen.page.get_by_role("button", name="Delete the project").click()
        bin_ = screen.page.get_by_label("Bin")
        expect(bin_).to_contain_text("Spare")
        if _ == 0:
            bin_.get_by_role("button", name="Bring back Spare").click()
            expect(screen.page.get_by_role("button", name="Delete Spare", exact=True)).to_be_visible()
    bin_.get_by_role("button", name="Delete Spare for good").click()
    screen.page.get_by_role("button", name="Delete it for good").click()
    expect(bin_).to_have_count(0)
    assert served.http.get(f"/projects/{made}").status_code == 404 and served.get("/bin") == []


def test_the_first_points_stand_before_the_rest_of_the_program_and_are_not_asked_for_again(page: Any) -> None:
    screen, served, project = page
    held: list[Route] = []
    tiles: list[str] = []
    screen.page.route(re.compile("/assets/mount-"), lambda route: held.append(route))
    screen.page.on("request", lambda r: tiles.append(r.url) if "/tiles/" in r.url else None)
    screen.page.goto(f"{served.url}/p/{project}/bring_in?budget=50000")
    screen.page.wait_for_function("() => +(document.querySelector('[aria-label=Bench]')?.dataset.drawn ?? 0) > 0")
    assert screen.page.get_by_label("Steps of the job").count() == 0
    screen.page.wait_for_timeout(400)
    for route in held:
        route.continue_()
    screen.card("stations are here")
    assert screen.drawn() > 1000
    assert screen.page.get_by_label("Bench", exact=True).count() == 1
    asked = [t for t in tiles if not t.endswith("/tiles/0")]  # the very first is named by the page as well
    assert len(asked) == len(set(asked))
