"""A real browser on the real application. What drives the interface is what a person would do."""

from __future__ import annotations

import contextlib
import json
import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from playwright.sync_api import Page, expect, sync_playwright

FAILURES = Path(__file__).resolve().parents[1] / "failures"
PATIENT = 240_000  # ms: what a page shows is waited for on a machine that has other work; no test holds it to a time
expect.set_options(timeout=PATIENT)
ARGS = [
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--disable-quic",
    "--enable-unsafe-swiftshader",
]


class Screen:
    """The page with the words of the application."""

    def __init__(self, page: Page, url: str) -> None:
        self.page, self.url = page, url
        self.errors: list[str] = []
        self.forgiven: str | None = None  # what a test itself makes fail
        page.on("pageerror", lambda e: self.errors.append(str(e)))
        page.on(
            "console", lambda m: self.errors.append(f"{m.text} {m.location['url']}") if m.type == "error" and "409" not in m.text else None
        )

    def step(self, name: str) -> None:
        self.page.locator(f"[data-step={name}]").click()

    def knot(self, name: str, state: str) -> None:
        expect(self.page.locator(f"[data-step={name}]")).to_have_attribute("data-state", state)

    def press(self, label: str | re.Pattern[str]) -> None:
        self.page.get_by_role("button", name=label).last.click()

    def tab(self, label: str) -> None:
        self.page.get_by_role("tab", name=label).click()

    def card(self, words: str | re.Pattern[str]) -> None:
        expect(self.page.get_by_label("Card", exact=True)).to_contain_text(words)

    def rows(self, count: int) -> None:
        expect(self.page.locator("[data-row]")).to_have_count(count)

    def drawn(self) -> int:
        """Wait until the bench has drawn all it wants; how many points."""
        done = (
            "() => { const b = document.querySelector('[aria-label=Bench]'); return b && b.dataset.busy === 'false' && +b.dataset.drawn }"
        )
        return int(self.page.wait_for_function(done).json_value())

    def pane(self, name: str, on: bool | None = None) -> None:
        """Switch a pane on or off (None: to the other), wherever its button stands."""
        menu = self.page.get_by_role("button", name="Panes, shading and background")
        button = self.page.get_by_role("button", name=f"Pane {name}")
        expect(menu.or_(button)).to_be_visible()
        small = menu.count() > 0
        if small:
            menu.click()
        if on is None or (button.get_attribute("aria-pressed") == "true") != on:
            button.click()
        if small and menu.count():
            self.page.keyboard.press("Escape")
            expect(button).to_have_count(0)

    def labels(self) -> list[list[int]]:
        """Where labels stand on the bench (left, top, right, bottom); none may overlap another."""
        found = json.loads(self.page.evaluate("() => document.querySelector('[role=application]').dataset.labels"))
        for k, a in enumerate(found):
            for b in found[k + 1 :]:
                assert a[0] >= b[2] or a[2] <= b[0] or a[1] >= b[3] or a[3] <= b[1], (a, b)
        return list(found)

    def sheet(self, key: str) -> int:
        """Wait for points (slab) or lines (traces) on the sheet; how many."""
        js = f"() => +(document.querySelector('[aria-label=Sheet]')?.dataset.{key} ?? 0)"
        return int(self.page.wait_for_function(js).json_value())

    def idle(self) -> None:
        """Wait until work that was just asked for has begun and no work is under way."""
        with contextlib.suppress(AssertionError):  # short work may be over before it is seen
            expect(self.page.locator("[data-jobs]")).to_have_count(1, timeout=3000)
        expect(self.page.locator("[data-jobs]")).to_have_count(0)

    def bench(self) -> Any:
        return self.page.get_by_label("Bench", exact=True).bounding_box()

    def draw_round(self, across: float, down: float, reach: float = 25) -> None:
        """A square lasso round a place of the bench, given as shares of its width and height."""
        box, mouse = self.bench(), self.page.mouse
        x, y = box["x"] + box["width"] * across, box["y"] + box["height"] * down
        mouse.move(x - reach, y - reach)
        mouse.down()
        for dx, dy in ((reach, -reach), (reach, reach), (-reach, reach)):
            mouse.move(x + dx, y + dy, steps=5)
        mouse.up()

    def download(self, suffix: str, folder: Path) -> Path:
        with self.page.expect_download() as waiting:
            self.page.locator(f"a[download$='.{suffix}']").first.click()
        path = folder / waiting.value.suggested_filename
        waiting.value.save_as(path)
        return path


@contextmanager
def browser(url: str, name: str, budget: int = 200_000) -> Iterator[Screen]:
    """A page of 1280 x 800; a picture is kept in tests/failures when something fails."""
    with sync_playwright() as p:
        chromium = p.chromium.launch(executable_path="/usr/bin/chromium", headless=True, chromium_sandbox=False, args=ARGS)
        context = chromium.new_context(viewport={"width": 1280, "height": 800}, accept_downloads=True)
        context.set_default_timeout(PATIENT)
        page = context.new_page()
        screen = Screen(page, url)
        try:
            page.goto(f"{url}/?budget={budget}")
            yield screen
            errors = [e for e in screen.errors if screen.forgiven is None or not re.search(screen.forgiven, e)]
            assert errors == [], errors
        except BaseException:
            FAILURES.mkdir(exist_ok=True)
            page.screenshot(path=FAILURES / f"{name}.png")
            raise
        finally:
            chromium.close()
