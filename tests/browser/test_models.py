"""A design model in the page: brought in, compared, coloured by, laid on the cloud and moved, held to rows and to pixels."""

from __future__ import annotations

import io
import re
from pathlib import Path

import numpy as np
import pypdfium2
import pytest
import trimesh
from PIL import Image
from playwright.sync_api import expect

from taut_lantern.core import frames
from tests.browser.driver import Screen, browser
from tests.browser.test_cleaning import brought_in
from tests.served import Served
from tests.support import room, write_scan

SIZE = (8.0, 6.0, 3.0)


def coloured(screen: Screen) -> dict[str, int]:
    """How many pixels of the bench are pale (within), blue or orange (before and behind)."""
    screen.drawn()
    screen.page.wait_for_timeout(1500)  # distances come tile by tile
    shot = screen.page.get_by_label("Bench", exact=True).screenshot()

    rgb = np.asarray(Image.open(io.BytesIO(shot)).convert("RGB")).reshape(-1, 3).astype(int)
    red, green, blue = rgb.T
    return {
        "pale": int(((green > red + 8) & (green > blue + 3) & (red > 120)).sum()),
        "blue": int((blue > red + 60).sum()),
        "orange": int((red > blue + 90).sum()),
    }


def test_a_model_is_compared_coloured_by_laid_on_the_cloud_moved_and_reported(served: Served, tmp_path: Path) -> None:
    project = brought_in(served, "As designed", write_scan(tmp_path / "a.e57", room(250_000, SIZE, 3)))
    walls = trimesh.creation.box(SIZE)
    walls.invert()
    off = frames.small(np.array([0.0, 0.0, 0.002, 0.04, 0.0, 0.0]))
    walls.apply_transform(off).export(tmp_path / "Room.stl")
    with browser(served.url, "models") as screen:
        page = screen.page
        page.goto(f"{served.url}/p/{project}/draw?budget=200000")
        screen.pane("space", True)
        screen.pane("plan", False)
        screen.drawn()
        with page.expect_file_chooser() as chooser:
            screen.press("Bring in a model")
        chooser.value.set_files(tmp_path / "Room.stl")
        page.get_by_role("button", name=re.compile("^Room")).click()
        screen.card("It was not compared")
        page.get_by_label("Tolerance").fill("5")
        screen.press("Compare")
        screen.card(re.compile(r"\d+\.\d % of 250,000 points near it lie within 5.0 mm"))
        before = served.get(f"/projects/{project}/models")[0]
        assert before["compared"]["within"] < 0.9 * before["compared"]["points"]
        screen.press("Colour the points by it")
        far = coloured(screen)
        assert far["blue"] > 300 and far["orange"] > 300, far  # walls 40 mm off, before and behind
        screen.press("Lay it on the cloud")
        screen.card("the model was moved since")
        screen.press(re.compile("^Compare$"))
        screen.card(re.compile(r"(99|100)\.\d % of 250,000"))
        near = coloured(screen)
        assert near["blue"] + near["orange"] < 0.2 * (far["blue"] + far["orange"]) and near["pale"] > 1.3 * far["pale"], (far, near)
        after = served.get(f"/projects/{project}/models")[0]
        moved = np.reshape(after["T_part_edges"], (4, 4))[:3, 3] - np.reshape(before["T_part_edges"], (4, 4))[:3, 3]
        assert np.abs(moved - [-0.04, 0, 0]).max() < 0.001

        page.get_by_text("Move and turn it by hand").click()
        page.get_by_label("Up", exact=True).fill("30 mm")
        screen.press("Move it")
        screen.card("the model was moved since")
        up = served.get(f"/projects/{project}/models")[0]["T_part_edges"][11] - after["T_part_edges"][11]
        assert up == pytest.approx(0.03, abs=1e-6)
        page.keyboard.press("Control+z")
        expect(page.get_by_label("Card", exact=True)).not_to_contain_text("Out of date")
        screen.press("Make the report")
        screen.idle()
        screen.step("hand_over")
        words = pypdfium2.PdfDocument(screen.download("pdf", tmp_path))[0].get_textpage().get_text_bounded()
        assert "of 250,000 points that lie within 100 mm of Room are within 5 mm of it" in words

        screen.step("draw")
        screen.press("Back to the cuts")
        page.get_by_label("Show Room").click()
        expect(page.get_by_label("Show Room")).not_to_be_checked()
        assert coloured(screen)["pale"] < 0.1 * near["pale"]  # grey: no model is shown
