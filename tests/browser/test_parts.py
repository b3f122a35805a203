"""Two parts on the screen: never in one picture; held groups, coordinates that are out of date, files that are let go of."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pye57
import pytest
from playwright.sync_api import expect

from tests.browser.driver import Screen, browser
from tests.served import Served
from tests.support import room, write_scan

EYE = np.eye(4).ravel().tolist()
POINTS = {"A-1": 16_000, "A-2": 14_000, "B-1": 22_000, "B-2": 20_000, "B-3": 18_000}


@pytest.fixture(scope="module")
def site(served: Served, tmp_path_factory: pytest.TempPathFactory) -> tuple[Served, str]:
    """A room of two stations and one of three that nothing connects; the header of A-2 gives wrong limits of intensity."""
    folder = tmp_path_factory.mktemp("parts")
    project = str(served.post("/projects", name="Two rooms")["id"])
    files = []
    for k, (name, n) in enumerate(POINTS.items()):
        scan = room(n, (6.0, 4.0, 3.0) if name[0] == "A" else (9.0, 5.0, 3.4), seed=k)
        files.append(narrow(folder / f"{name}.e57", scan.xyz) if name == "A-2" else write_scan(folder / f"{name}.e57", scan, name=name))
    sent = [served.send(project, f) for f in files]
    served.wait(lambda: len(read := served.get(f"/projects/{project}/originals")) == 5 and all(o["scans"] for o in read))
    served.post(f"/projects/{project}/bring-in", originals=sent)
    served.wait(lambda: len(served.get(f"/projects/{project}/stations")) == 5)
    for a, b in (("A-1", "A-2"), ("B-1", "B-2"), ("B-1", "B-3")):
        served.post(f"/projects/{project}/links", a=ids(served, project)[a], b=ids(served, project)[b], T_a_b=EYE)
    served.wait(lambda: len(served.get(f"/projects/{project}/network")["links"]) == 3)
    return served, project


def narrow(path: Path, xyz: np.ndarray) -> Path:
    """A scan named A-2 whose values of intensity go to 2000 while its header says 0 to 1."""
    with pye57.E57(str(path), mode="w") as f:
        data = {f"cartesian{a}": xyz[:, k].astype(float) for k, a in enumerate("XYZ")}
        ends = {
            f"{a}{end}": float(v) for k, a in enumerate("xyz") for end, v in (("Minimum", xyz[:, k].min()), ("Maximum", xyz[:, k].max()))
        }
        limits = SimpleNamespace(intensityMinimum=0.0, intensityMaximum=1.0, **ends)
        f.write_scan_raw(data | {"intensity": np.linspace(0, 2000, len(xyz), dtype=np.float32)}, name="A-2", scan_header=limits)
    return path


def ids(served: Served, project: str) -> dict[str, str]:
    return {s["name"]: s["id"] for s in served.get(f"/projects/{project}/stations")}


@pytest.fixture
def page(site: tuple[Served, str], request: pytest.FixtureRequest) -> Iterator[tuple[Screen, Served, str]]:
    served, project = site
    with browser(served.url, request.node.name[:60]) as screen:
        screen.page.goto(f"{served.url}/p/{project}/tie?budget=500000")
        yield screen, served, project


def shows(screen: Screen, *names: str) -> None:
    """The points of these stations are drawn and no others (the finest may be smaller than a pixel)."""
    most = sum(POINTS[n] for n in names)
    js = f"() => {{ const n = +document.querySelector('[aria-label=Bench]').dataset.drawn; return n > {0.9 * most} && n <= {most} }}"
    screen.page.wait_for_function(js)


def test_parts_are_groups_of_the_roster_and_never_share_a_picture(page: Any) -> None:
    screen, _, _ = page
    groups = screen.page.get_by_label("Stations", exact=True).locator("ul")
    expect(groups).to_have_count(2)
    assert [g.locator("li").count() for g in groups.all()] == [3, 2]
    screen.page.keyboard.press("f")
    shows(screen, "B-1", "B-2", "B-3")
    screen.page.get_by_role("button", name="Show A-1").click()
    shows(screen, "A-1", "A-2")
    screen.page.get_by_role("button", name="Hide A-2").click()
    shows(screen, "A-1")
    screen.page.locator("[data-station=B-2] button").first.click()
    shows(screen, "B-1", "B-2", "B-3")


def test_a_chosen_station_has_its_card_in_every_step_and_can_be_looked_round_from(page: Any) -> None:
    screen, _, _ = page
    screen.step("clean")
    screen.page.locator("[data-station=B-1] button").first.click()
    screen.card("B-1 is held by 2 links")
    screen.pane("plan")
    screen.press("Look round from it")
    screen.pane("space")
    shows(screen, "B-1")
    expect(screen.page.get_by_label("Station to look round from")).to_have_value(re.compile("^[0-9a-f]{32}$"))
    screen.page.locator("[data-station=A-1] button").first.click()
    screen.card("A-1 is held by 1 link")
    screen.press("Back to the step")
    screen.card("Lasso")


def test_a_group_is_held_released_split_nested_and_undone(page: Any) -> None:
    screen, served, project = page
    told = lambda: {g["name"]: g for g in served.get(f"/projects/{project}/groups")}  # noqa: E731
    station, own = ids(served, project), sorted(ids(served, project)[n] for n in ("B-1", "B-2", "B-3"))
    for k, name in enumerate(("B-1", "B-2", "B-3")):
        screen.page.locator(f"[data-station={name}] button").first.click(modifiers=["Control"] if k else [])
    screen.page.get_by_label("Name", exact=True).fill("mill")
    screen.press("Hold these 3 as one")
    screen.card("mill: 3 stations, held as one.")
    assert sorted(told()["mill"]["stations"]) == own and told()["mill"]["held"]
    screen.press("Release")
    screen.card("mill: 3 stations.")
    assert not told()["mill"]["held"]
    screen.page.locator("[data-station=B-3] button").first.click()
    screen.page.locator("[data-station=B-2] button").first.click(modifiers=["Control"])
    screen.page.get_by_label("Name", exact=True).fill("cellar")
    screen.press("Make a group of these 2")
    screen.card("cellar: 2 stations.")
    assert told()["mill"]["stations"] == [station["B-1"]]  # it was split
    screen.page.get_by_label("Lies in").select_option(label="mill")
    expect(screen.page.locator("[data-group=mill]")).to_contain_text("3")
    screen.page.locator("[data-group=mill] button").first.click()  # folded
    expect(screen.page.locator("[data-station=B-1]")).to_have_count(0)
    screen.page.locator("[data-group=mill] button").first.click()
    screen.page.locator("[data-station=B-1]").drag_to(screen.page.locator("[data-group=cellar]"))
    expect(screen.page.locator("[data-group=cellar]")).to_contain_text("3")
    assert sorted(told()["cellar"]["stations"]) == own and told()["cellar"]["parent"] == told()["mill"]["id"]
    screen.page.keyboard.press("Control+z")
    expect(screen.page.locator("[data-group=cellar]")).to_contain_text("2")
    assert told()["mill"]["stations"] == [station["B-1"]]
    for name in ("cellar", "mill"):
        screen.page.locator(f"[data-group={name}] button").nth(1).click()
        screen.press("Dissolve the group")
        expect(screen.page.locator(f"[data-group={name}]")).to_have_count(0)
    assert told() == {}


def test_coordinates_say_that_they_are_out_of_date_and_are_made_anew(page: Any) -> None:
    screen, served, project = page
    served.post(f"/projects/{project}/square", wall=[4.5, 1.0, 0.1], point=[4.5, 1.0, 0.1], given=[100, 200, 10], name="hall")
    (grid,) = [f for f in served.get(f"/projects/{project}")["frames"] if f["kind"] == "grid"]
    screen.step("place")
    screen.tab("Coordinates")
    row = screen.page.locator("[data-row]").filter(has=screen.page.get_by_label(f"Name of the coordinates {grid['name']}"))
    expect(row).to_contain_text("up to date")
    link = next(k for k in served.get(f"/projects/{project}/network")["links"] if {"B-1", "B-3"} == {k["name_a"], k["name_b"]})
    served.http.patch(f"/projects/{project}/links/{link['id']}", json={"used": False, "version": link["version"]}).raise_for_status()
    expect(row).to_contain_text("out of date")
    row.get_by_role("button", name="make it anew").click()
    expect(row).to_contain_text("up to date")
    screen.page.keyboard.press("Control+z")
    expect(row).to_contain_text("out of date")


def test_a_file_is_let_go_of_with_the_reason_and_its_points_stay(page: Any) -> None:
    screen, served, project = page
    screen.step("bring_in")
    screen.tab("Import report")
    expect(screen.page.locator("[data-row]").filter(has_text="A-2")).to_contain_text("its values go from 0 to 2000")
    screen.tab("Files")
    row = screen.page.locator("[data-row]").filter(has_text="B-2.e57")
    row.get_by_role("button", name="let go of it").click()
    dialog = screen.page.get_by_role("alertdialog")
    expect(dialog).to_contain_text("20,000 points stay")
    expect(dialog.get_by_role("button", name="Let go of the file")).to_be_disabled()
    dialog.get_by_label("Why (kept beside its line)").fill("it lies on the archive disk")
    dialog.get_by_role("button", name="Let go of the file").click()
    expect(row).to_contain_text("let go of on")
    expect(row).to_contain_text("it lies on the archive disk")
    file = next(o for o in served.get(f"/projects/{project}/originals") if o["name"] == "B-2.e57")
    assert file["let_go"]["reason"] == "it lies on the archive disk"
    assert served.stored_points(project) == sum(POINTS.values())


def test_another_project_comes_in_as_a_group_and_a_second_time_only_when_asked_for(page: Any) -> None:
    screen, served, project = page
    quay = str(served.post("/projects", name="Quay")["id"])
    screen.page.goto(f"{served.url}/p/{quay}/bring_in")
    held = screen.page.get_by_label("Keep it as it is tied there (held as one)")
    screen.page.get_by_label("Card", exact=True).get_by_role("combobox").select_option(project)
    held.uncheck()  # it is in two parts
    screen.press("Bring it in as a group")
    expect(screen.page.locator("[data-group='Two rooms']").first).to_be_visible()
    assert served.stored_points(quay) == served.stored_points(project) > 0
    at = {s["name"]: s["pose"] for s in served.get(f"/projects/{quay}/stations")}
    assert at == {s["name"]: s["pose"] for s in served.get(f"/projects/{project}/stations")}
    screen.idle()
    screen.page.get_by_label("Card", exact=True).get_by_role("combobox").select_option(project)
    screen.press("Bring it in as a group")
    dialog = screen.page.get_by_role("alertdialog")
    expect(dialog).to_contain_text("5 stations of Two rooms are here already")
    dialog.get_by_role("button", name="Leave it").click()
    assert len(served.get(f"/projects/{quay}/stations")) == 5
