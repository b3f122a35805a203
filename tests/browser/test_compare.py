"""Two stations beside each other: on both sides of a line, by their distance, and cards that lead to what ended."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

import numpy as np
import pytest
from playwright.sync_api import expect

from tests.browser.driver import Screen, browser
from tests.browser.test_bench import only, picture
from tests.served import Served
from tests.support import room, write_scan

EYE = np.eye(4).ravel().tolist()
APART = 0.008  # metres that each wall across x lies farther out in the second scan
BLUE, ORANGE = np.array([26, 89, 217]), np.array([237, 128, 13])


@pytest.fixture(scope="module")
def site(served: Served, tmp_path_factory: pytest.TempPathFactory) -> tuple[Served, str]:
    folder = tmp_path_factory.mktemp("compare")
    project = str(served.post("/projects", name="Compare")["id"])
    rooms = {"ST-1": room(150_000, (6.0, 4.0, 3.0), 1), "ST-2": room(150_000, (6.0 + 2 * APART, 4.0, 3.0), 2)}
    sent = [served.send(project, write_scan(folder / f"{name}.e57", scan, name=name)) for name, scan in rooms.items()]
    served.wait(lambda: len(read := served.get(f"/projects/{project}/originals")) == 2 and all(o["scans"] for o in read))
    served.post(f"/projects/{project}/bring-in", originals=sent)
    served.wait(lambda: len(served.get(f"/projects/{project}/stations")) == 2)
    a, b = (s["id"] for s in sorted(served.get(f"/projects/{project}/stations"), key=lambda s: s["name"]))
    served.post(f"/projects/{project}/links", a=a, b=b, T_a_b=EYE)
    served.wait(lambda: len(served.get(f"/projects/{project}/network")["links"]) == 1)
    return served, project


@pytest.fixture
def page(site: tuple[Served, str], request: pytest.FixtureRequest) -> Iterator[tuple[Screen, Served, str]]:
    served, project = site
    with browser(served.url, request.node.name[:60]) as screen:
        screen.page.goto(f"{served.url}/p/{project}/prove?budget=1000000")
        only(screen, "space")
        screen.drawn()
        yield screen, served, project


def both(screen: Screen) -> None:
    screen.page.locator("[data-station=ST-1] button").first.click()
    screen.page.locator("[data-station=ST-2] button").first.click(modifiers=["Control"])


def near(image: np.ndarray, colour: np.ndarray) -> float:
    return float((np.abs(image - colour).max(axis=2) < 45).mean())


def test_each_side_of_the_line_shows_one_station_and_gives_its_points(page: Any) -> None:
    screen, _, _ = page
    screen.page.keyboard.press("t")
    both(screen)
    screen.page.keyboard.press("d")
    image = picture(screen)
    half = image.shape[1] // 2
    sides = [np.median(x[np.ptp(x, axis=2) > 25], axis=0) for x in (image[:, : half - 20], image[:, half + 20 :])]
    assert np.abs(sides[0] - sides[1]).max() > 40  # the colours of two stations
    box = screen.bench()
    for across, name in ((0.42, "ST-1"), (0.58, "ST-2")):
        screen.page.mouse.move(box["x"] + box["width"] * across, box["y"] + box["height"] * 0.5)
        screen.page.mouse.move(box["x"] + box["width"] * across + 1, box["y"] + box["height"] * 0.5)
        expect(screen.page.get_by_text(re.compile(f"{name}, .* away"))).to_be_visible()
    middle = box["x"] + box["width"] * 0.5
    screen.page.mouse.move(middle, box["y"] + 150)
    screen.page.mouse.down()
    screen.page.mouse.move(middle + 120, box["y"] + 150, steps=5)
    screen.page.mouse.up()
    moved = picture(screen)
    strip = moved[:, half + 20 : half + 100]
    now = np.median(strip[np.ptp(strip, axis=2) > 25], axis=0)
    assert np.abs(now - sides[0]).max() < 15  # what the line passed over is of the first station now


def test_points_are_coloured_by_how_far_the_other_station_lies(page: Any) -> None:
    """Seen from inside, ST-1's walls across x stand 8 mm before those of ST-2; floor, ceiling and the other walls agree."""
    screen, _, _ = page
    both(screen)
    only(screen, "panorama")
    screen.page.get_by_label("Station to look round from").select_option(label="ST-1")
    screen.page.get_by_label("Coloured by").first.select_option("apart")
    expect(screen.page.get_by_role("group", name="Scale of distance between two")).to_contain_text("ST-1 and ST-2")
    screen.page.wait_for_timeout(1000)
    wall = picture(screen)[150:220, 200:400]  # straight ahead, at x = 3
    assert near(wall, 0.2 * np.array([237, 237, 230]) + 0.8 * BLUE) > 0.6, np.median(wall.reshape(-1, 3), axis=0)
    screen.page.get_by_label("Station to look round from").select_option(label="ST-2")
    wall = picture(screen)[150:220, 200:400]
    assert near(wall, 0.2 * np.array([237, 237, 230]) + 0.8 * ORANGE) > 0.6, np.median(wall.reshape(-1, 3), axis=0)


def test_a_link_has_its_card_in_the_step_prove_and_work_that_ends_leads_to_its_result(page: Any) -> None:
    screen, served, project = page
    link = served.get(f"/projects/{project}/network")["links"][0]
    screen.page.evaluate(
        f"() => history.replaceState(null, '', location.pathname + '#v=' + encodeURIComponent('{{\"link\":\"{link['id']}\"}}'))"
    )
    screen.page.reload()
    screen.card("Switch this link off")
    served.post(f"/projects/{project}/deliveries", kind="pdf")
    notice = screen.page.locator("[data-notice=good]").last
    expect(notice).to_contain_text("is made")
    notice.get_by_role("button", name="Show it").click()
    expect(screen.page.locator("[data-step=hand_over]")).to_have_attribute("aria-current", "step")
    screen.rows(1)


def test_widths_and_columns_are_remembered(page: Any) -> None:
    screen, _, _ = page
    before = screen.bench()["width"]
    bar = screen.page.get_by_label("Edge of the card")
    bar.focus()
    for _ in range(3):
        screen.page.keyboard.press("ArrowLeft")
    screen.page.wait_for_timeout(400)
    wide = screen.bench()["width"]
    assert wide < before - 20
    screen.press("Columns")
    screen.page.get_by_label("part", exact=True).uncheck()
    expect(screen.page.get_by_role("columnheader", name="part")).to_have_count(0)
    screen.page.reload()
    expect(screen.page.get_by_role("columnheader", name="station")).to_be_visible()
    expect(screen.page.get_by_role("columnheader", name="part")).to_have_count(0)
    assert abs(screen.bench()["width"] - wide) < 3
