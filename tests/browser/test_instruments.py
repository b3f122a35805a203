"""The drawer of instruments: a scan made and brought in, a sphere aimed at and measured finely, control by the total station."""

from __future__ import annotations

import math
import re

import numpy as np
from playwright.sync_api import expect

from taut_lantern.core import frames
from taut_lantern.standins.devices import Fine, _look
from taut_lantern.standins.scene import SPHERES
from taut_lantern.standins.site import T_CONTROL_SITE
from tests.browser.driver import Screen, browser
from tests.served import Served

WIDE = (0.05, 0.15, 0.4, 1.0)  # radians across the live view, by its zoom


def turn_to(screen: Screen, azimuth: float, elevation: float) -> None:
    """Click the fine cross onto a direction, from afar to near."""
    page = screen.page
    view = page.get_by_role("button", name=re.compile("^Live view"))
    told = page.get_by_text(re.compile(r"° · "))
    for zoom in (3, 3, 3, 3, 3, 3, 3, 3, 2, 1):
        while page.get_by_role("button", name="wider").is_enabled() and zoom == 3:
            page.get_by_role("button", name="wider").click()
        now = [math.radians(float(v.replace("\u2212", "-"))) for v in re.findall(r"[\u2212\d.]+(?=°)", told.inner_text())]
        across = -((azimuth - now[0] + math.pi) % (2 * math.pi) - math.pi) * math.cos(now[1])
        up = elevation - now[1]
        if zoom < 3:
            page.get_by_role("button", name="closer").click()
        wide = WIDE[zoom]
        x, y = (min(0.95, max(0.05, 0.5 + v / wide)) for v in (across, -up))
        box = view.bounding_box()
        assert box is not None
        page.mouse.click(box["x"] + x * box["width"], box["y"] + y * box["height"])


def test_a_scan_a_fine_measurement_and_control_come_from_instruments(served: Served) -> None:
    project = served.post("/projects", name="With instruments")["id"]
    with browser(served.url, "instruments") as screen:
        page = screen.page
        page.goto(f"{served.url}/p/{project}/bring_in?budget=200000")
        page.get_by_role("button", name="Instruments", exact=True).click()
        drawer = page.get_by_role("dialog")
        expect(drawer).to_contain_text(re.compile("Field scanner.*ready", re.DOTALL))
        expect(page.get_by_role("button", name="Measure it finely")).to_have_attribute("aria-disabled", "true")
        page.get_by_label("Name of the station").fill("ST-01")
        page.get_by_label("Points of a full turn").fill("0.2")
        screen.press("Scan and bring it in")
        expect(drawer).to_contain_text("is here")
        truth = _look("ST-01", Fine(half=0.001))[1]
        at = frames.apply(frames.inverse(truth), np.array([SPHERES["S1"]]))[0]
        expect(page.get_by_alt_text("what is seen through the scanner")).to_be_visible()
        turn_to(screen, float(np.arctan2(at[1], at[0])), float(np.arcsin(at[2] / np.linalg.norm(at))))
        page.get_by_label("Name of the target").fill("S1")
        screen.press("Measure it finely")
        expect(page.locator("[data-notice]").last).to_contain_text("S1 is measured with")
        (seen,) = served.get(f"/projects/{project}/sightings")
        assert np.linalg.norm(np.array(seen["position"]) - at) < 0.0015 and seen["target_name"] == "S1"

        page.get_by_role("radio", name=re.compile("Total station")).click()
        screen.press("Set it up")
        expect(drawer).to_contain_text("It is set up to ±")
        expect(drawer).to_contain_text("hidden")  # one mark stands behind a wall
        for name in ("S1", "S2", "S3"):
            page.locator("label").filter(has_text="Aim at").locator("select").select_option(name)
            screen.press("Measure it")
            expect(drawer.get_by_text(name, exact=True)).to_be_visible()
        page.locator("label").filter(has_text="Aim at").locator("select").select_option("S5")  # below the floor
        screen.press("Measure it")
        expect(page.locator("[data-notice]").last).to_contain_text("something stands before that target")
        screen.press("Take what it measured as control")
        expect(page.locator("[data-notice]").last).to_contain_text("3 points of Total station are control now")
        points = {q["name"]: q for q in served.get(f"/projects/{project}/control")["points"]}
        true = frames.apply(T_CONTROL_SITE, np.array([SPHERES["S1"]]))[0]
        assert np.linalg.norm(np.array(points["S1"]["enh"]) - true) < 0.003 and points["S1"]["target_name"] == "S1"
        screen.press("Close the drawer")
        expect(page.locator("[data-station]")).to_have_count(1)
