"""Cleaning in the page, held to the points that are stored and delivered: brush, zone, restore in part, a room, one spacing."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Any

import laspy
import numpy as np
import pytest
from playwright.sync_api import expect

from taut_lantern.core.scan.scan import Scan
from tests.browser.driver import Screen, browser
from tests.served import Served
from tests.support import room, write_scan


def furnished(seed: int) -> Scan:
    """A room with a post in the middle of it, before a wall."""
    walls = room(40_000, (8.0, 6.0, 3.0), seed)
    rng = np.random.default_rng(seed + 50)
    turn, high = rng.uniform(0, 2 * np.pi, 6000), rng.uniform(-1.0, 1.0, 6000)
    post = np.stack([1.5 + 0.12 * np.cos(turn), 0.12 * np.sin(turn), high], axis=1).astype(np.float32)
    return Scan(
        np.concatenate([walls.xyz, post]),
        rng.random(46_000).astype(np.float32),
        rng.integers(0, 255, (46_000, 3)).astype(np.uint8),
        None,
        None,
    )


def brought_in(served: Served, name: str, path: Path) -> str:
    project = str(served.post("/projects", name=name)["id"])
    sent = served.send(project, path)
    served.wait(lambda: all(o["scans"] for o in served.get(f"/projects/{project}/originals")))
    served.post(f"/projects/{project}/bring-in", originals=[sent])
    served.wait(lambda: len(served.get(f"/projects/{project}/stations")) == 1)
    return project


def from_above(screen: Screen, project: str) -> Any:
    """The space alone, seen from above; where the bench lies on the page."""
    screen.page.goto(f"{screen.url}/p/{project}/clean?budget=200000")
    screen.drawn()
    for name in ("space", "plan"):
        screen.pane(name, on=name == "space")
    screen.page.keyboard.press("t")
    screen.drawn()
    return screen.bench()


def stations(served: Served, project: str) -> int:
    return sum(int(s["points"]) - int(s["marked"]) for s in served.get(f"/projects/{project}/stations"))


def test_points_are_brushed_kept_locked_deleted_brought_back_and_thinned(served: Served, tmp_path: Path) -> None:
    project = brought_in(served, "cleaning", write_scan(tmp_path / "ST-1.e57", furnished(1), "ST-1"))
    with browser(served.url, "cleaning") as screen:
        page = screen.page
        box = from_above(screen, project)
        selection = lambda: served.get(f"/projects/{project}/selection")  # noqa: E731
        screen.press("Rectangle")
        page.mouse.move(box["x"] + 0.45 * box["width"], box["y"] + 0.2 * box["height"])
        page.mouse.down()
        page.mouse.move(box["x"] + 0.8 * box["width"], box["y"] + 0.8 * box["height"], steps=4)
        page.mouse.up()
        screen.card(re.compile(r"[\d,]+ points of one station are selected"))
        whole = selection()["count"]
        screen.press("Brush")
        page.keyboard.down("Alt")  # taken away
        page.mouse.move(box["x"] + 0.5 * box["width"], box["y"] + 0.5 * box["height"])
        page.mouse.down()
        page.mouse.move(box["x"] + 0.7 * box["width"], box["y"] + 0.5 * box["height"], steps=6)
        page.mouse.up()
        page.keyboard.up("Alt")
        page.wait_for_timeout(1200)
        fewer = selection()["count"]
        assert 0 < fewer < whole
        screen.press("One step back")
        page.wait_for_timeout(600)
        assert selection()["count"] == whole
        page.keyboard.press("Escape")

        page.get_by_label("Keep as zone").fill("East side")
        screen.press("Keep it")
        screen.tab("Zones")
        page.get_by_role("button", name="Lock East side").click()
        expect(page.get_by_role("button", name="Unlock East side")).to_be_visible()
        screen.press(re.compile("^Delete .* points$"))
        page.get_by_text("All of what was selected is gone or locked by now").first.wait_for()
        page.get_by_role("button", name="Unlock East side").click()
        expect(page.get_by_role("button", name="Lock East side")).to_be_visible()

        before = stations(served, project)
        screen.press(re.compile("^Delete .* points$"))
        page.get_by_role("alertdialog").get_by_role("button", name="Delete them").click()  # more than a fifth of the station
        screen.card(re.compile(r"[\d,]+ points are deleted"))
        assert before - stations(served, project) == whole

        page.get_by_label("Deleted points are").select_option("alone")
        screen.drawn()
        screen.press("Rectangle")
        page.mouse.move(box["x"] + 0.45 * box["width"], box["y"] + 0.2 * box["height"])
        page.mouse.down()
        page.mouse.move(box["x"] + 0.8 * box["width"], box["y"] + 0.5 * box["height"], steps=4)
        page.mouse.up()
        screen.card(re.compile(r"[\d,]+ deleted points of one station are selected"))
        part = selection()["count"]
        assert 0 < part < whole
        screen.press(re.compile("^Bring .* points back$"))
        screen.card(re.compile(r"[\d,]+ points are deleted"))
        assert before - stations(served, project) == whole - part
        page.get_by_label("Deleted points are").select_option("none")

        page.get_by_label("Spacing").fill("100")
        screen.press("See one spacing")
        screen.idle()
        page.get_by_text("One spacing of 100 mm").first.wait_for()
        (even,) = (z for z in served.get(f"/projects/{project}/zones") if z["kind"] == "even")
        kept = int(even["detail"]["kept"])
        assert 0 < kept < 0.5 * stations(served, project)
        path = made(served, project, tmp_path / "even.laz")
        with laspy.open(path) as f:
            las = f.read()
        assert len(las) == kept
        cells = np.unique(np.floor(np.asarray(las.xyz) / 0.1 + 1e-6), axis=0)
        assert len(cells) > 0.9 * kept  # one of each cell, but for what the file's steps move over an edge
        page.get_by_label("One spacing of 100 mm").click()
        page.get_by_text("All are seen and handed over now").first.wait_for()
        with laspy.open(made(served, project, tmp_path / "all.laz")) as f:
            assert f.header.point_count == stations(served, project)


def made(served: Served, project: str, path: Path) -> Path:
    """What the server delivers now, as a file."""
    part = served.get(f"/projects/{project}")["part"]
    before = len(served.get(f"/projects/{project}/deliveries"))
    served.post(f"/projects/{project}/deliveries", kind="laz", part=part)
    served.wait(lambda: len(served.get(f"/projects/{project}/deliveries")) > before)
    (last, *_) = served.get(f"/projects/{project}/deliveries")
    path.write_bytes(served.http.get(f"/projects/{project}/deliveries/{last['id']}/file").content)
    return path


def test_a_room_is_boxed_its_ceiling_comes_off_and_its_length_is_set(served: Served, tmp_path: Path) -> None:
    project = brought_in(served, "room", write_scan(tmp_path / "R-1.e57", room(60_000, (8.0, 6.0, 3.0), 3), "R-1"))
    with browser(served.url, "room") as screen:
        page = screen.page
        bench = from_above(screen, project)
        screen.press("Round a room: pick its floor")
        page.mouse.click(bench["x"] + 0.55 * bench["width"], bench["y"] + 0.55 * bench["height"])
        page.get_by_label("room is on").wait_for()
        (box,) = served.get(f"/projects/{project}/boxes")
        np.testing.assert_allclose(sorted(box["half"]), [1.56, 3.06, 4.06], atol=0.12)
        np.testing.assert_allclose(box["centre"], [0, 0, 0], atol=0.12)
        page.keyboard.press("o")
        page.get_by_text("The ceiling is off").first.wait_for()
        (box,) = served.get(f"/projects/{project}/boxes")
        assert 1.3 < box["centre"][2] + box["half"][2] < 1.45 and box["centre"][2] - box["half"][2] < -1.5
        page.get_by_role("button", name="room", exact=True).click()
        wide = box["half"][0]
        page.get_by_label("Length").fill("9")
        page.get_by_label("Length").press("Enter")
        page.wait_for_timeout(1000)
        (box,) = served.get(f"/projects/{project}/boxes")
        assert box["half"][0] == pytest.approx(4.5) != wide
        page.get_by_label("room is on").click()
        expect(page.get_by_label("room is on")).not_to_be_checked()
        assert served.get(f"/projects/{project}/boxes")[0]["active"] is False
